package walk

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/prefix"
	"dravin/core/route"
)

// A filter is asked where its packets come by: a host's own and those of its groups as it sends and receives, a
// subnet's where the packet leaves or enters it by a router, a network's where it leaves or enters the network, a
// box's between its route and what translates the source (or, where its platform does it so, before anything is
// translated), a hub's in its table. Beside each filter stands what it remembers, if it does: a Linux box has one
// connection table whether it translates or not, anything else remembers for each filter.

// Gate is a filter that a packet came to.
type Gate struct {
	Filter    design.ID `json:"filter"`
	At        Place     `json:"at"`        // whose hook it is: a host, a place, a box
	Direction string    `json:"direction"` // in, out or forwarded
	Way       string    `json:"way"`       // forward or reply
	Header    Header    `json:"header"`    // as the filter sees it
	// Remembered says that the filter let an answer through that it has seen begin.
	Remembered bool `json:"remembered,omitempty"`
	Allows     bool `json:"allows"`
	Rule       int  `json:"rule"` // from 0; -1: by default, or since it remembered
	// From and To are the ranges for which the header stands, where ranges are walked.
	From netip.Prefix `json:"-"`
	To   netip.Prefix `json:"-"`
}

// Decided is a filter's word on a packet, with the rules that were asked before.
type Decided struct {
	Filter    design.ID       `json:"filter"`
	Party     design.ID       `json:"party,omitempty"` // in whose terms it speaks
	Name      string          `json:"name"`
	Direction string          `json:"direction"`
	Rule      int             `json:"rule"` // from 0; -1: no rule was for it
	Text      string          `json:"text"` // the rule, or what happens without one
	Before    []filter.Missed `json:"before"`
}

// gatekeeper is what a filter remembers at a place: what it let through.
type gatekeeper struct{ filter, at design.ID }

// remembering are the headers that filters beside hosts and at hubs have let through.
type remembering map[gatekeeper][]Header

// hostFilters are the filters at a host, in the order in which a packet meets them as it comes: those of the
// groups together, then its own.
func (w *walker) hostFilters(h Host) (groups, own []*design.Object) {
	for _, g := range w.design.GroupsOf(h.Endpoint, h.Place) {
		groups = append(groups, w.design.FiltersAt(g.ID, false)...)
	}
	if h.Endpoint != "" {
		own = w.design.FiltersAt(h.Endpoint, false)
	}
	return groups, own
}

// sendsThrough asks the filters that a host's packet meets before its router: at the host, its subnet, its network.
func (w *walker) sendsThrough(h Host, at Place, onLink bool) (outcome, bool) {
	if w.asks != nil || w.header.Src == w.header.Dst { // to itself it goes by no interface
		return outcome{}, false
	}
	groups, own := w.hostFilters(h)
	if out, stopped := w.each(own, at, h.id(), design.Outgoing); stopped {
		return out, true
	}
	if out, stopped := w.together(groups, at, h.id(), design.Outgoing); stopped || onLink {
		return out, stopped
	}
	if out, stopped := w.atPlace(h.Place, design.Outgoing); stopped {
		return out, true
	}
	return w.atNetwork(h.Place, w.header.Dst, design.Outgoing)
}

// receivesThrough asks the filters that a packet meets after the last router.
func (w *walker) receivesThrough(h Host, at Place, onLink bool) (outcome, bool) {
	if w.asks != nil || onLink && w.header.Src == w.header.Dst {
		return outcome{}, false
	}
	if !onLink {
		if out, stopped := w.atNetwork(h.Place, w.header.Src, design.Incoming); stopped {
			return out, true
		}
		if out, stopped := w.atPlace(h.Place, design.Incoming); stopped {
			return out, true
		}
	}
	groups, own := w.hostFilters(h)
	if out, stopped := w.together(groups, at, h.id(), design.Incoming); stopped {
		return out, true
	}
	return w.each(own, at, h.id(), design.Incoming)
}

func (w *walker) atPlace(place design.ID, direction string) (outcome, bool) {
	return w.each(w.design.FiltersAt(place, false), w.placeOf(place), place, direction)
}

// atNetwork asks the filters of the network of a subnet, for packets whose other end lies outside.
func (w *walker) atNetwork(place design.ID, other netip.Addr, direction string) (outcome, bool) {
	network := w.design.Get(place).Parent
	list := w.design.FiltersAt(network, false)
	if len(list) == 0 {
		return outcome{}, false
	}
	if w.looks(); prefix.Has(w.design.Ranges(network), other) {
		return outcome{}, false
	}
	return w.each(list, w.placeOf(network), network, direction)
}

// each asks filters of which every one must let the packet pass.
func (w *walker) each(list []*design.Object, at Place, keeper design.ID, direction string) (outcome, bool) {
	for _, o := range list {
		if ok, stop := w.passes(o, at, keeper, direction); !ok {
			return stop(), true
		}
	}
	return outcome{}, false
}

// together asks the filters of a host's groups: of those that only allow one is enough, since they add up.
func (w *walker) together(list []*design.Object, at Place, keeper design.ID, direction string) (outcome, bool) {
	var stop func() outcome
	allowed := false
	for _, o := range list {
		ok, why := w.passes(o, at, keeper, direction)
		switch {
		case ok && w.tables.Filter(o.ID).Manner.OnlyAllow:
			allowed = true
		case !ok && w.tables.Filter(o.ID).Manner.OnlyAllow:
			stop = why
		case !ok:
			return why(), true
		}
	}
	if stop == nil || allowed {
		return outcome{}, false
	}
	return stop(), true
}

// passes asks a filter with a memory of its own.
func (w *walker) passes(o *design.Object, at Place, keeper design.ID, direction string) (bool, func() outcome) {
	k := gatekeeper{o.ID, keeper}
	known := slices.ContainsFunc(
		w.let[k], func(h Header) bool { return h == w.header || h.reversed() == w.header },
	)
	ok, stop := w.rules(o, at, keeper, direction, known)
	if ok && !known {
		w.let[k] = append(w.let[k], w.header)
	}
	return ok, stop
}

// rules asks a filter for its word. known says that what keeps its memory has seen the conversation before.
func (w *walker) rules(
	o *design.Object, at Place, keeper design.ID, direction string, known bool,
) (bool, func() outcome) {
	w.looks()
	f := w.tables.Filter(o.ID)
	g := Gate{Filter: o.ID, At: at, Direction: direction, Way: w.way, Header: w.header, Rule: filter.ByDefault}
	if w.collect != nil {
		g.From, g.To = w.collect.from, w.collect.to
	}
	met := meeting{gatekeeper{o.ID, keeper}, at, w.header}
	if w.way == "reply" {
		w.met = append(w.met, met)
	}
	if g.Remembered = known && !f.Manner.Stateless; g.Remembered {
		g.Allows = true
		w.gate(g)
		return true, nil
	}
	if w.way == "reply" && !f.Manner.Stateless && w.header.Proto != "udp" {
		w.gate(g)
		return w.open(), func() outcome { return w.unseen(f, at) }
	}
	p := w.packet()
	var r filter.Ruling
	w.narrowed(p, func(c *filter.Classes) { r = f.Decide(p, direction, c) })
	g.Allows, g.Rule = r.Allows, r.Rule
	w.gate(g)
	if !r.Allows {
		return w.open(), func() outcome { return w.refused(f, at, direction, r, p) }
	}
	if w.way == "forward" && !f.Manner.Stateless && w.header.Proto == "tcp" {
		w.met = append(w.met, met)
	}
	if !w.silent() {
		w.stage(at, Filters, nil, "%s lets it pass: %s", f.Name, w.ruleWords(f, direction, r))
		w.decided(f, direction, r, p)
	}
	return true, nil
}

// open reports whether filters stop nothing, since only what they would see is wanted.
func (w *walker) open() bool { return w.collect != nil }

func (w *walker) gate(g Gate) {
	if w.collect != nil {
		w.collect.gates = append(w.collect.gates, g)
	}
}

func (w *walker) unseen(f *filter.Filter, at Place) outcome {
	return w.halt(
		NotSeenBegin, at,
		fmt.Sprintf(
			"%s at %s has not seen this conversation begin: the request went another way, and it lets no answer "+
				"through "+
				"that it does not know", f.Name, at.Title,
		),
		"send both ways through it, or let it not remember and allow the answers",
	).about(f.ID, "")
}

// meeting is a filter that a packet met at a place, and the packet as it was there.
type meeting struct {
	gatekeeper
	at     Place
	header Header
}

// halfSeen stops a conversation of TCP of which a filter that remembers sees one way only: the answer goes another
// way, and what follows the request belongs, to that filter, to no conversation (its connection table has seen no
// answer, and takes it for invalid). A filter that the request meets twice, since a box behind it translates, has two
// conversations to see whole.
func (w *walker) halfSeen(there []meeting) (outcome, bool) {
	for _, m := range there {
		if !slices.ContainsFunc(w.met, func(x meeting) bool { return w.answers(x, m) }) {
			f := w.tables.Filter(m.filter)
			return w.halt(
				NotSeenBegin, m.at,
				fmt.Sprintf(
					"%s at %s sees the request and never its answer, which goes another way, and drops what "+
						"follows", f.Name,
					m.at.Title,
				),
				"send both ways through it, or let it not remember",
			).about(f.ID, ""), true
		}
	}
	return outcome{}, false
}

// answers reports whether a packet at a filter belongs to the conversation that another one there began.
func (w *walker) answers(back, there meeting) bool {
	switch {
	case back.gatekeeper != there.gatekeeper:
		return false
	case back.header == there.header.reversed():
		return true
	}
	return slices.ContainsFunc(w.known[there.at.ID], func(c conversation) bool {
		return c.first == there.header && c.reply == back.header // the filter is asked before the box translates
	})
}

func (w *walker) refused(f *filter.Filter, at Place, direction string, r filter.Ruling, p filter.Packet) outcome {
	if w.silent() {
		return w.halt(Filtered, at, "", "")
	}
	out := w.halt(
		Filtered, at,
		fmt.Sprintf(
			"%s at %s refuses %s from %s to %s: %s", f.Name, at.Title, serviceWords(p), p.Src, p.Dst,
			w.ruleWords(f, direction, r),
		),
		fmt.Sprintf("let %s from %s to %s pass at %s", serviceWords(p), p.Src, p.Dst, f.Name),
	).about(f.ID, "rules")
	out.stop.Decided = w.word(f, direction, r, p)
	return out
}

// decided notes the filter's word at the last stage.
func (w *walker) decided(f *filter.Filter, direction string, r filter.Ruling, p filter.Packet) {
	if !w.silent() {
		s := &w.stages[len(w.stages)-1]
		s.Rule, s.Decided = f.ID, w.word(f, direction, r, p)
	}
}

func (w *walker) word(f *filter.Filter, direction string, r filter.Ruling, p filter.Packet) *Decided {
	party := design.ID("")
	if p := w.design.FilterPlace(w.design.Get(f.ID).Body.(*design.PacketFilter)); p != nil {
		party = p.ID
	}
	return &Decided{
		Filter: f.ID, Party: party, Name: f.Name, Direction: direction, Rule: r.Rule, Text: w.ruleWords(
			f, direction, r,
		),
		Before: f.Before(p, direction, r.Rule),
	}
}

// ruleWords tell the rule that has decided.
func (w *walker) ruleWords(f *filter.Filter, direction string, r filter.Ruling) string {
	if r.Rule == filter.ByDefault {
		return fmt.Sprintf("no rule is for it, and its default is to %s", f.Default(direction))
	}
	b := w.design.Get(f.ID).Body.(*design.PacketFilter)
	return fmt.Sprintf("rule %d, %s", r.Rule+1, RuleWords(w.design, b.Rules[r.Rule]))
}

// RuleWords are a rule as a person reads it.
func RuleWords(d *design.Design, r design.FilterRule) string {
	side := func(ranges []netip.Prefix, of []design.ID) string {
		var out []string
		for _, p := range ranges {
			out = append(out, rangeWords(p))
		}
		for _, id := range of {
			out = append(out, d.Title(id))
		}
		if n := len(out); n > 3 {
			out = append(out[:2], fmt.Sprintf("%d more", n-2))
		}
		if len(out) == 0 {
			return "anywhere"
		}
		return strings.Join(out, ", ")
	}
	family := ""
	if r.Family != "" {
		family = "IPv" + r.Family[3:] + ", "
	}
	does := "allows"
	if r.Refuses() {
		does = "refuses"
	}
	return fmt.Sprintf(
		"%s %s%s from %s to %s", does, family, filter.Words(r.Services, r.Replies), side(r.From, r.FromOf),
		side(r.To, r.ToOf),
	)
}

func rangeWords(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}

func serviceWords(p filter.Packet) string {
	switch {
	case p.Message != "":
		return p.Proto + "/" + p.Message
	case p.DPort == 0:
		return p.Proto
	}
	return fmt.Sprintf("%s/%d", p.Proto, p.DPort)
}

// packet is the walker's as a filter sees it.
func (w *walker) packet() filter.Packet {
	p := filter.Packet{
		Src: w.header.Src, Dst: w.header.Dst, Proto: w.header.Proto, SPort: w.header.SPort, DPort: w.header.DPort,
	}
	if p.Proto == "icmp" {
		p.Message = design.EchoRequest
		if w.way == "reply" {
			p.Message = design.EchoReply
		}
	}
	return p
}

// Hooks of a point.

// filtersBefore asks filters of a box that see addresses before anything is translated.
func filtersBefore(w *walker, s *step) (outcome, bool) {
	if s.point.Kind != design.KindGateway || s.point.Party.Kind == design.KindSite {
		return outcome{}, false
	}
	_, known := w.peek(s.point)
	return w.atBox(s, known, true)
}

// subnetOfBox is the subnet in which a box of one's own stands in a cloud's network; by is what a packet comes by, or
// goes to, which decides where the box stands in several. It is nil of any other point.
func (w *walker) subnetOfBox(p *route.Point, by design.ID) *design.Object {
	if p.Kind != design.KindBox || p.Party.Kind != design.KindNetwork {
		return nil
	}
	var first *design.Object
	for _, s := range w.design.Inside(p.Party.ID, design.KindSubnet) {
		if !w.design.StandsIn(w.design.Get(p.ID), s) {
			continue
		}
		if s.ID == by {
			return s
		}
		if first == nil {
			first = s
		}
	}
	return first
}

// filtersAroundBox asks the filters of a subnet and its network of what comes to a box that stands there, whether it is
// for the box or is passed on by it: for the cloud a box is a host. What comes from beside it meets none.
func filtersAroundBox(w *walker, s *step) (outcome, bool) {
	subnet := w.subnetOfBox(s.point, s.by)
	if subnet == nil || w.asks != nil {
		return outcome{}, false
	}
	if len(w.design.FiltersAt(subnet.ID, false))+len(w.design.FiltersAt(s.point.Party.ID, false)) == 0 {
		return outcome{}, false
	}
	if w.looks(); prefix.Has(w.design.Ranges(subnet.ID), w.header.Src) {
		return outcome{}, false
	}
	if out, stopped := w.atNetwork(subnet.ID, w.header.Src, design.Incoming); stopped {
		return out, true
	}
	return w.atPlace(subnet.ID, design.Incoming)
}

// filtersPastBox is filtersAroundBox for what leaves the box.
func filtersPastBox(w *walker, s *step) (outcome, bool) {
	hop := s.choice.Winner.Hop
	subnet := w.subnetOfBox(s.point, hop.To)
	if subnet == nil || w.asks != nil || hop.Kind == route.BlackHole {
		return outcome{}, false
	}
	if len(w.design.FiltersAt(subnet.ID, false))+len(w.design.FiltersAt(s.point.Party.ID, false)) == 0 {
		return outcome{}, false
	}
	if w.looks(); prefix.Has(w.design.Ranges(subnet.ID), w.header.Dst) {
		return outcome{}, false
	}
	if out, stopped := w.atPlace(subnet.ID, design.Outgoing); stopped {
		return out, true
	}
	return w.atNetwork(subnet.ID, w.header.Dst, design.Outgoing)
}

// filtersForwarded asks those that see addresses as they go on, of what the box has a way for.
func filtersForwarded(w *walker, s *step) (outcome, bool) {
	named := w.hasSelectors(s.point) && slices.ContainsFunc(
		s.point.Selectors, func(x route.Selector) bool { return x.Remote.Contains(w.header.Dst) },
	)
	switch win := s.choice.Winner; {
	case win == nil && !named, win != nil && (win.Hop.Kind == route.BlackHole || win.Down != nil && !named):
		return outcome{}, false // it goes no further by itself
	}
	if win := s.choice.Winner; win != nil && win.Crossing != "" {
		if out, stopped := w.atCrossing(s, win.Crossing); stopped {
			return out, true
		}
	}
	return w.atBox(s, s.pass.known != nil, false)
}

// atCrossing asks the filters of a crossing.
func (w *walker) atCrossing(s *step, crossing design.ID) (outcome, bool) {
	if w.asks != nil {
		return outcome{}, false
	}
	keeper := crossing + design.ID("@") + s.point.Party.ID // at a hub whichever of its tables it is
	return w.forwardedThrough(w.design.FiltersAt(crossing, false), s, keeper, s.pass.known != nil)
}

// atBox asks the filters of a box, or of the hub or edge router of a table.
func (w *walker) atBox(s *step, known, before bool) (outcome, bool) {
	if w.asks != nil {
		return outcome{}, false
	}
	at := s.point.ID
	if s.point.Kind == design.KindHubTable {
		at = s.point.Party.ID
	}
	list := slices.DeleteFunc(
		w.design.FiltersAt(at, false),
		func(o *design.Object) bool { return w.tables.Filter(o.ID).Manner.Before != before },
	)
	return w.forwardedThrough(list, s, at, known)
}

// forwardedThrough asks filters of what a point forwards. A box has one memory for all of them; what has none, each
// its own.
func (w *walker) forwardedThrough(list []*design.Object, s *step, keeper design.ID, known bool) (outcome, bool) {
	for _, o := range list {
		pass, stop := false, (func() outcome)(nil)
		if remembers(s.point) {
			pass, stop = w.rules(o, s.at, s.point.ID, design.Forwarded, known)
		} else {
			pass, stop = w.passes(o, s.at, keeper, design.Forwarded)
		}
		if !pass {
			return stop(), true
		}
	}
	return outcome{}, false
}

// peek is the conversation that a packet belongs to at a box that remembers, with nothing done to it.
func (w *walker) peek(p *route.Point) (conversation, bool) {
	for _, c := range w.known[p.ID] {
		if !c.proxied && (w.header == c.reply || w.header == c.first) {
			return c, true
		}
	}
	return conversation{}, false
}

// filtersItself asks what may come to the box itself. What it listens on is let in by who may call, and what keeps
// its tunnels and sessions up is let in always.
func (w *walker) filtersItself(s *step) (outcome, bool) {
	if w.asks != nil || w.answersOwn(s.point.ID) {
		return outcome{}, false
	}
	for _, l := range w.design.ListenersAt(s.point.ID) {
		if l.Address == w.header.Dst && l.Service == (design.Service{Proto: w.header.Proto, Port: w.header.DPort}) {
			return outcome{}, false
		}
	}
	return w.eachItself(s, design.Incoming)
}

// filtersSent asks what the box may send itself.
func filtersSent(w *walker, s *step) (outcome, bool) {
	if w.asks != nil || s.choice.Winner == nil {
		return outcome{}, false
	}
	return w.eachItself(s, design.Outgoing)
}

func (w *walker) eachItself(s *step, direction string) (outcome, bool) {
	for _, o := range w.design.FiltersAt(s.point.ID, true) {
		known := s.pass.known != nil || direction == design.Outgoing && s.pass.stray
		if ok, stop := w.rules(o, s.at, s.point.ID, direction, known); !ok {
			return stop(), true
		}
	}
	return outcome{}, false
}
