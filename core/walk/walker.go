package walk

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
)

// walker carries one packet in one direction.
type walker struct {
	t      *route.Tables
	d      *design.Design
	way    string
	meant  design.ID // the endpoint, LAN or subnet that should get it; empty if any will do
	header Header
	stages []Stage
	stop   *Stop
	seen   map[visit]bool
	known  connections           // what the boxes remember of the flow
	fabric map[Header]fabricated // what clouds remember that listen themselves, by the reply
	// segment is what the packet is in: that of the LAN that it left, of the
	// tunnel or circuit that it came by; empty where everything meets.
	segment design.ID
	turns   *turns // which of equal routes are taken
}

type visit struct {
	point, by, segment design.ID
	header             Header
}

func (w *walker) stage(at Place, act Act, table *route.Choice, text string, args ...any) {
	w.stages = append(w.stages, Stage{At: at, Act: act, Text: fmt.Sprintf(text, args...), Header: w.header, Table: table})
}

func (w *walker) halt(code Code, at Place, why, fix string) Host {
	if w.way == "reply" {
		switch code {
		case NoRoute:
			code = ReplyNoRoute
		case OnLinkElsewhere:
			code = ReplyOnLinkElsewhere
		}
	}
	w.stop = &Stop{Code: code, Way: w.way, At: at, Why: why, Fix: fix}
	w.stage(at, Stops, nil, "%s", why)
	return Host{}
}

// down stops the packet at something that is down, with its first cause.
func (w *walker) down(v status.Verdict, at Place) Host {
	w.halt(Code(v.Cause), at, v.Why, v.Fix(w.d))
	w.stop.Subject, w.stop.Line = v.Subject, v.Line
	for o := w.d.Get(v.Subject); o != nil; o = w.d.Get(o.Parent) {
		if _, ok := design.JointOf(o); ok {
			w.stop.Joint = o.ID
			break
		}
	}
	return Host{}
}

// from sends the packet from a host and returns the host it reaches, or sets
// the stop.
func (w *walker) from(h Host) Host {
	if h.Beyond != "" {
		return w.fromBeyond(h)
	}
	at := placeOf(w.d, h.id())
	if v := w.t.Status.Of(h.Place); !v.Up {
		return w.down(v, at)
	}
	for _, p := range w.d.Ranges(h.Place) {
		if p.Contains(w.header.Dst) && p.Contains(h.Address) {
			w.stage(at, Sends, nil, "%s finds %s on-link in %s and asks its own %s for it", at.Title, w.header.Dst, p, kindWord(w.d, h.Place))
			return w.deliver(h.Place, placeOf(w.d, h.Place))
		}
	}
	w.segment = w.d.SegmentOf(h.Place)
	next := w.firstHop(h.Place)
	if next == "" {
		return w.halt(NoRoute, at, at.Title+" has no gateway", "give its LAN a gateway")
	}
	w.stage(at, Sends, nil, "%s sends to %s", at.Title, w.d.Title(next))
	return w.point(next, h.Place)
}

func kindWord(d *design.Design, id design.ID) string {
	switch d.Get(id).Kind {
	case design.KindLAN:
		return "LAN"
	case design.KindInnerRoute:
		return "inner network"
	}
	return "subnet"
}

// firstHop is the forwarding point that the hosts of a LAN or subnet use.
func (w *walker) firstHop(place design.ID) design.ID {
	switch b := w.d.Get(place).Body.(type) {
	case *design.Subnet:
		return b.Table
	case *design.InnerRoute:
		return place
	case *design.LAN:
		if len(b.Gateways) > 0 {
			return b.Gateways[0]
		}
	}
	if all := w.d.Inside(w.d.Get(place).Parent, design.KindGateway); len(all) > 0 {
		return all[0].ID
	}
	return ""
}

// again tells whether the packet was here before as it is, and notes that it is
// here now.
func (w *walker) again(id, by design.ID) bool {
	key := visit{id, by, w.segment, w.header}
	if w.seen[key] || len(w.stages) > maxStages {
		return true
	}
	if w.seen == nil {
		w.seen = map[visit]bool{}
	}
	w.seen[key] = true
	return false
}

// point passes the packet through a forwarding point: a box in the order of a
// Linux gateway, anything else by its table alone. by is the link, circuit,
// peering, LAN or subnet that it came by, empty if none of them.
func (w *walker) point(id, by design.ID) Host {
	w.segment = w.segmentBy(id, by)
	p := w.t.PointIn(id, w.segment)
	at := placeOf(w.d, id)
	at.Segment = p.Segment
	if w.again(id, by) {
		return w.halt(Loop, at, fmt.Sprintf("the packet to %s is back at %s as it was", w.header.Dst, at.Title), "correct the route that sends it round")
	}
	came := w.header.Src
	pass := w.prerouting(p, at, by)
	itself := within(p.Self, w.header.Dst) || w.answersOwn(p.ID)
	if v := w.forwards(p); !v.Up && !(itself && v.Line == "faults") { // what is for the box is not forwarded
		return w.down(v, at)
	}
	if claimsToBe(p, came) {
		return w.halt(
			OwnSource, at, fmt.Sprintf("%s takes nothing that comes from %s, an address of its own", at.Title, came),
			"hide the source behind a range that the box does not have itself, or do not send it back to the box",
		)
	}
	if w.strictlyRefused(p, by) {
		return w.halt(ReversePath, at, fmt.Sprintf("%s has a strict reverse-path filter and would answer %s by another way than it came", at.Title, w.header.Src), "set the filter to loose on the box, then take the note off the gateway")
	}
	if itself {
		return w.itself(p, at, pass)
	}
	return w.routed(p, at, by, pass)
}

// claimsToBe reports whether a packet of IPv4 comes to a Linux box from an address of its
// own: it is dropped as a martian, however loose its filters are.
func claimsToBe(p *route.Point, src netip.Addr) bool {
	linux := p.Kind == design.KindBox || p.Kind == design.KindEdgeRouter ||
		p.Kind == design.KindGateway && p.Party.Kind == design.KindSite
	return linux && src.Is4() && within(p.Self, src)
}

// segmentBy is the segment that a packet is in once it came by something: a box tells
// segments apart by the interface or VLAN, never by the source alone.
func (w *walker) segmentBy(id, by design.ID) design.ID {
	if o := w.d.Get(by); o != nil && o.Kind == design.KindLAN {
		return route.SegmentBy(w.d, w.d.Get(id), o, w.header.Src)
	}
	return w.segment
}

// routed chooses the way of a packet that a point passes on or sends itself.
func (w *walker) routed(p *route.Point, at Place, by design.ID, pass passage) Host {
	choice := w.pick(p.Lookup(w.header.Dst))
	w.stage(at, Routes, &choice, "%s", routeText(at, w.header.Dst, choice))
	if p.Party.Kind == design.KindSite && len(p.Selectors) > 0 {
		if s, ok := w.pastSelectors(pass, p, at, choice); ok {
			return w.bySelector(p, at, s)
		}
	} else if choice.Winner != nil {
		w.postrouting(pass, p, at, choice.Winner.Hop, choice.Winner.Tunnels)
	}
	if choice.Winner == nil {
		return w.unrouted(p, choice, at)
	}
	if choice.Winner.Down != nil {
		return w.down(*choice.Winner.Down, at)
	}
	return w.onward(p, at, by, choice)
}

// pastSelectors translates the source as the packet leaves a Linux gateway, and
// asks its selectors. The kernel asks them before the translation, too: what fits
// one then leaves by no link that routes decide on. And the way out of the box is
// route enough for what they name.
func (w *walker) pastSelectors(pass passage, p *route.Point, at Place, choice route.Choice) (s route.Selector, ok bool) {
	named := slices.ContainsFunc(p.Selectors, func(s route.Selector) bool { return s.Remote.Contains(w.header.Dst) })
	if choice.Winner == nil && !named {
		return s, false
	}
	hop, tunnels := route.Hop{}, []design.ID(nil)
	if _, before := w.selected(p); !before && choice.Winner != nil {
		hop, tunnels = choice.Winner.Hop, choice.Winner.Tunnels
	}
	w.postrouting(pass, p, at, hop, tunnels)
	return w.selected(p)
}

// forwards is how a point stands as what passes packets on.
func (w *walker) forwards(p *route.Point) status.Verdict {
	switch p.Kind {
	case design.KindHubTable:
		return w.t.Status.Of(p.Party.ID)
	case design.KindGateway, design.KindEdgeRouter, design.KindBox:
		return w.t.Status.Of(p.ID)
	}
	return status.Verdict{Up: true}
}

// onward takes the packet to its next hop.
func (w *walker) onward(p *route.Point, at Place, by design.ID, choice route.Choice) Host {
	switch hop := choice.Winner.Hop; hop.Kind {
	case route.Tunnel:
		return w.intoLink(p, at, hop.To, choice.Winner.Tunnels)
	case route.Gateway:
		return w.point(hop.To, w.sideOf(p, hop))
	case route.Deliver:
		return w.onLink(hop.To, at)
	case route.Peer:
		return w.peer(hop.To, p, at)
	case route.Attached:
		return w.enterHub(hop.To, p.Party, at)
	case route.OtherHub:
		return w.otherHub(hop.To, p.Party, at)
	case route.Circuit:
		return w.circuit(hop.To, p, at)
	case route.BlackHole:
		return w.halt(BlackHole, at, fmt.Sprintf("%s drops what is for %s: a black hole", at.Title, choice.Winner.Prefix), "remove the entry, or enter a longer one")
	}
	if v := firstDown(choice, choice.Winner.Prefix.Bits()); v != nil {
		return w.down(*v, at)
	}
	if w.otherSegment(p, at) {
		return Host{}
	}
	if w.onInternet(w.header.Dst) {
		return w.leaves(p, at)
	}
	return w.outOfEstate(p, at)
}

// sideOf is what the next box sees a packet come by: the LAN or subnet between the
// two.
func (w *walker) sideOf(p *route.Point, hop route.Hop) design.ID {
	if hop.Through != "" {
		return hop.Through
	}
	if b, ok := w.d.Get(p.ID).Body.(*design.InnerRoute); ok {
		for _, lan := range w.d.Inside(p.Party.ID, design.KindLAN) {
			if within(w.d.Ranges(lan.ID), b.Via) {
				return lan.ID
			}
		}
	}
	return ""
}

// unrouted stops a packet that no usable route is left for. If something that is
// down would have taken it, that is the cause.
func (w *walker) unrouted(p *route.Point, c route.Choice, at Place) Host {
	if v := firstDown(c, -1); v != nil {
		return w.down(*v, at)
	}
	if w.otherSegment(p, at) {
		return Host{}
	}
	return w.halt(NoRoute, at, fmt.Sprintf("%s has no usable route to %s", at.Title, w.header.Dst), w.routeFix(p, at))
}

// otherSegment stops a packet whose destination the box knows in another routing
// instance only.
func (w *walker) otherSegment(p *route.Point, at Place) bool {
	if p.Segment == "" {
		return false
	}
	c := w.t.Point(p.ID).Lookup(w.header.Dst)
	if c.Winner == nil || c.Winner.Source == route.Implied {
		return false
	}
	w.halt(OtherSegment, at, fmt.Sprintf("%s knows %s (%s) in another segment, and the packet is in %s: between segments nothing passes", w.d.Title(p.ID), c.Winner.Prefix, c.Winner.Via, w.d.Title(p.Segment)),
		"put both into one segment, if they are meant to meet")
	return true
}

// routeFix says who can let a point have a route: where routes come by
// themselves, nobody enters one.
func (w *walker) routeFix(p *route.Point, at Place) string {
	profile := w.d.ProfileOf(p.ID)
	learns := slices.ContainsFunc(p.Routes, func(r route.Route) bool { return r.Source == route.VPNBGP || r.Source == route.CircuitBGP })
	switch {
	case p.Kind == design.KindTable && profile != nil && profile.Networks.GatewayFeeds:
		return fmt.Sprintf("let a gateway of %s learn %s; it feeds the table", p.Party.Name, w.header.Dst)
	case p.Kind == design.KindHubTable:
		return fmt.Sprintf("let an attachment that has %s feed %s, or enter it there", w.header.Dst, at.Title)
	case p.Kind != design.KindTable && learns:
		return fmt.Sprintf("let the far end announce %s to %s", w.header.Dst, at.Title)
	}
	return fmt.Sprintf("add a route for %s at %s", w.header.Dst, at.Title)
}

// firstDown is how the best route longer than bits stands that would have taken
// the packet and is down.
func firstDown(c route.Choice, bits int) *status.Verdict {
	for _, l := range c.Losers {
		if l.Down != nil && l.Prefix.Bits() > bits {
			return l.Down
		}
	}
	return nil
}

func routeText(at Place, dst netip.Addr, c route.Choice) string {
	if c.Winner == nil {
		return fmt.Sprintf("%s finds no usable route to %s", at.Title, dst)
	}
	shared := ""
	for _, b := range c.Branches {
		shared += ", or as well by " + b.Via
	}
	return fmt.Sprintf(
		"%s: %s matches %s (%s, %s%s)", at.Title, dst, c.Winner.Prefix, c.Winner.Source, c.Winner.Via, shared,
	)
}

// strictlyRefused judges a strict reverse-path filter: the route back to the
// source must leave by what the packet came in by.
func (w *walker) strictlyRefused(p *route.Point, by design.ID) bool {
	if !status.FiltersStrictly(w.d.Get(p.ID)) || !w.header.Src.Is4() || by == "" {
		return false
	}
	if l, ok := w.d.Get(by).Body.(*design.Link); ok && l.Routing == design.RoutingSelectors {
		return false // what IPsec has decrypted is not held against the filter
	}
	c := p.Lookup(w.header.Src)
	if c.Winner == nil {
		return true
	}
	back := w.d.Get(c.Winner.Hop.To)
	if back == nil {
		return true // the internet
	}
	if inner, ok := back.Body.(*design.InnerRoute); ok {
		return !within(w.d.Ranges(by), inner.Via)
	}
	if hop := c.Winner.Hop; hop.Kind == route.Gateway && hop.Through != "" {
		return hop.Through != by
	}
	return back.ID != by
}

// selected is the selector that takes the packet. Traffic between the party's
// own ranges is passed by: the gateways are configured so.
func (w *walker) selected(p *route.Point) (s route.Selector, ok bool) {
	if within(p.Own, w.header.Src) && within(p.Own, w.header.Dst) {
		return s, false
	}
	for _, s := range p.Selectors {
		if s.Matches(w.header.Src, w.header.Dst) {
			return s, true
		}
	}
	return s, false
}

func (w *walker) bySelector(p *route.Point, at Place, s route.Selector) Host {
	w.stage(at, Selects, nil, "a selector of %s takes it, whatever the route: local %s, remote %s", w.d.Title(s.Link), s.Local, s.Remote)
	if !s.Status.Up {
		return w.down(s.Status, at)
	}
	return w.cross(s.Link, p.ID, nil)
}

// intoLink sends the packet into a link that a route names: from a hub's table
// by the gateway at which the link ends there.
func (w *walker) intoLink(p *route.Point, at Place, link design.ID, only []design.ID) Host {
	from := p
	if p.Kind == design.KindHubTable {
		if from = w.hubGateway(p, link); from == nil {
			return w.halt(NoRoute, at, fmt.Sprintf("%s does not end at a gateway of %s", w.d.Title(link), at.Title), "correct the link's ends")
		}
		gate := placeOf(w.d, from.ID)
		if v := w.t.Status.Of(from.ID); !v.Up {
			return w.down(v, gate)
		}
		pass := w.prerouting(from, gate, "")
		w.postrouting(pass, from, gate, route.Hop{Kind: route.Tunnel, To: link}, only)
	}
	if l := w.d.Get(link); l.Body.(*design.Link).Routing == design.RoutingSelectors && !slices.ContainsFunc(from.Selectors, func(s route.Selector) bool {
		return s.Link == link && s.Matches(w.header.Src, w.header.Dst)
	}) {
		return w.halt(SelectorMiss, placeOf(w.d, from.ID), fmt.Sprintf("%s has no selector of %s for %s to %s", from.Title, l.Name, w.header.Src, w.header.Dst), "name the source in the selectors of both ends")
	}
	return w.cross(link, from.ID, only)
}

func (w *walker) hubGateway(p *route.Point, link design.ID) *route.Point {
	for _, e := range w.d.Get(link).Body.(*design.Link).Ends {
		if w.d.Get(e.Gateway).Parent == p.Party.ID {
			return w.t.Point(e.Gateway)
		}
	}
	return nil
}

// cross carries the packet over a link to its far gateway, on some of its tunnels
// where not on all.
func (w *walker) cross(link, from design.ID, only []design.ID) Host {
	o := w.d.Get(link)
	l := o.Body.(*design.Link)
	_, far, n, _ := l.End(from)
	at := Place{ID: link, Kind: design.KindLink, Title: o.Name}
	if v := w.t.Status.Of(link); !v.Up {
		return w.down(v, at)
	}
	tunnels := slices.DeleteFunc(w.d.Inside(link, design.KindTunnel), func(t *design.Object) bool {
		return !w.t.Status.Of(t.ID).Up || len(only) > 0 && !slices.Contains(only, t.ID)
	})
	fitting := slices.DeleteFunc(slices.Clone(tunnels), func(t *design.Object) bool { return l.Routing != design.RoutingSelectors && !w.narrowed(t.ID, n) })
	if len(fitting) == 0 {
		return w.halt(SelectorMiss, at, fmt.Sprintf("the two ends of %s have agreed on selectors that do not cover %s to %s", o.Name, w.header.Src, w.header.Dst), "set the selectors of both ends to everything")
	}
	w.stage(
		at, Enters, nil, "%s carries it from %s to %s on %s", o.Name, w.d.Title(from), w.d.Title(far.Gateway),
		tunnelWords(fitting, w.d.Tunnels(link), w.t.Status),
	)
	w.segment = w.d.SegmentOf(fitting[0].ID)
	arrival := w.t.Point(far.Gateway)
	if l.Routing == design.RoutingSelectors && !admits(arrival, link, w.header) {
		end := placeOf(w.d, far.Gateway)
		return w.halt(SelectorMiss, end,
			fmt.Sprintf("%s has no selector of %s for %s from %s and drops it", end.Title, o.Name, w.header.Dst, w.header.Src),
			"make the selectors of both ends mirror each other")
	}
	return w.arrive(far.Gateway, link)
}

// narrowed reports whether the packet fits what the two ends of a route-based
// tunnel have agreed on, seen from end n.
func (w *walker) narrowed(tunnel design.ID, n int) bool {
	out := w.t.Status.Tunnel(tunnel)
	near, far := out.Local, out.Remote
	if n == 1 {
		near, far = far, near
	}
	covers := func(ps []netip.Prefix, a netip.Addr) bool {
		family := slices.ContainsFunc(ps, func(p netip.Prefix) bool { return p.Addr().Is4() == a.Is4() })
		return within(ps, a) || !family && slices.ContainsFunc(ps, func(p netip.Prefix) bool { return p.Bits() == 0 })
	}
	return covers(near, w.header.Src) && covers(far, w.header.Dst)
}

// tunnelWords names the tunnels that a packet may take, of all that a link has.
func tunnelWords(fitting, all []*design.Object, st *status.Status) string {
	up := 0
	for _, t := range all {
		if st.Of(t.ID).Up {
			up++
		}
	}
	switch {
	case len(all) == 1:
		return "its one tunnel"
	case len(fitting) == 1 && up == 1:
		return fitting[0].Name + ", the one of its " + strconv.Itoa(len(all)) + " tunnels that is up"
	case len(fitting) == 1:
		return fitting[0].Name + ", the one of its " + strconv.Itoa(up) + " tunnels that takes this"
	}
	return "one of its " + strconv.Itoa(len(fitting)) + " tunnels"
}

// admits reports whether an inbound packet falls under a selector of the link,
// as RFC 4301 section 5.2 demands after decryption.
func admits(p *route.Point, link design.ID, h Header) bool {
	for _, s := range p.Selectors {
		if s.Link == link && s.Matches(h.Dst, h.Src) {
			return true
		}
	}
	return false
}

// onLink hands the packet to a LAN, or to the subnet of a network that holds
// the destination.
func (w *walker) onLink(place design.ID, at Place) Host {
	if w.header.Src == w.header.Dst && w.header.Src.Is4() { // of IPv6 it takes it, and answers itself
		return w.halt(NoNeighbour, at, fmt.Sprintf("the packet for %s comes from that very address, and a host takes nothing from itself", w.header.Dst), "map the source, too, so that the two can be told apart")
	}
	if w.d.Get(place).Kind != design.KindNetwork {
		return w.deliver(place, at)
	}
	if at.Kind == design.KindHubTable {
		w.unpool(w.d.Get(at.ID).Parent, place, at)
		if table := w.entered(w.d.Get(at.ID).Parent, place); table != "" {
			return w.enters(table, place)
		}
	}
	if !within(w.d.Ranges(place), w.header.Dst) {
		return w.halt(NoNeighbour, at, fmt.Sprintf("%s leads %s to %s, which does not hold it", at.Title, w.header.Dst, w.d.Title(place)), "remove the entry, or let it lead to who holds the range")
	}
	if s := w.subnetOf(place, w.header.Dst); s != nil {
		if at.Kind == design.KindHubTable {
			if a := w.d.AttachmentOf(w.d.Get(at.ID).Parent, place); a != nil && !w.zoneServed(a, s) {
				return w.cutOff(a, s, at)
			}
		}
		return w.deliver(s.ID, at)
	}
	return w.halt(NoNeighbour, at, fmt.Sprintf("%s is in a block of %s but in none of its subnets", w.header.Dst, w.d.Title(place)), "use an address of a subnet")
}

// deliver resolves the destination in a LAN or subnet.
func (w *walker) deliver(place design.ID, at Place) Host {
	title := w.d.Title(place)
	if v := w.t.Status.Of(place); !v.Up {
		return w.down(v, at)
	}
	for _, p := range w.d.Ranges(place) {
		if p.Contains(w.header.Dst) && !prefix.IsHost(p, w.header.Dst) {
			return w.halt(NoNeighbour, at, fmt.Sprintf("%s is not a host's address in %s %s", w.header.Dst, title, p), "use the address of a host")
		}
	}
	if c, ok := w.fabric[w.header]; ok {
		return w.cloudAnswers(c)
	}
	got := Host{Place: place, Endpoint: endpointAt(w.d, place, w.header.Dst), Address: w.header.Dst}
	if got.Endpoint == "" && w.d.IsSourcePool(place) {
		return w.halt(NoNeighbour, at, fmt.Sprintf("%s is in %s, a source pool in which no host is", w.header.Dst, title), "dial a host, under an address that leads to it")
	}
	if got.Endpoint == "" {
		if b := w.t.Bearer(place, w.header.Dst); b != "" {
			return w.bearer(b, place, at)
		}
		if b := w.awaited(place); b != "" {
			return w.bearer(b, place, at)
		}
	}
	if !w.isMeant(got) {
		meant := placeOf(w.d, w.meant)
		return w.halt(OnLinkElsewhere, at,
			fmt.Sprintf("%s delivers %s to %s, which holds that range itself; it was meant for %s", at.Title, w.header.Dst, title, meant.Title),
			fmt.Sprintf("map the range of %s to one that %s does not hold, and use the mapped address", w.d.Title(HomeOf(w.d, w.meant)), w.d.Party(place).Name))
	}
	who := title
	if got.Endpoint != "" {
		who = placeOf(w.d, got.Endpoint).Title
	}
	w.stage(Place{ID: got.id(), Kind: w.d.Get(got.id()).Kind, Title: who}, Delivers, nil, "%s receives it: from %s to %s", who, w.header.Src, w.header.Dst)
	return got
}

// isMeant reports whether the packet is where it should be: at the endpoint,
// or in the LAN or subnet, that was meant.
func (w *walker) isMeant(got Host) bool {
	return w.meant == "" || w.meant == got.Endpoint || w.meant == got.Place
}

// hiddenHere reports whether a rule that a box lists has hidden the packet's source
// there just now.
func (w *walker) hiddenHere(box design.ID) bool {
	return slices.ContainsFunc(w.stages, func(s Stage) bool { return s.Act == MapsSource && s.At.ID == box && s.Rule == box })
}

// outOfEstate is what becomes of a packet that only the way to the internet is
// left for. Where selectors are all that could have taken it, or one names its
// destination, they are to blame; else a route is missing.
func (w *walker) outOfEstate(p *route.Point, at Place) Host {
	routed := slices.ContainsFunc(p.Routes, func(r route.Route) bool { return r.Hop.Kind == route.Tunnel })
	for _, s := range p.Selectors {
		if s.Remote.Contains(w.header.Dst) || !routed && s.Local.Contains(w.header.Src) {
			w.halt(SelectorMiss, at,
				fmt.Sprintf("no selector of %s covers %s to %s; the nearest has %s and %s", w.d.Title(s.Link), w.header.Src, w.header.Dst, s.Local, s.Remote),
				fmt.Sprintf("add %s and %s to the selectors at both ends of %s", w.header.Src, w.header.Dst, w.d.Title(s.Link)))
			w.stop.Subject = s.Link
			if w.hiddenHere(p.ID) && s.Remote.Contains(w.header.Dst) {
				w.stop.Fix = fmt.Sprintf("at %s exempt %s from what is hidden: a rule nothing for it before the one that hides", at.Title, s.Remote)
				w.stop.Subject, w.stop.Line = p.ID, "translate"
			}
			return Host{}
		}
	}
	return w.halt(NoRoute, at,
		fmt.Sprintf("%s has no route to %s but the way to the internet", at.Title, w.header.Dst), w.routeFix(p, at))
}
