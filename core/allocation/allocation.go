// Package allocation says what is taken in a design, and by what: ranges, inside
// addresses, autonomous systems and VLAN tags. Whoever looks for something free
// asks here.
package allocation

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/overlap"
	"dravin/core/prefix"
)

// Range is a range that is taken.
type Range struct {
	Prefix  netip.Prefix
	By      design.ID // the LAN, network, link, table, tunnel, ... that has or names it
	Party   design.ID // whose it is; empty: the whole estate's
	Segment design.ID // where it counts; empty: everywhere
	How     How
}

// How tells in which way a range is taken.
type How string

// The ways.
const (
	Held   How = "held"   // somebody's own, mapped or kept
	Pool   How = "pool"   // kept for mapped ranges
	Named  How = "named"  // somebody routes it, names it in selectors or has an entry for it
	Inside How = "inside" // the inside range of a tunnel or session
)

// Ranges lists all that is taken.
func Ranges(d *design.Design) []Range {
	var out []Range
	for _, c := range overlap.Claims(d) {
		out = append(out, Range{c.Prefix, c.Owner, c.Party, c.Segment, Held})
	}
	for _, o := range d.All() {
		party, at := design.ID(""), o.ID
		switch b := o.Body.(type) {
		case *design.Listener:
			at = b.At
		case *design.Reservation:
			party = b.Party
		}
		if p := d.Party(at); p != nil {
			party = p.ID
		}
		beside(o, func(how How, p netip.Prefix) { out = append(out, Range{p, o.ID, party, "", how}) })
	}
	return out
}

// takes tells every range that an object takes.
func takes(o *design.Object, add func(How, netip.Prefix)) {
	for _, p := range overlap.Holds(o) {
		add(Held, p)
	}
	beside(o, add)
}

// beside tells the ranges that an object takes beside those that it holds: what it
// names, has for itself, keeps for mapped ranges or has inside a tunnel or session.
func beside(o *design.Object, each func(How, netip.Prefix)) {
	add := func(how How, ps ...netip.Prefix) {
		for _, p := range ps {
			if p.IsValid() && p.Bits() > 0 { // a default route names everything and holds nothing
				each(how, p.Masked())
			}
		}
	}
	switch b := o.Body.(type) {
	case *design.Link:
		for _, e := range b.Ends {
			add(Named, slices.Concat(e.Routes, e.Local, e.Remote)...)
		}
	case *design.Circuit:
		for _, e := range b.Ends {
			add(Named, e.Routes...)
			add(Inside, e.Inside)
		}
	case *design.Table:
		for _, e := range b.Routes {
			add(Named, e.Prefix)
		}
	case *design.HubTable:
		for _, e := range b.Routes {
			add(Named, e.Prefix)
		}
	case *design.Gateway:
		rules(b.Translate, add)
	case *design.Box:
		rules(b.Translate, add)
	case *design.Listener:
		add(Held, netip.PrefixFrom(b.Address, b.Address.BitLen()))
	case *design.Reservation:
		if b.Use == design.UseMapping {
			add(Pool, b.Prefix)
		}
	case *design.Tunnel:
		add(Inside, b.Inside...)
		add(Inside, b.Inside6...)
		for _, e := range b.Ends {
			add(Inside, e.Inside)
		}
	case *design.Session:
		for _, e := range b.Ends { // the far end's address is near: the small range is taken
			if e.Address.IsValid() {
				add(Inside, netip.PrefixFrom(e.Address, e.Address.BitLen()-2))
			}
		}
	}
}

func rules(list []design.Rule, add func(How, ...netip.Prefix)) {
	for _, r := range list {
		add(Held, r.Into)
	}
}

// Prefixes are the ranges of those for which keep is true.
func Prefixes(list []Range, keep func(Range) bool) []netip.Prefix {
	var out []netip.Prefix
	for _, r := range list {
		if keep(r) {
			out = append(out, r.Prefix)
		}
	}
	return out
}

// ForMapping is what a mapped range must keep clear of: all that anybody holds or has inside tunnels.
// What an entry or a route names is not held by that: a summary leaves the room in it free.
func ForMapping(d *design.Design) []netip.Prefix {
	return Prefixes(Ranges(d), func(r Range) bool { return r.How == Held || r.How == Inside })
}

// ForNaming are the ranges that somebody routes or names, held or not: what a mapped range rather keeps
// clear of, too.
func ForNaming(d *design.Design) []netip.Prefix {
	return Prefixes(Ranges(d), func(r Range) bool { return r.How == Named })
}

// ForInside is what the inside range of a tunnel must keep clear of: all that
// anybody holds or has inside tunnels.
func ForInside(d *design.Design) []netip.Prefix {
	return Prefixes(Ranges(d), func(r Range) bool { return r.How != Named })
}

// ForHolding is what a new LAN, block or subnet must keep clear of. It is enough
// that none of parties (all, if there are none) and nobody in segment (in any, if
// it is empty) has it; what is kept for the whole estate is nobody's.
func ForHolding(d *design.Design, parties []design.ID, segment design.ID) []netip.Prefix {
	return Prefixes(Ranges(d), func(r Range) bool {
		if r.How == Named {
			return false // a summary leaves the room in it free
		}
		theirs := len(parties) == 0 || slices.Contains(parties, r.Party)
		meets := segment == "" || r.Segment == "" || r.Segment == segment
		return r.Party == "" || theirs && meets
	})
}

// Hosts are the addresses of a LAN, inner route or subnet that something has: hosts,
// inner routers, gateways and boxes that stand there, and what any of these listens on.
func Hosts(d *design.Design, place design.ID) map[netip.Addr]bool {
	out := map[netip.Addr]bool{}
	add := func(list ...netip.Addr) {
		for _, a := range list {
			out[a] = true
		}
	}
	for _, body := range design.Each[design.Endpoint](d.Inside(place, design.KindEndpoint)) {
		add(body.Addresses...)
	}
	party := d.Party(place)
	if party == nil {
		return out
	}
	for _, f := range d.Forwarders(party.ID) {
		add(design.StandsAt(f)...)
		if g, ok := f.Body.(*design.Gateway); ok && g.Subnet == place {
			for _, r := range d.Ranges(place) {
				add(prefix.FirstHost(r))
			}
		}
	}
	for _, body := range design.Each[design.InnerRoute](d.Inside(party.ID, design.KindInnerRoute)) {
		add(body.Via)
	}
	for _, body := range design.Each[design.Listener](d.Of(design.KindListener)) {
		add(body.Address)
	}
	return out
}

// GivenOut are the ranges of a LAN that it gives out by itself: nothing that keeps its address has one
// there.
func GivenOut(d *design.Design, place design.ID) []netip.Prefix {
	if o := d.Get(place); o != nil && o.Kind == design.KindLAN {
		return o.Body.(*design.LAN).GivesOut
	}
	return nil
}

// Tags are the VLAN tags of the circuits at an edge router or gateway.
func Tags(d *design.Design, at design.ID) map[uint16]bool {
	out := map[uint16]bool{}
	for _, body := range design.Each[design.Circuit](d.Referring(at, design.KindCircuit)) {
		for _, e := range body.Ends {
			out[e.VLAN] = true
		}
	}
	return out
}
