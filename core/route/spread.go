package route

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/bgp"
	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/settings"
	"dravin/core/topology"
	"dravin/core/words"
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

// Stops are the stops with what they mean.
var Stops = []words.Coded[StopCode]{
	{Code: StopOutFilter, Title: "filter going out", Doc: "the announcing end's filter refuses it"},
	{Code: StopInFilter, Title: "filter coming in", Doc: "the taking end's filter refuses it"},
	{Code: StopOwnOnly, Title: "announces its own only", Doc: "without a filter only the speaker's own ranges are " +
		"announced"},
	{Code: StopLoop, Title: "loop check", Doc: "the taker's own ASN stands in the path"},
	{Code: StopInternal, Title: "internal split horizon", Doc: "learned inside the autonomous system, and not " +
		"advertised inside it again"},
	{Code: StopCommunity, Title: "community", Doc: "a community forbids it"},
	{Code: StopReflected, Title: "reflected before", Doc: "the taker reflected it already"},
	{Code: StopSummary, Title: "a summary instead", Doc: "a summary is announced instead"},
	{Code: StopFamily, Title: "address family", Doc: "the session does not carry its family"},
	{Code: StopLimit, Title: "limit", Doc: "the session dropped: too many routes"},
	{Code: StopElsewhere, Title: "another joint", Doc: "a mapped range is announced only where it is mapped"},
	{Code: StopDown, Title: "down", Doc: "what would carry it is down"},
	{Code: StopHop, Title: "next hop not usable", Doc: "its next hop can not be used"},
	{
		Code: StopTransitive, Title: "no transit over a peering",
		Doc: "a peering carries the two networks' own ranges only",
	},
	{Code: StopUnfed, Title: "not fed", Doc: "the attachment does not feed that table"},
	{Code: StopEntry, Title: "no entry", Doc: "the table has no entry for it"},
	{Code: StopSegment, Title: "another segment", Doc: "it is in another segment"},
	{Code: StopBetter, Title: "a better route there", Doc: "the table has a better one"},
}

// StopCodes are all stops.
var StopCodes = words.CodesOf(Stops)

var stopped = map[bgp.Stop]struct {
	code  StopCode
	words string
}{
	bgp.Unannounced: {
		StopOwnOnly,
		"%[1]s has no filter toward it, so it announces its own ranges and nothing that it learned",
	},
	bgp.OutFilter: {StopOutFilter, "what %[1]s announces refuses it"},
	bgp.InFilter:  {StopInFilter, "what %[2]s takes refuses it"},
	bgp.LoopCheck: {StopLoop, "the ASN of %[2]s stands in its path, so %[2]s discards it"},
	bgp.SplitHorizon: {
		StopInternal,
		"%[1]s learned it inside the autonomous system, and does not tell it inside again",
	},
	bgp.NoExport:      {StopCommunity, "a community on it forbids %[1]s to tell it"},
	bgp.ReflectedLoop: {StopReflected, "%[2]s has reflected it before"},
	bgp.HiddenPart:    {StopSummary, "%[1]s announces a summary instead"},
	bgp.OtherFamily:   {StopFamily, "the session between %[1]s and %[2]s does not carry its family"},
	bgp.OverLimit:     {StopLimit, "the session dropped, for more routes than an end takes"},
	bgp.ElsewhereOnly: {StopElsewhere, "%[1]s maps it toward another joint and announces it there only"},
}

// Has is a table that has a route for a range.
type Has struct {
	At      design.ID `json:"at"`
	Segment design.ID `json:"segment,omitempty"`
	Title   string    `json:"title"`
	Party   design.ID `json:"party"`
	Route   Route     `json:"route"`
	// From is the table that it came from; empty where it was originated.
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

// Known is a range that tables have.
type Known struct {
	Prefix netip.Prefix `json:"prefix"`
	Tables int          `json:"tables"` // how many have it
	Of     string       `json:"of"`     // who holds it; empty if nobody does
}

// Known lists ranges that tables use, the first so many: those that begin with a
// text, hold it as an address, or are held by what is called so.
func (t *Tables) Known(text string, most int) []Known {
	text = strings.ToLower(strings.TrimSpace(text))
	address, _ := netip.ParseAddr(text)
	count := map[netip.Prefix]int{}
	for _, p := range t.Points() {
		for q, r := range p.used() {
			if r.Source != Implied {
				count[q]++
			}
		}
	}
	of := map[netip.Prefix]string{}
	for _, k := range append([]design.Kind{design.KindNetwork}, design.HostPlaces...) {
		for _, o := range t.Design.Of(k) {
			for _, p := range design.RangesOf(o) {
				of[p] = t.Design.Title(o.ID)
			}
		}
	}
	out := []Known{}
	for p, n := range count {
		if strings.HasPrefix(p.String(), text) || address.IsValid() && p.Contains(address) ||
			strings.Contains(strings.ToLower(of[p]), text) {
			out = append(out, Known{p, n, of[p]})
		}
	}
	slices.SortFunc(out, func(a, b Known) int { return prefix.Compare(a.Prefix, b.Prefix) })
	return out[:min(len(out), most)]
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
					out.Has = append(
						out.Has, Has{point.ID, point.Segment, point.Title, point.Party.ID, r, t.cameFrom(k, r)},
					)
				}
				with[k] = true
			} else if r.Expected == "" {
				h := Halt{
					From: r.Hop.To, To: point.ID, Code: StopHop,
					Why: fmt.Sprintf("%s has it and does not use it: %s", point.Title, r.Unusable),
				}
				if r.Down != nil {
					h.Code = StopDown
				}
				out.Halts = append(out.Halts, h)
			}
		}
	}
	for _, h := range slices.Concat(t.untold(p), t.unfed(p, with)) {
		if !slices.Contains(out.Halts, h) { // each tunnel of a link has a session of its own
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
		return topology.BoundTable(t.Design, t.Design.Get(r.Hop.To))
	case Peer, Deliver:
		if r.Source != Local && r.Source != Connected && r.Source != Inner {
			return t.FarEnd(t.PointIn(k.At, k.Segment), r.Hop)
		}
	}
	return ""
}

// untold is where sessions keep a range from going on.
func (t *Tables) untold(p netip.Prefix) []Halt {
	var out []Halt
	for _, x := range t.Trace(p).Tells {
		if x.Stop == bgp.Passed || x.Stop == bgp.Nothing || x.Stop == bgp.NotUp || x.Stop == bgp.BackToSender ||
			x.Sent.Own() && x.Sent.Quiet && x.Stop == bgp.Unannounced {
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
	w := stopped[stop]
	h := Halt{
		From: t.tableOf(near.Speaker).At, To: t.tableOf(far.Speaker).At, Joint: design.ID(near.Group), Code: w.code,
		Why: strings.NewReplacer("%[1]s", t.TitleOf(near.Speaker), "%[2]s", t.TitleOf(far.Speaker)).Replace(w.words),
	}
	if o := t.Design.Get(design.ID(s.Key)); o != nil && o.Kind == design.KindSession &&
		(stop == bgp.OutFilter || stop == bgp.InFilter) {
		e := settings.SessionOf(t.Design, o).Ends
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
		v := t.Status.Of(o.ID)
		if v.Up || v.Line == "bgp-max" {
			continue
		}
		for n := range 2 {
			near, far := settings.Speaker(t.Design, o, n), settings.Speaker(t.Design, o, 1-n)
			if near == nil || far == nil {
				continue
			}
			if _, has := t.network.learn().Best(string(near.ID), p); !has {
				continue
			}
			if _, has := t.network.learn().Best(string(far.ID), p); !has {
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
	for a, body := range design.Each[design.Attachment](d.Of(design.KindAttachment)) {
		if d.Get(body.What).Kind != design.KindNetwork || !slices.Contains(d.AttachmentExports(a), p) {
			continue
		}
		for _, table := range d.Inside(a.Parent, design.KindHubTable) {
			if !with[Key{table.ID, ""}] && t.Status.Of(a.ID).Up {
				h := Halt{
					From: body.What, To: table.ID, Joint: a.ID, Code: StopUnfed,
					Why: fmt.Sprintf("the attachment %s does not feed %s", a.Name, d.Title(table.ID)),
				}
				if slices.Contains(body.Feeds, table.ID) {
					h.Code, h.Why = StopSegment,
						fmt.Sprintf("%s is in another segment than %s", d.Title(table.ID), a.Name)
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
			out = append(
				out,
				Halt{
					From: point.ID, To: point.ID, Code: StopSegment,
					Why: fmt.Sprintf("%s has it in another segment than %s", d.Title(point.ID), d.Title(point.Segment)),
				},
			)
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
		if table := topology.BoundTable(d, a); table != "" && with[Key{table, ""}] && t.Status.Of(a.ID).Up {
			from = table
		}
	}
	own := slices.Contains(d.Ranges(network.ID), p)
	if from != "" && !own {
		for _, table := range d.Inside(network.ID, design.KindTable) {
			if !with[Key{table.ID, ""}] && t.Point(table.ID).covers(p) == nil {
				out = append(
					out,
					Halt{
						From: from, To: table.ID, Code: StopEntry,
						Why: fmt.Sprintf("%s has no entry for it, and nothing feeds it there", d.Title(table.ID)),
					},
				)
			}
		}
	}
	known := slices.ContainsFunc(
		d.Inside(network.ID, design.KindTable), func(x *design.Object) bool { return with[Key{x.ID, ""}] },
	)
	for _, o := range d.Referring(network.ID, design.KindPeering) {
		mine, far, ok := topology.Halves(o, network.ID)
		if !ok || own || !known || mine.LendsGateway && far.UsesGateway || !t.Status.Of(o.ID).Up {
			continue
		}
		if !slices.ContainsFunc(
			d.Inside(far.Network, design.KindTable),
			func(x *design.Object) bool { return with[Key{x.ID, ""}] },
		) &&
			!slices.Contains(d.Ranges(far.Network), p) {
			out = append(
				out,
				Halt{
					From: network.ID, To: far.Network, Joint: o.ID, Code: StopTransitive,
					Why: fmt.Sprintf(
						"a peering carries the two networks' own ranges, and %s is not of %s", p, network.Name,
					),
				},
			)
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
