package walk

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/topology"
)

// arrive goes on where a link or circuit ends. What comes in at a hub passes its
// gateway, and is routed by the table that the attachment is bound to.
func (w *walker) arrive(end, by design.ID) Host {
	hub := w.d.Get(w.d.Get(end).Parent)
	if hub == nil || hub.Kind != design.KindHub {
		if table := w.enteringBy(end, by); table != "" {
			here := placeOf(w.d, end)
			if v := w.t.Status.Of(end); !v.Up {
				return w.down(v, here)
			}
			w.translates(w.t.Point(end), here, by)
			return w.enters(table, by)
		}
		return w.point(end, by)
	}
	at := placeOf(w.d, end)
	if v := w.t.Status.Of(end); !v.Up {
		return w.down(v, at)
	}
	a := w.d.AttachmentOf(hub.ID, by)
	if a == nil {
		return w.halt(NoRoute, at, fmt.Sprintf("%s is not attached to %s, which does not route it", w.d.Title(by), hub.Name), "attach it to the hub")
	}
	w.translates(w.t.Point(end), at, by)
	return w.bound(a, at)
}

// translates does what a cloud's gateway does to what comes in by it and is routed
// elsewhere.
func (w *walker) translates(p *route.Point, at Place, by design.ID) {
	pass := w.prerouting(p, at, by)
	w.postrouting(pass, p, at, route.Hop{}, nil)
}

// enteringBy is the table of a network that routes what comes in by one of its
// gateways; empty where the gateway itself does.
func (w *walker) enteringBy(end, by design.ID) design.ID { return enteringBy(w.d, end, by) }

func enteringBy(d *design.Design, end, by design.ID) design.ID {
	if c, ok := d.Get(by).Body.(*design.Circuit); ok {
		for _, e := range c.Ends {
			if e.At == end && e.Enters != "" {
				return e.Enters
			}
		}
	}
	if g, ok := d.Get(end).Body.(*design.Gateway); ok {
		return g.Enters
	}
	return ""
}

// entered is the table of a network that routes what a hub hands to it: the one
// that its attachment names, or that has published what is asked for; empty where
// it is for the network itself.
func (w *walker) entered(hub, network design.ID) design.ID {
	return enteredFrom(w.d, hub, network, w.header.Dst)
}

func enteredFrom(d *design.Design, hub, network design.ID, to netip.Addr) design.ID {
	if a := d.AttachmentOf(hub, network); a != nil {
		if table := a.Body.(*design.Attachment).Enters; table != "" {
			return table
		}
	}
	if within(d.Ranges(network), to) {
		return ""
	}
	for _, t := range d.Inside(network, design.KindTable) {
		for _, e := range t.Body.(*design.Table).Routes {
			if e.Publish == design.Published && e.Prefix.Contains(to) {
				return t.ID
			}
		}
	}
	return ""
}

// enters routes what comes into a network by one of its entering tables.
func (w *walker) enters(table, by design.ID) Host {
	w.stage(placeOf(w.d, w.d.Party(table).ID), Enters, nil, "%s enters %s and is routed by %s", w.header.Dst, w.d.Party(table).Name, w.d.Get(table).Name)
	return w.point(table, by)
}

// bound routes in the hub table that an attachment is bound to.
func (w *walker) bound(a *design.Object, at Place) Host {
	if v := w.t.Status.Of(a.ID); !v.Up {
		return w.down(v, at)
	}
	table := topology.BoundTable(w.d, a)
	if table == "" {
		return w.halt(NoRoute, at, w.d.Title(a.Parent)+" has no table", "add a hub table and bind the attachment to it")
	}
	w.stage(at, Enters, nil, "%s enters %s and is routed by %s", w.header.Dst, w.d.Title(a.Parent), w.d.Get(table).Name)
	return w.point(table, "")
}

// enterHub passes the packet from a network to a hub.
func (w *walker) enterHub(attachment design.ID, network *design.Object, at Place) Host {
	a := w.d.Get(attachment)
	if s := w.subnetOf(network.ID, w.header.Src); s != nil && !w.zoneServed(a, s) {
		return w.cutOff(a, s, at)
	}
	w.pooled(a, at)
	return w.bound(a, at)
}

// otherHub passes the packet to another hub, which knows this one by its own
// attachment.
func (w *walker) otherHub(hub design.ID, from *design.Object, at Place) Host {
	if mine := w.d.AttachmentOf(from.ID, hub); mine != nil {
		if v := w.t.Status.Of(mine.ID); !v.Up {
			return w.down(v, at)
		}
	}
	a := w.d.AttachmentOf(hub, from.ID)
	if a == nil {
		return w.halt(Code(status.HalfMade), at, fmt.Sprintf("%s is attached to %s and not the other way round", w.d.Title(hub), from.Name), "attach both hubs to each other")
	}
	return w.bound(a, at)
}

func (w *walker) subnetOf(network design.ID, a netip.Addr) *design.Object {
	for _, s := range w.d.Inside(network, design.KindSubnet) {
		if within(s.Body.(*design.Subnet).Prefixes, a) {
			return s
		}
	}
	return nil
}

// zoneServed reports whether an attachment has a subnet in the zone of another.
// An attachment that names no subnets serves every zone.
func (w *walker) zoneServed(a, subnet *design.Object) bool {
	list := a.Body.(*design.Attachment).Subnets
	return len(list) == 0 || slices.ContainsFunc(list, func(id design.ID) bool {
		return w.d.Get(id).Body.(*design.Subnet).Zone == subnet.Body.(*design.Subnet).Zone
	})
}

func (w *walker) cutOff(a, subnet *design.Object, at Place) Host {
	zone := subnet.Body.(*design.Subnet).Zone
	return w.halt(ZoneCutOff, at, fmt.Sprintf("the attachment to %s has no subnet in %s, so %s is cut off", w.d.Title(a.Parent), zone, subnet.Name), "add a subnet of "+zone+" to the attachment")
}

// peer passes the packet over a peering, from one network to the other.
func (w *walker) peer(peering design.ID, from *route.Point, at Place) Host {
	o := w.d.Get(peering)
	halves := o.Body.(*design.Peering).Halves
	near, far := halves[0], halves[1]
	if far.Network == from.Party.ID {
		near, far = far, near
	}
	place := Place{ID: peering, Kind: o.Kind, Title: o.Name}
	if v := w.t.Status.Of(peering); !v.Up {
		return w.down(v, place)
	}
	other := w.d.Get(far.Network)
	lent := from.Kind == design.KindGateway && near.LendsGateway && far.UsesGateway
	if own := from.Party.Body.(*design.Network).Blocks; !within(own, w.header.Src) && !lent && !far.AcceptForwarded {
		return w.halt(NotTransitive, place, fmt.Sprintf("%s takes only what comes from %s itself over %s, and %s is somebody else's", other.Name, from.Party.Name, o.Name, w.header.Src),
			"let "+other.Name+" take what "+from.Party.Name+" passes on, where the cloud allows it; or join the two that talk directly")
	}
	w.stage(place, Enters, nil, "the peering %s carries it to %s", o.Name, other.Name)
	w.segment = ""
	if far.Enters != "" {
		return w.enters(far.Enters, peering)
	}
	if within(other.Body.(*design.Network).Blocks, w.header.Dst) {
		return w.onLink(other.ID, placeOf(w.d, other.ID))
	}
	if near.UsesGateway && far.LendsGateway {
		if g := w.t.Lent(other.ID, w.header.Dst); g != "" {
			return w.point(g, peering)
		}
	}
	return w.halt(NotTransitive, place, fmt.Sprintf("%s is not in %s, and a peering carries only the two networks' own ranges", w.header.Dst, other.Name),
		"join the two that talk directly or by a hub; or lend the gateway, where the cloud allows it")
}

// circuit passes the packet over a private circuit.
func (w *walker) circuit(id design.ID, from *route.Point, at Place) Host {
	o := w.d.Get(id)
	place := Place{ID: id, Kind: o.Kind, Title: o.Name}
	if v := w.t.Status.Of(id); !v.Up {
		return w.down(v, place)
	}
	for n, e := range o.Body.(*design.Circuit).Ends {
		if e.At == from.ID || w.d.Get(e.At).Parent == from.Party.ID && from.Kind == design.KindHubTable {
			far := o.Body.(*design.Circuit).Ends[1-n].At
			w.stage(place, Enters, nil, "%s carries it from %s to %s", o.Name, w.d.Title(e.At), w.d.Title(far))
			w.segment = w.d.SegmentOf(id)
			return w.arrive(far, id)
		}
	}
	return w.halt(NoRoute, at, o.Name+" does not end here", "correct the circuit's ends")
}
