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
}

// Claims lists every hold on a range in the design, in canonical order.
func Claims(d *design.Design) []Claim {
	var out []Claim
	for _, o := range d.All() {
		c := Claim{Owner: o.ID, Title: d.Title(o.ID), Kind: o.Kind}
		if p := d.Party(o.ID); p != nil {
			c.Party = p.ID
		}
		ranges := d.Ranges(o.ID)
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
			if b.Use != design.UseMapping { // mapped ranges belong there
				ranges = []netip.Prefix{b.Prefix}
			}
		case *design.Mapping:
			ranges, c.Party = []netip.Prefix{b.Mapped}, d.Party(b.Gateway).ID
			c.Title = d.Title(c.Party) + " mapped range " + o.Name
		default: // a subnet is a part of its network's block
			continue
		}
		for _, p := range ranges {
			c.Prefix = p
			out = append(out, c)
		}
	}
	return withMapped(d, onePerMapped(out))
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
	for _, o := range d.Of(design.KindMapping) {
		m := o.Body.(*design.Mapping)
		party := d.Party(m.Gateway).ID
		for n := range claims {
			c := &claims[n]
			if c.Kind == design.KindMapping || c.Party != party {
				continue
			}
			if p := prefix.TranslatePrefix(c.Prefix, m.Real, m.Mapped); p.IsValid() && !slices.Contains(c.Mapped, p) {
				c.Mapped = append(c.Mapped, p)
			}
		}
	}
	return claims
}

// domains tells for every party which clump of joined parties it is in, from 1:
// joined today, or also by what is planned. What nothing reaches is in none, 0.
func domains(joins []design.Join, planned bool) map[design.ID]int {
	of := map[design.ID]int{}
	next := 0
	for _, j := range joins {
		if j.Planned && !planned {
			continue
		}
		switch ca, cb := of[j.A], of[j.B]; {
		case ca == 0 && cb == 0:
			next++
			of[j.A], of[j.B] = next, next
		case ca == 0:
			of[j.A] = cb
		case cb == 0:
			of[j.B] = ca
		default:
			for p, c := range of {
				if c == cb {
					of[p] = ca
				}
			}
		}
	}
	return of
}
