package route

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/settings"
	"dravin/core/status"
	"dravin/core/topology"
)

// Key names a table: that of a point, and of a box with several routing
// instances that of a segment.
type Key struct {
	At      design.ID
	Segment design.ID // empty: the instance that everything meets in
}

// String is the key of the table as a speaker.
func (k Key) String() string {
	if k.Segment == "" {
		return string(k.At)
	}
	return string(k.At) + "\x00" + string(k.Segment)
}

// Instances are the routing instances of a point by their segments. A site's
// gateway or an edge router that carries several segments has one for each, and
// one in which everything meets for what is in none; anything else has that
// alone.
func Instances(d *design.Design, o *design.Object) []design.ID {
	one := []design.ID{""}
	var found []design.ID
	add := func(id design.ID) {
		if s := d.SegmentOf(id); s != "" && !slices.Contains(found, s) {
			found = append(found, s)
		}
	}
	switch parent := d.Get(o.Parent); {
	case o.Kind == design.KindEdgeRouter:
	case o.Kind == design.KindGateway && parent.Kind == design.KindSite:
		for _, lan := range LANsOf(d, o) {
			add(lan.ID)
		}
		for _, inner := range d.Inside(o.Parent, design.KindInnerRoute) {
			add(inner.ID)
		}
	default:
		return one
	}
	for _, j := range d.Referring(o.ID, design.JointKinds...) { // in any order: they are sorted below
		if !status.Exists(j) {
			continue
		}
		add(j.ID)
		for _, t := range d.Inside(j.ID, design.KindTunnel) {
			add(t.ID)
		}
	}
	if len(found) < 2 {
		return one
	}
	slices.SortFunc(found, func(a, b design.ID) int { return compareNames(d, a, b) })
	return append(one, found...)
}

func compareNames(d *design.Design, a, b design.ID) int {
	if d.Title(a) < d.Title(b) {
		return -1
	}
	return 1
}

// LANsOf are the LANs that a site's gateway stands in.
func LANsOf(d *design.Design, gateway *design.Object) (out []*design.Object) {
	for _, e := range topology.Places(d, gateway) {
		if e.Kind == design.KindLAN {
			out = append(out, d.Get(e.To))
		}
	}
	return out
}

// InstanceFor is the routing instance of a point that takes what comes by
// something in a segment.
func InstanceFor(d *design.Design, o *design.Object, segment design.ID) design.ID {
	if segment != "" && slices.Contains(Instances(d, o), segment) {
		return segment
	}
	return ""
}

// Behind are the inner routes in a segment behind a LAN that is in none itself. What
// comes from there tells its segment by its source, since the interface tells none; and
// who is in no segment meets everything anyhow.
func Behind(d *design.Design, lan *design.Object, segment design.ID) []netip.Prefix {
	var out []netip.Prefix
	if d.SegmentOf(lan.ID) != "" {
		return nil
	}
	for inner, body := range design.Each[design.InnerRoute](d.Inside(lan.Parent, design.KindInnerRoute)) {
		if via := body.Via; d.SegmentOf(inner.ID) == segment &&
			(!via.IsValid() || prefix.Has(d.Ranges(lan.ID), via)) {
			out = append(out, d.Ranges(inner.ID)...)
		}
	}
	return out
}

// SegmentBy is the segment of a packet that a gateway gets by a LAN: the LAN's, whatever
// source it claims; by one that is in none that of the inner route that it comes from.
func SegmentBy(d *design.Design, gateway, lan *design.Object, src netip.Addr) design.ID {
	if own := d.SegmentOf(lan.ID); own != "" {
		return own
	}
	if !SegmentsBehind(d, lan) {
		return "" // as at most gateways, of which some have hundreds of joints to ask for instances
	}
	for _, segment := range Instances(d, gateway)[1:] {
		if prefix.Has(Behind(d, lan, segment), src) {
			return segment
		}
	}
	return ""
}

// SegmentsBehind reports whether the segment of what comes by a LAN is told by its source: the LAN is in none, and
// inner routes of its site are.
func SegmentsBehind(d *design.Design, lan *design.Object) bool {
	return d.SegmentOf(lan.ID) == "" && slices.ContainsFunc(
		d.Inside(lan.Parent, design.KindInnerRoute),
		func(o *design.Object) bool { return d.SegmentOf(o.ID) != "" },
	)
}

// segmentAt is the segment that a table is of: its instance's, or its own.
func segmentAt(d *design.Design, k Key) design.ID {
	if k.Segment != "" {
		return k.Segment
	}
	o := d.Get(k.At)
	if o.Kind == design.KindGateway || o.Kind == design.KindTable {
		if p := d.Get(o.Parent); p.Kind != design.KindNetwork {
			return "" // everything meets
		}
	}
	return d.SegmentOf(k.At)
}

// meets reports whether a table takes what an object brings.
func (s *solver) meets(p *Point, id design.ID) bool {
	return design.Meets(segmentAt(s.design, Key{p.ID, p.Segment}), s.design.SegmentOf(id))
}

// tunnels are those of a link that a table uses, where not all are: those of its
// own segment, else those of none, else those of the first that there is, so that
// all lead into one routing instance at the far end. carried is false if none may.
func (s *solver) tunnels(p *Point, link *design.Object) (some []design.ID, carried bool) {
	all := s.design.Inside(link.ID, design.KindTunnel)
	if len(all) == 0 {
		return nil, s.meets(p, link.ID)
	}
	own := segmentAt(s.design, Key{p.ID, p.Segment})
	by := map[design.ID][]design.ID{}
	first := design.ID("")
	for _, t := range all {
		of := s.design.SegmentOf(t.ID)
		if !design.Meets(own, of) {
			continue
		}
		if first == "" {
			first = of
		}
		by[of] = append(by[of], t.ID)
	}
	for _, of := range []design.ID{own, "", first} {
		if some = by[of]; len(some) > 0 {
			break
		}
	}
	if len(some) == len(all) {
		return nil, true
	}
	return some, len(some) > 0
}

// up is how a link stands by some of its tunnels, or by all.
func (s *solver) up(link design.ID, tunnels []design.ID) status.Verdict {
	v := s.st.Of(link)
	if !v.Up || len(tunnels) == 0 {
		return v
	}
	for _, t := range tunnels {
		if v = s.st.Of(t); v.Up {
			return v
		}
	}
	return v
}

// RouterID is the BGP identifier of a gateway or edge router (RFC 4271 section
// 1.1): what it is set to, its first public IPv4 address, or the lowest address of
// its sessions; invalid if it has none.
func RouterID(d *design.Design, box design.ID) (id netip.Addr) {
	o := d.Get(box)
	switch b := o.Body.(type) {
	case *design.EdgeRouter:
		id = b.RouterID
	case *design.Gateway:
		id = b.RouterID
		for _, a := range b.Addresses {
			if !id.IsValid() && a.Is4() && !a.IsUnspecified() {
				id = a
			}
		}
	}
	if id.IsValid() {
		return id
	}
	for _, s := range SessionsOf(d, o.ID) {
		if a := s.Body.(*design.Session).Ends[settings.EndAt(d, s, o.ID)].Address; a.Is4() &&
			(!id.IsValid() || a.Less(id)) {
			id = a
		}
	}
	return id
}

// SessionsOf lists the sessions that end at a gateway or edge router, in
// canonical order of their joints.
func SessionsOf(d *design.Design, id design.ID) []*design.Object {
	var out []*design.Object
	for _, j := range topology.At(d, id) {
		out = append(out, topology.SessionsOf(d, j)...)
	}
	return out
}
