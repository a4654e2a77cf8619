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

// Intents walks every intent of a solved design, in canonical order.
func Intents(t *route.Tables) []Result {
	out := []Result{}
	for _, o := range t.Design.Of(design.KindIntent) {
		in := o.Body.(*design.Intent)
		r := Result{Intent: o.ID, Name: o.Name, Never: in.Never}
		flow, err := walk.FlowBetween(t.Design, in.From, in.To, in.Service)
		if err != nil {
			r.Error = err.Error()
			r.Proof = walk.Unwalked(in.Service)
		} else {
			r.Proof = walk.Prove(t, flow)
			r.Holds = r.Proof.Works != in.Never
		}
		out = append(out, r)
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
