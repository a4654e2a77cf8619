// Package snapshot holds a design, as planned and as built, with all that follows from it: status, tables, proofs and
// findings. Everything is worked out when it is
// first asked for, and after a change only what the change touches.
package snapshot

import (
	"context"
	"sync"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
)

// Solved is a design of one side with all that follows from it. It may be used by many at once.
type Solved struct {
	Design   *design.Design
	Tables   *route.Tables
	Proofs   *proof.Proofs
	Findings *finding.Findings

	matrix *matrices

	built *Solved   // what is there, of a plan; else nil
	asked sync.Once // of what is there: somebody has asked for it, so that its findings are kept, too
}

// Of begins to solve a design. A plan holds what is built, too: findings tell where the two differ.
func Of(d *design.Design, c status.Condition) *Solved {
	s := alone(d, c)
	var now *proof.Proofs
	if d.Side() == design.Planned {
		s.built = alone(d.Built(), c)
		now = s.ifOther()
	}
	s.Findings = finding.Of(s.Proofs, now)
	return s
}

// On is the design of a side, solved once; itself where it has no other.
func (s *Solved) On(side design.Side) *Solved {
	if side != design.Built || s.built == nil {
		return s
	}
	s.built.asked.Do(func() {
		if s.built.Findings == nil {
			s.built.Findings = finding.Of(s.built.Proofs, nil)
		}
	})
	return s.built
}

// ifOther are the proofs of what is built, nil where that is as planned.
func (s *Solved) ifOther() *proof.Proofs {
	if s.Design.Done() {
		return nil
	}
	return s.built.Proofs
}

func alone(d *design.Design, c status.Condition) *Solved {
	t := route.Solve(d, c)
	return &Solved{Design: d, Tables: t, Proofs: proof.Of(t), matrix: &matrices{}}
}

// matrices are the matrix of a solved design, once somebody has asked for it, and that of the design before.
type matrices struct {
	mu     sync.Mutex
	now    *proof.Matrix
	before *proof.Matrix
}

// known is the matrix, if somebody has asked for it.
func (x *matrices) known() *proof.Matrix {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.now
}

// Matrix is who reaches whom; of a design after an edit only what may differ is walked again. The error is that of the
// context, if it ends before. tell, if not nil, hears how far it is, from 0 to 1.
func (s *Solved) Matrix(ctx context.Context, tell func(float64)) (*proof.Matrix, error) {
	x := s.matrix
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.now != nil {
		return x.now, nil
	}
	var m *proof.Matrix
	var err error
	if x.before != nil {
		m, err = x.before.After(ctx, s.Proofs)
	} else {
		m, err = proof.MatrixOf(ctx, s.Proofs, tell)
	}
	if err == nil {
		x.now, x.before = m, nil
	}
	return m, err
}

// After is what follows from the next design of the same side.
func (s *Solved) After(next *design.Design, changes *design.Changes) *Solved {
	out := s.follow(next, changes)
	var now *proof.Proofs
	if s.built != nil {
		out.built = s.built.After(next.Built(), changes)
		now = out.ifOther()
		changes = changes.And(out.built.Tables.Changes())
	}
	if s.Findings != nil { // of what is built only once somebody has asked for it
		out.Findings = s.Findings.After(out.Proofs, now, changes.And(out.Tables.Changes()))
	}
	return out
}

func (s *Solved) follow(next *design.Design, changes *design.Changes) *Solved {
	t := s.Tables.After(next, changes)
	return &Solved{
		Design: next, Tables: t, Proofs: s.Proofs.After(t, t.Changes()), matrix: &matrices{before: s.matrix.known()},
	}
}

// Settle takes over what still holds of what was before, and lets go of it. It
// is for a design that stays; a trial is thrown away instead.
func (s *Solved) Settle() {
	s.Tables.Settle()
	s.Proofs.Settle()
	if s.Findings != nil {
		s.Findings.Settle()
	}
	if s.built != nil {
		s.built.Settle()
	}
}

// Try is what would follow from edits. Errors are those of [design.Design.Apply].
func (s *Solved) Try(edits []design.Edit) (*Solved, error) {
	next, _, err := s.Design.Apply(edits)
	if err != nil {
		return nil, err
	}
	return s.After(next, s.Design.ChangedBy(edits, next)), nil
}
