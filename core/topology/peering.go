package topology

import (
	"fmt"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/status"
)

// A peering joins two cloud networks. It has two halves, one made at each, and carries the two
// networks' own ranges.
var peering = Kind{
	Kind: design.KindPeering, Judge: judgePeering,
	Edge: func(_ *design.Design, o *design.Object, end int) Edge {
		return Edge{Enters: o.Body.(*design.Peering).Halves[1-end].Enters}
	},
	Admits: func(s *status.Status, e Edge, p Packet) ([]*design.Object, *Denial) {
		d := s.Design()
		own, far, _ := Halves(d.Get(e.Joint), e.From)
		lent := p.FromGateway && own.LendsGateway && far.UsesGateway
		if lent || far.AcceptForwarded || prefix.Has(d.Ranges(e.From), p.from()) {
			return nil, nil
		}
		near, other := d.Title(e.From), d.Title(e.To)
		return nil, &Denial{
			NotTransitive,
			fmt.Sprintf(
				"%s takes only what comes from %s itself over %s, and %s is somebody else's", other, near,
				d.Get(e.Joint).Name,
				p.Src,
			),
			"let " + other + " take what " + near + " passes on, where the cloud allows it; or join the two that talk directly",
		}
	},
	Unfinished: func(o *design.Object) bool {
		h := o.Body.(*design.Peering).Halves
		return !h[0].Made || !h[1].Made
	},
}

// Lends reports whether what an edge comes to lends its gateway to what it leaves.
func Lends(d *design.Design, e Edge) bool {
	own, far, ok := Halves(d.Get(e.Joint), e.From)
	return ok && own.UsesGateway && far.LendsGateway
}

// Halves are a network's half of a peering and the other's; ok is false if it has none.
func Halves(peering *design.Object, network design.ID) (own, far design.Half, ok bool) {
	h := peering.Body.(*design.Peering).Halves
	for n := range h {
		if h[n].Network == network {
			return h[n], h[1-n], true
		}
	}
	return own, far, false
}

// judgePeering is up if both halves are made and no blocks overlap.
func judgePeering(s *status.Status, o *design.Object) status.Held {
	return status.Held{Verdict: peeringVerdict(s, o, o.Body.(*design.Peering))}
}

func peeringVerdict(s *status.Status, o *design.Object, p *design.Peering) status.Verdict {
	if v := s.Made(o); !v.Up {
		return v
	}
	for _, h := range p.Halves {
		if v := s.Party(h.Network); !v.Up {
			return v
		}
	}
	for n, h := range p.Halves {
		far := p.Halves[1-n]
		switch {
		case h.Made:
		case far.Made:
			return status.Down(
				status.HalfMade, o.ID, "half", "%s has not made its half of the peering %s",
				s.Design().Title(h.Network), o.Name,
			)
		default:
			return status.Down(status.NotThereYet, o.ID, "half", "neither half of the peering %s is made", o.Name)
		}
	}
	if v := regions(s, o, p); !v.Up {
		return v
	}
	for _, a := range s.Design().Ranges(p.Halves[0].Network) {
		for _, b := range s.Design().Ranges(p.Halves[1].Network) {
			if a.Overlaps(b) {
				return status.Down(
					status.RefusedForOverlap, o.ID, "",
					"%s of %s overlaps %s of %s, and a peering is refused where blocks overlap", a,
					s.Design().Title(p.Halves[0].Network), b, s.Design().Title(p.Halves[1].Network),
				)
			}
		}
	}
	return status.Up
}

// regions holds a peering against what its cloud allows between regions.
func regions(s *status.Status, o *design.Object, p *design.Peering) status.Verdict {
	x, y := s.Design().Get(p.Halves[0].Network).Body.(*design.Network), s.Design().Get(
		p.Halves[1].Network,
	).Body.(*design.Network)
	rule := s.Design().Profile(x.Cloud)
	if rule != nil && rule.Peering != nil && !rule.Peering.BetweenRegions && x.Region != y.Region {
		return status.Down(
			status.NotAccepted, o.ID, "", "%s has no peering between regions, and %s joins %s and %s", x.Cloud, o.Name,
			x.Region, y.Region,
		)
	}
	return status.Up
}
