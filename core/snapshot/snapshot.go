// Package snapshot holds a design with all that follows from it under a condition:
// status, tables, proofs and findings. Everything is worked out when it is
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
	"dravin/core/topology"
)

// Solved is a design with all that follows from it under one condition. It may be used by
// many at once.
type Solved struct {
	Design   *design.Design
	Tables   *route.Tables
	Proofs   *proof.Proofs
	Findings *finding.Findings

	matrix *matrices

	today *Solved   // the same today, where the condition looks at what is built; else nil
	asked sync.Once // of today: somebody has asked for it, so that its findings are kept, too
}

// Of begins to solve a design under a condition. One that looks at what is built holds what is
// today, too: findings tell where the two differ.
func Of(d *design.Design, c status.Condition) *Solved {
	s := alone(d, c)
	var now *proof.Proofs
	if s.Tables.Status.Condition().Horizon == status.Built {
		c.Horizon = status.Today
		s.today = alone(d, c)
		now = s.ifOther()
	}
	s.Findings = finding.Of(s.Proofs, now)
	return s
}

// At is the same design at a horizon, solved once; itself where it is of no other.
func (s *Solved) At(h status.Horizon) *Solved {
	if h != status.Today || s.today == nil {
		return s
	}
	s.today.asked.Do(func() {
		if s.today.Findings == nil {
			s.today.Findings = finding.Of(s.today.Proofs, nil)
		}
	})
	return s.today
}

// ifOther are today's proofs, nil where today is as when built.
func (s *Solved) ifOther() *proof.Proofs {
	if topology.Unfinished(s.Design) {
		return s.today.Proofs
	}
	return nil
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

// After is what follows from the next design under the same condition.
func (s *Solved) After(next *design.Design, changes *design.Changes) *Solved {
	out := s.follow(next, changes)
	var now *proof.Proofs
	if s.today != nil {
		out.today = s.today.After(next, changes)
		now = out.ifOther()
		changes = changes.And(out.today.Tables.Changes())
	}
	if s.Findings != nil { // of today only once somebody has asked for it
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
	if s.today != nil {
		s.today.Settle()
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
