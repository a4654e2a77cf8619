package rehearsal

import (
	"slices"

	"dravin/core/design"
	"dravin/core/route"
)

// places are the kinds that have a namespace or a wire. What else is not there, such as a rule or a mapping, does
// nothing.
var places = []design.Kind{
	design.KindSegment, design.KindInternet, design.KindSite, design.KindNetwork, design.KindHub, design.KindEdgeRouter,
	design.KindOutside, design.KindGateway, design.KindBox, design.KindLAN, design.KindInnerRoute, design.KindSubnet,
	design.KindTable, design.KindHubTable, design.KindEndpoint, design.KindLink, design.KindTunnel, design.KindCircuit,
	design.KindPeering, design.KindAttachment,
}

// standing is an estate on its way to a whole, with all that the whole has besides: its wires are there, and nothing of
// it has begun. What joins or is joined carries nothing until it is built, and boxes that are not built have no files.
func standing(whole, now *route.Tables) *route.Tables {
	d := now.Design
	var edits []design.Edit
	for _, o := range whole.Design.All() {
		if was := d.Get(o.ID); wired(o.Kind) && was != nil && !design.Equal(o, was) {
			edits = append(edits, design.PutEdit(o)) // its routers stand where they will: wires are not moved
			continue
		}
		if d.Get(o.ID) != nil || !slices.Contains(places, o.Kind) && d.Get(o.Parent) != nil {
			continue
		}
		switch {
		case o.Kind == design.KindTunnel:
			o = design.WithEnds(o, func(ends []design.TunnelEnd) {
				ends[0].State, ends[1].State = design.Making, design.Making
			})
		case o.Kind != design.KindHub && o.Kind != design.KindEdgeRouter:
			o = o.InState(design.Making)
		}
		if slices.Contains(places, o.Kind) || o.Kind == design.KindSession {
			edits = append(edits, design.PutEdit(o))
		}
	}
	if len(edits) == 0 {
		return now
	}
	return route.Solve(d.Sketch(edits), now.Status.Condition())
}

// wired reports whether fields of a kind tell who is plugged in where.
func wired(k design.Kind) bool { return k == design.KindInnerRoute || k == design.KindLAN }

// Whole is all that stands somewhere between what is built and a plan: what is planned, and what goes.
func Whole(built, plan *design.Design) *design.Design {
	var edits []design.Edit
	for _, o := range plan.All() {
		edits = append(edits, design.PutEdit(o))
	}
	return built.Sketch(edits)
}
