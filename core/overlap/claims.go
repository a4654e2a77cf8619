package overlap

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
)

// Claim is one party's hold on a range.
type Claim struct {
	Party   design.ID    `json:"party"`             // the site, network or outside party; empty for a reservation of the whole estate
	Owner   design.ID    `json:"owner"`             // the LAN, inner route, network, outside party, mapping or reservation
	Title   string       `json:"title"`             // owner in words
	Segment design.ID    `json:"segment,omitempty"` // empty: may meet everything
	Prefix  netip.Prefix `json:"prefix"`
	Fixed   bool         `json:"fixed,omitempty"`
	Kind    design.Kind  `json:"kind"` // of the owner
	// Mapped is what the range is known as elsewhere, if it is mapped.
	Mapped []netip.Prefix `json:"mapped,omitempty"`

	toward []design.ID // the links over which it is known so
}

// claiming are the kinds that hold ranges. A subnet is a part of its network's
// block.
var claiming = []design.Kind{
	design.KindLAN, design.KindInnerRoute, design.KindNetwork, design.KindOutside, design.KindReservation,
	design.KindMapping,
}

// Claims lists every hold on a range in the design, by kind and in canonical
// order.
func Claims(d *design.Design) []Claim {
	var out []Claim
	for _, k := range claiming {
		for _, o := range d.Of(k) {
			c := Claim{Owner: o.ID, Title: d.Title(o.ID), Kind: o.Kind}
			if p := d.Party(o.ID); p != nil {
				c.Party = p.ID
			}
			c.describe(d, o)
			for _, p := range Holds(o) {
				c.Prefix = p
				out = append(out, c)
			}
		}
	}
	return withMapped(d, onePerMapped(out))
}

// describe fills in what depends on the kind.
func (c *Claim) describe(d *design.Design, o *design.Object) {
	switch b := o.Body.(type) {
	case *design.LAN:
		c.Fixed, c.Segment = b.Fixed, b.Segment
	case *design.InnerRoute:
		c.Fixed, c.Segment = b.Fixed, b.Segment
	case *design.Network:
		c.Segment = b.Segment
	case *design.Outside:
		c.Segment = b.Segment
	case *design.Reservation:
		c.Party = b.Party
	case *design.Mapping:
		c.Party = d.Party(b.Gateway).ID
		c.Title = d.Title(c.Party) + " mapped range " + o.Name
	}
}

// Holds are the ranges that an object holds itself.
func Holds(o *design.Object) []netip.Prefix {
	switch b := o.Body.(type) {
	case *design.Subnet: // its network holds it
		return nil
	case *design.Reservation:
		if b.Use == design.UseMapping { // mapped ranges belong there
			return nil
		}
		return []netip.Prefix{b.Prefix}
	case *design.Mapping:
		return []netip.Prefix{b.Mapped}
	}
	return design.RangesOf(o)
}

// onePerMapped drops repeated mapped ranges: one range may be mapped toward
// several links of one party.
func onePerMapped(claims []Claim) []Claim {
	type hold struct {
		party  design.ID
		prefix netip.Prefix
	}
	seen := map[hold]bool{}
	return slices.DeleteFunc(claims, func(c Claim) bool {
		if c.Kind != design.KindMapping {
			return false
		}
		h := hold{c.Party, c.Prefix}
		defer func() { seen[h] = true }()
		return seen[h]
	})
}

func withMapped(d *design.Design, claims []Claim) []Claim {
	for _, m := range design.Each[design.Mapping](d.Of(design.KindMapping)) {
		party := d.Party(m.Gateway).ID
		for n := range claims {
			c := &claims[n]
			if c.Kind == design.KindMapping || c.Party != party {
				continue
			}
			p := prefix.TranslatePrefix(c.Prefix, m.Real, m.Mapped)
			if !p.IsValid() {
				continue
			}
			c.toward = append(c.toward, m.Link)
			if !slices.Contains(c.Mapped, p) {
				c.Mapped = append(c.Mapped, p)
			}
		}
	}
	return claims
}
