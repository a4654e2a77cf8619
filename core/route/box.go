package route

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/settings"
	"dravin/core/topology"
)

// box fills the table of a translating box: the places in which it stands, its own
// entries, and the router of its first address for the rest.
func (s *solver) box(p *Point, o *design.Object, b *design.Box) {
	p.Translations, p.Self = Translations(s.design, o.ID), selfOf(s.design, o)
	for _, e := range topology.Places(s.design, o) {
		place := s.design.Get(e.To)
		for _, r := range s.design.Ranges(place.ID) {
			p.add(Route{Prefix: r, Source: Connected, Hop: Hop{Kind: Deliver, To: place.ID}, Via: place.Name})
		}
	}
	s.boxRoutes(p, b.Routes)
	for _, all := range settings.Everything {
		for _, a := range b.Addresses {
			place := placeIn(s.design, o.Parent, a)
			if place == nil || a.Is4() != all.Addr().Is4() {
				continue
			}
			if next := topology.Router(s.design, place); next != "" {
				p.add(
					Route{
						Prefix: all, Source: Static, Hop: Hop{Kind: Gateway, To: next, Through: place.ID},
						Via: s.design.Get(next).Name,
					},
				)
			}
			break
		}
	}
}

// beside lets an entry lead to who has the address that it names, in the place in
// which it was found: a box or gateway, an inner router, or the place's own router.
func (s *solver) beside(p *Point, way *Route, via netip.Addr) {
	place := s.design.Get(way.Hop.To)
	if place == nil || place.Kind == design.KindInnerRoute || place.Kind == design.KindNetwork {
		return
	}
	for _, f := range s.design.Forwarders(place.Parent) {
		if f.ID != p.ID && slices.Contains(design.StandsAt(f), via) {
			way.Hop = Hop{Kind: Gateway, To: f.ID, Through: place.ID}
			if v := s.st.Of(f.ID); !v.Up && v.Line == "" { // the box is not there
				way.Down, way.Unusable = &v, v.Why
			}
			return
		}
	}
	if place.Kind == design.KindSubnet {
		way.Hop = Hop{Kind: Gateway, To: topology.Router(s.design, place), Through: place.ID}
	}
}

// insides adds the small ranges around a gateway's addresses on its joints.
func (s *solver) insides(p *Point) {
	for _, x := range insides(s.design, p.ID) {
		if !s.st.Intended(x.joint) || !s.meets(p, x.joint.ID) {
			continue
		}
		kind, tunnels, v := Circuit, []design.ID(nil), s.st.Of(x.joint.ID)
		if x.tunnel != "" {
			kind, tunnels, v = Tunnel, []design.ID{x.tunnel}, s.st.Of(x.tunnel)
		}
		p.add(
			s.status(
				p,
				Route{
					Prefix: x.around, Source: Inside, Hop: Hop{Kind: kind, To: x.joint.ID}, Via: x.joint.Name,
					Tunnels: tunnels,
				},
				v,
			),
		)
	}
}
