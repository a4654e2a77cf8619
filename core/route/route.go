// Package route is the control plane: from a design it computes the table of
// every forwarding point. In a [Tables] each [Point] holds the routes that its
// platform would hold, with where each came from and why it can or can not be
// used.
package route

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/settings"
	"dravin/core/status"
	"dravin/core/topology"
)

// Source tells how a route came into a table.
type Source string

// The sources, in the order in which a gateway prefers them between routes of
// equal length. A cloud's order is its profile's.
const (
	Local         Source = "local"           // a cloud network's own block
	Connected     Source = "connected"       // a LAN on the box
	Inside        Source = "inside"          // the inside range of a tunnel or circuit
	Inner         Source = "inner router"    // behind an inner router of the site
	Static        Source = "static"          // entered by hand
	CircuitBGP    Source = "BGP, circuit"    // learned on a session over a circuit
	VPNBGP        Source = "BGP, VPN"        // learned on a session over a tunnel
	Peered        Source = "peering"         // a peered network's block
	VPNStatic     Source = "static, VPN"     // a cloud gateway's static link
	CircuitStatic Source = "static, circuit" // a circuit without a session
	Hub           Source = "hub"             // fed by an attachment of a hub
	Implied       Source = "implied"         // the way to the internet of a box with a public address
)

var usualPreference = []Source{
	Local, Connected, Inside, Inner, Static, CircuitStatic, CircuitBGP, VPNBGP, Peered, Hub, VPNStatic, Implied,
}

// sourceWords are the sources by the words of a profile.
var sourceWords = map[string]Source{
	"local": Local, "entered": Static, "peering": Peered, "circuit-bgp": CircuitBGP, "vpn-bgp": VPNBGP,
	"vpn-static": VPNStatic,
}

// sources are how what a joint brings came into a table.
type sources struct {
	own, cloud Source // without a session: at a box of one's own, and in a cloud
	learned    Source // on a session
}

// byJoint are the sources by kind of joint.
var byJoint = map[design.Kind]sources{
	design.KindLink:       {own: Static, cloud: VPNStatic, learned: VPNBGP},
	design.KindCircuit:    {own: CircuitStatic, cloud: CircuitStatic, learned: CircuitBGP},
	design.KindPeering:    {own: Peered, cloud: Peered, learned: Peered},
	design.KindAttachment: {own: Hub, cloud: Hub, learned: Hub},
}

// sourcesOf are those of a joint; of a kind without any of its own it is as if entered.
func sourcesOf(joint *design.Object) sources {
	if s, ok := byJoint[joint.Kind]; ok {
		return s
	}
	return sources{Static, Static, Static}
}

// HopKind tells what a route leads to.
type HopKind string

// The kinds of next hop.
const (
	Deliver   HopKind = "deliver"    // the destination is on-link: a LAN or a network's block
	Gateway   HopKind = "gateway"    // a cloud gateway, a box, or the router beside a box
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
	// Through is the LAN or subnet in which a box or router is met.
	Through design.ID `json:"through,omitempty"`
}

// Into is the next hop into a joint: a kind of joint is a kind of next hop.
func Into(joint *design.Object) Hop { return Hop{Kind: HopKind(joint.Kind), To: joint.ID} }

// Leaves reports whether a next hop leads out over a joint between boxes.
func (h Hop) Leaves() bool { return topology.BetweenBoxes(design.Kind(h.Kind)) }

// Edge is the direction of a joint that a next hop of a table takes; ok is false for a hop that
// takes none: into a LAN or subnet, to a box or router beside it, to the internet.
func (t *Tables) Edge(p *Point, h Hop) (e topology.Edge, ok bool) {
	joint, at := h.To, p.ID
	switch o := t.Design.Get(h.To); {
	case h.Kind == OtherHub:
		a := t.Design.AttachmentOf(p.Party.ID, h.To)
		if a == nil {
			return e, false
		}
		joint, at = a.ID, p.Party.ID
	case topology.KindOf(o) == nil:
		return e, false
	case h.Kind == Peer, h.Kind == Attached, p.Kind == design.KindHubTable:
		at = p.Party.ID
	}
	return t.Topology.From(joint, at)
}

// FarEnd is what a next hop of a table leads to: the far end of a joint, else what it names;
// empty for the internet.
func (t *Tables) FarEnd(p *Point, h Hop) design.ID {
	if e, ok := t.Edge(p, h); ok {
		return e.To
	}
	return h.To
}

// Route is one row of a table.
type Route struct {
	Prefix netip.Prefix `json:"prefix"`
	Source Source       `json:"source"`
	Hop    Hop          `json:"hop"`
	Via    string       `json:"via"` // the hop in words
	// Unusable says why the route does not count; empty if it does.
	Unusable string `json:"unusable,omitempty"`
	// Down is how the next hop stands, if it is down. Such a route counts only if
	// it swallows: it wins, and drops what it is for.
	Down     *status.Verdict `json:"down,omitempty"`
	Swallows bool            `json:"swallows,omitempty"`
	// Expected says of what is expected at a session and is not what the table uses
	// what became of it: it was not learned, or lost. It is no route.
	Expected Expectation `json:"expected,omitempty"`
	// Learned is what a session brought; nil for what was not learned.
	Learned *Learned `json:"learned,omitempty"`
	// Tunnels are those of a link that take it; empty: all.
	Tunnels []design.ID `json:"tunnels,omitempty"`

	// Crossing is the crossing by which it came from the table of another segment; empty if by none.
	Crossing design.ID `json:"crossing,omitempty"`
	// Hides says that the crossing hides the sources of what takes it behind the box's own address.
	Hides bool `json:"hides,omitempty"`

	// NextHop is the address that an entry of a box's own names, or that of an inner router;
	// invalid for others.
	NextHop netip.Addr `json:"-"`

	entered bool // an entry of the box's own goes before what its links bring
}

// Entered reports whether a route is an entry of a box's own.
func (r Route) Entered() bool { return r.entered }

// Selector is one pair of ranges that a policy-based link protects
// (RFC 4301 section 4.4.1).
type Selector struct {
	Link   design.ID
	Local  netip.Prefix
	Remote netip.Prefix
	// Status is the link's: a selector takes its packets whether the link is up
	// or not.
	Status status.Verdict
}

// Matches reports whether an outbound packet falls under the selector.
func (s Selector) Matches(src, dst netip.Addr) bool {
	return s.Local.Contains(src) && s.Remote.Contains(dst)
}

// Point is a forwarding point: a gateway, a cloud network's route table, a
// hub's table, an edge router or the inner router of a site.
type Point struct {
	ID           design.ID
	Segment      design.ID   // whose routing instance it is, where the box has several
	Kind         design.Kind // one of [PointKinds]
	Party        *design.Object
	Title        string
	Routes       []Route // in canonical order: by prefix, then preference
	Selectors    []Selector
	Translations []Translation  // in their order; within a hook the first that fits is done
	Self         []netip.Prefix // where packets end at the box itself
	Own          []netip.Prefix // the party's own ranges at this point, never sent into a selector's tunnel

	table      prefix.Table[int]
	recursive  []design.BoxRoute // whose next hops are yet to be looked up
	preference []Source
}

// Tables is the control plane of a design under a condition. A table is worked
// out when it is first asked for. Tables may be used by many at once.
type Tables struct {
	Design *design.Design
	Status *status.Status
	// Topology says what joins what, and where a joint leads.
	Topology   *topology.Topology
	points     *design.Memo[Key, *Point]
	places     *design.Memo[string, *prefix.Table[design.ID]]
	boundaries *design.Memo[string, []netip.Prefix]
	filters    *design.Memo[design.ID, *filter.Filter]
	network    *network
	changes    *design.Changes
}

// Solve computes the tables of a design under a condition.
func Solve(d *design.Design, c status.Condition) *Tables {
	return begin(d, topology.Status(d, c), newWorld())
}

func begin(d *design.Design, base *status.Status, w *network) *Tables {
	t := &Tables{
		Design: d, points: &design.Memo[Key, *Point]{}, places: &design.Memo[string, *prefix.Table[design.ID]]{},
		boundaries: &design.Memo[string, []netip.Prefix]{}, filters: &design.Memo[design.ID, *filter.Filter]{},
		network: w,
	}
	w.design, w.base = d.Watched(nil), base
	t.Status = base.Dropping(w.dropped)
	t.Topology = topology.With(d, t.Status)
	return t
}

// After are the tables of the next design under the same condition. What the
// changes do not touch is not worked out again.
func (t *Tables) After(next *design.Design, changes *design.Changes) *Tables {
	return t.follow(next, t.Status.After(next, changes), changes)
}

// Without are the tables of the same design with things taken away. What that does not touch is not worked out again.
func (t *Tables) Without(things ...status.Thing) *Tables {
	c := t.Status.Condition()
	c.Without = append(slices.Clone(c.Without), things...)
	touched := t.Design.Touching(status.Affected(t.Design, things)...)
	return t.follow(t.Design.Watched(nil), t.Status.Under(c, touched), touched)
}

func (t *Tables) follow(next *design.Design, base *status.Status, changes *design.Changes) *Tables {
	out := begin(next, base, t.network.after(changes))
	out.Topology = t.Topology.After(next, out.Status, changes)
	out.changes = changes.With(out.network.differs())
	out.points.After(t.points, out.changes)
	out.places.After(t.places, changes)
	out.boundaries.After(t.boundaries, changes)
	out.filters.After(t.filters, changes)
	return out
}

// Changes are those that led here, with the tables at which other routes are
// learned; nil where nothing led here.
func (t *Tables) Changes() *design.Changes { return t.changes }

// Settle takes over what still holds of the tables before, and lets go of them.
func (t *Tables) Settle() {
	t.Status.Settle()
	t.Topology.Settle()
	t.points.Settle()
	t.network.settle()
	t.places.Settle()
	t.boundaries.Settle()
	t.filters.Settle()
}

// Watched are the same tables, noting in what view notes whatever is looked at.
func (t *Tables) Watched(view *design.Design) *Tables {
	st := t.Status.Watched(view)
	return &Tables{
		Design: view, Status: st, Topology: t.Topology.Watched(view, st), points: t.points, places: t.places,
		boundaries: t.boundaries, filters: t.filters,
		network: t.network, changes: t.changes,
	}
}

// Filter is a filter of the design, resolved.
func (t *Tables) Filter(id design.ID) *filter.Filter {
	return t.filters.Get(t.Design, id, func(view *design.Design) *filter.Filter {
		return filter.Of(view, view.Get(id))
	})
}

// Boundaries are the ranges by which anything in the design may tell packets apart: packets
// between which none of them tells meet the same rules and routes. They are all that any
// body names, so that no source of routes or rules has to be listed here.
func (t *Tables) Boundaries() []netip.Prefix {
	return t.told("", design.Kinds())
}

// Told are the boundaries but for the addresses of hosts: hosts of one place between which none of them tells meet the
// same rules and routes, unless something names one of them.
func (t *Tables) Told() []netip.Prefix {
	return t.told("but hosts", slices.DeleteFunc(design.Kinds(), func(k design.Kind) bool {
		return k == design.KindEndpoint || k == design.KindNames || k == design.KindIntent
	}))
}

func (t *Tables) told(by string, kinds []design.Kind) []netip.Prefix {
	return t.boundaries.Get(t.Design, by, func(view *design.Design) []netip.Prefix {
		var out []netip.Prefix
		for _, k := range kinds {
			for _, o := range view.Of(k) {
				out = append(out, design.PrefixesOf(o.Body)...)
			}
		}
		out = distinct(out)
		for range 2 { // as it is before a mapping and behind it, and behind a second one
			out = distinct(append(out, carriedOver(view, out)...))
		}
		return out
	})
}

func distinct(list []netip.Prefix) []netip.Prefix {
	slices.SortFunc(list, prefix.Compare)
	return slices.Compact(list)
}

// carriedOver are the parts of mapped and real ranges as one-to-one mappings carry them
// over: what is told apart at one side is so at the other.
func carriedOver(d *design.Design, told []netip.Prefix) []netip.Prefix {
	var out []netip.Prefix
	for _, k := range []design.Kind{design.KindGateway, design.KindBox} {
		for _, o := range d.Of(k) {
			for _, x := range Translations(d, o.ID) {
				if x.Does != design.OneToOne {
					continue
				}
				for _, way := range [2][2]netip.Prefix{{x.Real, x.Into}, {x.Into, x.Real}} {
					for _, p := range told {
						if over := prefix.TranslatePrefix(p, way[0], way[1]); over.IsValid() && p != way[0] {
							out = append(out, over)
						}
					}
				}
			}
		}
	}
	return out
}

// Holders are the LANs, inner routes and subnets that hold an address, the
// smallest range first.
func (t *Tables) Holders(a netip.Addr) []design.ID {
	return t.places.Get(t.Design, "", func(view *design.Design) *prefix.Table[design.ID] {
		var x prefix.Table[design.ID]
		for _, k := range design.HostPlaces {
			for _, o := range view.Of(k) {
				for _, p := range design.RangesOf(o) {
					x.Add(p, o.ID)
				}
			}
		}
		return &x
	}).Matches(a)
}

// PointKinds are the kinds that hold tables.
var PointKinds = []design.Kind{
	design.KindGateway, design.KindTable, design.KindHubTable, design.KindEdgeRouter, design.KindInnerRoute,
	design.KindBox,
}

// Point returns the forwarding point of a gateway, route table, hub table, edge
// router or inner router, or nil; of a box with several routing instances the
// one that everything meets in.
func (t *Tables) Point(id design.ID) *Point { return t.PointIn(id, "") }

// PointIn is the routing instance of a point that what is in a segment meets.
func (t *Tables) PointIn(id, segment design.ID) *Point {
	o := t.Design.Get(id)
	if o == nil || !slices.Contains(PointKinds, o.Kind) {
		return nil
	}
	k := Key{id, ""}
	if segment != "" && slices.Contains(Instances(t.Design, o), segment) {
		k.Segment = segment
	}
	return t.points.Get(t.Design, k, func(view *design.Design) *Point {
		own := t.Watched(view)
		s := &solver{tables: own, design: view, st: own.Status}
		return s.solve(view.Get(id), k.Segment)
	})
}

// Points returns all forwarding points in canonical order, every routing instance
// by itself.
func (t *Tables) Points() []*Point {
	var out []*Point
	for _, o := range t.Design.All() {
		if !slices.Contains(PointKinds, o.Kind) {
			continue
		}
		for _, segment := range Instances(t.Design, o) {
			out = append(out, t.PointIn(o.ID, segment))
		}
	}
	return out
}

// Choice is the outcome of looking an address up.
type Choice struct {
	Winner *Route `json:"winner,omitempty"` // nil: no usable route
	// Branches are other routes that share with the winner.
	Branches []Route `json:"branches,omitempty"`
	Losers   []Route `json:"losers"` // the other routes that contain the address, best first
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
		if c.Winner != nil && r.sharesWith(c.Winner) {
			c.Branches = append(c.Branches, r)
			continue
		}
		c.Losers = append(c.Losers, r)
	}
	return c
}

// Takes is the number, among its routes, of the one that an address takes; -1 if it takes none, or several share it.
func (p *Point) Takes(a netip.Addr) int {
	took := -1
	for _, n := range p.table.Matches(a) {
		r := &p.Routes[n]
		switch {
		case took < 0 && r.Unusable == "":
			took = n
		case took >= 0 && r.sharesWith(&p.Routes[took]):
			return -1
		}
	}
	return took
}

// sharesWith reports whether a route takes its part of what another does: learned
// ones of one source are in a table only if they are equally good.
func (r *Route) sharesWith(winner *Route) bool {
	return r.Unusable == "" && r.Prefix == winner.Prefix && r.Source == winner.Source && r.Learned != nil &&
		winner.Learned != nil
}

type solver struct {
	tables *Tables
	design *design.Design
	st     *status.Status
}

func (s *solver) solve(o *design.Object, segment design.ID) *Point {
	p := s.uncrossed(o, segment)
	s.crossed(p, o)
	s.overridden(p)
	p.index()
	return p
}

// uncrossed is a table without what crossings share with it, not yet in order.
func (s *solver) uncrossed(o *design.Object, segment design.ID) *Point {
	p := &Point{
		ID: o.ID, Kind: o.Kind, Segment: segment, Party: s.design.Party(o.ID), Title: s.design.Title(o.ID),
		preference: s.preference(o.ID),
	}
	if segment != "" {
		p.Title += ", " + s.design.Title(segment)
	}
	switch b := o.Body.(type) {
	case *design.Gateway:
		s.gateway(p, o, b)
	case *design.Table:
		s.table(p, b)
	case *design.HubTable:
		s.hubTable(p, o, b)
		s.learned(p)
	case *design.EdgeRouter:
		s.joints(p)
		s.learned(p)
	case *design.InnerRoute:
		s.innerRouter(p, o, b)
	case *design.Box:
		s.box(p, o, b)
	}
	s.resolve(p)
	return p
}

func (s *solver) gateway(p *Point, o *design.Object, b *design.Gateway) {
	p.Translations, p.Self = Translations(s.design, o.ID), selfOf(s.design, o)
	switch body := p.Party.Body.(type) {
	case *design.Network:
		p.local(body)
		s.peered(p, o)
	case *design.Site:
		s.siteGateway(p, o, b)
	}
	s.joints(p)
	s.insides(p)
	if p.Party.Kind == design.KindSite {
		s.boxRoutes(p, b.Routes)
	}
	s.learned(p)
	if p.Party.Kind == design.KindSite {
		s.pinned(p)
	}
}

// pinned keeps the way to the far ends' public addresses out of the links, where a
// route into one of them would take it: the tunnel itself must not go through it.
func (s *solver) pinned(p *Point) {
	for _, o := range design.InOrder(s.design.Referring(p.ID, design.KindLink)) {
		e, ok := s.tables.Topology.From(o.ID, p.ID)
		if !ok || !s.st.Intended(o) {
			continue
		}
		for _, tunnel := range s.design.Inside(o.ID, design.KindTunnel) {
			peer := settings.PeerOf(s.design, tunnel, e.End)
			into := func(r Route) bool { return r.Hop.Kind == Tunnel && r.Expected == "" && r.Prefix.Contains(peer) }
			done := func(r Route) bool { return r.Source == Implied && r.Prefix == prefix.Alone(peer) }
			if negotiate.Known(peer) && slices.ContainsFunc(p.Routes, into) && !slices.ContainsFunc(p.Routes, done) {
				p.add(
					Route{
						Prefix: prefix.Alone(peer), Source: Implied, Hop: Hop{Kind: Internet},
						Via: "the internet, outside the links",
					},
				)
			}
		}
	}
}

// siteGateway adds what a box of one's own has by itself.
func (s *solver) siteGateway(p *Point, o *design.Object, b *design.Gateway) {
	lans := LANsOf(s.design, o)
	for _, lan := range lans {
		if !s.meets(p, lan.ID) {
			continue
		}
		for _, r := range s.design.Ranges(lan.ID) {
			p.add(Route{Prefix: r, Source: Connected, Hop: Hop{Kind: Deliver, To: lan.ID}, Via: lan.Name})
			p.Own = append(p.Own, r)
		}
	}
	for inner, body := range design.Each[design.InnerRoute](s.design.Inside(o.Parent, design.KindInnerRoute)) {
		via := body.Via
		if !s.meets(p, inner.ID) {
			continue
		}
		for _, r := range s.design.Ranges(inner.ID) {
			p.Own = append(p.Own, r)
			if !via.IsValid() || slices.ContainsFunc(
				lans, func(lan *design.Object) bool { return prefix.Has(s.design.Ranges(lan.ID), via) },
			) {
				x := Route{
					Prefix: r, Source: Inner, Hop: Hop{Kind: Deliver, To: inner.ID}, NextHop: via,
					Via: "the inner router to " + inner.Name,
				}
				if f := prefix.FamilyOf(r.Addr()); via.IsValid() && f != prefix.FamilyOf(via) {
					x.Unusable = fmt.Sprintf("the inner router to %s has no address of %s: only %s is said", inner.Name, f, via)
				}
				p.add(x)
			}
		}
	}
	for _, a := range b.Addresses {
		all := netip.PrefixFrom(a, 0).Masked()
		if !slices.ContainsFunc(p.Routes, func(r Route) bool { return r.Prefix == all && r.Source == Implied }) {
			p.add(Route{Prefix: all, Source: Implied, Hop: Hop{Kind: Internet}, Via: "the internet"})
		}
	}
}

// innerRouter knows its own ranges and the LANs that it stands in; for the rest
// it has the gateway of its LAN.
func (s *solver) innerRouter(p *Point, o *design.Object, b *design.InnerRoute) {
	for _, r := range b.Prefixes {
		p.add(Route{Prefix: r, Source: Connected, Hop: Hop{Kind: Deliver, To: o.ID}, Via: o.Name})
	}
	next, through := design.ID(""), design.ID("")
	for lan, body := range design.Each[design.LAN](s.design.Inside(o.Parent, design.KindLAN)) {
		if !b.Via.IsValid() || !prefix.Has(s.design.Ranges(lan.ID), b.Via) {
			continue
		}
		if through == "" {
			through = lan.ID
		}
		for _, r := range s.design.Ranges(lan.ID) {
			if r.Contains(b.Via) { // the others of the LAN it knows by its gateway alone
				p.add(Route{Prefix: r, Source: Connected, Hop: Hop{Kind: Deliver, To: lan.ID}, Via: lan.Name})
			}
		}
		if list := body.Gateways; next == "" && len(list) > 0 {
			next = list[0]
		}
	}
	if all := s.design.Inside(o.Parent, design.KindGateway); next == "" && len(all) > 0 {
		next = all[0].ID
	}
	for _, all := range settings.Everything {
		if next != "" && (!b.Via.IsValid() || prefix.FamilyOf(b.Via) == prefix.FamilyOf(all.Addr())) {
			hop := Hop{Kind: Gateway, To: next, Through: through}
			p.add(Route{Prefix: all, Source: Static, Hop: hop, Via: s.design.Get(next).Name})
		}
	}
}

// via is the next hop of an entry that names something.
func via(o *design.Object) Hop {
	if topology.KindOf(o) != nil {
		return Into(o)
	}
	return Hop{Kind: Gateway, To: o.ID}
}

func (s *solver) table(p *Point, b *design.Table) {
	network := p.Party.Body.(*design.Network)
	p.local(network)
	for _, e := range b.Routes {
		to := s.design.Get(e.Via)
		r := s.status(p, Route{Prefix: e.Prefix, Source: Static, Hop: via(to), Via: to.Name}, s.entry(e))
		if profile := s.design.ProfileOf(p.ID); to.Kind == design.KindBox && profile != nil &&
			!profile.Networks.Appliances && r.Unusable == "" {
			r.Unusable = "the cloud's tables lead to no box"
		}
		p.add(r)
	}
	s.halves(p)
	s.fed(p)
}

// entry is how what an entry leads to stands: an entry counts only once that is
// there.
func (s *solver) entry(e design.Entry) status.Verdict {
	v := s.st.Of(e.Via)
	if (s.design.Get(e.Via).Kind == design.KindGateway || s.design.Get(e.Via).Kind == design.KindBox) &&
		v.Cause == status.DoesNotForward && v.Line != "" {
		return status.Verdict{Up: true} // the box is there, and drops it
	}
	return v
}

// status marks a route whose next hop is down. An entry to something that is
// not there is passed over in one cloud and swallows what it is for in another;
// what was learned is withdrawn.
func (s *solver) status(p *Point, r Route, v status.Verdict) Route {
	if v.Up {
		return r
	}
	r.Down = &v
	profile := s.design.ProfileOf(p.ID)
	if r.Swallows = r.Source == Static && profile != nil && profile.DeadNextHop == "black-hole"; !r.Swallows {
		r.Unusable = v.Why
	}
	return r
}

// joints adds what the links and circuits at a point bring without a session, and the selectors
// of links.
func (s *solver) joints(p *Point) {
	for _, o := range topology.At(s.design, p.ID) {
		e, ok := s.tables.Topology.From(o.ID, p.ID)
		if !ok || !status.Exists(o) {
			continue // it is no part of the plan
		}
		tunnels, carried := s.tunnels(p, o)
		if !carried {
			continue
		}
		source := sourcesOf(o).cloud
		if p.Party.Kind == design.KindSite {
			source = sourcesOf(o).own
		}
		for _, r := range s.brought(o, e.End) {
			p.add(
				s.status(
					p, Route{
						Prefix: r, Source: source, Hop: Into(o), Via: o.Name, Tunnels: tunnels,
					}, s.up(o.ID, tunnels),
				),
			)
		}
		if l, ok := o.Body.(*design.Link); ok && s.st.Intended(o) {
			s.selectors(p, o, l.Ends[e.End]) // else no selector takes anything into what is not built
		}
	}
}

// brought are the ranges that a joint brings to one of its ends without a session.
func (s *solver) brought(o *design.Object, end int) []netip.Prefix {
	if k := topology.KindOf(o); k.Routes != nil && !topology.Learns(s.design, o) {
		return k.Routes(s.design, o, end)
	}
	return nil
}

// selectors adds those of a policy-based link.
func (s *solver) selectors(p *Point, o *design.Object, near design.End) {
	v := s.st.Of(o.ID)
	for _, local := range near.Local {
		for _, remote := range near.Remote {
			if local.Addr().Is4() == remote.Addr().Is4() {
				p.Selectors = append(p.Selectors, Selector{Link: o.ID, Local: local, Remote: remote, Status: v})
			}
		}
	}
	if p.Party.Kind == design.KindSite {
		return
	}
	// A cloud gateway routes what it has selectors for; on a Linux gateway the
	// kernel asks its selectors whatever the route says.
	for _, remote := range near.Remote {
		p.add(s.status(p, Route{Prefix: remote, Source: sourcesOf(o).cloud, Hop: Into(o), Via: o.Name}, v))
	}
}

// overridden marks the routes that a network's own blocks beat: the fabric
// delivers their addresses itself, so that one as long as a block never gets to
// decide, and a longer one only where the profile lets it, whoever brought it.
func (s *solver) overridden(p *Point) {
	network, ok := p.Party.Body.(*design.Network)
	if !ok || p.Kind == design.KindBox { // a box of one's own has a table of its own
		return
	}
	profile := s.design.ProfileOf(p.ID)
	for n := range p.Routes {
		r := &p.Routes[n]
		for _, own := range network.Blocks {
			if r.Source != Local &&
				(r.Prefix == own || (profile == nil || !profile.Networks.LongerWins) && prefix.Contains(own, r.Prefix)) {
				r.Unusable = "the block's local route can not be overridden"
			}
		}
	}
}

func rank(first bool) int {
	if first {
		return 0
	}
	return 1
}

// local adds the network's blocks, which its fabric delivers.
func (p *Point) local(network *design.Network) {
	for _, r := range network.Blocks {
		p.add(Route{Prefix: r, Source: Local, Hop: Hop{Kind: Deliver, To: p.Party.ID}, Via: "local"})
		p.Own = append(p.Own, r)
	}
}

func (p *Point) add(r Route) { p.Routes = append(p.Routes, r) }

func (p *Point) index() {
	slices.SortStableFunc(p.Routes, func(a, b Route) int {
		return cmp.Or(
			prefix.Compare(a.Prefix, b.Prefix),
			cmp.Compare(rank(a.Crossing == ""), rank(b.Crossing == "")),
			cmp.Compare(slices.Index(p.preference, a.Source), slices.Index(p.preference, b.Source)),
			cmp.Compare(rank(a.entered), rank(b.entered)),
		)
	})
	for n, r := range p.Routes {
		p.table.Add(r.Prefix, n)
	}
}
