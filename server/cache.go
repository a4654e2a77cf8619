package server

import (
	"context"
	"slices"
	"sync"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/overlap"
	"dravin/core/proof"
	"dravin/core/route"
	solving "dravin/core/snapshot"
	"dravin/core/status"
	"dravin/store"
)

// solved is one side of a design at one position, with what was computed of it. What is not asked for is not
// computed.
type solved struct {
	info     store.Info
	design   *design.Design
	all      *solving.Solved
	groups   func() []overlap.Group
	intents  func() []proof.Result
	findings func() []finding.Finding

	built *solved // what is there; nil in itself
}

func (v *solved) tables() *route.Tables { return v.all.Tables }

// on is the design of a side.
func (v *solved) on(side design.Side) *solved {
	if side == design.Built && v.built != nil {
		return v.built
	}
	return v
}

// keyed is what is known of keys.
func keyed(differ []design.ID) status.Condition { return status.Condition{OtherKeys: differ} }

// solve begins a design anew, or after the one before where that is at hand; for both sides
// at once.
func solve(
	d *design.Design,
	in store.Info,
	differ []design.ID,
	before *solved,
	changes *design.Changes,
	m *metrics,
) *solved {
	var all *solving.Solved
	if before != nil && slices.Equal(before.all.Tables.Status.Condition().OtherKeys, differ) {
		all = before.all.After(d, changes)
		all.Settle()
	} else {
		all = solving.Of(d, keyed(differ))
	}
	one := func(side design.Side) *solved {
		v := &solved{info: in, design: d.On(side), all: all.On(side)}
		v.groups = sync.OnceValue(timed(m, "overlaps", func() []overlap.Group { return v.all.Findings.Groups() }))
		v.intents = sync.OnceValue(timed(m, "intents", func() []proof.Result { return v.all.Proofs.All() }))
		v.findings = sync.OnceValue(timed(m, "findings", func() []finding.Finding { return v.all.Findings.All() }))
		return v
	}
	v := one(design.Planned)
	v.built = one(design.Built)
	return v
}

// cache holds the newest position of the designs used last.
type cache struct {
	store   *store.Store
	metrics *metrics
	designs *lru.Cache[string, *solved]
	flight  singleflight.Group
}

const cacheSize = 16

func newCache(s *store.Store, m *metrics) *cache {
	held, _ := lru.New[string, *solved](cacheSize) // an error is told of a size below 1 only
	return &cache{store: s, metrics: m, designs: held}
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
	if held := c.held(id); held != nil && same(held.info, in) {
		return held, nil
	}
	// Many ask at once after a change; one loads it for all, whoever gives up.
	loaded, err, _ := c.flight.Do(id+" "+stamp(in), func() (any, error) {
		if held := c.held(id); held != nil {
			now, err := c.store.Info(context.WithoutCancel(ctx), id)
			if err != nil {
				return nil, err
			}
			if same(held.info, now) { // somebody loaded it meanwhile
				return held, nil
			}
		}
		s, err := c.load(context.WithoutCancel(ctx), id)
		if err == nil {
			c.designs.Add(id, s)
		}
		return s, err
	})
	if err != nil {
		return nil, err
	}
	s := loaded.(*solved)
	ask.late = !same(s.info, in)
	return s, nil
}

// same reports whether two positions of a design are one. The number alone does not tell:
// a standby or a backup that took the database's place may have come to it another way.
func same(a, b store.Info) bool { return a.Position == b.Position && a.UpdatedAt.Equal(b.UpdatedAt) }

// stamp names a position of a design.
func stamp(in store.Info) string { return itoa(in.Position) + "." + itoa(in.UpdatedAt.UnixMicro()) }

// load reads a design, or only what has changed since it was held.
func (c *cache) load(ctx context.Context, id string) (*solved, error) {
	own, far, err := c.store.Fingerprints(ctx, id)
	if err != nil {
		return nil, err
	}
	var differ []design.ID
	for tunnel, key := range far {
		if key != "" && own[tunnel] != key {
			differ = append(differ, tunnel)
		}
	}
	slices.Sort(differ)
	if held := c.held(id); held != nil {
		next, edits, in, ok, err := c.store.Follow(ctx, id, held.design, held.info)
		if err != nil {
			return nil, err
		}
		if ok {
			return solve(next, in, differ, held, held.design.ChangedBy(edits, next), c.metrics), nil
		}
	}
	d, in, err := c.store.Load(ctx, id)
	if err != nil {
		return nil, err
	}
	return solve(d, in, differ, nil, nil, c.metrics), nil
}

func (c *cache) held(id string) *solved {
	s, _ := c.designs.Get(id)
	return s
}
