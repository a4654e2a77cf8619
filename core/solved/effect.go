package solved

import (
	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/standing"
	"dravin/core/walk"
)

// FlowChange is a flow that starts or stops.
type FlowChange struct {
	From   string    `json:"from"`
	To     string    `json:"to"`
	What   string    `json:"what"` // the service, or icmp where nobody asked for one
	Intent design.ID `json:"intent,omitempty"`
	Works  bool      `json:"works"` // now
	Why    string    `json:"why,omitempty"`
}

// Effect is what differs between two solved designs: entries of tables, flows,
// and the parties that any of it concerns.
type Effect struct {
	Tables  []route.TableChange `json:"tables"`
	Flows   []FlowChange        `json:"flows"`
	Parties []design.ID         `json:"parties"`
	// Checked is how many flows beside the intents were walked before and after:
	// between the first hosts of what the changed tables belong to.
	Checked int `json:"checked"`
}

// mostFlows bounds how many flows are walked that nobody asked for.
const mostFlows = 200

// EffectOf compares what follows from a design with what followed before.
func EffectOf(before, after *Solved) Effect {
	e := Effect{Tables: after.Tables.Changed(before.Tables), Flows: []FlowChange{}, Parties: []design.ID{}}
	seen := map[design.ID]bool{}
	for _, t := range e.Tables {
		if !seen[t.Party] {
			seen[t.Party] = true
			e.Parties = append(e.Parties, t.Party)
		}
	}
	e.intents(before, after)
	e.between(before, after)
	return e
}

func (e *Effect) intents(before, after *Solved) {
	was := map[design.ID]proof.Result{}
	for _, r := range before.Proofs.All() {
		was[r.Intent] = r
	}
	for _, r := range after.Proofs.All() {
		old, ok := was[r.Intent]
		if !ok || old.Proof.Works == r.Proof.Works {
			continue
		}
		f := FlowChange{From: r.Proof.From.Title, To: r.Proof.To.Title, What: r.Proof.Service, Intent: r.Intent, Works: r.Proof.Works}
		if r.Proof.Stop != nil {
			f.Why = r.Proof.Stop.Why
		}
		e.Flows = append(e.Flows, f)
	}
}

// between walks between the first hosts of the parties whose tables differ.
func (e *Effect) between(before, after *Solved) {
	var places []design.ID
	for _, id := range e.Parties {
		if before.Design.Get(id) == nil || after.Design.Get(id) == nil {
			continue
		}
		for _, o := range after.Design.Inside(id, design.HostPlaces...) {
			if before.Design.Get(o.ID) != nil {
				places = append(places, o.ID)
			}
		}
	}
	icmp := design.Service{Proto: "icmp"}
	works := func(s *Solved, from, to design.ID) (walk.Proof, bool) {
		f, err := walk.FlowBetween(s.Tables, from, to, icmp)
		if err != nil {
			return walk.Proof{}, false
		}
		return walk.Prove(s.Tables, f), true
	}
	for _, from := range places {
		for _, to := range places {
			if from == to || after.Design.Party(from).ID == after.Design.Party(to).ID || e.Checked == mostFlows {
				continue
			}
			e.Checked++
			a, ok := works(before, from, to)
			b, still := works(after, from, to)
			if ok != still || a.Works == b.Works {
				continue
			}
			f := FlowChange{From: after.Design.Title(from), To: after.Design.Title(to), What: icmp.String(), Works: b.Works}
			if b.Stop != nil {
				f.Why = b.Stop.Why
			}
			e.Flows = append(e.Flows, f)
		}
	}
}

// Without is the same design with something taken away.
func (s *Solved) Without(c ...standing.Thing) *Solved {
	condition := s.Tables.Standing.Condition()
	condition.Without = append(append([]standing.Thing{}, condition.Without...), c...)
	return alone(s.Design, condition)
}
