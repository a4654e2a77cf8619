package topology

import (
	"dravin/core/design"
	"dravin/core/status"
)

// Edge is one direction of a joint. The zero Edge leads nowhere.
type Edge struct {
	Joint design.ID
	Kind  design.Kind
	End   int // which end of the joint it leaves: 0 or 1
	// From and To are what ends the joint there: gateways, edge routers, networks or hubs.
	From, To design.ID
	// Enters is the table that routes what arrives: a hub's, that the joint's attachment is
	// bound to, or one of a network for what enters there; empty where it is To itself that
	// does, or that holds what is asked for.
	Enters design.ID
	// Attachment is that by which a link or circuit that ends at a hub is routed there; empty
	// elsewhere, and where there is none.
	Attachment design.ID
	AtHub      bool      // it comes to a gateway of a hub
	Segment    design.ID // that it carries; empty: whatever meets
}

// Topology is how a design hangs together under a condition. It may be used by many at once.
type Topology struct {
	design *design.Design
	st     *status.Status
	edges  *design.Memo[design.ID, [2]Edge]
}

// Of begins the topology of a design under a condition.
func Of(d *design.Design, c status.Condition) *Topology {
	return &Topology{design: d, st: Status(d, c), edges: &design.Memo[design.ID, [2]Edge]{}}
}

// With is the topology of a design whose status is known.
func With(d *design.Design, st *status.Status) *Topology {
	return &Topology{design: d, st: st, edges: &design.Memo[design.ID, [2]Edge]{}}
}

// After is the topology of the next design, with its status. What the changes do not touch is
// not worked out again.
func (t *Topology) After(next *design.Design, st *status.Status, changes *design.Changes) *Topology {
	out := With(next, st)
	out.edges.After(t.edges, changes)
	return out
}

// Settle takes over what still holds of the topology before, and lets go of it.
func (t *Topology) Settle() { t.edges.Settle() }

// Watched is the same topology, noting in what view notes whatever is looked at.
func (t *Topology) Watched(view *design.Design, st *status.Status) *Topology {
	return &Topology{design: view, st: st, edges: t.edges}
}

// Edges are the two directions of a joint; ok is false if it joins nothing.
func (t *Topology) Edges(joint design.ID) (edges [2]Edge, ok bool) {
	edges = t.edges.Get(t.design, joint, func(view *design.Design) [2]Edge {
		o := view.Get(joint)
		k := KindOf(o)
		if _, joins := design.JointOf(o); k == nil || !joins {
			return [2]Edge{}
		}
		return [2]Edge{k.edge(view, o, 0), k.edge(view, o, 1)}
	})
	return edges, edges[0].Joint != ""
}

func (k *Kind) edge(d *design.Design, o *design.Object, end int) Edge {
	j, _ := design.JointOf(o)
	e := k.Edge(d, o, end)
	e.Joint, e.Kind, e.End, e.From, e.To = o.ID, o.Kind, end, j.Ends[end], j.Ends[1-end]
	if e.Segment == "" {
		e.Segment = d.SegmentOf(o.ID)
	}
	hub := d.Get(d.Get(e.To).Parent)
	if e.AtHub = hub != nil && hub.Kind == design.KindHub; e.AtHub {
		if a := d.AttachmentOf(hub.ID, o.ID); a != nil {
			e.Attachment, e.Enters = a.ID, BoundTable(d, a)
		}
	}
	return e
}

// From is the edge by which a gateway, edge router, network or hub, or a gateway of it, enters
// a joint; ok is false if the joint does not end there.
func (t *Topology) From(joint, at design.ID) (e Edge, ok bool) {
	edges, ok := t.Edges(joint)
	if !ok {
		return e, false
	}
	for _, x := range edges {
		if x.From == at {
			return x, true
		}
	}
	for _, x := range edges {
		if o := t.design.Get(x.From); o.Parent != "" && o.Parent == at {
			return x, true
		}
	}
	return e, false
}

// BoundTable is the table that decides for what comes in by an attachment: the one that it is
// bound to, or the hub's only one; empty if there is none.
func BoundTable(d *design.Design, attachment *design.Object) design.ID {
	if b := attachment.Body.(*design.Attachment); b.Bound != "" {
		return b.Bound
	}
	if tables := d.Inside(attachment.Parent, design.KindHubTable); len(tables) > 0 {
		return tables[0].ID
	}
	return ""
}

// Router is what the hosts of a LAN, inner network or subnet send to for everything that is not
// beside them; empty if there is nothing.
func Router(d *design.Design, place *design.Object) design.ID {
	switch b := place.Body.(type) {
	case *design.Subnet:
		return b.Table
	case *design.InnerRoute:
		return place.ID
	case *design.LAN:
		if len(b.Gateways) > 0 {
			return b.Gateways[0]
		}
	}
	for _, g := range d.Inside(place.Parent, design.KindGateway) {
		if d.StandsIn(g, place) {
			return g.ID
		}
	}
	return ""
}
