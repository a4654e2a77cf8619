package runbook

import (
	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/proof"
	"dravin/core/route"
)

// estate is the design as built after some steps, with what follows from it. What a step does not touch is not worked
// out again.
type estate struct {
	proofs *proof.Proofs
	told   *design.Memo[design.ID, []box.Instruction] // by party
	files  *design.Memo[design.ID, []handover.File]   // by party
	boxes  *design.Memo[design.ID, *box.Box]          // of gateways, boxes and edge routers
}

func newEstate(p *proof.Proofs) *estate {
	return &estate{
		p, &design.Memo[design.ID, []box.Instruction]{}, &design.Memo[design.ID, []handover.File]{},
		&design.Memo[design.ID, *box.Box]{},
	}
}

func (e *estate) tables() *route.Tables { return e.proofs.Tables() }

func (e *estate) design() *design.Design { return e.tables().Design }

// with is the estate after edits; what belongs to the estate of a plan comes in as what it names is there.
func (e *estate) with(edits []design.Edit, plan *design.Design) (*estate, error) {
	if len(edits) == 0 {
		return e, nil
	}
	next, _, err := e.design().Apply(edits)
	if err != nil {
		return e, err
	}
	next = next.Sharing(plan)
	changes := e.design().ChangesTo(next)
	t := e.tables().After(next, changes)
	changes = changes.And(t.Changes())
	out := newEstate(e.proofs.After(t, changes))
	out.told.After(e.told, changes)
	out.files.After(e.files, changes)
	out.boxes.After(e.boxes, changes)
	return out, nil
}

// settle lets go of the estate before.
func (e *estate) settle() {
	e.tables().Settle()
	e.proofs.Settle()
	e.told.Settle()
	e.files.Settle()
	e.boxes.Settle()
}

// instructions are those of a party.
func (e *estate) instructions(party design.ID) []box.Instruction {
	return e.told.Get(e.design(), party, func(view *design.Design) []box.Instruction {
		if view.Get(party) == nil {
			return nil
		}
		return box.Instructions(e.tables().Watched(view), party)
	})
}

// box is a gateway, box or edge router as it is resolved; nil of anything else.
func (e *estate) box(id design.ID) *box.Box {
	return e.boxes.Get(e.design(), id, func(view *design.Design) *box.Box {
		if view.Get(id) == nil {
			return nil
		}
		return box.Of(e.tables().Watched(view), id)
	})
}

// filesOf are the files of one box by path.
func (e *estate) filesOf(party design.ID, name string) map[string]string {
	all := e.files.Get(e.design(), party, func(view *design.Design) []handover.File {
		return handover.Render(e.tables().Watched(view), party, nil)
	})
	out := map[string]string{}
	for _, f := range handover.Of(all, name) {
		out[f.Path] = f.Content
	}
	return out
}
