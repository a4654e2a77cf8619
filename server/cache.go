package server

import (
	"context"
	"slices"
	"sync"

	"golang.org/x/sync/singleflight"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/overlap"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/store"
)

// solved is a design at one position, with what was computed of it. The rest
// is computed when first asked for.
type solved struct {
	info     store.Info
	design   *design.Design
	tables   func() *route.Tables
	groups   func() []overlap.Group
	intents  func() []proof.Result
	findings func() []finding.Finding
}

func solve(d *design.Design, in store.Info, m *metrics) *solved {
	s := &solved{info: in, design: d}
	s.tables = sync.OnceValue(timed(m, "tables", func() *route.Tables { return route.Solve(d) }))
	s.groups = sync.OnceValue(timed(m, "overlaps", func() []overlap.Group { return overlap.Find(d) }))
	s.intents = sync.OnceValue(timed(m, "intents", func() []proof.Result { return proof.Intents(s.tables()) }))
	s.findings = sync.OnceValue(timed(m, "findings", func() []finding.Finding { return finding.All(d) }))
	return s
}

// cache holds the newest position of the designs used last.
type cache struct {
	store   *store.Store
	metrics *metrics
	mu      sync.Mutex
	byID    map[string]*solved
	used    []string // the one used last at the end
	flight  singleflight.Group
}

const cacheSize = 16

func newCache(s *store.Store, m *metrics) *cache {
	return &cache{store: s, metrics: m, byID: map[string]*solved{}}
}

// get returns the design as it is now: the database is asked for the position
// with each request, so that another server's change is never missed.
func (c *cache) get(ctx context.Context, id string) (*solved, error) {
	ask, _ := ctx.Value(askingKey{}).(*asking)
	if ask == nil || ask.info.ID != id {
		in, err := c.store.Info(ctx, id)
		if err != nil {
			return nil, err
		}
		ask = &asking{info: in}
	}
	in := ask.info
	if held := c.held(id); held != nil && held.info.Position == in.Position {
		return held, nil
	}
	// Many ask at once after a change; one loads it for all, whoever gives up.
	loaded, err, _ := c.flight.Do(id+" "+itoa(in.Position), func() (any, error) {
		if held := c.held(id); held != nil && held.info.Position >= in.Position {
			return held, nil
		}
		d, in, err := c.store.Load(context.WithoutCancel(ctx), id)
		if err != nil {
			return nil, err
		}
		s := solve(d, in, c.metrics)
		c.keep(id, s)
		return s, nil
	})
	if err != nil {
		return nil, err
	}
	s := loaded.(*solved)
	ask.late = s.info.Position != in.Position
	return s, nil
}

func (c *cache) held(id string) *solved {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.byID[id]
	if s != nil {
		c.touch(id)
	}
	return s
}

func (c *cache) keep(id string, s *solved) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.byID[id] = s
	c.touch(id)
	if len(c.used) > cacheSize {
		delete(c.byID, c.used[0])
		c.used = c.used[1:]
	}
}

func (c *cache) touch(id string) {
	c.used = append(slices.DeleteFunc(c.used, func(u string) bool { return u == id }), id)
}
