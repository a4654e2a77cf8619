// Package runbook is the order of work: the steps by which an estate as it is today becomes the one that is planned,
// each with who does it, what to enter or run, how to see there and then that it is done, what is down meanwhile, and
// the way back.
//
// It is read off the instructions and files of the estate after each step, and what is down is proven on the half-done
// estate: a step is an edit that says what is set up by then, and everything else follows from the design as ever.
package runbook

import (
	"cmp"
	"context"
	"slices"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/status"
	"dravin/core/topology"
)

// Window is when a step may be done.
type Window string

// The windows.
const (
	Before Window = "before" // at any time: nothing that works changes
	During Window = "during" // in the window: what works is interrupted, or goes another way
	After  Window = "after"  // once the window is over, at any time
)

// Hit is an intent of which a step changes something.
type Hit struct {
	Intent design.ID `json:"intent"`
	Name   string    `json:"name"`
	Why    string    `json:"why,omitempty"` // what stops it
}

// Command is a line for the shell of a box of one's own.
type Command struct {
	Line string `json:"line"`
	Why  string `json:"why,omitempty"`
}

// Step is one thing that one administrator does.
type Step struct {
	// ID stays the same as long as there are the object, the party and the end.
	ID     string      `json:"id"`
	N      int         `json:"n"` // in the order, from 1
	Window Window      `json:"window" enum:"before,during,after"`
	Object design.ID   `json:"object"` // the link, peering, circuit or attachment; of a box that follows, the box
	Kind   design.Kind `json:"kind"`
	Party  design.ID   `json:"party"`
	At     design.ID   `json:"at,omitempty"` // the gateway or edge router; empty where it is the party itself
	Who    string      `json:"who,omitempty"`
	Where  string      `json:"where"` // the party, and the box
	Does   string      `json:"does"`  // as a sentence
	Enter  []string    `json:"enter"` // what to enter, where no file does it
	Files  []string    `json:"files"` // of a box of one's own that are others: below its /etc
	Run    []Command   `json:"run"`
	Checks []Check     `json:"checks"`
	Down   []Hit       `json:"down"`                        // what works today and does not once this is done
	Moves  []Hit       `json:"moves"`                       // what works by another way then
	Works  []Hit       `json:"works"`                       // what works from then on, and did not
	Back   []string    `json:"back"`                        // the way back
	Needs  string      `json:"needs,omitempty" enum:"code"` // what must be told when it is done
	// Edits make the design say that it is done; none where nothing that today is asked of follows from it.
	Edits []design.Edit `json:"-"`
}

// Check is how to see on the spot that a step is done.
type Check struct {
	Kind box.CheckKind `json:"kind" enum:"listed,entries,forwards,reached,tunnel-up,session-established,answered"`
	Text string        `json:"text"` // as a sentence
	// Line is what to type at a box of one's own; empty where nobody can type anything.
	Line string `json:"line,omitempty"`
	// Intent is the flow that is tried, if it is one.
	Intent design.ID `json:"intent,omitempty"`
	// Object is the tunnel or session that is up, if it is one.
	Object design.ID `json:"object,omitempty"`
}

// Runbook is the whole order of work.
type Runbook struct {
	Steps  []Step   `json:"steps"`
	Waits  []string `json:"waits"`  // what has no steps yet, since somebody must answer first
	Cannot []string `json:"cannot"` // what would not come up once all is done, with why: mend the design first
	Holds  int      `json:"holds"`  // intents that hold today
	Then   int      `json:"then"`   // and once all is done
	Of     int      `json:"of"`
}

// mostTried is up to how many things that are to be made every order of two is tried; of more each is tried once.
const mostTried = 30

// Of is the order of work of a design, from its proofs as it is today.
func Of(ctx context.Context, today *proof.Proofs) (*Runbook, error) {
	t := today.Tables()
	if t.Status.Condition().Horizon != status.Today {
		panic("a runbook begins today")
	}
	w := &writer{
		ctx: ctx, now: estate{today}, begun: estate{today}, loaded: map[design.ID]map[string]string{},
		prepared: map[design.ID][]string{},
		out:      &Runbook{Steps: []Step{}, Waits: []string{}, Cannot: []string{}},
	}
	w.holds(today)
	pending := w.pending()
	for len(pending) > 0 {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		n := w.next(pending)
		w.make(pending[n])
		pending = slices.Delete(pending, n, n+1)
	}
	w.windows()
	for _, r := range w.now.proofs.All() {
		if r.Holds {
			w.out.Then++
		}
	}
	return w.out, nil
}

// writer is a runbook on its way.
type writer struct {
	ctx   context.Context
	begun estate // as it is today
	now   estate // as it is after the steps so far
	held  map[design.ID]bool
	ways  map[design.ID]string // by which intents hold today
	out   *Runbook
	// loaded are the files that each box of one's own has by now, by their path; none: those of today.
	loaded map[design.ID]map[string]string
	// prepared are the lines by which each box of one's own has been made ready by now.
	prepared map[design.ID][]string
}

// estate is the design after some steps, with its proofs.
type estate struct{ proofs *proof.Proofs }

func (e estate) design() *design.Design { return e.proofs.Tables().Design }

// with is the estate after edits.
func (e estate) with(edits []design.Edit) (estate, error) {
	if len(edits) == 0 {
		return e, nil
	}
	next, _, err := e.design().Apply(edits)
	if err != nil {
		return e, err
	}
	changes := e.design().ChangedBy(edits, next)
	return estate{e.proofs.After(e.proofs.Tables().After(next, changes), changes)}, nil
}

func (w *writer) holds(today *proof.Proofs) {
	w.held, w.ways = map[design.ID]bool{}, map[design.ID]string{}
	for _, r := range today.All() {
		w.out.Of++
		if r.Holds {
			w.out.Holds++
			w.held[r.Intent], w.ways[r.Intent] = true, way(r)
		}
	}
}

// way are the joints by which a flow goes there and back.
func way(r proof.Result) string {
	out := ""
	for _, s := range slices.Concat(r.Proof.Forward, r.Proof.Reply) {
		out += string(s.At.ID) + ">"
	}
	return out
}

// pending are the joints that are to be made: those that are up when all is built and not today.
func (w *writer) pending() (out []*task) {
	d := w.begun.design()
	built := topology.Status(d, status.Condition{Horizon: status.Built})
	for j := range d.Joints() {
		then, now := built.Of(j.ID), w.begun.proofs.Tables().Status.Of(j.ID)
		switch {
		case now.Up || !status.Exists(j.Object):
		case then.Up || coded(j):
			out = append(out, tasksOf(d, j)...)
		case then.Cause == status.NotAccepted || then.Cause == status.HalfMade:
			w.out.Waits = append(w.out.Waits, then.Why)
		default:
			w.out.Cannot = append(w.out.Cannot, d.Title(j.ID)+": "+then.Why)
		}
	}
	return out
}

// coded reports whether a circuit has its order code and waits for nothing but to be accepted with it, which is a step.
func coded(j design.Joint) bool {
	c, ok := j.Body.(*design.Circuit)
	return ok && c.Step == design.StepCode && c.State == design.Waiting
}

// next is which of the pending tasks breaks least of what works, then brings most, then is first in the design.
func (w *writer) next(pending []*task) int {
	if len(pending) == 1 {
		return 0
	}
	if len(w.out.Steps) > 0 && len(pending) > mostTried {
		return 0
	}
	best, at := score{}, 0
	for n, x := range pending {
		s := w.tried(x)
		if n == 0 || s.compare(best) < 0 {
			best, at = s, n
		}
		if s == (score{}) {
			break // nothing goes before what breaks nothing
		}
	}
	return at
}

// score says how much a task disturbs, the less the better.
type score struct{ early, breaks, moves int }

func (a score) compare(b score) int {
	return cmp.Or(cmp.Compare(a.early, b.early), cmp.Compare(a.breaks, b.breaks), cmp.Compare(a.moves, b.moves))
}

func (w *writer) tried(x *task) (s score) {
	e := w.now
	for _, part := range x.parts {
		next, err := e.with(part.edits(e.design()))
		if err != nil {
			return score{early: 2}
		}
		e = next
	}
	if !e.proofs.Tables().Status.Of(x.joint.ID).Up {
		s.early = 1 // it needs another that is not there yet
	}
	down, moves, _ := w.differ(e)
	s.breaks, s.moves = len(down), len(moves)
	return s
}

// differ is what is otherwise with intents than today: down, by another way, and new.
func (w *writer) differ(e estate) (down, moves, works []Hit) {
	down, moves, works = []Hit{}, []Hit{}, []Hit{}
	for _, r := range e.proofs.All() {
		h := Hit{Intent: r.Intent, Name: r.Name}
		switch {
		case w.held[r.Intent] && !r.Holds:
			h.Why = "it works, and must never work"
			if s := r.Stop(); s != nil {
				h.Why = s.Why
			}
			down = append(down, h)
		case w.held[r.Intent] && way(r) != w.ways[r.Intent]:
			moves = append(moves, h)
		case !w.held[r.Intent] && r.Holds && !r.Never:
			works = append(works, h)
		}
	}
	return down, moves, works
}

// windows says when each step may be done: before the first that changes anything that works, with it up to the last
// such, or after it.
func (w *writer) windows() {
	first, last := -1, -1
	for n := range w.out.Steps {
		w.out.Steps[n].N = n + 1
		s := w.out.Steps[n]
		before := Step{}
		if n > 0 {
			before = w.out.Steps[n-1]
		}
		if !sameHits(s.Down, before.Down) || !sameHits(s.Moves, before.Moves) {
			last = n
			if first < 0 {
				first = n
			}
		}
	}
	for n := range w.out.Steps {
		switch {
		case first < 0 || n < first:
			w.out.Steps[n].Window = Before
		case n <= last:
			w.out.Steps[n].Window = During
		default:
			w.out.Steps[n].Window = After
		}
	}
}

func sameHits(a, b []Hit) bool {
	return slices.EqualFunc(a, b, func(x, y Hit) bool { return x.Intent == y.Intent })
}
