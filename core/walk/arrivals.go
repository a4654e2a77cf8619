package walk

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/topology"
)

// Where an address leads from somewhere is asked of the tables, the edges and the translations
// that a walk meets, in the routing domain of who looks; but as they are meant: what happens to be
// down changes nobody's name.

// arrival is where the tables lead an address: to a LAN or subnet, or to a
// gateway that maps it.
type arrival struct {
	place   design.ID
	mapping design.ID
	link    design.ID // the last link crossed
	box     design.ID // it ends at a gateway, box or published service itself
}

// leads tells whether somebody who dials a name comes to what has it.
func (a arrival) leads(d *design.Design, n Name) bool {
	if n.Listener == "" {
		return a.mapping == n.Mapping
	}
	return a.box == n.Listener || a.box != "" && a.box == d.Get(n.Listener).Body.(*design.Listener).At
}

const maxHops = 32

// arrivals are where the tables lead an address from a party, LAN or subnet, once for
// each routing domain in which its hosts are: the same address may lead elsewhere in
// another.
func arrivals(t *route.Tables, viewer design.ID, a netip.Addr) []arrival {
	var out []arrival
	for _, from := range viewsOf(t.Design, viewer) {
		if at := arrives(t, from, a); !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	return out
}

// viewsOf are the places that see as a viewer does: itself, or of a site whose LANs are
// in several segments one LAN for each.
func viewsOf(d *design.Design, viewer design.ID) []design.ID {
	if d.Get(viewer).Kind != design.KindSite {
		return []design.ID{viewer}
	}
	var out []design.ID
	seen := map[design.ID]bool{}
	for _, place := range d.Inside(viewer, design.KindLAN, design.KindInnerRoute) {
		if s := d.SegmentOf(place.ID); !seen[s] {
			seen[s] = true
			out = append(out, place.ID)
		}
	}
	if len(out) < 2 {
		return []design.ID{viewer}
	}
	return out
}

// leadTo reports whether somebody who dials a name comes to what has it, from anywhere
// in a party, LAN or subnet.
func leadTo(t *route.Tables, viewer design.ID, n Name) bool {
	return slices.ContainsFunc(arrivals(t, viewer, n.Address), func(a arrival) bool { return a.leads(t.Design, n) })
}

// leadsHome reports whether a place is reached under a real address.
func leadsHome(t *route.Tables, viewer, place design.ID, a netip.Addr) bool {
	return slices.ContainsFunc(arrivals(t, viewer, a), func(at arrival) bool { return at.place == place })
}

// follower goes from point to point toward an address.
type follower struct {
	tables  *route.Tables
	address netip.Addr
	views   []netip.Prefix // where it comes from
	segment design.ID
	by      design.ID // the joint or place that it came by last
	out     arrival
}

// arrives follows the tables from a party, LAN or subnet toward an address, as they are meant:
// what happens to be down changes nobody's name, and what was refused or is gone was never meant.
func arrives(t *route.Tables, viewer design.ID, a netip.Addr) arrival {
	f := &follower{tables: t, address: a, views: t.Design.Ranges(viewer)}
	if o := t.Design.Get(viewer); slices.Contains(design.HostPlaces, o.Kind) {
		f.segment = t.Design.SegmentOf(viewer)
	}
	at := firstPoint(t.Design, viewer)
	for range maxHops {
		p := t.PointIn(at, f.segment)
		if p == nil {
			return arrival{}
		}
		if f.mapped(p); f.out.mapping != "" {
			return f.out
		}
		if prefix.Has(p.Self, a) {
			f.out.box = p.ID
			return f.out
		}
		hop, tunnels, ok := meantHop(t, p, a)
		if !ok {
			return arrival{}
		}
		next, ended := f.onward(p, hop, tunnels)
		if ended {
			return f.out
		}
		at = next
	}
	return arrival{}
}

// mapped notes the one-to-one rule by which a point takes the address for another.
func (f *follower) mapped(p *route.Point) {
	for _, r := range p.Translations {
		from := r.From == "" || r.From == f.by
		mine := len(r.Source) == 0 || len(f.views) == 0 || slices.ContainsFunc(
			r.Source, func(s netip.Prefix) bool { return slices.ContainsFunc(f.views, s.Overlaps) },
		)
		if r.Hook == design.Prerouting && r.Does == design.OneToOne && from && mine && r.Into.Contains(f.address) {
			f.out.mapping = r.Of
			return
		}
	}
}

// onward takes the address to its next hop; ended says that it goes no further.
func (f *follower) onward(p *route.Point, hop route.Hop, tunnels []design.ID) (next design.ID, ended bool) {
	d := f.tables.Design
	switch hop.Kind {
	case route.Deliver:
		f.out.place = hop.To
		if d.Get(hop.To).Kind == design.KindNetwork {
			if p.Kind == design.KindHubTable {
				if at := enteredFrom(d, p.Party.ID, hop.To, f.address); at != "" {
					return at, false
				}
			}
			f.out.place = ""
			if x := subnetOf(d, hop.To, f.address); x != nil {
				f.out.place = x.ID
			}
		}
		return f.delivered()
	case route.Gateway:
		f.by = hop.Through
		return hop.To, false
	}
	if e, ok := f.tables.Edge(p, hop); ok {
		return f.across(e, tunnels), false
	}
	f.out = arrival{}
	return "", true
}

// delivered ends at a place, or goes on at a box that answers there for what it maps.
func (f *follower) delivered() (next design.ID, ended bool) {
	if f.out.place == "" {
		return "", true
	}
	f.out.box = f.tables.Bearer(f.out.place, f.address)
	if o := f.tables.Design.Get(f.out.box); o != nil && (o.Kind == design.KindBox || o.Kind == design.KindGateway) {
		f.by = f.out.place
		f.mapped(f.tables.Point(o.ID))
	}
	return "", true
}

// across is the point at which an edge comes out; empty if at none.
func (f *follower) across(e topology.Edge, tunnels []design.ID) design.ID {
	d := f.tables.Design
	to := d.Get(e.To)
	f.by, f.segment = e.Joint, e.Segment
	if to.Kind == design.KindGateway || to.Kind == design.KindEdgeRouter {
		f.out.link = e.Joint
		if len(tunnels) == 0 {
			for _, t := range d.Inside(e.Joint, design.KindTunnel) {
				tunnels = append(tunnels, t.ID)
			}
		}
		if len(tunnels) > 0 {
			f.segment = d.SegmentOf(tunnels[0])
		}
		if e.AtHub || e.Enters != "" { // its gateway translates, and another table routes
			if f.mapped(f.tables.Point(e.To)); f.out.mapping != "" {
				return e.To
			}
			return e.Enters
		}
		return e.To
	}
	if e.Kind == design.KindAttachment {
		f.by = ""
		f.segment = ""
		return e.Enters
	}
	if e.Enters != "" {
		return e.Enters
	}
	if subnetOf(d, to.ID, f.address) != nil {
		return firstPoint(d, to.ID)
	}
	return f.tables.Lent(to.ID, f.address)
}

// firstPoint is the forwarding point that the hosts of a LAN or subnet use first, or
// those of a party: in a cloud's network the table of a subnet that has named hosts,
// before one that stands empty or has boxes only.
func firstPoint(d *design.Design, viewer design.ID) design.ID {
	o := d.Get(viewer)
	if o.Kind == design.KindLAN || o.Kind == design.KindSubnet {
		return topology.Router(d, o)
	}
	first := design.ID("")
	for s, body := range design.Each[design.Subnet](d.Inside(viewer, design.KindSubnet)) {
		table := body.Table
		if len(d.Inside(s.ID, design.KindEndpoint)) > 0 {
			return table
		}
		if first == "" {
			first = table
		}
	}
	if first != "" {
		return first
	}
	for _, k := range []design.Kind{design.KindTable, design.KindGateway} {
		for _, o := range d.Inside(viewer, k) {
			return o.ID
		}
	}
	return ""
}

// meantHop is where a point means to send an address, whether that is up or not. What
// was refused or is gone is not meant.
func meantHop(t *route.Tables, p *route.Point, a netip.Addr) (hop route.Hop, tunnels []design.ID, ok bool) {
	c := p.Lookup(a)
	best := c.Winner
	for n := range c.Losers {
		if l := &c.Losers[n]; l.Down != nil && meant(t.Design, l.Down) &&
			(best == nil || l.Prefix.Bits() > best.Prefix.Bits()) {
			best = l
		}
	}
	for _, s := range p.Selectors {
		if s.Remote.Contains(a) && (best == nil || best.Hop.Kind != route.Deliver) {
			return route.Hop{Kind: route.Tunnel, To: s.Link}, nil, true
		}
	}
	if best == nil || best.Down != nil && !meant(t.Design, best.Down) {
		return route.Hop{}, nil, false
	}
	return best.Hop, best.Tunnels, true
}

// meant reports whether something that is down is part of the plan all the same.
func meant(d *design.Design, v *status.Verdict) bool {
	o := d.Get(v.Subject)
	return v.Cause != status.NotAccepted && (o == nil || status.Exists(o))
}
