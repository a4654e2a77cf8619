package route

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/status"
	"dravin/core/topology"
)

// preference is the order of a point's cloud, where its profile has one; what
// the profile does not name goes after.
func (s *solver) preference(id design.ID) []Source {
	p := s.design.ProfileOf(id)
	if p == nil || len(p.Preference) == 0 {
		return usualPreference
	}
	var out []Source
	for _, w := range p.Preference {
		out = append(out, sourceWords[w])
	}
	for _, w := range usualPreference {
		if !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	return out
}

// hubTable fills a hub's table: its static entries, and what attachments feed
// that say so.
func (s *solver) hubTable(p *Point, o *design.Object, b *design.HubTable) {
	for _, e := range b.Routes {
		r := Route{Prefix: e.Prefix, Source: Static, Hop: Hop{Kind: BlackHole}, Via: "black hole"}
		if a := s.design.Get(e.Via); a != nil {
			r.Hop, r.Via = attachedHop(s.design, a), a.Name
			r = s.status(p, r, s.st.Of(a.ID))
		}
		p.add(r)
	}
	for a, body := range design.Each[design.Attachment](s.design.Inside(o.Parent, design.KindAttachment)) {
		crossing, ok := s.feeds(a, body, o)
		if !ok {
			continue
		}
		for _, r := range s.exports(a) {
			fed := Route{Prefix: r, Source: Hub, Hop: attachedHop(s.design, a), Via: a.Name, Crossing: crossing}
			p.add(s.status(p, fed, s.st.Of(a.ID)))
		}
	}
}

// attachedSegment is the segment of what is attached to a hub, unless its
// attachment says another.
func (s *solver) attachedSegment(a *design.Object) design.ID {
	if own := s.design.SegmentOf(a.ID); own != "" {
		return own
	}
	return s.design.SegmentOf(a.Body.(*design.Attachment).What)
}

// exports are the ranges that an attachment brings into its hub without a
// session. What sessions and other hubs tell is learned.
func (s *solver) exports(a *design.Object) []netip.Prefix {
	what := s.design.Get(a.Body.(*design.Attachment).What)
	k := topology.KindOf(what)
	if what.Kind == design.KindHub || k != nil && k.Learns != nil && k.Learns(s.design, what) {
		return nil
	}
	return s.design.AttachmentExports(a)
}

// attachedHop is where a hub sends what is for an attachment.
func attachedHop(d *design.Design, attachment *design.Object) Hop {
	what := d.Get(attachment.Body.(*design.Attachment).What)
	switch {
	case topology.KindOf(what) != nil:
		return Into(what)
	case what.Kind == design.KindHub:
		return Hop{Kind: OtherHub, To: what.ID}
	}
	return Hop{Kind: Deliver, To: what.ID}
}

// halves gives a network's table what its peerings bring without entries: the
// far blocks where the profile says so, and what a lent gateway knows.
func (s *solver) halves(p *Point) {
	for _, o := range design.InOrder(s.design.Referring(p.Party.ID, design.KindPeering)) {
		own, far, ok := topology.Halves(o, p.Party.ID)
		profile := s.design.ProfileOf(p.Party.ID)
		if !ok || profile == nil || profile.Peering == nil {
			continue
		}
		var ranges []netip.Prefix
		if profile.Peering.AutomaticRoutes {
			ranges = s.design.Ranges(far.Network)
		}
		if own.UsesGateway && far.LendsGateway {
			for _, g := range s.design.Inside(far.Network, design.KindGateway) {
				for _, r := range s.tables.Point(g.ID).Routes {
					if r.leavesParty() {
						ranges = append(ranges, r.Prefix)
					}
				}
			}
		}
		s.peering(p, o, ranges)
	}
}

// leavesParty tells whether a usable route leads out over a link or circuit.
func (r Route) leavesParty() bool {
	return r.Unusable == "" && r.Hop.Leaves()
}

func (s *solver) peering(p *Point, o *design.Object, ranges []netip.Prefix) {
	v := s.st.Of(o.ID)
	if !v.Up && !status.Exists(o) {
		return // it is no part of the plan
	}
	for _, r := range ranges {
		p.add(s.status(p, Route{Prefix: r, Source: Peered, Hop: Into(o), Via: o.Name}, v))
	}
}

// peered gives a gateway that is lent the ranges of the networks that use it.
func (s *solver) peered(p *Point, gateway *design.Object) {
	for _, o := range design.InOrder(s.design.Referring(gateway.Parent, design.KindPeering)) {
		own, far, ok := topology.Halves(o, gateway.Parent)
		if profile := s.design.ProfileOf(gateway.ID); ok && own.LendsGateway && profile != nil &&
			profile.Peering != nil &&
			(profile.Peering.AutomaticRoutes || far.UsesGateway) {
			s.peering(p, o, s.design.Ranges(far.Network))
		}
	}
}

// Lent is the gateway of a network by which another goes out to an address: the
// one that has the best usable route for it; empty if none has.
func (t *Tables) Lent(network design.ID, to netip.Addr) design.ID {
	best, id := -1, design.ID("")
	for _, g := range t.Design.Inside(network, design.KindGateway) {
		if c := t.Point(g.ID).Lookup(to); c.Winner != nil && c.Winner.leavesParty() && c.Winner.Prefix.Bits() > best {
			best, id = c.Winner.Prefix.Bits(), g.ID
		}
	}
	return id
}

// fed gives a table of a network what its gateways and hubs know, where its
// profile says that it learns that by itself.
func (s *solver) fed(p *Point) {
	network := p.Party
	if topology.Fed(s.design, s.design.Get(p.ID), design.KindGateway) {
		for _, g := range s.design.Inside(network.ID, design.KindGateway) {
			for _, r := range s.tables.Point(g.ID).Routes {
				if r.Hop.Leaves() {
					p.add(
						Route{
							Prefix: r.Prefix, Source: r.Source, Hop: Hop{Kind: Gateway, To: g.ID}, Via: g.Name,
							Unusable: r.Unusable, Down: r.Down, Learned: r.Learned,
						},
					)
				}
			}
		}
	}
	if !topology.Fed(s.design, s.design.Get(p.ID), design.KindAttachment) {
		return
	}
	for _, a := range s.design.Referring(network.ID, design.KindAttachment) {
		v := s.st.Of(a.ID)
		if table := s.tables.Point(topology.BoundTable(s.design, a)); table != nil && (v.Up || status.Exists(a)) {
			for _, r := range table.Routes {
				if r.Hop.To != network.ID {
					p.add(
						s.status(
							p,
							Route{
								Prefix: r.Prefix, Source: Hub, Hop: Hop{Kind: Attached, To: a.ID},
								Via: s.design.Title(a.Parent), Unusable: r.Unusable, Down: r.Down, Learned: r.Learned,
							},
							v,
						),
					)
				}
			}
		}
	}
}
