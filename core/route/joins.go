package route

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/link"
	"dravin/core/prefix"
)

// preference is the order of a point's cloud, where its profile has one; what
// the profile does not name goes after.
func (s *solver) preference(id design.ID) []Source {
	p := s.d.ProfileOf(id)
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

// entryUnusable says why an entry of a network's table does not count. The
// fabric delivers a block's addresses itself: an entry as long as the block
// never gets to decide, and a longer one only where the profile lets it.
func (s *solver) entryUnusable(p *Point, e design.Entry) string {
	profile := s.d.ProfileOf(p.ID)
	for _, own := range p.Own {
		if e.Prefix == own || profile != nil && !profile.Networks.LongerWins && prefix.Contains(own, e.Prefix) {
			return "the block's local route can not be overridden"
		}
	}
	// Whether an entry to something that is not there is passed over or swallows
	// what it is for is the cloud's way; the walk tells of the latter.
	via := s.d.Get(e.Via)
	if st := design.StateOf(via); profile != nil && profile.DeadNextHop != "black-hole" && !design.Carries(st) {
		return via.Name + " is " + design.StateWord(st)
	}
	return ""
}

func (s *solver) linkSource(p *Point, l *design.Link) Source {
	switch {
	case l.Routing == design.RoutingBGP:
		return VPNBGP
	case p.Party.Kind == design.KindSite:
		return Static
	}
	return VPNStatic
}

// joins adds what circuits, peerings and hubs bring. Gateways come before the
// tables that they feed.
func (s *solver) joins() {
	for _, o := range s.d.Of(design.KindCircuit) {
		c := o.Body.(*design.Circuit)
		for _, e := range c.Ends {
			for _, r := range e.Routes {
				row := Route{Prefix: r, Source: CircuitBGP, Hop: Hop{Circuit, o.ID}, Via: o.Name}
				if !design.Carries(design.StateOf(o)) && c.State != design.Waiting {
					row.Unusable = "the circuit is " + design.StateWord(c.State)
				}
				s.points[e.At].add(row)
			}
		}
	}
	for _, o := range s.d.Of(design.KindHubTable) {
		s.hubTable(o)
	}
	for _, o := range s.d.Of(design.KindPeering) {
		p := o.Body.(*design.Peering)
		for n := range 2 {
			s.half(o, p.Halves[n], p.Halves[1-n])
		}
	}
	s.hubs = map[design.ID][]*design.Object{}
	for _, a := range s.d.Of(design.KindAttachment) {
		what := a.Body.(*design.Attachment).What
		s.hubs[what] = append(s.hubs[what], a)
	}
	for _, o := range s.d.Of(design.KindNetwork) {
		s.fed(o)
	}
}

// hubTable fills a hub's table: its static entries, and what attachments feed.
func (s *solver) hubTable(o *design.Object) {
	p := s.points[o.ID]
	for _, e := range o.Body.(*design.HubTable).Routes {
		r := Route{Prefix: e.Prefix, Source: Static, Hop: Hop{Kind: BlackHole}, Via: "black hole"}
		if a := s.d.Get(e.Via); a != nil {
			r.Hop, r.Via = attachedHop(s.d, a), a.Name
		}
		p.add(r)
	}
	for _, a := range s.d.Inside(o.Parent, design.KindAttachment) {
		b := a.Body.(*design.Attachment)
		if len(b.Feeds) > 0 && !slices.Contains(b.Feeds, o.ID) {
			continue
		}
		for _, r := range link.AttachmentExports(s.d, a) {
			row := Route{Prefix: r, Source: Hub, Hop: attachedHop(s.d, a), Via: a.Name}
			if !design.Carries(b.State) {
				row.Unusable = "the attachment is " + design.StateWord(b.State)
			}
			p.add(row)
		}
	}
}

// attachedHop is where a hub sends what is for an attachment.
func attachedHop(d *design.Design, attachment *design.Object) Hop {
	what := attachment.Body.(*design.Attachment).What
	switch d.Get(what).Kind {
	case design.KindLink:
		return Hop{Tunnel, what}
	case design.KindCircuit:
		return Hop{Circuit, what}
	case design.KindHub:
		return Hop{OtherHub, what}
	}
	return Hop{Deliver, what}
}

// half gives one network what a peering brings it without entries: the far
// blocks where the profile says so, and what a lent gateway knows.
func (s *solver) half(o *design.Object, own, far design.Half) {
	profile := s.d.ProfileOf(own.Network)
	if profile == nil || profile.Peering == nil || !design.Carries(design.StateOf(o)) {
		return
	}
	var ranges []netip.Prefix
	if profile.Peering.AutomaticRoutes {
		ranges = s.d.Ranges(far.Network)
	}
	if own.UsesGateway && far.LendsGateway {
		for _, g := range s.d.Inside(far.Network, design.KindGateway) {
			for _, r := range s.points[g.ID].Routes {
				if r.Hop.Kind == Tunnel || r.Hop.Kind == Circuit {
					ranges = append(ranges, r.Prefix)
				}
			}
		}
	}
	places := s.d.Inside(own.Network, design.KindTable)
	if own.LendsGateway {
		places = append(places, s.d.Inside(own.Network, design.KindGateway)...)
	}
	for _, t := range places {
		for _, r := range ranges {
			s.points[t.ID].add(Route{Prefix: r, Source: Peered, Hop: Hop{Peer, o.ID}, Via: o.Name})
		}
	}
}

// fed gives the tables of a network what its gateways and hubs know, where its
// profile says that they learn it by themselves.
func (s *solver) fed(network *design.Object) {
	profile := s.d.ProfileOf(network.ID)
	if profile == nil {
		return
	}
	var rows []Route
	if profile.Networks.GatewayFeeds {
		for _, g := range s.d.Inside(network.ID, design.KindGateway) {
			for _, r := range s.points[g.ID].Routes {
				if r.Hop.Kind == Tunnel || r.Hop.Kind == Circuit {
					rows = append(rows, Route{Prefix: r.Prefix, Source: r.Source, Hop: Hop{Gateway, g.ID}, Via: g.Name, Unusable: r.Unusable})
				}
			}
		}
	}
	if profile.Hub != nil && profile.Hub.AutomaticRoutes {
		for _, a := range s.hubs[network.ID] {
			if design.Carries(design.StateOf(a)) {
				for _, r := range s.points[HubTableOf(s.d, a)].known() {
					if r.Hop.To != network.ID {
						rows = append(rows, Route{Prefix: r.Prefix, Source: Hub, Hop: Hop{Attached, a.ID}, Via: s.d.Title(a.Parent), Unusable: r.Unusable})
					}
				}
			}
		}
	}
	for _, t := range s.d.Inside(network.ID, design.KindTable) {
		for _, r := range rows {
			s.points[t.ID].add(r)
		}
	}
}

func (p *Point) known() []Route {
	if p == nil {
		return nil
	}
	return p.Routes
}

// HubTableOf is the table that decides for what comes in by an attachment: the
// one it is bound to, or the hub's only one; empty if there is none.
func HubTableOf(d *design.Design, attachment *design.Object) design.ID {
	if b := attachment.Body.(*design.Attachment); b.Bound != "" {
		return b.Bound
	}
	if tables := d.Inside(attachment.Parent, design.KindHubTable); len(tables) > 0 {
		return tables[0].ID
	}
	return ""
}
