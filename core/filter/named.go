package filter

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
)

// NamedAt are the ranges under which a filter meets what an object has: within the filter's own party the real
// ones; of another party those into which it maps them, and the real ones unless the filter's party holds any of
// these itself, which then are the ones that are meant by them there. Of a link they are the public addresses of
// its far end.
func NamedAt(d *design.Design, f *design.PacketFilter, id design.ID) []netip.Prefix {
	o, here := d.Get(id), d.FilterPlace(f)
	switch b := o.Body.(type) {
	case *design.Link:
		return farAddresses(d, b, here)
	case *design.Endpoint:
		return named(d, here, o, addressesOf(b.Addresses))
	case *design.Group:
		var out []netip.Prefix
		for _, m := range b.Members {
			out = append(out, NamedAt(d, f, m)...)
		}
		return out
	case *design.Site:
		var out []netip.Prefix
		for _, place := range d.Inside(id, design.HostPlaces...) {
			out = append(out, named(d, here, place, design.RangesOf(place))...)
		}
		return out
	case *design.Segment:
		var out []netip.Prefix
		for _, k := range []design.Kind{
			design.KindLAN, design.KindInnerRoute, design.KindNetwork, design.KindOutside,
		} {
			for _, x := range design.InOrder(d.Referring(id, k)) {
				out = append(out, named(d, here, x, design.RangesOf(x))...)
			}
		}
		return out
	}
	return named(d, here, o, design.RangesOf(o))
}

func addressesOf(list []netip.Addr) (out []netip.Prefix) {
	for _, a := range list {
		out = append(out, prefix.Alone(a))
	}
	return out
}

func farAddresses(d *design.Design, l *design.Link, here *design.Object) (out []netip.Prefix) {
	for _, e := range l.Ends {
		if g := d.Get(e.Gateway); g != nil && (here == nil || d.Party(g.ID) != here) {
			out = append(out, addressesOf(g.Body.(*design.Gateway).Addresses)...)
		}
	}
	return out
}

// named are ranges of an object as they are named in a party.
func named(d *design.Design, here, o *design.Object, ranges []netip.Prefix) []netip.Prefix {
	party := d.Party(o.ID)
	if party == nil || party == here {
		return ranges
	}
	var out []netip.Prefix
	for _, r := range ranges {
		if !heldBy(d, here, r) {
			out = append(out, r)
		}
		for _, m := range MapsOf(d, party.ID) {
			if part := overlap(r, m[0]); part.IsValid() {
				out = append(out, prefix.TranslatePrefix(part, m[0], m[1]))
			}
		}
	}
	return out
}

// heldBy reports whether a party has any address of a range itself.
func heldBy(d *design.Design, party *design.Object, r netip.Prefix) bool {
	if party == nil {
		return false
	}
	places := append(d.Inside(party.ID, design.HostPlaces...), party)
	return slices.ContainsFunc(places, func(o *design.Object) bool {
		return slices.ContainsFunc(design.RangesOf(o), r.Overlaps)
	})
}

// MapsOf are the real and the mapped ranges of a party's one-to-one mappings.
func MapsOf(d *design.Design, party design.ID) (out [][2]netip.Prefix) {
	for _, box := range d.Forwarders(party) {
		for _, m := range design.Each[design.Mapping](design.InOrder(d.Referring(box.ID, design.KindMapping))) {
			if m.Gateway == box.ID {
				out = append(out, [2]netip.Prefix{m.Real, m.Mapped})
			}
		}
		for _, r := range design.RulesOf(box) {
			if r.Does == design.OneToOne && r.Hook == design.Postrouting {
				out = append(out, [2]netip.Prefix{r.Real, r.Into})
			}
		}
	}
	return out
}

// overlap is what two ranges have in common: the longer of two of which one holds the other.
func overlap(a, b netip.Prefix) netip.Prefix {
	switch {
	case prefix.Contains(a, b):
		return b
	case prefix.Contains(b, a):
		return a
	}
	return netip.Prefix{}
}
