package rehearsal

import (
	"dravin/core/design"
	"dravin/core/route"
)

// standing is an estate on its way to a whole, with all that the whole has besides: its wires are there, and nothing of
// it has begun. What joins or is joined carries nothing until it is built, and boxes that are not built have no files.
func standing(whole, now *route.Tables) *route.Tables {
	d := now.Design
	var edits []design.Edit
	for _, o := range whole.Design.All() {
		if d.Get(o.ID) != nil {
			continue
		}
		if o.Kind != design.KindHub && o.Kind != design.KindEdgeRouter {
			o = o.InState(design.Making)
		}
		edits = append(edits, design.PutEdit(o))
	}
	if len(edits) == 0 {
		return now
	}
	return route.Solve(d.Sketch(edits), now.Status.Condition())
}

// Whole is all that stands somewhere between what is built and a plan: what is planned, and what goes.
func Whole(built, plan *design.Design) *design.Design {
	var edits []design.Edit
	for _, o := range plan.All() {
		edits = append(edits, design.PutEdit(o))
	}
	return built.Sketch(edits)
}
