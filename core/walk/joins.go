package walk

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/route"
)

// unfit says what keeps a gateway from forwarding anything, empty if nothing is
// known to.
func unfit(g *design.Gateway) string {
	switch {
	case slices.Contains(g.Faults, "forwarding-off"):
		return "has forwarding off"
	case slices.Contains(g.Faults, "source-check"):
		return "may only send what comes from its own address"
	}
	return ""
}

// endAt is the gateway by which a point sends into a link: itself, or the hub's
// if the point is a hub's table.
func (w *walker) endAt(link design.ID, p *route.Point) design.ID {
	if p.Kind == design.KindHubTable {
		for _, e := range w.d.Get(link).Body.(*design.Link).Ends {
			if w.d.Get(e.Gateway).Parent == p.Party.ID {
				return e.Gateway
			}
		}
	}
	return p.ID
}

// arrive goes on where a link or circuit ends. What comes in at a hub is routed
// by the table that the link's attachment is bound to.
func (w *walker) arrive(gateway, by design.ID) Host {
	hub := w.d.Get(w.d.Get(gateway).Parent)
	if hub == nil || hub.Kind != design.KindHub {
		return w.point(gateway, by)
	}
	at := placeOf(w.d, gateway)
	a := w.attachmentOf(hub.ID, by)
	if a == nil {
		return w.halt(NoRoute, at, fmt.Sprintf("%s is not attached to %s, which does not route it", w.d.Title(by), hub.Name), "attach it to the hub")
	}
	return w.bound(a, at)
}

// attachmentOf is the attachment of something to a hub, or nil.
func (w *walker) attachmentOf(hub, what design.ID) *design.Object {
	for _, a := range w.d.Inside(hub, design.KindAttachment) {
		if a.Body.(*design.Attachment).What == what {
			return a
		}
	}
	return nil
}

// bound routes in the hub table that an attachment is bound to.
func (w *walker) bound(a *design.Object, at Place) Host {
	if s := design.StateOf(a); !design.Carries(s) {
		return w.halt(LinkDown, at, fmt.Sprintf("the attachment of %s to %s is not there: it is %s", a.Name, w.d.Title(a.Parent), design.StateWord(s)), "have it accepted and built")
	}
	table := route.HubTableOf(w.d, a)
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
	return w.bound(a, at)
}

// otherHub passes the packet to another hub, which knows this one by its own
// attachment.
func (w *walker) otherHub(hub design.ID, from *design.Object, at Place) Host {
	a := w.attachmentOf(hub, from.ID)
	if a == nil {
		return w.halt(HalfMade, at, fmt.Sprintf("%s is attached to %s and not the other way round", w.d.Title(hub), from.Name), "attach both hubs to each other")
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
func (w *walker) peer(peering design.ID, from *design.Object, at Place) Host {
	o := w.d.Get(peering)
	p := o.Body.(*design.Peering)
	n := 0
	if p.Halves[0].Network == from.ID {
		n = 1
	}
	near, far := p.Halves[1-n], p.Halves[n]
	place := Place{ID: peering, Kind: o.Kind, Title: o.Name}
	if s := design.StateOf(o); !design.Carries(s) {
		return w.halt(HalfMade, place, fmt.Sprintf("the peering %s is %s", o.Name, design.StateWord(s)), "make both halves")
	}
	other := w.d.Get(far.Network)
	w.stage(place, Enters, nil, "the peering %s carries it to %s", o.Name, other.Name)
	if within(other.Body.(*design.Network).Blocks, w.header.Dst) {
		return w.onLink(other.ID, placeOf(w.d, other.ID))
	}
	if gateways := w.d.Inside(other.ID, design.KindGateway); near.UsesGateway && far.LendsGateway && len(gateways) > 0 {
		return w.point(gateways[0].ID, "")
	}
	return w.halt(NotTransitive, place, fmt.Sprintf("%s is not in %s, and a peering carries only the two networks' own ranges", w.header.Dst, other.Name),
		"join the two that talk directly or by a hub; or lend the gateway, where the cloud allows it")
}

// circuit passes the packet over a private circuit.
func (w *walker) circuit(id, from design.ID) Host {
	o := w.d.Get(id)
	at := Place{ID: id, Kind: o.Kind, Title: o.Name}
	for n, e := range o.Body.(*design.Circuit).Ends {
		if e.At == from {
			far := o.Body.(*design.Circuit).Ends[1-n].At
			w.stage(at, Enters, nil, "%s carries it from %s to %s", o.Name, w.d.Title(from), w.d.Title(far))
			return w.arrive(far, id)
		}
	}
	return w.halt(LinkDown, at, o.Name+" does not end here", "correct the circuit's ends")
}
