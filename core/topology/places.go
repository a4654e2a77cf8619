package topology

import "dravin/core/design"

// Places are the edges from a gateway or box into the LANs and subnets in which it stands, in
// canonical order: the place is the joint and what it comes to.
func Places(d *design.Design, box *design.Object) []Edge {
	var out []Edge
	for _, place := range d.Inside(box.Parent, design.KindLAN, design.KindSubnet) {
		if d.StandsIn(box, place) {
			out = append(out, placed(d, place, box.ID, place.ID))
		}
	}
	return out
}

// Standing are the edges from a LAN or subnet to the gateways and boxes that stand in it, then
// to what the cloud itself publishes there, in canonical order.
func Standing(d *design.Design, place *design.Object) []Edge {
	var out []Edge
	for _, box := range d.Forwarders(place.Parent) {
		if d.StandsIn(box, place) {
			out = append(out, placed(d, place, place.ID, box.ID))
		}
	}
	if place.Kind == design.KindSubnet {
		for l := range d.ListenersAt(place.Parent) {
			out = append(out, placed(d, place, place.ID, l.ID))
		}
	}
	return out
}

func placed(d *design.Design, place *design.Object, from, to design.ID) Edge {
	return Edge{Joint: place.ID, Kind: place.Kind, From: from, To: to, Segment: d.SegmentOf(place.ID)}
}
