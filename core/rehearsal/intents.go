package rehearsal

import (
	"slices"

	"dravin/core/design"
)

// Intent is what was sent for an intent, and what came.
type Intent struct {
	ID    design.ID `json:"id"`
	Name  string    `json:"name"`
	Never bool      `json:"never,omitempty"` // it must never work
	Sent  []Try     `json:"sent"`            // none: it is not rehearsed
	Why   []string  `json:"why"`             // flows of it are not rehearsed, as sentences
}

// Try is one flow of an intent.
type Try struct {
	From      string `json:"from"`
	To        string `json:"to"` // what was dialled
	Service   string `json:"service"`
	Proof     string `json:"proof"`     // what is proven
	Rehearsed string `json:"rehearsed"` // what came of it
	Same      bool   `json:"same"`
}

// unsent notes why a flow of an intent is not rehearsed; nothing for one of the sample.
func (p *Plan) unsent(intent design.ID, why string) {
	n := slices.IndexFunc(p.Intents, func(i Intent) bool { return i.ID == intent })
	if n >= 0 && !slices.Contains(p.Intents[n].Why, why) {
		p.Intents[n].Why = append(p.Intents[n].Why, why)
	}
}

// Came notes what came of flows; checks are theirs, in their order.
func (r *Report) Came(flows []Flow, checks []Check) {
	for n, f := range flows {
		k := slices.IndexFunc(r.Intents, func(i Intent) bool { return i.ID == f.Intent })
		if k < 0 {
			continue
		}
		c := checks[n]
		r.Intents[k].Sent = append(r.Intents[k].Sent, Try{
			From: f.Proof.From.Title, To: f.To.String(), Service: f.Service.String(), Proof: c.Proof,
			Rehearsed: c.Rehearsed, Same: c.Same,
		})
	}
}

// Conclude says what differences mean: where the machine was late they may come of that, else proof and rehearsal
// contradict each other and one of them is wrong.
func (r *Report) Conclude() {
	switch {
	case len(r.Differences()) == 0:
		r.Means = ""
	case r.Late != "":
		r.Means = "The machine was late: " + r.Late + ". A difference may come of that; rehearse again when it is quiet."
	default:
		r.Means = "Proof and rehearsal must be the same, and the machine kept up: each difference is a mistake of Dravin's."
	}
}
