// Package proof holds a design against its intents.
package proof

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
)

// Result is what became of one intent.
type Result struct {
	Intent design.ID `json:"intent"`
	Name   string    `json:"name"`
	Group  string    `json:"group,omitempty"`
	Never  bool      `json:"never,omitempty"`
	Holds  bool      `json:"holds"`           // the flow does what the intent wants
	Error  string    `json:"error,omitempty"` // why it can not be walked at all
	// Slow says that it works and is on the way for longer than it may be, or, where Undecided is set, that nobody knows
	// for how long.
	Slow      string     `json:"slow,omitempty"`
	Undecided bool       `json:"undecided,omitempty"`
	Proof     walk.Proof `json:"proof"`
	// Without is what must be able to fail and without which it does not work;
	// Failed is the walk without it, and Proof goes on to be the flow's own.
	Without      design.ID   `json:"without,omitempty"`
	WithoutTitle string      `json:"without_title,omitempty"`
	Failed       *walk.Proof `json:"failed,omitempty"`
}

// Stop is what keeps an intent from holding: what stops its flow, or stops it once
// something has failed; nil if nothing does.
func (r Result) Stop() *walk.Stop {
	if r.Failed != nil {
		return r.Failed.Stop
	}
	return r.Proof.Stop
}

// Leak tells how what must never work does: that no answer would come back is no protection.
func (r Result) Leak() string {
	p := r.Proof
	if p.Works {
		return fmt.Sprintf("%s reaches %s at %s", p.From.Title, p.To.Title, p.Dialled)
	}
	return fmt.Sprintf("what %s sends to %s arrives at %s; no answer comes back", p.From.Title, p.Dialled, p.To.Title)
}

// Proofs are the results of a design's intents, remembered from one design to the
// next as long as nothing has changed that a walk looked at.
type Proofs struct {
	tables *route.Tables
	memo   *design.Memo[design.ID, Result]
	failed *failures
}

// failures are the tables without one thing each, solved when first asked for.
type failures struct {
	mu      sync.Mutex
	without map[design.ID]*route.Tables
}

func (f *failures) tables(t *route.Tables, id design.ID) *route.Tables {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.without[id] == nil {
		f.without[id] = t.Without(status.Thing{Object: id})
	}
	return f.without[id]
}

// Of begins the proofs over solved tables.
func Of(t *route.Tables) *Proofs {
	return &Proofs{t, &design.Memo[design.ID, Result]{}, &failures{without: map[design.ID]*route.Tables{}}}
}

// After are the proofs over the tables of the next design.
func (p *Proofs) After(next *route.Tables, changes *design.Changes) *Proofs {
	out := Of(next)
	out.memo.After(p.memo, changes)
	return out
}

// Settle takes over what still holds of the proofs before, and lets go of them.
func (p *Proofs) Settle() { p.memo.Settle() }

// Watched are the same proofs, noting in what view notes whatever is looked at.
func (p *Proofs) Watched(view *design.Design) *Proofs {
	return &Proofs{p.tables.Watched(view), p.memo, p.failed}
}

// Tables are what they are over.
func (p *Proofs) Tables() *route.Tables { return p.tables }

// Intent walks one intent.
func (p *Proofs) Intent(id design.ID) Result {
	return p.memo.Get(p.tables.Design, id, func(view *design.Design) Result {
		if view.Get(id) == nil {
			return notThere(view, id)
		}
		return intent(p.tables.Watched(view), view.Get(id), func(failed design.ID) *route.Tables {
			return p.failed.tables(p.tables, failed).Watched(view)
		})
	})
}

// All walks every intent, in canonical order.
func (p *Proofs) All() []Result {
	out, _ := p.Within(context.Background()) // which never ends
	return out
}

// Within are all of them; the error is that of the context, if it ends before.
func (p *Proofs) Within(ctx context.Context) ([]Result, error) {
	out := []Result{}
	for _, o := range p.wanted() {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		out = append(out, p.Intent(o.ID))
	}
	return out, nil
}

// wanted are the intents in canonical order, those included whose ends are not built.
func (p *Proofs) wanted() []*design.Object {
	list, d := p.tables.Design.Of(design.KindIntent), p.tables.Design
	aside := d.Aside()
	if len(aside) == 0 {
		return list
	}
	list = slices.Clone(list)
	for _, o := range aside {
		if o.Kind == design.KindIntent {
			list = append(list, o)
		}
	}
	return design.InOrder(list)
}

// notThere is what there is to know of an intent of which an end is planned and not built: what is not there reaches
// nobody, and is reached by nobody.
func notThere(view *design.Design, id design.ID) Result {
	for _, o := range view.Aside() {
		in, ok := o.Body.(*design.Intent)
		if o.ID != id || !ok {
			continue
		}
		r := Result{Intent: id, Name: o.Name, Group: in.Group, Never: in.Never, Holds: in.Never}
		r.Proof = walk.Unwalked(in.Service)
		r.Proof.Side = view.Side()
		if end := in.From; !in.Never {
			if view.Get(end) != nil {
				end = in.To
			}
			r.Proof.Stop = &walk.Stop{
				Code: walk.Code(status.NotThereYet), Subject: end, Why: "one of its ends is planned and not built",
				Fix: "build it, or say that it is there",
			}
		}
		return r
	}
	return Result{Intent: id}
}

// Intents walks every intent of a solved design, in canonical order.
func Intents(t *route.Tables) []Result { return Of(t).All() }

func intent(t *route.Tables, o *design.Object, failed func(design.ID) *route.Tables) Result {
	in := o.Body.(*design.Intent)
	r := Result{Intent: o.ID, Name: o.Name, Group: in.Group, Never: in.Never, Holds: true}
	r.Proof = walk.Unwalked(in.Service)
	r.Proof.Side = t.Design.Side()
	walked := false
	for _, from := range t.Design.StandsFor(in.From) {
		for _, to := range t.Design.StandsFor(in.To) {
			if from == to {
				continue
			}
			walked = true
			if r = between(t, r, from, to, in); r.Holds && in.Survives && failed != nil {
				r = surviving(t, r, from, to, in, failed)
			}
			if !r.Holds {
				return r
			}
		}
	}
	if !walked {
		r.Holds, r.Error = in.Never, fmt.Sprintf(
			"nothing lies between %s and %s; give both a LAN or subnet with a range", t.Design.Title(in.From),
			t.Design.Title(in.To),
		)
	}
	return r
}

// between holds one source and one target against an intent.
func between(t *route.Tables, r Result, from, to design.ID, in *design.Intent) Result {
	if in.Never { // it must fail from every host, to every address, under every name
		for _, f := range flowsOf(t, from, to, in.Service) {
			p, err := walk.AnyPossibly(t, f)
			if r.Proof = p; err != nil {
				r.Holds, r.Error = false, err.Error()
				break
			}
			if p.Delivered {
				r.Holds = false
				break
			}
		}
		return r
	}
	flow, err := walk.FlowBetween(t, from, to, in.Service)
	if err != nil {
		r.Holds, r.Error = false, err.Error()
		return r
	}
	if r.Proof = walk.Prove(t, flow); in.Apart {
		r.Proof = walk.Apart(t, flow, r.Proof)
	}
	if r.Holds = r.Proof.Works; r.Holds && in.RTT > 0 {
		r.Slow, r.Undecided = slow(walk.MeasureOf(t, flow, r.Proof), in.RTT)
		r.Holds = r.Slow == ""
	}
	return r
}

// slow says that a flow is on the way for longer than it may be, and on which leg most; empty if it is not. Where
// nobody knows of a leg it is undecided, unless the others alone take too long.
func slow(m walk.Measure, most uint32) (why string, undecided bool) {
	switch {
	case m.RTT > float64(most):
		return fmt.Sprintf(
			"a packet and its answer are %g ms on the way, and may be %d; the slowest leg is %s", m.RTT, most, m.Slowest,
		), false
	case len(m.Unknown) > 0:
		return fmt.Sprintf(
			"nobody knows how long a packet and its answer are on %s, and %d ms are allowed in all; say its round-trip "+
				"time, or where its ends are", strings.Join(m.Unknown, ", "), most,
		), true
	}
	return "", false
}

// flowsOf are all flows from one object to another; from the internet those of public addresses.
func flowsOf(t *route.Tables, from, to design.ID, s design.Service) []walk.Flow {
	if t.Design.Get(from).Kind == design.KindInternet {
		return walk.FromInternet(t, to, s)
	}
	return walk.FlowsBetween(t, from, to, s)
}

// surviving takes away, one at a time, whatever could fail at the joints and boxes
// that the packet met, and walks again. What is not on the way can not change it.
func surviving(
	t *route.Tables,
	r Result,
	from, to design.ID,
	in *design.Intent,
	failed func(design.ID) *route.Tables,
) Result {
	for _, id := range onTheWay(t.Design, r.Proof) {
		without := failed(id)
		flow, err := walk.FlowBetween(without, from, to, in.Service)
		if err != nil {
			continue
		}
		if p := walk.Prove(without, flow); !p.Works {
			r.Holds, r.Without, r.WithoutTitle, r.Failed = false, id, t.Design.Title(id), &p
			return r
		}
	}
	return r
}

// onTheWay lists what may fail of what a packet met, in the order in which it did.
func onTheWay(d *design.Design, p walk.Proof) []design.ID {
	var out []design.ID
	add := func(id design.ID) {
		if o := d.Get(id); o != nil && fails(d, o) && !slices.Contains(out, id) {
			out = append(out, id)
		}
	}
	for _, s := range slices.Concat(p.Forward, p.Reply) {
		add(s.At.ID)
		for _, x := range d.Inside(s.At.ID, design.KindSession) { // of a circuit
			add(x.ID)
		}
		for _, t := range d.Inside(s.At.ID, design.KindTunnel) { // of a link
			add(t.ID)
			for _, x := range d.Inside(t.ID, design.KindSession) {
				add(x.ID)
			}
		}
	}
	return out
}

// Holding counts the intents that hold.
func Holding(results []Result) int {
	n := 0
	for _, r := range results {
		if r.Holds {
			n++
		}
	}
	return n
}

// Sharing are the names of the intents whose flows go by a joint, those that must never work apart.
func Sharing(results []Result, joint design.ID) []string {
	out := []string{}
	for _, r := range results {
		if !r.Never && slices.Contains(waypoints(r.Proof), joint) {
			out = append(out, r.Name)
		}
	}
	return out
}
