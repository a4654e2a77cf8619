package route

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/bgp"
	"dravin/core/design"
	"dravin/core/ends"
	"dravin/core/prefix"
)

// StopCode names what keeps a route from going further.
type StopCode string

// The stops.
const (
	StopOutFilter  StopCode = "out-filter"         // the announcing end's filter refuses it
	StopInFilter   StopCode = "in-filter"          // the taking end's filter refuses it
	StopOwnOnly    StopCode = "own-only"           // without a filter only the speaker's own ranges are announced
	StopLoop       StopCode = "loop-check"         // the taker's own ASN stands in the path
	StopInternal   StopCode = "split-horizon"      // learned inside the autonomous system, and not told inside it again
	StopCommunity  StopCode = "community"          // a community forbids it
	StopReflected  StopCode = "reflected-loop"     // the taker reflected it already
	StopSummary    StopCode = "summary"            // a summary is announced instead
	StopFamily     StopCode = "family"             // the session does not carry its family
	StopLimit      StopCode = "limit"              // the session dropped: too many routes
	StopElsewhere  StopCode = "another-joint"      // a mapped range is announced only where it is mapped
	StopDown       StopCode = "down"               // what would carry it is down
	StopHop        StopCode = "next-hop"           // its next hop can not be used
	StopTransitive StopCode = "not-transitive"     // a peering carries the two networks' own ranges only
	StopUnfed      StopCode = "not-fed"            // the attachment does not feed that table
	StopEntry      StopCode = "no-entry"           // the table has no entry for it
	StopSegment    StopCode = "other-segment"      // it is in another segment
	StopBetter     StopCode = "better-route-there" // the table has a better one
)

// StopCodes are all stops.
var StopCodes = []StopCode{StopOutFilter, StopInFilter, StopOwnOnly, StopLoop, StopInternal, StopCommunity, StopReflected, StopSummary, StopFamily, StopLimit, StopElsewhere, StopDown, StopHop, StopTransitive, StopUnfed, StopEntry, StopSegment, StopBetter}

var told = map[bgp.Stop]struct {
	code  StopCode
	words string
}{
	bgp.Unannounced:   {StopOwnOnly, "%[1]s has no filter toward it, so it announces its own ranges and nothing that it learned"},
	bgp.OutFilter:     {StopOutFilter, "what %[1]s announces refuses it"},
	bgp.InFilter:      {StopInFilter, "what %[2]s takes refuses it"},
	bgp.LoopCheck:     {StopLoop, "the ASN of %[2]s stands in its path, so %[2]s discards it"},
	bgp.SplitHorizon:  {StopInternal, "%[1]s learned it inside the autonomous system, and does not tell it inside again"},
	bgp.NoExport:      {StopCommunity, "a community on it forbids %[1]s to tell it"},
	bgp.ReflectedLoop: {StopReflected, "%[2]s has reflected it before"},
	bgp.HiddenPart:    {StopSummary, "%[1]s announces a summary instead"},
	bgp.OtherFamily:   {StopFamily, "the session between %[1]s and %[2]s does not carry its family"},
	bgp.OverLimit:     {StopLimit, "the session dropped, for more routes than an end takes"},
	bgp.ElsewhereOnly: {StopElsewhere, "%[1]s maps it toward another joint and announces it there only"},
}

// WayStep is one table on the way of a route, from where it was born.
type WayStep struct {
	Table Key       `json:"-"`
	At    design.ID `json:"at"`
	Title string    `json:"title"`
	// By is the link, circuit or attachment that it came by; empty where it was born.
	By    design.ID `json:"by,omitempty"`
	ByWho string    `json:"by_name,omitempty"`
	Path  []uint32  `json:"path"`
	Says  string    `json:"says"`
}

// Rival is a route that a table does not use, and the rule that beat it.
type Rival struct {
	Prefix netip.Prefix `json:"prefix"`
	Source Source       `json:"source"`
	Via    string       `json:"via"`
	Path   []uint32     `json:"path"`
	Rule   string       `json:"rule"`
}

// Explanation tells of one table why it sends an address or range where it does.
type Explanation struct {
	Title  string       `json:"title"`
	Asked  netip.Prefix `json:"asked"`
	Winner *Route       `json:"winner,omitempty"` // nil: no usable route
	Shares []Route      `json:"shares"`
	Way    []WayStep    `json:"way"`
	Rivals []Rival      `json:"rivals"`
}

// Explain tells why a table sends what is asked for where it does. Of a range
// its first address is asked.
func (t *Tables) Explain(k Key, asked netip.Prefix) Explanation {
	p := t.PointIn(k.At, k.Segment)
	c := p.Lookup(asked.Addr())
	if asked.Bits() < asked.Addr().BitLen() {
		c = p.exact(asked, c)
	}
	out := Explanation{Title: p.Title, Asked: asked, Winner: c.Winner, Shares: c.Branches, Way: []WayStep{}, Rivals: []Rival{}}
	if out.Shares == nil {
		out.Shares = []Route{}
	}
	if c.Winner != nil {
		out.Way = t.wayOf(k, c.Winner)
	}
	for _, l := range c.Losers {
		if strings.HasPrefix(l.Unusable, SecondBest) {
			continue // it is told of below, with its path
		}
		out.Rivals = append(out.Rivals, Rival{l.Prefix, l.Source, l.Via, pathOf(l.Learned), p.beat(c.Winner, l)})
	}
	if c.Winner != nil && c.Winner.Learned != nil {
		out.Rivals = append(out.Rivals, t.unlucky(k, c.Winner)...)
	}
	return out
}

// exact is a choice of what a table has for just that range, or what covers it.
func (p *Point) exact(asked netip.Prefix, c Choice) Choice {
	out := Choice{Losers: []Route{}}
	for _, r := range p.Routes {
		switch {
		case !prefix.Contains(r.Prefix, asked):
		case r.Unusable == "" && (out.Winner == nil || r.Prefix.Bits() > out.Winner.Prefix.Bits()):
			if out.Winner != nil {
				out.Losers = append(out.Losers, *out.Winner)
			}
			out.Winner = &r
		case out.Winner != nil && r.sharesWith(out.Winner):
			out.Branches = append(out.Branches, r)
		default:
			out.Losers = append(out.Losers, r)
		}
	}
	return out
}

func pathOf(l *Learned) []uint32 {
	if l == nil {
		return []uint32{}
	}
	return l.Path
}

// beat is the rule by which the winner goes before another route of a table.
func (p *Point) beat(w *Route, l Route) string {
	switch {
	case l.Unusable != "":
		return l.Unusable
	case w == nil:
		return ""
	case w.Prefix.Bits() > l.Prefix.Bits():
		return fmt.Sprintf("%s is longer", w.Prefix)
	case w.Source != l.Source:
		return fmt.Sprintf("%s goes before %s here", w.Source, l.Source)
	}
	return "it comes first in the design; nothing else tells them apart"
}

// unlucky are the routes that were learned for the winner's range and did not
// become the best.
func (t *Tables) unlucky(k Key, w *Route) []Rival {
	var out []Rival
	at := k
	if w.Hop.Kind == Gateway { // fed by it
		at = Key{w.Hop.To, ""}
	}
	for _, h := range t.Trace(w.Prefix).Held {
		if h.Speaker != at.String() {
			continue
		}
		for _, r := range h.Rivals {
			via, source := t.Design.Title(t.tableOf(r.Route.At).At), w.Source
			if r.Route.Session != nil {
				group := t.Design.Get(design.ID(r.Route.Session.Ends[r.Route.End].Group))
				via, source = group.Name, sourceOf(group)
			}
			path := r.Route.Path
			if path == nil {
				path = []uint32{}
			}
			rival := Rival{w.Prefix, source, via, path, r.By.String()}
			if !slices.ContainsFunc(out, func(x Rival) bool { return x.Via == via && x.Rule == rival.Rule && slices.Equal(x.Path, path) }) { // each strand has a session
				out = append(out, rival)
			}
		}
	}
	return out
}

// sourceOf is the source of what a joint's sessions bring.
func sourceOf(joint *design.Object) Source {
	switch joint.Kind {
	case design.KindCircuit:
		return CircuitBGP
	case design.KindLink:
		return VPNBGP
	}
	return Hub
}

// tableOf is the table of a speaker.
func (t *Tables) tableOf(speaker string) Key {
	at, segment, _ := strings.Cut(speaker, "\x00")
	return Key{design.ID(at), design.ID(segment)}
}

// Trace is what became of a range at every speaker. It follows from all of them.
func (t *Tables) Trace(p netip.Prefix) bgp.Trace {
	t.Design.NoteLearned(everywhere)
	return t.world.learn().Trace(p)
}

// Troubles are the ranges that have no lasting outcome or several.
func (t *Tables) Troubles() []bgp.Trouble {
	t.Design.NoteLearned(everywhere)
	return t.world.learn().Troubles()
}

// Result is what all speakers have learned.
func (t *Tables) Result() *bgp.Result {
	t.Design.NoteLearned(everywhere)
	return t.world.learn()
}

// TitleOf is how the table of a speaker is called.
func (t *Tables) TitleOf(speaker string) string {
	k := t.tableOf(speaker)
	if k.Segment != "" {
		return t.Design.Title(k.At) + ", " + t.Design.Title(k.Segment)
	}
	return t.Design.Title(k.At)
}

// BoxOf is the object that a speaker's table belongs to.
func (t *Tables) BoxOf(speaker string) design.ID { return t.tableOf(speaker).At }

// Way is the way of a table's route through the estate, from where it was born.
func (t *Tables) Way(k Key, r *Route) []WayStep { return t.wayOf(k, r) }

// wayOf is the way of a route through the estate, from where it was born.
func (t *Tables) wayOf(k Key, r *Route) []WayStep {
	d := t.Design
	last := WayStep{Table: k, At: k.At, Title: t.TitleOf(k.String()), By: r.Hop.To, ByWho: r.Via, Path: pathOf(r.Learned), Says: string(r.Source)}
	if r.Learned == nil {
		return []WayStep{last}
	}
	at := k
	if r.Hop.Kind == Gateway || r.Hop.Kind == Peer {
		at = Key{r.Hop.To, ""}
	}
	t.Design.NoteLearned(at.String())
	e, ok := t.world.learn().Best(at.String(), r.Prefix)
	if !ok {
		return []WayStep{last}
	}
	var out []WayStep
	if at != k {
		last.Says = "fed by " + d.Title(at.At)
		out = append(out, last)
	}
	for x := e.Routes[0]; x != nil; x = x.Parent {
		step := WayStep{Table: t.tableOf(x.At), Title: t.TitleOf(x.At), Path: x.Path, Says: "born here"}
		step.At = step.Table.At
		if x.Path == nil {
			step.Path = []uint32{}
		}
		if x.Summary {
			step.Says = "a summary, made here"
		}
		if x.Session != nil {
			group := design.ID(x.Session.Ends[x.End].Group)
			step.By, step.ByWho, step.Says = group, d.Title(group), changes(x)
		}
		out = append(out, step)
	}
	slices.Reverse(out)
	return out
}

// changes says what is other about a route than where it came from.
func changes(x *bgp.Route) string {
	out := []string{"learned"}
	p := x.Parent
	if p == nil {
		return out[0]
	}
	if n := len(x.Path) - len(p.Path); !x.Internal && n > 1 {
		out = append(out, fmt.Sprintf("prepended %d times", n-1))
	}
	if x.LocalPref != 100 && x.LocalPref != p.LocalPref {
		out = append(out, fmt.Sprintf("local preference %d", x.LocalPref))
	}
	if x.MED != 0 && x.MED != p.MED {
		out = append(out, fmt.Sprintf("MED %d", x.MED))
	}
	if !slices.Equal(x.Communities, p.Communities) {
		out = append(out, fmt.Sprintf("communities %v", x.Communities))
	}
	return strings.Join(out, ", ")
}

// Has is a table that has a route for a range.
type Has struct {
	At      design.ID `json:"at"`
	Segment design.ID `json:"segment,omitempty"`
	Title   string    `json:"title"`
	Party   design.ID `json:"party"`
	Route   Route     `json:"route"`
	// From is the table that it came from; empty where it was born.
	From design.ID `json:"from,omitempty"`
}

// Halt is where a route went no further.
type Halt struct {
	From  design.ID `json:"from"`
	To    design.ID `json:"to"`
	Joint design.ID `json:"joint,omitempty"`
	Code  StopCode  `json:"code"`
	Why   string    `json:"why"`
	Rule  string    `json:"rule,omitempty"` // of a filter, in words
}

// Spread is every table that has a range, and where it stopped.
type Spread struct {
	Prefix netip.Prefix `json:"prefix"`
	Has    []Has        `json:"has"`
	Halts  []Halt       `json:"halts"`
}

// Spread tells of a range which tables have it and where it stopped.
func (t *Tables) Spread(p netip.Prefix) Spread {
	out := Spread{Prefix: p, Has: []Has{}, Halts: []Halt{}}
	with := map[Key]bool{}
	for _, point := range t.Points() {
		k := Key{point.ID, point.Segment}
		for _, r := range point.Routes {
			if r.Prefix != p {
				continue
			}
			if r.Unusable == "" {
				if !with[k] {
					out.Has = append(out.Has, Has{point.ID, point.Segment, point.Title, point.Party.ID, r, t.cameFrom(k, r)})
				}
				with[k] = true
			} else if r.Unusable != NotLearned && !strings.HasPrefix(r.Unusable, SecondBest) {
				h := Halt{From: r.Hop.To, To: point.ID, Code: StopHop, Why: fmt.Sprintf("%s has it and does not use it: %s", point.Title, r.Unusable)}
				if r.Down != nil {
					h.Code = StopDown
				}
				out.Halts = append(out.Halts, h)
			}
		}
	}
	for _, h := range slices.Concat(t.untold(p), t.unfed(p, with)) {
		if !slices.Contains(out.Halts, h) { // each strand of a link has a session of its own
			out.Halts = append(out.Halts, h)
		}
	}
	return out
}

// cameFrom is the point next to a table that its route came from.
func (t *Tables) cameFrom(k Key, r Route) design.ID {
	way := t.wayOf(k, &r)
	if len(way) > 1 {
		return way[len(way)-2].At
	}
	switch r.Hop.Kind {
	case Gateway:
		return r.Hop.To
	case Attached:
		return HubTableOf(t.Design, t.Design.Get(r.Hop.To))
	case Peer, Deliver:
		if o := t.Design.Get(r.Hop.To); o != nil && r.Source != Local && r.Source != Connected && r.Source != Inner {
			return farOf(t.Design, k.At, o)
		}
	}
	return ""
}

// farOf is what a peering leads to, or the network that a hub delivers to.
func farOf(d *design.Design, at design.ID, o *design.Object) design.ID {
	if o.Kind != design.KindPeering {
		return o.ID
	}
	if _, far, ok := halvesOf(o, d.Party(at).ID); ok {
		return far.Network
	}
	return ""
}

// untold is where sessions keep a range from going on.
func (t *Tables) untold(p netip.Prefix) []Halt {
	var out []Halt
	for _, x := range t.Trace(p).Tells {
		if x.Stop == bgp.Passed || x.Stop == bgp.Nothing || x.Stop == bgp.NotUp || x.Stop == bgp.BackToSender || x.Sent.Own() && x.Sent.Quiet && x.Stop == bgp.Unannounced {
			continue
		}
		near, far := x.Session.Ends[x.End], x.Session.Ends[1-x.End]
		if far.Speaker == "" || wentThrough(x.Sent, far.Speaker) {
			continue // it comes from there
		}
		out = append(out, t.halt(x.Session, x.End, near, far, x.Stop, x.Rule))
	}
	return append(out, t.silent(p)...)
}

func (t *Tables) halt(s *bgp.Session, end int, near, far bgp.End, stop bgp.Stop, rule int) Halt {
	w := told[stop]
	h := Halt{From: t.tableOf(near.Speaker).At, To: t.tableOf(far.Speaker).At, Joint: design.ID(near.Group), Code: w.code, Why: strings.NewReplacer("%[1]s", t.TitleOf(near.Speaker), "%[2]s", t.TitleOf(far.Speaker)).Replace(w.words)}
	if o := t.Design.Get(design.ID(s.Key)); o != nil && o.Kind == design.KindSession && (stop == bgp.OutFilter || stop == bgp.InFilter) {
		e := o.Body.(*design.Session).Ends
		list := e[end].Out
		if stop == bgp.InFilter {
			list = e[1-end].In
		}
		h.Rule = RuleWords(list, rule)
	}
	return h
}

// wentThrough reports whether a route was at a speaker on its way.
func wentThrough(r *bgp.Route, speaker string) bool {
	for ; r != nil; r = r.Parent {
		if r.At == speaker {
			return true
		}
	}
	return false
}

// silent are the sessions that are down, at whose other end the range is known.
func (t *Tables) silent(p netip.Prefix) []Halt {
	var out []Halt
	for _, o := range t.Design.Of(design.KindSession) {
		v := t.Standing.Of(o.ID)
		if v.Up || v.Line == "bgp-max" {
			continue
		}
		for n := range 2 {
			near, far := ends.Speaker(t.Design, o, n), ends.Speaker(t.Design, o, 1-n)
			if near == nil || far == nil {
				continue
			}
			if _, has := t.world.learn().Best(string(near.ID), p); !has {
				continue
			}
			if _, has := t.world.learn().Best(string(far.ID), p); !has {
				out = append(out, Halt{From: near.ID, To: far.ID, Joint: o.Parent, Code: StopDown, Why: v.Why})
			}
		}
	}
	return out
}

// unfed is where a range stops that no session carries: at hub tables that an
// attachment does not feed, network tables that lack it, peerings, segments.
func (t *Tables) unfed(p netip.Prefix, with map[Key]bool) []Halt {
	var out []Halt
	d := t.Design
	for _, a := range d.Of(design.KindAttachment) {
		body := a.Body.(*design.Attachment)
		if d.Get(body.What).Kind != design.KindNetwork || !slices.Contains(d.AttachmentExports(a), p) {
			continue
		}
		for _, table := range d.Inside(a.Parent, design.KindHubTable) {
			if !with[Key{table.ID, ""}] && t.Standing.Of(a.ID).Up {
				h := Halt{From: body.What, To: table.ID, Joint: a.ID, Code: StopUnfed, Why: fmt.Sprintf("the attachment %s does not feed %s", a.Name, d.Title(table.ID))}
				if slices.Contains(body.Feeds, table.ID) {
					h.Code, h.Why = StopSegment, fmt.Sprintf("%s is in another segment than %s", d.Title(table.ID), a.Name)
				}
				out = append(out, h)
			}
		}
	}
	for _, n := range d.Of(design.KindNetwork) {
		out = append(out, t.unentered(p, n, with)...)
	}
	for _, point := range t.Points() {
		if point.Segment != "" && !with[Key{point.ID, point.Segment}] && with[Key{point.ID, ""}] {
			out = append(out, Halt{From: point.ID, To: point.ID, Code: StopSegment, Why: fmt.Sprintf("%s has it in another segment than %s", d.Title(point.ID), d.Title(point.Segment))})
		}
	}
	return out
}

// unentered is where a range stops inside a network: what its gateways or hubs
// know and a table of its lacks; and at its peerings, which pass nothing on.
func (t *Tables) unentered(p netip.Prefix, network *design.Object, with map[Key]bool) []Halt {
	var out []Halt
	d := t.Design
	var from design.ID
	for _, g := range d.Inside(network.ID, design.KindGateway) {
		if with[Key{g.ID, ""}] {
			from = g.ID
		}
	}
	for _, a := range d.Referring(network.ID, design.KindAttachment) {
		if table := HubTableOf(d, a); table != "" && with[Key{table, ""}] && t.Standing.Of(a.ID).Up {
			from = table
		}
	}
	own := slices.Contains(d.Ranges(network.ID), p)
	if from != "" && !own {
		for _, table := range d.Inside(network.ID, design.KindTable) {
			if !with[Key{table.ID, ""}] && t.Point(table.ID).covers(p) == nil {
				out = append(out, Halt{From: from, To: table.ID, Code: StopEntry, Why: fmt.Sprintf("%s has no entry for it, and nothing feeds it there", d.Title(table.ID))})
			}
		}
	}
	known := slices.ContainsFunc(d.Inside(network.ID, design.KindTable), func(x *design.Object) bool { return with[Key{x.ID, ""}] })
	for _, o := range d.Referring(network.ID, design.KindPeering) {
		mine, far, ok := halvesOf(o, network.ID)
		if !ok || own || !known || mine.LendsGateway && far.UsesGateway || !t.Standing.Of(o.ID).Up {
			continue
		}
		if !slices.ContainsFunc(d.Inside(far.Network, design.KindTable), func(x *design.Object) bool { return with[Key{x.ID, ""}] }) && !slices.Contains(d.Ranges(far.Network), p) {
			out = append(out, Halt{From: network.ID, To: far.Network, Joint: o.ID, Code: StopTransitive, Why: fmt.Sprintf("a peering carries the two networks' own ranges, and %s is not of %s", p, network.Name)})
		}
	}
	return out
}

// covers is the usable route of a table that holds all of a range, nil if none
// does; the way to the internet does not count.
func (p *Point) covers(q netip.Prefix) *Route {
	for n := range p.Routes {
		if r := &p.Routes[n]; r.Unusable == "" && r.Source != Implied && prefix.Contains(r.Prefix, q) {
			return r
		}
	}
	return nil
}

// Exchange is what one end of a session tells the other of one range.
type Exchange struct {
	Prefix netip.Prefix `json:"prefix"`
	Path   []uint32     `json:"path"` // as the taker has it; as the teller has it, if it does not get there
	// What the taker has of it; empty if it does not get there.
	LocalPref   uint32   `json:"local_pref,omitempty"`
	MED         uint32   `json:"med,omitempty"`
	Communities []string `json:"communities"`
	Learned     bool     `json:"learned"` // the teller learned it elsewhere
	Taken       bool     `json:"taken"`
	Best        bool     `json:"best"` // it is the taker's choice
	Code        StopCode `json:"code,omitempty"`
	Why         string   `json:"why,omitempty"`
	Rule        string   `json:"rule,omitempty"`
}

// Exchanged is what one end of a session tells the other, and what becomes of
// it. Of a session that is down nothing is told.
func (t *Tables) Exchanged(session design.ID, end int) []Exchange {
	out := []Exchange{}
	r := t.world.learn()
	if !t.Standing.Of(session).Up {
		return out
	}
	for _, key := range r.At(string(session)) {
		t.Design.NoteLearned(key)
	}
	for _, x := range r.Told(string(session), end) {
		if x.Stop == bgp.BackToSender || x.Sent.Own() && x.Sent.Quiet && x.Stop == bgp.Unannounced {
			continue
		}
		near, far := x.Session.Ends[x.End], x.Session.Ends[1-x.End]
		e := Exchange{Prefix: x.Prefix, Path: x.Sent.Path, Learned: !x.Sent.Own(), Taken: x.Got != nil, Communities: []string{}}
		if x.Got != nil {
			e.Path, e.LocalPref, e.MED = x.Got.Path, x.Got.LocalPref, x.Got.MED
			for _, c := range x.Got.Communities {
				e.Communities = append(e.Communities, c.String())
			}
			if best, ok := r.Best(far.Speaker, x.Prefix); ok {
				e.Best = slices.ContainsFunc(best.Routes, func(b *bgp.Route) bool { return b.Session == x.Session })
			}
			if !e.Best {
				e.Code, e.Why = StopBetter, t.TitleOf(far.Speaker)+" has a better route"
			}
		} else {
			h := t.halt(x.Session, x.End, near, far, x.Stop, x.Rule)
			e.Code, e.Why, e.Rule = h.Code, h.Why, h.Rule
		}
		if e.Path == nil {
			e.Path = []uint32{}
		}
		out = append(out, e)
	}
	return out
}

// RuleWords are a rule of a filter for people.
func RuleWords(list []design.Filter, n int) string {
	if n < 0 || n >= len(list) {
		return fmt.Sprintf("none of its %d rules matches, so it is refused", len(list))
	}
	return fmt.Sprintf("rule %d: %s", n+1, FilterWords(list[n]))
}

// FilterWords are what a rule matches and does.
func FilterWords(f design.Filter) string {
	var when, does []string
	add := func(list *[]string, ok bool, format string, args ...any) {
		if ok {
			*list = append(*list, fmt.Sprintf(format, args...))
		}
	}
	if f.Prefix.IsValid() {
		from, to := f.Lengths()
		add(&when, from == f.Prefix.Bits() && to == from, "%s", f.Prefix)
		add(&when, from != f.Prefix.Bits() || to != from, "%s with /%d to /%d", f.Prefix, from, to)
	}
	add(&when, len(f.Has) > 0, "with %s", strings.Join(f.Has, " or "))
	add(&when, f.Through > 0, "through %d", f.Through)
	add(&when, f.Neighbour > 0, "from the neighbour %d", f.Neighbour)
	add(&when, f.Born > 0, "born at %d", f.Born)
	add(&when, f.Longest > 0, "of at most %d ASNs", f.Longest)
	if len(when) == 0 {
		when = []string{"everything"}
	}
	add(&does, f.LocalPref > 0, "local preference %d", f.LocalPref)
	add(&does, f.MED > 0, "MED %d", f.MED)
	add(&does, f.Origin != "", "origin %s", f.Origin)
	add(&does, f.Prepend > 0, "prepend %d", f.Prepend)
	add(&does, len(f.Communities) > 0, "add %s", strings.Join(f.Communities, " "))
	add(&does, len(f.Take) > 0, "take away %s", strings.Join(f.Take, " "))
	does = append(does, map[string]string{design.Accept: "accept", design.Refuse: "refuse", design.GoOn: "go on"}[f.Does()])
	return strings.Join(when, ", ") + ": " + strings.Join(does, ", ")
}
