package route

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
)

// Own is an address that a gateway or box has. The zero Own is none.
type Own struct {
	Addr netip.Addr
	// Assumed says that the box has an address there and the design does not say
	// which: Addr stands for it, and no file may name it.
	Assumed bool
}

// IsValid reports whether there is an address.
func (o Own) IsValid() bool { return o.Addr.IsValid() }

// OwnAddress is what a gateway or box puts as the source of what it hides behind its
// own address: that of the interface by which the packet leaves, as a kernel chooses
// it. In a LAN or subnet it is the one in the next hop's range, of IPv6 the one that
// shares most with the destination (RFC 6724 section 5, rule 8); into a link or circuit
// the inside one of the tunnel; to the internet the public one. An interface without an
// address of the family has none to give. Selectors have no say in it: a packet that
// leaves by the outside interface has that interface's address, and fits a selector
// afterwards or does not ([Tables.OwnToward]).
func (t *Tables) OwnAddress(p *Point, hop Hop, tunnels []design.ID, to netip.Addr) Own {
	d, o := t.Design, t.Design.Get(p.ID)
	f := prefix.FamilyOf(to)
	stands := slices.DeleteFunc(standsAt(d, o), func(a netip.Addr) bool { return !f.Has(a) })
	if g, ok := o.Body.(*design.Gateway); ok && g.Subnet != "" && len(stands) > 0 && hop.Kind == Deliver {
		return Own{Addr: stands[0]}
	}
	switch hop.Kind {
	case Deliver, Gateway:
		if a := t.ownBeside(o, stands, hop, to); a.IsValid() || !inCloud(d, o) {
			return a
		}
	case Tunnel, Circuit:
		if a := t.ownOn(o, hop.To, tunnels, f); a.IsValid() || !inCloud(d, o) {
			return Own{Addr: a}
		}
	}
	if g, ok := o.Body.(*design.Gateway); ok {
		for _, a := range g.Addresses {
			if f.Has(a) {
				return Own{Addr: a}
			}
		}
	}
	if len(stands) > 0 && inCloud(d, o) {
		return Own{Addr: stands[0]}
	}
	return Own{}
}

// OwnToward is the address that a gateway or box picks of its own for what it sends to an address within the selectors
// of policy-based links, or of the one that is named; invalid where none fits.
func (t *Tables) OwnToward(p *Point, link design.ID, to netip.Addr) Own {
	for _, s := range p.Selectors {
		for _, a := range standsAt(t.Design, t.Design.Get(p.ID)) {
			if (link == "" || s.Link == link) && s.Matches(a, to) {
				return Own{Addr: a}
			}
		}
	}
	return Own{}
}

// SendsFrom is the source of what a gateway or box sends itself by a route: the one that the route prefers, else its
// own address on the way.
func (t *Tables) SendsFrom(p *Point, r *Route, to netip.Addr) Own {
	if r == nil {
		return t.OwnAddress(p, Hop{}, nil, to)
	}
	if a := t.preferredBy(p, r, prefix.FamilyOf(to)); a.IsValid() {
		return a
	}
	return t.OwnAddress(p, r.Hop, r.Tunnels, to)
}

// preferredBy is the source that a route into a link or circuit prefers for what the box itself sends: of what it has
// learned one that the design gives, of what was entered where everything meets whichever address the box has in one of
// its own ranges, the first of which counts. The far end knows the way back there, and not to every inside address.
func (t *Tables) preferredBy(p *Point, r *Route, f prefix.Family) Own {
	switch {
	case !r.Hop.Leaves():
		return Own{}
	case r.Learned != nil:
		return Own{Addr: t.Preferred(p, f)}
	case p.Segment != "" || r.Source != Static && r.Source != CircuitStatic:
		return Own{}
	}
	d, o := t.Design, t.Design.Get(p.ID)
	for _, own := range p.Own {
		if !f.Has(own.Addr()) {
			continue
		}
		for _, a := range standsAt(d, o) {
			if own.Contains(a) {
				return Own{Addr: a}
			}
		}
		if place := placeWith(d, o, own); place != nil {
			if a := Unheld(d, place, own); a.IsValid() {
				return Own{Addr: a, Assumed: true}
			}
		}
	}
	return Own{}
}

// placeWith is the LAN of a range in which a site's gateway stands; nil if there is none.
func placeWith(d *design.Design, o *design.Object, own netip.Prefix) *design.Object {
	if o.Kind != design.KindGateway {
		return nil
	}
	for _, lan := range d.Inside(o.Parent, design.KindLAN) {
		if slices.Contains(d.Ranges(lan.ID), own) && d.StandsIn(o, lan) {
			return lan
		}
	}
	return nil
}

// Dials is the source of a connection that a program on a gateway or box opens: it is in none of the box's routing
// instances, is routed where everything meets, and binds to an address that fits a selector where one is to take it.
func (t *Tables) Dials(box design.ID, to netip.Addr) Own {
	p := t.Point(box)
	if a := t.OwnToward(p, "", to); a.IsValid() {
		return a
	}
	return t.Sends(box, to)
}

// Sends is the source of what a gateway or box sends itself where nobody has chosen one, such as a ping.
func (t *Tables) Sends(box design.ID, to netip.Addr) Own {
	p := t.Point(box)
	return t.SendsFrom(p, p.Lookup(to).Winner, to)
}

// Preferred is the source that a box prefers for what it sends into its links and
// circuits itself: its first address in a range of its own, which the far end knows
// the way back to; invalid where the design gives none.
func (t *Tables) Preferred(p *Point, f prefix.Family) netip.Addr {
	for _, own := range p.Own {
		for _, a := range design.StandsAt(t.Design.Get(p.ID)) {
			if own.Contains(a) && f.Has(a) {
				return a
			}
		}
	}
	return netip.Addr{}
}

// inCloud reports whether a gateway is a cloud's, and no box of one's own.
func inCloud(d *design.Design, o *design.Object) bool {
	return o.Kind == design.KindGateway && d.Get(o.Parent).Kind != design.KindSite
}

// ownBeside is the address in the LAN or subnet by which a packet leaves.
func (t *Tables) ownBeside(o *design.Object, stands []netip.Addr, hop Hop, to netip.Addr) Own {
	d := t.Design
	place, next := d.Get(hop.Through), to
	if hop.Kind == Deliver {
		place = d.Get(hop.To)
	}
	if place == nil {
		return Own{}
	}
	if inner, ok := place.Body.(*design.InnerRoute); ok {
		next, place = inner.Via, placeIn(d, o.Parent, inner.Via)
	}
	if router := d.Get(hop.To); hop.Kind == Gateway && router != nil {
		for _, a := range design.StandsAt(router) {
			if a.Is4() == to.Is4() && prefix.Has(design.RangesOf(place), a) {
				next = a
			}
		}
	}
	return ownIn(d, o, place, stands, next, to)
}

// ownIn picks among a box's addresses in a place: of IPv4 the one in the range of the
// next hop, of IPv6 the one that shares most bits with the destination. A site's
// gateway that stands there without a word on its address has one all the same.
func ownIn(d *design.Design, o, place *design.Object, stands []netip.Addr, next, to netip.Addr) Own {
	if place == nil {
		return Own{}
	}
	var best netip.Addr
	for _, r := range design.RangesOf(place) {
		for _, a := range stands {
			switch {
			case !r.Contains(a):
			case !best.IsValid(), to.Is4() && r.Contains(next), !to.Is4() &&
				prefix.Shared(a, to) > prefix.Shared(best, to):
				best = a
			}
		}
	}
	if best.IsValid() || o.Kind != design.KindGateway || !d.StandsIn(o, place) {
		return Own{Addr: best}
	}
	for _, r := range design.RangesOf(place) {
		if r.Addr().Is4() == to.Is4() && (!best.IsValid() || r.Contains(next)) {
			best = Unheld(d, place, r)
		}
	}
	return Own{Addr: best, Assumed: best.IsValid()}
}

// Unheld is the last address of a range that a host may have and nothing in the design
// has: it stands for that of a gateway of which the design says none.
func Unheld(d *design.Design, place *design.Object, r netip.Prefix) netip.Addr {
	a := prefix.LastHost(r)
	for ; r.Contains(a); a = a.Prev() {
		held := slices.ContainsFunc(d.Inside(place.ID, design.KindEndpoint), func(e *design.Object) bool {
			return slices.Contains(e.Body.(*design.Endpoint).Addresses, a)
		})
		if !held &&
			!slices.ContainsFunc(d.Forwarders(place.Parent), func(f *design.Object) bool { return bears(d, f, a) }) {
			return a
		}
	}
	return netip.Addr{}
}

func placeIn(d *design.Design, party design.ID, a netip.Addr) *design.Object {
	for _, place := range d.Inside(party, design.KindLAN, design.KindSubnet) {
		if prefix.Has(d.Ranges(place.ID), a) {
			return place
		}
	}
	return nil
}

// ownOn is the address on a link or circuit: of several tunnels that of the first that
// is up.
func (t *Tables) ownOn(o *design.Object, joint design.ID, tunnels []design.ID, f prefix.Family) netip.Addr {
	for _, x := range insides(t.Design, o.ID) {
		if x.joint.ID != joint || !f.Has(x.own) ||
			len(tunnels) > 0 && x.tunnel != "" && !slices.Contains(tunnels, x.tunnel) {
			continue
		}
		if x.tunnel == "" || t.Status.Of(x.tunnel).Up {
			return x.own
		}
	}
	return netip.Addr{}
}
