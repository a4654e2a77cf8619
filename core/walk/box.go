package walk

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/topology"
)

// remembers reports whether a point keeps a connection table: every gateway, box and edge router
// does, whether it translates or not; the tables of clouds and hubs and inner routers do not.
func remembers(p *route.Point) bool {
	return p.Kind == design.KindGateway || p.Kind == design.KindBox || p.Kind == design.KindEdgeRouter
}

// connections is what each box remembers of the flow: how the first packet came,
// and what its reply will look like.
type connections map[design.ID][]conversation

type conversation struct {
	first, reply Header
	proxied      bool // the box has ended the first connection and opened the other itself
	// from and to are the ranges for which the first header stood, where ranges are collected.
	from, to netip.Prefix
	// crossed says that a crossing has hidden the source: answers are routed in segment, from which it came.
	crossed bool
	segment design.ID
}

// passage is a packet's way through one box that translates.
type passage struct {
	came  Header
	by    design.ID
	known *conversation // the one it belongs to; nil if it begins one, or belongs to none
	reply bool          // it is the other way of what is known
	stray bool          // it belongs to none and can begin none: nothing is translated
	// from and to are the ranges for which it stood as it came, where ranges are collected.
	from, to netip.Prefix
	crossing design.ID // that hides its source as it leaves
}

// prerouting does what a box does before it chooses the route. A packet of a
// conversation that it remembers is treated as the first was, or reversed; for
// the first the rules are asked. A reply of ICMP that belongs to nothing begins
// nothing: its connection table takes it for invalid. A connection of TCP that it has
// not seen begin is taken up in the middle, and translated from there on.
func (w *walker) prerouting(p *route.Point, at Place, by design.ID) passage {
	pass := passage{came: w.header, by: by}
	if w.collect != nil {
		pass.from, pass.to = w.collect.from, w.collect.to
	}
	if !remembers(p) {
		return pass
	}
	if len(p.Translations) > 0 || len(w.known[p.ID]) > 0 {
		w.looks()
	}
	if known, ok := w.recall(p, at, by); ok {
		return known
	}
	if pass.stray = w.way == "reply" && w.header.Proto == "icmp"; pass.stray {
		return pass
	}
	for _, r := range p.Translations {
		if r.Hook != design.Prerouting || !w.comesBy(p, r.From, by) || !w.fits(r, r.Into) {
			continue
		}
		switch r.Does {
		case design.OneToOne:
			w.mapped(r.Of)
			w.carries(false, r)
			w.rewrite(at, MapsDest, r.Mapped(w.header.Dst, true), w.header.DPort, "maps the destination", r.Of)
		case design.ToTarget:
			port := w.header.DPort
			if r.Port != 0 && port != 0 {
				port = r.Port
			}
			w.rewrite(at, MapsDest, r.Target, port, "sends it to another destination", r.Of)
		}
		break
	}
	return pass
}

// recall finds the conversation that a packet belongs to, and does to its
// destination what was done before.
func (w *walker) recall(p *route.Point, at Place, by design.ID) (passage, bool) {
	pass := passage{came: w.header, by: by}
	for n := range w.known[p.ID] {
		c := &w.known[p.ID][n]
		switch {
		case c.proxied:
		case w.header == c.reply:
			pass.known, pass.reply = c, true
			w.stoodFor(nil, &c.from)
			w.rewrite(at, MapsDest, c.first.Src, c.first.SPort, "puts back the destination of the reply", "")
			return pass, true
		case w.header == c.first:
			pass.known = c
			w.rewrite(at, MapsDest, c.reply.Src, c.reply.SPort, "translates the destination as before", "")
			return pass, true
		}
	}
	return pass, false
}

// postrouting does what a box does after it has chosen the route, and lets it
// remember the conversation. tunnels are those of a link that the route takes; nil: all.
func (w *walker) postrouting(pass passage, p *route.Point, at Place, hop route.Hop, tunnels []design.ID) {
	switch {
	case !remembers(p) || pass.stray:
		return
	case pass.known != nil && pass.reply:
		w.stoodFor(&pass.known.to, nil)
		w.rewriteSource(
			at, pass.known.first.Dst, pass.known.first.DPort, "gives the reply the source that was dialled", "",
		)
		return
	case pass.known != nil:
		w.rewriteSource(at, pass.known.reply.Dst, pass.known.reply.DPort, "translates the source as before", "")
		return
	}
	c := conversation{first: pass.came, from: pass.from, to: pass.to}
	if w.hidesCrossing(p, at, hop, tunnels, pass.crossing) {
		c.reply, c.crossed, c.segment = w.header.reversed(), true, p.Segment
		w.known[p.ID] = append(w.known[p.ID], c)
		return
	}
	for _, r := range p.Translations {
		if r.Hook != design.Postrouting || !w.comesBy(p, r.From, pass.by) || !w.goesBy(p, r.Toward, hop) ||
			!w.fits(r, r.Real) || r.Dialled.IsValid() && r.Dialled != pass.came.Dst {
			continue
		}
		switch r.Does {
		case design.OneToOne:
			w.carries(true, r)
			w.rewriteSource(at, r.Mapped(w.header.Src, false), w.header.SPort, "maps the source", r.Of)
		case design.FromPool:
			w.carries(true, r)
			w.rewriteSource(at, prefix.FirstHost(r.Into), w.header.SPort, "hides the source behind a pool", r.Of)
		case design.OwnAddress:
			if prefix.Has(p.Own, w.header.Dst) && !r.Dialled.IsValid() && !r.Near {
				continue // toward its own ranges nothing is hidden
			}
			own := w.tables.OwnAddress(p, hop, tunnels, w.header.Dst)
			if w.policyBased(r.Toward) {
				own = w.tables.OwnToward(p, r.Toward, w.header.Dst)
			}
			if !own.IsValid() {
				continue // the interface has none of the family to give
			}
			w.rewriteSource(at, own.Addr, w.header.SPort, "hides the source behind its own address", r.Of)
		}
		break
	}
	c.reply = w.header.reversed()
	w.known[p.ID] = append(w.known[p.ID], c)
}

// hidesCrossing hides the source of what a crossing lets pass one way behind the box's own address in the other
// segment. It goes before all rules of the box.
func (w *walker) hidesCrossing(p *route.Point, at Place, hop route.Hop, tunnels []design.ID, crossing design.ID) bool {
	if crossing == "" {
		return false
	}
	w.looks()
	own := w.tables.OwnAddress(p, hop, tunnels, w.header.Dst)
	if !own.IsValid() {
		return false
	}
	w.rewriteSource(at, own.Addr, w.header.SPort, "hides the source behind its own address", crossing)
	return true
}

// awaited is the box in a place that has hidden the other way of a packet behind its
// own address there, or has sent that itself from it, which the design need not say;
// empty if none has.
func (w *walker) awaited(place design.ID) design.ID {
	if w.toBegun(w.begun) && w.design.StandsIn(w.design.Get(w.begun), w.design.Get(place)) {
		return w.begun
	}
	hidden := func(c conversation) bool { return c.reply == w.header && c.reply.Dst != c.first.Src }
	for _, e := range topology.Standing(w.design, w.design.Get(place)) {
		if slices.ContainsFunc(w.known[e.To], hidden) {
			return e.To
		}
	}
	return ""
}

// toBegun reports whether a packet is the answer to what a box has sent itself, under the address from which it has.
func (w *walker) toBegun(box design.ID) bool {
	return w.way == "reply" && box != "" && box == w.begun && w.header.Dst == w.begunFrom
}

// answersOwn reports whether a packet is the answer on a connection that a box has
// opened itself.
func (w *walker) answersOwn(box design.ID) bool {
	return slices.ContainsFunc(w.known[box], func(c conversation) bool { return c.proxied && c.reply == w.header })
}

// remembered are the connection tables of all boxes, in the order in which the packet
// came by.
func (w *walker) remembered() []Remembered {
	out := []Remembered{}
	told := map[design.ID]bool{}
	for _, s := range w.stages {
		if told[s.At.ID] {
			continue
		}
		told[s.At.ID] = true
		for _, c := range w.known[s.At.ID] {
			if c.reply != c.first.reversed() { // what it leaves as it is, is nothing to tell of
				out = append(out, Remembered{s.At, c.first, c.reply, c.proxied})
			}
		}
		for reply, c := range w.fabric {
			if c.listener == s.At.ID {
				out = append(out, Remembered{s.At, c.first, reply, true})
			}
		}
	}
	return out
}

// carries takes the range for which one side stands over to where a rule maps it.
func (w *walker) carries(source bool, r route.Translation) {
	switch c := w.collect; {
	case c == nil:
	case r.Does == design.FromPool:
		c.from = r.Into
	case source:
		c.carries(&c.from, r.Real, r.Into)
	default:
		c.carries(&c.to, r.Into, r.Real)
	}
}

// stoodFor puts the ranges back for which the sides of a first packet stood.
func (w *walker) stoodFor(from, to *netip.Prefix) {
	if w.collect == nil {
		return
	}
	if from != nil && from.IsValid() {
		w.collect.from = *from
	}
	if to != nil && to.IsValid() {
		w.collect.to = *to
	}
}

func (w *walker) rewrite(at Place, act Act, to netip.Addr, port uint16, what string, of design.ID) {
	if old := w.header; old.Dst != to || old.DPort != port {
		w.header.Dst, w.header.DPort = to, port
		if w.collect != nil {
			becomes(&w.collect.to, to)
		}
		w.stage(
			at, act, nil, "%s %s: %s becomes %s", at.Title, what, endWords(old.Dst, changed(old.DPort, port)),
			endWords(to, changed(port, old.DPort)),
		)
		w.by(of, Prerouting)
	}
}

func (w *walker) rewriteSource(at Place, to netip.Addr, port uint16, what string, of design.ID) {
	if old := w.header; old.Src != to || old.SPort != port {
		w.header.Src, w.header.SPort = to, port
		if w.collect != nil {
			becomes(&w.collect.from, to)
		}
		if w.asks != nil {
			w.asks.views = nil
		}
		w.stage(
			at, MapsSource, nil, "%s %s: %s becomes %s", at.Title, what, endWords(old.Src, changed(old.SPort, port)),
			endWords(to, changed(port, old.SPort)),
		)
		w.by(of, Postrouting)
	}
}

// by notes what has translated in the last stage, and where in the box.
func (w *walker) by(of design.ID, hook Hook) {
	if !w.silent() {
		s := &w.stages[len(w.stages)-1]
		s.Rule, s.Hook = of, hook
	}
}

// changed is a port to be told of, 0 if it stays the same.
func changed(port, other uint16) uint16 {
	if port == other {
		return 0
	}
	return port
}

// fits holds the packet against a rule's conditions. mapped is what a one-to-one
// rule must hold the destination in when it arrives, the source when it leaves.
func (w *walker) fits(r route.Translation, mapped netip.Prefix) bool {
	a := w.header.Dst
	if r.Hook == design.Postrouting {
		a = w.header.Src
	}
	v4 := w.header.Src.Is4()
	switch {
	case r.Does == design.OneToOne && (!mapped.Contains(a) || !r.Mapped(a, r.Hook == design.Prerouting).IsValid()):
		return false
	case r.Does == design.FromPool && r.Into.Addr().Is4() != v4, r.Does == design.ToTarget && r.Target.Is4() != v4:
		return false
	case len(r.Source) > 0 && !w.comesFrom(r.Source), len(r.Destination) > 0 &&
		!prefix.Has(r.Destination, w.header.Dst):
		return false
	}
	for _, s := range r.Services {
		w.asked(s)
	}
	return len(r.Services) == 0 || w.asks != nil && r.Does == design.OneToOne ||
		slices.Contains(r.Services, design.Service{Proto: w.header.Proto, Port: w.header.DPort})
}

// asked notes that somebody has told packets apart by a service.
func (w *walker) asked(s design.Service) {
	if w.classes != nil {
		p := w.packet()
		w.narrowed(p, func(c *filter.Classes) { c.Service(design.TrafficOf(s), false, p) })
	}
}

// comesBy tells whether the packet came in by a joint: by the interface of one
// that routes decide on; from the far ranges of a policy-based link, which has no
// interface of its own. Who asks where an address leads has come by the link that it crossed,
// whether its selectors are right or not.
func (w *walker) comesBy(p *route.Point, joint, by design.ID) bool {
	if joint == "" {
		return true
	}
	if !w.policyBased(joint) {
		return by == joint
	}
	fits := !prefix.Has(p.Own, w.header.Src) && slices.ContainsFunc(p.Selectors, func(s route.Selector) bool {
		return s.Link == joint && w.comesFrom([]netip.Prefix{s.Remote})
	})
	return fits || by == joint && w.bends()
}

// goesBy is comesBy for the way out.
func (w *walker) goesBy(p *route.Point, joint design.ID, hop route.Hop) bool {
	if joint == "" {
		return true
	}
	if w.policyBased(joint) {
		return !prefix.Has(p.Own, w.header.Dst) && slices.ContainsFunc(
			p.Selectors, func(s route.Selector) bool { return s.Link == joint && s.Remote.Contains(w.header.Dst) },
		)
	}
	return hop.Leaves() && hop.To == joint
}

func (w *walker) policyBased(joint design.ID) bool {
	return topology.Selects(w.design.Get(joint))
}
