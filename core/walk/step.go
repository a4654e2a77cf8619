package walk

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/topology"
)

// A packet at a point passes a list of hooks, in the order of a Linux box: what translates it as
// it arrives, what is for the box itself, the route, what translates it as it leaves, selectors,
// and the way on. A hook that has no opinion lets it go on to the next; one that has says what
// becomes of the packet, and why. What a box does not have, such as selectors in a cloud's table,
// has no opinion. What the box sends itself passes the hooks from the route on.
//
// Whatever a box is to do with packets is one more hook in its place in these lists. A walk is
// steps from point to point until the packet arrives or is stopped ([walker.run]).

// step is a packet at a point.
type step struct {
	point  *route.Point
	at     Place
	by     design.ID    // the link, circuit, peering, LAN or subnet that it came by; empty if none
	came   netip.Addr   // the source that it came with
	pass   passage      // what the box's memory says of it
	itself bool         // it is for the box
	choice route.Choice // the route that was chosen
}

// hook is one thing that a point does with a packet. It decides, or passes the packet on.
type hook func(w *walker, s *step) (out outcome, decided bool)

// forwarded are the hooks of what comes to a point.
var forwarded = slices.Concat([]hook{
	comesAgain,
	filtersAroundBox,
	filtersBefore,
	translatesArriving,
	mayForward,
	ofSource(claimsToBeTheBox),
	ofSource(strictFilter),
	forTheBox,
	choosesRoute,
	filtersForwarded,
}, leaving)

// sent are the hooks of what a point sends itself.
var sent = slices.Concat([]hook{choosesRoute, filtersSent}, leaving)

// leaving are the hooks of what leaves a point.
var leaving = []hook{
	translatesLeaving,
	asksSelectors,
	unrouted,
	nextHopUp,
	fitsSelectors,
	filtersPastBox,
	onward,
}

// relayed are the hooks of a gateway that passes packets to or from a table that routes for it: a
// hub's, or one of a network for what enters there.
var relayed = []hook{
	filtersBefore,
	translatesArriving,
	mayForward,
	filtersForwarded,
	translatesLeaving,
	fitsSelectors,
}

// ofSource is a hook that judges where a packet comes from, which is nothing to one that only
// asks where an address leads.
func ofSource(judges hook) hook {
	return func(w *walker, s *step) (out outcome, decided bool) {
		if w.asks != nil {
			return out, false
		}
		return judges(w, s)
	}
}

// step passes the packet through a forwarding point.
func (w *walker) step(id, by design.ID) outcome {
	if by == byItself {
		return w.sendsItself(w.pointOf(id), w.placeOf(id), w.way == "forward")
	}
	w.segment = w.segmentBy(id, by)
	p := w.pointIn(id)
	at := w.placeOf(id)
	at.Segment = p.Segment
	return w.through(forwarded, &step{point: p, at: at, by: by, came: w.header.Src})
}

// through asks hooks of which the last always decides.
func (w *walker) through(hooks []hook, s *step) outcome {
	out, _ := w.ask(hooks, s)
	return out
}

// ask asks hooks in their order, up to the one that decides.
func (w *walker) ask(hooks []hook, s *step) (out outcome, decided bool) {
	for _, h := range hooks {
		if out, decided = h(w, s); decided {
			break
		}
	}
	return out, decided
}

func comesAgain(w *walker, s *step) (outcome, bool) {
	if !w.again(s.point.ID, s.by) {
		return outcome{}, false
	}
	return w.halt(
		Loop, s.at, fmt.Sprintf("the packet to %s is back at %s as it was", w.header.Dst, s.at.Title),
		"correct the route that sends it round",
	), true
}

func translatesArriving(w *walker, s *step) (outcome, bool) {
	s.pass = w.prerouting(s.point, s.at, s.by)
	if k := s.pass.known; k != nil && s.pass.reply && k.crossed {
		w.segment = k.segment
		s.point = w.tables.PointIn(s.point.ID, k.segment)
		s.at.Segment = s.point.Segment
	}
	s.itself = prefix.Has(s.point.Self, w.header.Dst) || w.answersOwn(s.point.ID) || w.toBegun(s.point.ID)
	return outcome{}, w.answered()
}

// mayForward asks whether the box passes packets on. What is for the box itself is not
// forwarded.
func mayForward(w *walker, s *step) (outcome, bool) {
	if v := w.forwards(s.point); !v.Up && !(s.itself && v.Line == "faults") {
		return w.down(v, s.at), true
	}
	return outcome{}, false
}

func claimsToBeTheBox(w *walker, s *step) (outcome, bool) {
	if !claimsToBe(s.point, s.came) {
		return outcome{}, false
	}
	return w.halt(
		OwnSource, s.at, fmt.Sprintf("%s takes nothing that comes from %s, an address of its own", s.at.Title, s.came),
		"hide the source behind a range that the box does not have itself, or do not send it back to the box",
	), true
}

func strictFilter(w *walker, s *step) (outcome, bool) {
	if !w.strictlyRefused(s.point, s.by) {
		return outcome{}, false
	}
	why := "%s has a strict reverse-path filter and would answer %s by another way than it came"
	return w.halt(
		ReversePath, s.at, fmt.Sprintf(why, s.at.Title, w.header.Src),
		"set the filter to loose on the box, then take the note off the gateway",
	), true
}

func forTheBox(w *walker, s *step) (outcome, bool) {
	if !s.itself {
		return outcome{}, false
	}
	w.looks()
	if out, stopped := w.filtersItself(s); stopped {
		return out, true
	}
	return w.itself(s.point, s.at, s.pass), true
}

func choosesRoute(w *walker, s *step) (outcome, bool) {
	s.choice = w.chosen(s.point)
	if r := s.choice.Winner; r != nil && r.Hides {
		s.pass.crossing = r.Crossing
	}
	if !w.silent() {
		w.stage(s.at, Routes, &s.choice, "%s", routeText(s.at, w.header.Dst, s.choice))
	}
	return outcome{}, false
}

// hasSelectors reports whether a point is a Linux box with policy-based links.
func (w *walker) hasSelectors(p *route.Point) bool {
	if len(p.Selectors) > 0 {
		w.looks()
	}
	return p.Party.Kind == design.KindSite && len(p.Selectors) > 0
}

// translatesLeaving translates the source as the packet leaves. The kernel asks selectors before
// that, too: what fits one then leaves by no link that routes decide on. And the way out of the
// box is route enough for what they name.
func translatesLeaving(w *walker, s *step) (outcome, bool) {
	selects := w.hasSelectors(s.point)
	named := selects && slices.ContainsFunc(
		s.point.Selectors, func(x route.Selector) bool { return x.Remote.Contains(w.header.Dst) },
	)
	if s.choice.Winner == nil && !named {
		return outcome{}, false
	}
	hop, tunnels := route.Hop{}, []design.ID(nil)
	before := false
	if selects {
		_, before = w.selected(s.point)
	}
	if !before && s.choice.Winner != nil {
		hop, tunnels = s.choice.Winner.Hop, s.choice.Winner.Tunnels
	}
	w.postrouting(s.pass, s.point, s.at, hop, tunnels)
	return outcome{}, false
}

func asksSelectors(w *walker, s *step) (outcome, bool) {
	if !w.hasSelectors(s.point) {
		return outcome{}, false
	}
	named := slices.ContainsFunc(
		s.point.Selectors, func(x route.Selector) bool { return x.Remote.Contains(w.header.Dst) },
	)
	x, ok := w.selected(s.point)
	if !ok || s.choice.Winner == nil && !named {
		return outcome{}, false
	}
	w.stage(
		s.at, Selects, nil, "a selector of %s takes it, whatever the route: local %s, remote %s",
		w.design.Title(x.Link), x.Local,
		x.Remote,
	)
	if !w.counted(x.Status).Up {
		return w.down(x.Status, s.at), true
	}
	e, ok := w.tables.Topology.From(x.Link, s.point.ID)
	if !ok {
		return outcome{}, false
	}
	return w.cross(s.point, e, nil), true
}

// fitsSelectors stops what a cloud's gateway has no selector for on the link into which it is
// routed. A Linux box routes nothing into such a link: its selectors take what fits.
func fitsSelectors(w *walker, s *step) (outcome, bool) {
	link := s.choice.Winner.Hop.To
	inCloud := s.point.Kind == design.KindGateway && s.point.Party.Kind != design.KindSite
	if !inCloud || !topology.Selects(w.design.Get(link)) {
		return outcome{}, false // a hub's table leaves it to the hub's gateway, which relays
	}
	if slices.ContainsFunc(s.point.Selectors, func(x route.Selector) bool { return x.Link == link && w.fitsOne(x) }) {
		return outcome{}, false
	}
	return w.halt(
		SelectorMiss, s.at,
		fmt.Sprintf(
			"%s has no selector of %s for %s to %s", s.at.Title, w.design.Title(link), w.header.Src, w.header.Dst,
		),
		"name the source in the selectors of both ends",
	).about(link, ""), true
}

// fitsOne reports whether the packet fits a selector.
func (w *walker) fitsOne(x route.Selector) bool {
	return x.Remote.Contains(w.header.Dst) && w.comesFrom([]netip.Prefix{x.Local})
}

// unrouted stops a packet that no usable route is left for. If something that is
// down would have taken it, that is the cause.
func unrouted(w *walker, s *step) (outcome, bool) {
	if s.choice.Winner != nil {
		return outcome{}, false
	}
	if v := firstDown(s.choice, -1); v != nil {
		return w.down(*v, s.at), true
	}
	if out, leaves := w.byEdge(s); leaves {
		return out, true
	}
	if out, other := w.otherSegment(s.point, s.at); other {
		return out, true
	}
	if v := w.refusedOnWay(s.point); v != nil {
		return w.down(*v, s.at), true
	}
	why, fix := fmt.Sprintf("%s has no usable route to %s", s.at.Title, w.header.Dst), w.routeFix(s.point, s.at)
	if n := slices.IndexFunc(s.choice.Losers, func(r route.Route) bool { return r.Unusable != "" }); n >= 0 {
		r := s.choice.Losers[n]
		why += ": " + r.Unusable
		if r.Source == route.Inner {
			fix = fmt.Sprintf("write %s down as an inner route of its own, by an address of its router of that family", r.Prefix)
		}
	}
	return w.halt(NoRoute, s.at, why, fix), true
}

func nextHopUp(w *walker, s *step) (outcome, bool) {
	if v := s.choice.Winner.Down; v != nil && !w.counted(*v).Up {
		return w.down(*v, s.at), true
	}
	return outcome{}, false
}

// onward takes the packet to its next hop.
func onward(w *walker, s *step) (outcome, bool) {
	switch hop := s.choice.Winner.Hop; hop.Kind {
	case route.Gateway:
		return goesTo(hop.To, hop.Through), true // the next box sees it come by the place between the two
	case route.Deliver:
		if via := s.choice.Winner.NextHop; via.IsValid() && !prefix.Has(w.design.Ranges(hop.To), w.header.Dst) {
			return w.halt(
				NoNeighbour, s.at,
				fmt.Sprintf(
					"%s sends %s to %s in %s, and nobody is known there that would pass it on", s.at.Title, w.header.Dst, via,
					w.design.Title(hop.To),
				),
				"say which box has that address, give the entry another next hop, or remove it",
			), true
		}
		return w.onLink(hop.To, s.at), true
	case route.BlackHole:
		return w.halt(
			BlackHole, s.at, fmt.Sprintf("%s drops what is for %s: a black hole", s.at.Title, s.choice.Winner.Prefix),
			"remove the entry, or enter a longer one",
		), true
	case route.Internet:
		return w.outside(s), true
	default:
		return w.enters(s, hop), true
	}
}

// outside is what becomes of a packet that only the way to the internet is left for.
func (w *walker) outside(s *step) outcome {
	if v := firstDown(s.choice, s.choice.Winner.Prefix.Bits()); v != nil {
		return w.down(*v, s.at)
	}
	if out, other := w.otherSegment(s.point, s.at); other {
		return out
	}
	if w.onInternet(w.header.Dst) || w.entrance(w.header.Dst) != "" {
		return w.leaves(s.point, s.at)
	}
	return w.outOfEstate(s.point, s.at)
}

// claimsToBe reports whether a packet of IPv4 comes to a Linux box from an address of its
// own: it is dropped as a martian, however loose its filters are.
func claimsToBe(p *route.Point, src netip.Addr) bool {
	linux := p.Kind == design.KindBox || p.Kind == design.KindEdgeRouter ||
		p.Kind == design.KindGateway && p.Party.Kind == design.KindSite
	return linux && src.Is4() && prefix.Has(p.Self, src)
}

// segmentBy is the segment that a packet is in once it came by something: a box tells
// segments apart by the interface or VLAN, never by the source alone.
func (w *walker) segmentBy(id, by design.ID) design.ID {
	if o := w.design.Get(by); o != nil && o.Kind == design.KindLAN {
		if route.SegmentsBehind(w.design, o) {
			w.looks()
		}
		return route.SegmentBy(w.design, w.design.Get(id), o, w.header.Src)
	}
	return w.segment
}

// forwards is how a point stands as what passes packets on.
func (w *walker) forwards(p *route.Point) status.Verdict {
	switch p.Kind {
	case design.KindHubTable:
		return w.statusOf(p.Party.ID)
	case design.KindGateway, design.KindEdgeRouter, design.KindBox:
		return w.statusOf(p.ID)
	}
	return status.Verdict{Up: true}
}

// otherSegment stops a packet whose destination the box knows in another routing
// instance only.
func (w *walker) otherSegment(p *route.Point, at Place) (out outcome, other bool) {
	if p.Segment == "" {
		return out, false
	}
	c := w.tables.Point(p.ID).Lookup(w.header.Dst)
	if c.Winner == nil || c.Winner.Source == route.Implied {
		return out, false
	}
	return w.halt(
		OtherSegment,
		at,
		fmt.Sprintf(
			"%s knows %s (%s) in another segment, and the packet is in %s: between segments nothing passes",
			w.design.Title(p.ID),
			c.Winner.Prefix,
			c.Winner.Via,
			w.design.Title(p.Segment),
		),
		w.crossingFix(p),
	), true
}

// crossingFix says what would lead a packet into another segment: a crossing, or, where a published service has sent it
// on, that this dials by itself.
func (w *walker) crossingFix(p *route.Point) string {
	for o, l := range w.design.ListenersAt(p.ID) {
		if to, _ := w.design.DialOf(l); !l.Proxies() && to == w.header.Dst {
			return fmt.Sprintf(
				"let %[1]s be proxying (set %[1]s does proxying): what it rewrites stays in the caller's segment, and what it "+
					"dials itself does not", o.Name,
			)
		}
	}
	return "let a crossing say what may pass between the two segments, or put both into one"
}

// routeFix says who can let a point have a route: where routes come by
// themselves, nobody enters one.
func (w *walker) routeFix(p *route.Point, at Place) string {
	profile := w.design.ProfileOf(p.ID)
	learns := slices.ContainsFunc(
		p.Routes, func(r route.Route) bool { return r.Source == route.VPNBGP || r.Source == route.CircuitBGP },
	)
	switch {
	case p.Kind == design.KindTable && len(w.design.JointsAt(p.Party.ID)) == 0 &&
		len(w.design.Inside(p.Party.ID, design.KindGateway)) == 0:
		return fmt.Sprintf("join %s with who has %s: nothing joins it to anybody yet", p.Party.Name, w.header.Dst)
	case p.Kind == design.KindTable && profile != nil && profile.Networks.GatewayFeeds &&
		len(w.design.Inside(p.Party.ID, design.KindGateway)) == 0:
		return fmt.Sprintf(
			"let what %s is joined to have %s; what it learns there it feeds into the table", p.Party.Name, w.header.Dst,
		)
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
	if c.Winner.Crossing != "" {
		shared = ", by a crossing"
	}
	for _, b := range c.Branches {
		shared += ", or as well by " + b.Via
	}
	return fmt.Sprintf(
		"%s: %s matches %s (%s, %s%s)", at.Title, dst, c.Winner.Prefix, c.Winner.Source, c.Winner.Via, shared,
	)
}

// strictlyRefused judges a strict reverse-path filter: the route back to the source, or one that
// is as good, must leave by what the packet came in by.
func (w *walker) strictlyRefused(p *route.Point, by design.ID) bool {
	if !status.FiltersStrictly(w.design.Get(p.ID)) {
		return false
	}
	if w.looks(); !w.header.Src.Is4() || by == "" {
		return false
	}
	if topology.Selects(w.design.Get(by)) {
		return false // what IPsec has decrypted is not held against the filter
	}
	c := p.Lookup(w.header.Src)
	if c.Winner == nil {
		return true
	}
	return !w.leavesBy(*c.Winner, by) &&
		!slices.ContainsFunc(c.Branches, func(r route.Route) bool { return w.leavesBy(r, by) })
}

// leavesBy reports whether a route leads out by a joint or place; the one to the internet by none.
func (w *walker) leavesBy(r route.Route, by design.ID) bool {
	to := w.design.Get(r.Hop.To)
	switch {
	case to == nil:
		return false
	case to.Kind == design.KindInnerRoute:
		return prefix.Has(w.design.Ranges(by), r.NextHop)
	case r.Hop.Kind == route.Gateway && r.Hop.Through != "":
		return r.Hop.Through == by
	}
	return to.ID == by
}

// selected is the selector that takes the packet. Traffic between the party's
// own ranges is passed by: the gateways are configured so.
func (w *walker) selected(p *route.Point) (s route.Selector, ok bool) {
	if prefix.Has(p.Own, w.header.Src) && prefix.Has(p.Own, w.header.Dst) {
		return s, false
	}
	for _, s := range p.Selectors {
		if w.fitsOne(s) {
			return s, true
		}
	}
	return s, false
}

// hiddenHere reports whether a rule that a box lists has hidden the packet's source
// there just now.
func (w *walker) hiddenHere(box design.ID) bool {
	return slices.ContainsFunc(
		w.stages, func(s Stage) bool { return s.Act == MapsSource && s.At.ID == box && s.Rule == box },
	)
}

// outOfEstate is what becomes of a packet that only the way to the internet is
// left for. Where selectors are all that could have taken it, or one names its
// destination, they are to blame; else a route is missing.
func (w *walker) outOfEstate(p *route.Point, at Place) outcome {
	routed := slices.ContainsFunc(p.Routes, func(r route.Route) bool { return r.Hop.Kind == route.Tunnel })
	for _, s := range p.Selectors {
		if s.Remote.Contains(w.header.Dst) || !routed && s.Local.Contains(w.header.Src) {
			out := w.halt(
				SelectorMiss,
				at,
				fmt.Sprintf(
					"no selector of %s covers %s to %s; the nearest has %s and %s",
					w.design.Title(s.Link), w.header.Src,
					w.header.Dst, s.Local, s.Remote,
				),
				fmt.Sprintf(
					"add %s and %s to the selectors at both ends of %s",
					w.header.Src,
					w.header.Dst,
					w.design.Title(s.Link),
				),
			).about(s.Link, "")
			if w.hiddenHere(p.ID) && s.Remote.Contains(w.header.Dst) {
				out.stop.Fix = fmt.Sprintf(
					"at %s exempt %s from what is hidden: a rule nothing for it before the one that hides", at.Title,
					s.Remote,
				)
				out = out.about(p.ID, "translate")
			}
			return out
		}
	}
	if v := w.refusedOnWay(p); v != nil {
		return w.down(*v, at)
	}
	return w.halt(NoRoute, at,
		fmt.Sprintf("%s has no route to %s but the way to the internet", at.Title, w.header.Dst), w.routeFix(p, at))
}

// refusedOnWay is how a joint stands that somebody has refused, or has not answered for, and without which a point
// has no route: one that ends at the point's own party, or at the one that has the destination; nil if there is none.
// Nobody is told to learn what was refused.
func (w *walker) refusedOnWay(p *route.Point) *status.Verdict {
	parties := []design.ID{p.Party.ID}
	for _, place := range w.tables.Holders(w.header.Dst) {
		parties = append(parties, w.design.Party(place).ID)
	}
	for _, party := range parties {
		for _, at := range append([]*design.Object{w.design.Get(party)}, w.design.Inside(party, design.KindGateway)...) {
			for _, j := range w.design.JointsAt(at.ID) {
				v := w.statusOf(j.ID)
				if v.Cause == status.NotAccepted && !v.Up && w.joins(j, at.ID, p.Party.ID) {
					return &v
				}
			}
		}
	}
	return nil
}

// joins reports whether a joint of one end would lead towards the destination: its other end is the party that asks, a
// hub, or a party that has it.
func (w *walker) joins(j design.Joint, end, asking design.ID) bool {
	far, _, ok := j.Far(end)
	if !ok {
		return false
	}
	party := w.design.Party(far)
	if party == nil || party.Kind == design.KindHub || party.ID == asking {
		return true
	}
	return slices.ContainsFunc(w.tables.Holders(w.header.Dst), func(place design.ID) bool {
		return w.design.Party(place).ID == party.ID
	})
}
