package server

import (
	"context"
	"sync"

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

func solve(d *design.Design, in store.Info) *solved {
	s := &solved{info: in, design: d}
	s.tables = sync.OnceValue(func() *route.Tables { return route.Solve(d) })
	s.groups = sync.OnceValue(func() []overlap.Group { return overlap.Find(d) })
	s.intents = sync.OnceValue(func() []proof.Result { return proof.Intents(s.tables()) })
	s.findings = sync.OnceValue(func() []finding.Finding { return finding.All(d) })
	return s
}

// cache holds the newest position of the designs used last.
type cache struct {
	store *store.Store
	mu    sync.Mutex
	byID  map[string]*solved
	used  []string // oldest first
}

const cacheSize = 16

func newCache(s *store.Store) *cache { return &cache{store: s, byID: map[string]*solved{}} }

// get returns the design as it is now: the database is asked for the position
// each time, so that another server's change is never missed.
func (c *cache) get(ctx context.Context, id string) (*solved, error) {
	in, err := c.store.Info(ctx, id)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	held := c.byID[id]
	c.mu.Unlock()
	if held != nil && held.info.Position == in.Position {
		return held, nil
	}
	d, in, err := c.store.Load(ctx, id)
	if err != nil {
		return nil, err
	}
	s := solve(d, in)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.byID[id] == nil {
		c.used = append(c.used, id)
	}
	c.byID[id] = s
	if len(c.used) > cacheSize {
		delete(c.byID, c.used[0])
		c.used = c.used[1:]
	}
	return s, nil
}
