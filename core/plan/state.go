package plan

import (
	"context"
	"slices"

	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/translate"
)

// state is a design with what holds in it.
type state struct {
	built   *proof.Proofs
	results []proof.Result
	holds   map[design.ID]bool
}

func (s state) design() *design.Design { return s.built.Tables().Design }

// hold walks all intents.
func (s *state) hold(ctx context.Context) (err error) {
	s.results, err = s.built.Within(ctx)
	s.holds = map[design.ID]bool{}
	for _, r := range s.results {
		s.holds[r.Intent] = r.Holds
	}
	return err
}

// next is what follows from edits.
func (s state) next(ctx context.Context, edits []design.Edit) (state, error) {
	if len(edits) == 0 {
		return s, nil
	}
	d := s.design()
	after, _, err := d.Apply(edits)
	if err != nil {
		return state{}, err
	}
	out := state{built: following(s.built, after, d.ChangedBy(edits, after))}
	return out, out.hold(ctx)
}

// sketched is what follows from edits that the design need not take as they are: what is drafted in one
// step may be whole only after the next. whole is false then.
func (s state) sketched(ctx context.Context, edits []design.Edit) (out state, whole bool, err error) {
	if len(edits) == 0 {
		return s, true, nil
	}
	d := s.design()
	after := d.Sketch(edits)
	out = state{built: following(s.built, after, d.ChangedBy(edits, after))}
	return out, len(d.Refusals(edits)) == 0, out.hold(ctx)
}

func following(p *proof.Proofs, next *design.Design, changes *design.Changes) *proof.Proofs {
	t := p.Tables().After(next, changes)
	return p.After(t, t.Changes())
}

// count is how many of some intents hold.
func (s state) count(intents map[design.ID]bool) (n int) {
	for id := range intents {
		if s.holds[id] {
			n++
		}
	}
	return n
}

// attempt is a joining with what was added to it so far.
type attempt struct {
	joining joining
	state   state
	remedy  *translate.Option // nil: nothing is translated
	changes []translate.Change
}

// with is the attempt with more edits; ok is false if the design does not take them.
func (a attempt) with(ctx context.Context, edits []design.Edit, changes []translate.Change) (attempt, bool) {
	if len(edits) == 0 {
		return a, false
	}
	next, err := a.state.next(ctx, edits)
	if err != nil {
		return a, false
	}
	a.state = next
	a.changes = slices.Clone(a.changes)
	for _, c := range changes {
		if !slices.Contains(a.changes, c) {
			a.changes = append(a.changes, c)
		}
	}
	return a, true
}

// Safe reports whether a change breaks no intent that holds: nothing that must work stops, and nothing
// that must never work begins to.
func Safe(ctx context.Context, built *proof.Proofs, edits []design.Edit) bool {
	before := state{built: built}
	if before.hold(ctx) != nil {
		return false
	}
	after, err := before.next(ctx, edits)
	return err == nil && !slices.ContainsFunc(after.results, func(r proof.Result) bool {
		return !r.Holds && before.holds[r.Intent]
	})
}
