// Package route is the control plane: from a design it computes the table of
// every forwarding point. In a [Tables] each [Point] holds the routes that its
// platform would hold, with where each came from and why it can or can not be
// used.
package route

import (
	"cmp"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
)

// Source tells how a route came into a table.
type Source string

// The sources, in the order in which a gateway prefers them between routes of
// equal length. A cloud's order is its profile's.
const (
	Local      Source = "local"        // a cloud network's own block
	Connected  Source = "connected"    // a LAN on the box
	Static     Source = "static"       // entered by hand
	CircuitBGP Source = "BGP, circuit" // learned on a session over a circuit
	VPNBGP     Source = "BGP, VPN"     // learned on a session over a tunnel
	Peered     Source = "peering"      // a peered network's block
	VPNStatic  Source = "static, VPN"  // a cloud gateway's static link
	Hub        Source = "hub"          // fed by an attachment of a hub
	Implied    Source = "implied"      // the way to the internet of a box with a public address
)

var usualPreference = []Source{Local, Connected, Static, CircuitBGP, VPNBGP, Peered, Hub, VPNStatic, Implied}

// sourceWords are the sources by the words of a profile.
var sourceWords = map[string]Source{"local": Local, "entered": Static, "peering": Peered, "circuit-bgp": CircuitBGP, "vpn-bgp": VPNBGP, "vpn-static": VPNStatic}

// HopKind tells what a route leads to.
type HopKind string

// The kinds of next hop.
const (
	Deliver   HopKind = "deliver"    // the destination is on-link: a LAN or a network's block
	Gateway   HopKind = "gateway"    // a cloud gateway
	Tunnel    HopKind = "link"       // a route-based link
	Internet  HopKind = "internet"   // out of the estate
	Peer      HopKind = "peering"    // the other network of a peering
	Attached  HopKind = "attachment" // a hub, entered by an attachment
	Circuit   HopKind = "circuit"    // a private circuit
	OtherHub  HopKind = "hub"        // another hub, by the attachment to it
	BlackHole HopKind = "black-hole" // nothing: packets are dropped
)

// Hop is a next hop.
type Hop struct {
	Kind HopKind   `json:"kind"`
	To   design.ID `json:"to,omitempty"` // the LAN, network, gateway, link, peering, attachment or circuit; empty for the internet
}

// Route is one row of a table.
type Route struct {
	Prefix netip.Prefix `json:"prefix"`
	Source Source       `json:"source"`
	Hop    Hop          `json:"hop"`
	Via    string       `json:"via"` // the hop in words
	// Unusable says why the next hop does not count; empty if it does.
	Unusable string `json:"unusable,omitempty"`
}

// Selector is one pair of ranges that a policy-based link protects
// (RFC 4301 section 4.4.1).
type Selector struct {
	Link   design.ID
	Local  netip.Prefix
	Remote netip.Prefix
}

// Matches reports whether an outbound packet falls under the selector.
func (s Selector) Matches(src, dst netip.Addr) bool {
	return s.Local.Contains(src) && s.Remote.Contains(dst)
}

// Point is a forwarding point: a gateway, a cloud network's route table, a
// hub's table or an edge router.
type Point struct {
	ID        design.ID
	Kind      design.Kind // KindGateway, KindTable, KindHubTable or KindEdgeRouter
	Party     *design.Object
	Title     string
	Routes    []Route // in canonical order: by prefix, then preference
	Selectors []Selector
	Mappings  []*design.Mapping // in canonical order; the first that fits is used
	Own       []netip.Prefix    // the party's own ranges at this point, never sent into a selector's tunnel

	table      prefix.Table[int]
	preference []Source
}

// Tables is the solved control plane of a design. It does not change.
type Tables struct {
	Design *design.Design
	points map[design.ID]*Point
}

// Point returns the forwarding point of a gateway or route table, or nil.
func (t *Tables) Point(id design.ID) *Point { return t.points[id] }

// Points returns all forwarding points in canonical order.
func (t *Tables) Points() []*Point {
	var out []*Point
	for _, o := range t.Design.All() {
		if p := t.points[o.ID]; p != nil {
			out = append(out, p)
		}
	}
	return out
}

// Choice is the outcome of looking an address up.
type Choice struct {
	Winner *Route  `json:"winner,omitempty"` // nil: no usable route
	Losers []Route `json:"losers"`           // the other routes that contain the address, best first
}

// Lookup finds the route for an address: longest match first, then preference,
// passing over next hops that can not be used.
func (p *Point) Lookup(a netip.Addr) Choice {
	c := Choice{Losers: []Route{}}
	for _, n := range p.table.Matches(a) {
		r := p.Routes[n]
		if c.Winner == nil && r.Unusable == "" {
			c.Winner = &r
			continue
		}
		c.Losers = append(c.Losers, r)
	}
	return c
}

// Solve computes the tables of a design.
func Solve(d *design.Design) *Tables {
	s := &solver{d: d, points: map[design.ID]*Point{}, tunnels: map[design.ID]int{}}
	for _, o := range d.Of(design.KindTunnel) {
		s.tunnels[o.Parent]++
	}
	for _, o := range d.All() {
		switch b := o.Body.(type) {
		case *design.Gateway:
			s.gateway(o, b)
		case *design.Table:
			s.table(o, b)
		case *design.EdgeRouter, *design.HubTable:
			s.point(o)
		}
	}
	for _, o := range d.Of(design.KindLink) {
		for n := range 2 {
			s.linkEnd(o, o.Body.(*design.Link), n)
		}
	}
	s.joins()
	for _, o := range d.Of(design.KindMapping) {
		m := o.Body.(*design.Mapping)
		p := s.points[m.Gateway]
		p.Mappings = append(p.Mappings, m)
	}
	for _, p := range s.points {
		p.index()
	}
	return &Tables{Design: d, points: s.points}
}

type solver struct {
	d       *design.Design
	points  map[design.ID]*Point
	tunnels map[design.ID]int              // how many strands a link has
	hubs    map[design.ID][]*design.Object // the attachments of a network
}

func (s *solver) point(o *design.Object) *Point {
	p := &Point{ID: o.ID, Kind: o.Kind, Party: s.d.Party(o.ID), Title: s.d.Title(o.ID), preference: s.preference(o.ID)}
	s.points[o.ID] = p
	return p
}

func (s *solver) gateway(o *design.Object, b *design.Gateway) {
	p := s.point(o)
	if network, ok := p.Party.Body.(*design.Network); ok {
		p.local(network)
		return
	}
	for _, lan := range s.d.Inside(o.Parent, design.KindLAN) {
		body := lan.Body.(*design.LAN)
		if len(body.Gateways) > 0 && !slices.Contains(body.Gateways, o.ID) {
			continue
		}
		for _, r := range body.Prefixes {
			p.add(Route{Prefix: r, Source: Connected, Hop: Hop{Deliver, lan.ID}, Via: lan.Name})
			p.Own = append(p.Own, r)
		}
	}
	for _, inner := range s.d.Inside(o.Parent, design.KindInnerRoute) {
		for _, r := range s.d.Ranges(inner.ID) {
			p.add(Route{Prefix: r, Source: Static, Hop: Hop{Deliver, inner.ID}, Via: "the inner router to " + inner.Name})
			p.Own = append(p.Own, r)
		}
	}
	for _, a := range b.Addresses {
		all := netip.PrefixFrom(a, 0).Masked()
		if !slices.ContainsFunc(p.Routes, func(r Route) bool { return r.Prefix == all && r.Source == Implied }) {
			p.add(Route{Prefix: all, Source: Implied, Hop: Hop{Kind: Internet}, Via: "the internet"})
		}
	}
}

// viaKinds tells what an entry leads to by the kind of what it names.
var viaKinds = map[design.Kind]HopKind{design.KindGateway: Gateway, design.KindPeering: Peer, design.KindAttachment: Attached}

func (s *solver) table(o *design.Object, b *design.Table) {
	p := s.point(o)
	p.local(p.Party.Body.(*design.Network))
	for _, e := range b.Routes {
		r := Route{Prefix: e.Prefix, Source: Static, Hop: Hop{viaKinds[s.d.Get(e.Via).Kind], e.Via}, Via: s.d.Get(e.Via).Name}
		r.Unusable = s.entryUnusable(p, e)
		p.add(r)
	}
}

func (s *solver) linkEnd(o *design.Object, l *design.Link, n int) {
	end := l.Ends[n]
	p := s.points[end.Gateway]
	for _, r := range end.Routes {
		row := Route{Prefix: r, Source: s.linkSource(p, l), Hop: Hop{Tunnel, o.ID}, Via: o.Name}
		switch {
		case s.tunnels[o.ID] == 0:
			row.Unusable = "the link has no tunnel"
		case !design.Carries(l.State):
			row.Unusable = "the link is " + design.StateWord(l.State)
		}
		p.add(row)
	}
	if !design.Carries(l.State) {
		return
	}
	for _, local := range end.Local {
		for _, remote := range end.Remote {
			p.Selectors = append(p.Selectors, Selector{Link: o.ID, Local: local, Remote: remote})
		}
	}
	if p.Party.Kind == design.KindSite {
		return
	}
	// A cloud gateway routes what it has selectors for; on a Linux gateway the
	// kernel asks its selectors whatever the route says.
	for _, remote := range end.Remote {
		p.add(Route{Prefix: remote, Source: VPNStatic, Hop: Hop{Tunnel, o.ID}, Via: o.Name})
	}
}

// local adds the network's blocks, which its fabric delivers.
func (p *Point) local(network *design.Network) {
	for _, r := range network.Blocks {
		p.add(Route{Prefix: r, Source: Local, Hop: Hop{Deliver, p.Party.ID}, Via: "local"})
		p.Own = append(p.Own, r)
	}
}

func (p *Point) add(r Route) { p.Routes = append(p.Routes, r) }

func (p *Point) index() {
	slices.SortStableFunc(p.Routes, func(a, b Route) int {
		return cmp.Or(prefix.Compare(a.Prefix, b.Prefix), cmp.Compare(slices.Index(p.preference, a.Source), slices.Index(p.preference, b.Source)))
	})
	for n, r := range p.Routes {
		p.table.Add(r.Prefix, n)
	}
}
