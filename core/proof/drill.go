package proof

import (
	"context"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
)

// A drill takes something away and holds the intents against what is left: by the tables as they come out then, never
// by what lay on the way before, since what is withdrawn may let a flow pass that nothing let pass.

// Drill is what became of the intents of a design without something.
type Drill struct {
	Things []status.Thing `json:"-"`
	Key    string         `json:"key"`    // what it is called on a command line: paths, addresses or zones
	Title  string         `json:"title"`  // what is taken away
	Titles []string       `json:"titles"` // the same, each by itself
	Kind   string         `json:"kind"`   // its kind as people call it: an object's, address or zone; several
	Around []design.ID    `json:"around"` // the parties where it is, and those of intents that die
	Dies   []Hit          `json:"dies"`   // intents that held and do not
	Moves  []Moved        `json:"moves"`  // intents that hold by another way
	Heals  []Hit          `json:"heals"`  // intents that did not hold and do
	Holds  int            `json:"holds"`  // how many hold without it
}

// Hit is an intent that dies, or comes to life.
type Hit struct {
	Intent design.ID `json:"intent"`
	Name   string    `json:"name"`
	Never  bool      `json:"never,omitempty"` // it must never work, and does
	Code   walk.Code `json:"code,omitempty"`  // what stops its flow
	Why    string    `json:"why,omitempty"`
}

// Moved is an intent that goes another way.
type Moved struct {
	Intent design.ID `json:"intent"`
	Name   string    `json:"name"`
	Left   []string  `json:"left"` // what it no longer goes by
	Now    []string  `json:"now"`  // what it goes by instead
	// Until is how long it takes until it does.
	Until Until `json:"until"`
}

// Drills carries out drills over proofs, one for each set of things that are taken away together.
type Drills struct {
	proofs *Proofs
	before map[design.ID]looked
}

// looked is a result with what was looked at for it.
type looked struct {
	Result
	reads *design.Reads
}

// DrillsOf begins the drills of a design as its proofs have it.
func DrillsOf(ctx context.Context, p *Proofs) (*Drills, error) {
	out := &Drills{p, map[design.ID]looked{}}
	for _, o := range p.tables.Design.Of(design.KindIntent) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		r := design.NewReads()
		out.before[o.ID] = looked{alone(p.tables.Watched(p.tables.Design.Watched(r)), o.ID), r}
	}
	return out, nil
}

// Without are the proofs of the design without things.
func (p *Proofs) Without(things ...status.Thing) *Proofs {
	t := p.tables.Without(things...)
	return p.After(t, t.Changes())
}

// Without carries out one drill.
func (x *Drills) Without(ctx context.Context, things ...status.Thing) (Drill, error) {
	d := x.proofs.tables.Design
	out := Drill{Things: things, Dies: []Hit{}, Moves: []Moved{}, Heals: []Hit{}, Around: []design.ID{}}
	out.name(d)
	after := x.proofs.tables.Without(things...)
	for _, o := range d.Of(design.KindIntent) {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		was := x.before[o.ID]
		now := was.Result
		if !was.reads.Clean(after.Changes()) {
			now = alone(after, o.ID)
			out.compare(x.proofs.tables, after, was.Result, now)
		}
		if now.Holds {
			out.Holds++
		}
	}
	out.mark(d, x.before)
	return out, nil
}

// mark notes the parties where something fails, and those of the intents that die.
func (x *Drill) mark(d *design.Design, before map[design.ID]looked) {
	add := func(id design.ID) {
		if p := d.Party(id); p != nil && !slices.Contains(x.Around, p.ID) {
			x.Around = append(x.Around, p.ID)
		}
	}
	for _, id := range status.Affected(d, x.Things) {
		add(id)
		for o := d.Get(id); o != nil; o = d.Get(o.Parent) {
			if j, ok := design.JointOf(o); ok {
				a, b := d.PartiesOf(j)
				add(a)
				add(b)
			}
		}
	}
	for _, h := range x.Dies {
		in := d.Get(h.Intent).Body.(*design.Intent)
		for _, id := range slices.Concat(d.StandsFor(in.From), waypoints(before[h.Intent].Proof), d.StandsFor(in.To)) {
			add(id)
		}
	}
}

// alone is an intent as it is, whatever it must survive: that is asked by other drills.
func alone(t *route.Tables, id design.ID) Result { return intent(t, t.Design.Get(id), nil) }

func (x *Drill) name(d *design.Design) {
	var keys []string
	for _, t := range x.Things {
		keys = append(keys, t.Text(d))
		if len(keys) > 1 {
			x.Kind = "several"
			continue
		}
		switch o := d.Get(t.Object); {
		case o != nil:
			x.Kind = design.Word(o.Kind)
		case t.Zone != "":
			x.Kind = "zone"
		default:
			x.Kind = "address"
		}
	}
	x.Key, x.Titles = strings.Join(keys, " "), status.Titles(d, x.Things)
	x.Title = strings.Join(x.Titles, " and ")
}

func (x *Drill) compare(before, after *route.Tables, was, now Result) {
	switch {
	case was.Holds && !now.Holds:
		x.Dies = append(x.Dies, hit(now))
	case !was.Holds && now.Holds:
		x.Heals = append(x.Heals, hit(now))
	case now.Holds && !now.Never && !sameWay(was.Proof, now.Proof):
		m := Moved{Intent: now.Intent, Name: now.Name, Until: until(before, after, was.Proof)}
		old, new := waypoints(was.Proof), waypoints(now.Proof)
		m.Left, m.Now = titles(before.Design, old, new), titles(before.Design, new, old)
		if len(m.Left)+len(m.Now) > 0 || m.Until.Why != "" {
			x.Moves = append(x.Moves, m)
		}
	}
}

func hit(r Result) Hit {
	h := Hit{Intent: r.Intent, Name: r.Name, Never: r.Never, Why: r.Error + r.Slow}
	if s := r.Proof.Stop; s != nil {
		h.Code, h.Why = s.Code, s.Why
	}
	if r.Never && !r.Holds {
		h.Why = r.Leak()
	}
	return h
}

// sameWay reports whether two proofs go the same way, said in the same words.
func sameWay(a, b walk.Proof) bool {
	same := func(x, y walk.Stage) bool { return x.At == y.At && x.Text == y.Text }
	return slices.EqualFunc(a.Forward, b.Forward, same) && slices.EqualFunc(a.Reply, b.Reply, same)
}

// waypoints are what a flow comes by, there and back, each once.
func waypoints(p walk.Proof) (out []design.ID) {
	for _, s := range slices.Concat(p.Forward, p.Reply) {
		if s.At.ID != "" && !slices.Contains(out, s.At.ID) {
			out = append(out, s.At.ID)
		}
	}
	return out
}

func titles(d *design.Design, of, but []design.ID) []string {
	out := []string{}
	for _, id := range of {
		if !slices.Contains(but, id) {
			out = append(out, d.Title(id))
		}
	}
	return out
}

// Each carries out a drill for each of some things alone, worst first. tell, if not nil, hears how many are done.
func (x *Drills) Each(ctx context.Context, things []status.Thing, tell func(done, of int)) ([]Drill, error) {
	out := make([]Drill, len(things))
	var mu sync.Mutex
	done := 0
	g, within := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for n, t := range things {
		g.Go(func() (err error) {
			if out[n], err = x.Without(within, t); err != nil || tell == nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			done++
			tell(done, len(things))
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	slices.SortStableFunc(out, func(a, b Drill) int {
		if n := len(b.Dies) - len(a.Dies); n != 0 {
			return n
		}
		return len(b.Moves) - len(a.Moves)
	})
	return out, nil
}
