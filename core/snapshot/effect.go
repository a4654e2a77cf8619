package snapshot

import (
	"slices"

	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
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
		f := FlowChange{
			From: r.Proof.From.Title, To: r.Proof.To.Title, What: r.Proof.Service, Intent: r.Intent,
			Works: r.Proof.Works,
		}
		if r.Proof.Stop != nil {
			f.Why = r.Proof.Stop.Why
		}
		e.Flows = append(e.Flows, f)
	}
}

// between walks between the hosts of the parties whose tables differ. What is
// only in one of the two designs starts or stops with it.
func (e *Effect) between(before, after *Solved) {
	var places []design.ID
	for _, id := range e.Parties {
		for _, s := range []*Solved{before, after} {
			for _, o := range s.Design.Inside(id, design.HostPlaces...) {
				if !slices.Contains(places, o.ID) {
					places = append(places, o.ID)
				}
			}
		}
	}
	for _, from := range places {
		for _, to := range places {
			if from == to || e.Checked == mostFlows || partyOf(before, after, from) == partyOf(before, after, to) {
				continue
			}
			e.Checked++
			was, _ := pinged(before, from, to)
			works, why := pinged(after, from, to)
			if was != works {
				e.Flows = append(
					e.Flows,
					FlowChange{
						From: titleOf(before, after, from), To: titleOf(before, after, to), What: ping.String(),
						Works: works, Why: why,
					},
				)
			}
		}
	}
}

var ping = design.Service{Proto: "icmp"}

// pinged carries one packet between the first hosts of two places; why tells what
// stops it.
func pinged(s *Solved, from, to design.ID) (works bool, why string) {
	for _, id := range []design.ID{from, to} {
		if s.Design.Get(id) == nil {
			return false, "it is not there"
		}
	}
	f, err := walk.FlowBetween(s.Tables, from, to, ping)
	if err != nil {
		return false, err.Error()
	}
	p := walk.Prove(s.Tables, f)
	if p.Stop != nil {
		why = p.Stop.Why
	}
	return p.Works, why
}

// in is the one of two designs that has an object, the later first.
func in(before, after *Solved, id design.ID) *design.Design {
	if after.Design.Get(id) != nil {
		return after.Design
	}
	return before.Design
}

func partyOf(before, after *Solved, id design.ID) design.ID {
	return in(before, after, id).Party(id).ID
}

func titleOf(before, after *Solved, id design.ID) string { return in(before, after, id).Title(id) }

// Without is the same design with something taken away.
func (s *Solved) Without(c ...status.Thing) *Solved {
	p := s.Proofs.Without(c...)
	return &Solved{Design: s.Design, Tables: p.Tables(), Proofs: p, matrix: &matrices{before: s.matrix.known()}}
}
