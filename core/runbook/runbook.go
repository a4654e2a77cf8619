// Package runbook is the order of work: the steps by which an estate as built becomes the one that is planned, each
// with who does it, what to enter or run, how to see there and then that it is done, what is down meanwhile, and the
// way back.
//
// The work is the difference of the two designs and nothing else. It is parted into tasks: a joint is made, changed or
// taken away at its one end and then at the other; everything else is done at the one box, table or form where it
// stands. Every edit of the difference is in exactly one step. The steps are read off the instructions and files of the
// estate after each, and what is down is proven on the half-done estate: a step is an edit of the design as built, and
// everything else follows from that as ever.
package runbook

import (
	"cmp"
	"context"
	"slices"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/status"
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
	// ID stays the same as long as it is done to the same things at the same place.
	ID     string      `json:"id"`
	N      int         `json:"n"` // its number, from 1; it keeps it whatever else is done
	Window Window      `json:"window" enum:"before,during,after"`
	Object design.ID   `json:"object"` // what it is about: a joint, or the party, box or table at which it is done
	Kind   design.Kind `json:"kind"`
	Party  design.ID   `json:"party,omitempty"` // empty of what is done nowhere, such as a group that gets its name
	At     design.ID   `json:"at,omitempty"`    // the box or table; empty where it is the party itself
	Who    string      `json:"who,omitempty"`
	Where  string      `json:"where"` // the party, and the box
	Does   string      `json:"does"`  // as a sentence
	Enter  []string    `json:"enter"` // what to enter, where no file does it
	Files  []string    `json:"files"` // of a box of one's own that are others: below its /etc
	Run    []Command   `json:"run"`
	Checks []Check     `json:"checks"`
	Down   []Hit       `json:"down"`   // what works today and does not once this is done
	Moves  []Hit       `json:"moves"`  // what works by another way then
	Blinks []Hit       `json:"blinks"` // what works before and after, and not for some seconds
	Works  []Hit       `json:"works"`  // what works from then on, and did not
	Back   []string    `json:"back"`   // the way back
	// Needs is what only the doing brings, and must be told: an order code, public addresses, or the port of a box.
	Needs string `json:"needs,omitempty" enum:"code,address,port"`
	End   int    `json:"end,omitempty"` // of a joint, from 1
	// After are the IDs of steps that bring what this one is to be set to: it is not done before.
	After []string `json:"after"`
	// Changes are the edits in words: of each object what becomes of which field.
	Changes []design.Difference `json:"changes"`
	// Edits make the design as built say that it is done; none of a box that follows what was done elsewhere.
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
	Gates  []Gate   `json:"gates"`  // what waits for somebody
	Cannot []string `json:"cannot"` // what would not come up once all is done, with why: mend the design first
	Holds  int      `json:"holds"`  // intents that hold today
	Then   int      `json:"then"`   // and once all is done
	Of     int      `json:"of"`
	Owed   []Step   `json:"-"` // those of the steps that are left of what was done
	// Since is what this order of work goes on from.
	Since *Since `json:"-"`
}

// Gate is where the work waits for somebody.
type Gate struct {
	Object design.ID `json:"object"`
	Text   string    `json:"text"` // what is waited for, as a sentence
	For    string    `json:"for"`  // for whom; empty if nobody is said to answer for it
	Days   uint32    `json:"days"` // how long that takes, as the cloud's profile tells; 0: nobody knows
	// Begins is the ID of the step with which the waiting begins; empty: nobody has to begin it.
	Begins string `json:"begins"`
	// Begun says that the step is done already, and it is being waited.
	Begun bool `json:"begun"`
}

// Loaded is what boxes of one's own have, where this is something else than the design as built says: a step elsewhere
// was done, and the box has not followed yet.
type Loaded map[design.ID]Has

// Has is what a box of one's own has.
type Has struct {
	Files    map[string]string `json:"files"`    // by path
	Prepared []string          `json:"prepared"` // the lines by which it was made ready
}

// mostTried is up to how many things that are to be done each is tried for what it breaks; of more the first that can
// be done is.
const mostTried = 30

// Of is the order of work from what is built, with its proofs, to a plan.
// owed are steps that are left of what was done, see [Runbook.Also].
// The order of work that it goes on with keeps its numbers; nil: it begins.
func Of(
	ctx context.Context, built *proof.Proofs, plan *design.Design, has Loaded, owed []Step, since *Since,
) (*Runbook, error) {
	begun := newEstate(built)
	w := &writer{
		ctx: ctx, now: begun, begun: begun, plan: plan, loaded: map[design.ID]map[string]string{},
		prepared: map[design.ID][]string{}, gives: map[design.ID]string{},
		out: &Runbook{Steps: []Step{}, Gates: []Gate{}, Cannot: []string{}},
	}
	w.holds(built)
	w.begin(since)
	for id, x := range has {
		w.loaded[id], w.prepared[id] = x.Files, append([]string{}, x.Prepared...)
	}
	if len(has) > 0 {
		w.follow(nil, begun)
	}
	following := len(w.out.Steps)
	for {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		pending := w.pending()
		if len(pending) == 0 {
			break
		}
		if x := w.next(pending); x != nil {
			w.make(x)
		} else {
			w.make(w.rest())
		}
	}
	w.leave(owed, following)
	w.cannot()
	w.windows()
	w.number()
	for _, r := range w.now.proofs.All() {
		if r.Holds {
			w.out.Then++
		}
	}
	return w.out, nil
}

// leave puts what is left of what was done after the boxes that follow it, but for what is to be done again: that has
// its own.
func (w *writer) leave(owed []Step, after int) {
	own := map[string]bool{}
	for _, s := range w.out.Steps {
		for _, x := range w.out.Also(s.ID) {
			own[x.ID] = true
		}
	}
	w.out.Owed = slices.DeleteFunc(slices.Clone(owed), func(s Step) bool { return own[s.ID] })
	w.out.Steps = slices.Insert(w.out.Steps, after, w.out.Owed...)
}

// writer is a runbook on its way.
type writer struct {
	ctx   context.Context
	begun *estate // as it is today
	now   *estate // as it is after the steps so far
	plan  *design.Design
	held  map[design.ID]bool
	ways  map[design.ID]string // by which intents hold today
	since *Since
	out   *Runbook
	// loaded are the files that each box of one's own has by now, by their path; none: those of today.
	loaded map[design.ID]map[string]string
	// prepared are the lines by which each box of one's own has been made ready by now.
	prepared map[design.ID][]string
	// gives are the steps that bring the public addresses of gateways.
	gives map[design.ID]string
}

// holds notes what works today. What must never work and has ends that are not there yet can not begin to fail.
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

// next is which of the pending tasks can be done, breaks least of what works, then brings most, then is first in the
// order of making; nil where none can be done alone.
func (w *writer) next(pending []*task) *task {
	var best *task
	var least score
	for _, x := range pending {
		s, ok := w.tried(x)
		if !ok {
			continue
		}
		if best == nil || s.compare(least) < 0 {
			best, least = x, s
		}
		if least == (score{}) || len(pending) > mostTried {
			break // nothing goes before what breaks nothing
		}
	}
	return best
}

// score says how much a task disturbs, the less the better.
type score struct{ early, breaks, moves int }

func (a score) compare(b score) int {
	return cmp.Or(cmp.Compare(a.early, b.early), cmp.Compare(a.breaks, b.breaks), cmp.Compare(a.moves, b.moves))
}

// tried is what a task disturbs; ok is false if it can not be done now.
func (w *writer) tried(x *task) (s score, ok bool) {
	e := w.now
	x.after = nil
	for _, part := range x.parts {
		edits := part.edits(w, e.design())
		if edits == nil {
			return s, false
		}
		next, err := e.with(edits, w.plan)
		if err != nil {
			return s, false
		}
		e = next
		x.after = append(x.after, done{edits, next})
	}
	if len(w.now.design().EditsTo(e.design())) == 0 {
		return s, false
	}
	if x.joint.Object != nil && w.plan.Get(x.joint.ID) != nil && !e.proofs.Tables().Status.Of(x.joint.ID).Up {
		s.early = 1 // it needs another that is not there yet
	}
	down, moves, _ := w.differ(e)
	s.breaks, s.moves = len(down), len(moves)
	return s, true
}

// cannot tells what is not up although all is done: since somebody must answer first, or what would keep it down.
func (w *writer) cannot() {
	st := w.now.proofs.Tables().Status
	for j := range w.now.design().Joints() {
		switch v := st.Of(j.ID); {
		case v.Up || !status.Exists(j.Object):
		case v.Cause == status.NotAccepted || v.Cause == status.HalfMade:
			w.gate(Gate{Object: j.ID, Text: v.Why, Begun: true})
		case w.ungiven(j):
		case w.touched(j):
			w.out.Cannot = append(w.out.Cannot, w.now.design().Title(j.ID)+": once it is made, "+v.Why)
		}
	}
}

// touched reports whether a joint was not up today, or not there.
func (w *writer) touched(j design.Joint) bool {
	return w.begun.design().Get(j.ID) == nil || !w.begun.proofs.Tables().Status.Of(j.ID).Up
}

// differ is what is otherwise with intents than today: down, by another way, and new.
func (w *writer) differ(e *estate) (down, moves, works []Hit) {
	down, moves, works = []Hit{}, []Hit{}, []Hit{}
	for _, r := range e.proofs.All() {
		h := Hit{Intent: r.Intent, Name: r.Name}
		switch {
		case w.held[r.Intent] && !r.Holds:
			h.Why = "it works, and must never work"
			if s := r.Stop(); s != nil {
				h.Why = s.Why
			} else if r.Error != "" {
				h.Why = r.Error
			}
			down = append(down, h)
		case w.held[r.Intent] && !r.Never && shortened(way(r)) != w.ways[r.Intent]:
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
		s := w.out.Steps[n]
		before := Step{}
		if n > 0 {
			before = w.out.Steps[n-1]
		}
		if !sameHits(s.Down, before.Down) || !sameHits(s.Moves, before.Moves) || len(s.Blinks) > 0 {
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
