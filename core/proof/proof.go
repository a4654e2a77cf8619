// Package proof holds a design against its intents.
package proof

import (
	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/walk"
)

// Result is what became of one intent.
type Result struct {
	Intent design.ID  `json:"intent"`
	Name   string     `json:"name"`
	Never  bool       `json:"never,omitempty"`
	Holds  bool       `json:"holds"`           // the flow does what the intent wants
	Error  string     `json:"error,omitempty"` // why it can not be walked at all
	Proof  walk.Proof `json:"proof"`
}

// Proofs are the results of a design's intents, remembered from one design to the
// next as long as nothing has changed that a walk looked at.
type Proofs struct {
	t    *route.Tables
	memo *design.Memo[design.ID, Result]
}

// Of begins the proofs over solved tables.
func Of(t *route.Tables) *Proofs { return &Proofs{t, &design.Memo[design.ID, Result]{}} }

// After are the proofs over the tables of the next design.
func (p *Proofs) After(next *route.Tables, changes *design.Changes) *Proofs {
	out := Of(next)
	out.memo.After(p.memo, changes)
	return out
}

// Settle takes over what still holds of the proofs before, and lets go of them.
func (p *Proofs) Settle() { p.memo.Settle() }

// Watched are the same proofs, noting in what view notes whatever is looked at.
func (p *Proofs) Watched(view *design.Design) *Proofs { return &Proofs{p.t.Watched(view), p.memo} }

// Tables are what they are over.
func (p *Proofs) Tables() *route.Tables { return p.t }

// Intent walks one intent.
func (p *Proofs) Intent(id design.ID) Result {
	return p.memo.Get(p.t.Design, id, func(view *design.Design) Result {
		return intent(p.t.Watched(view), view.Get(id))
	})
}

// All walks every intent, in canonical order.
func (p *Proofs) All() []Result {
	out := []Result{}
	for _, o := range p.t.Design.Of(design.KindIntent) {
		out = append(out, p.Intent(o.ID))
	}
	return out
}

// Intents walks every intent of a solved design, in canonical order.
func Intents(t *route.Tables) []Result { return Of(t).All() }

func intent(t *route.Tables, o *design.Object) Result {
	in := o.Body.(*design.Intent)
	r := Result{Intent: o.ID, Name: o.Name, Never: in.Never}
	flow, err := walk.FlowBetween(t, in.From, in.To, in.Service)
	if err != nil {
		r.Error = err.Error()
		r.Proof = walk.Unwalked(in.Service)
		r.Proof.Horizon = t.Standing.Condition().Horizon
		return r
	}
	r.Proof = walk.Prove(t, flow)
	if in.Never && !r.Proof.Works { // it must fail from every host, to every address, under every name
		for _, f := range walk.FlowsBetween(t, in.From, in.To, in.Service) {
			if p := walk.Prove(t, f); p.Works {
				r.Proof = p
				break
			}
		}
	}
	r.Holds = r.Proof.Works != in.Never
	return r
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
