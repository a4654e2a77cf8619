package sheet

import (
	"fmt"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/lifecycle"
	"dravin/core/negotiate"
)

// lines are those of each kind of joint but links, whose lines are those of their tunnels
// ([Lines]).
var lines = map[design.Kind]func(d *design.Design, o *design.Object) []Line{
	design.KindPeering: peeringLines, design.KindCircuit: circuitLines, design.KindAttachment: attachmentLines,
}

// LinesOf are the lines of whatever has any: a tunnel, as far as the core knows its keys, a session, or what
// joins otherwise.
func LinesOf(d *design.Design, o *design.Object) []Line {
	switch o.Kind {
	case design.KindTunnel:
		return Lines(d, o, [2]string{})
	case design.KindSession:
		return SessionLines(d, o)
	}
	return JoinLines(d, o)
}

// JoinLines are the lines of a peering, circuit or attachment.
func JoinLines(d *design.Design, o *design.Object) []Line {
	if of := lines[o.Kind]; of != nil {
		return of(d, o)
	}
	return []Line{}
}

func line(key, label, a, b string, ok bool, why string, fixes ...LineFix) Line {
	l := Line{Key: key, Label: label, Values: [2]string{a, b}, Verdict: Agrees, Why: why, Fixes: []LineFix{}}
	if !ok {
		l.Verdict, l.Fixes = Differs, append(l.Fixes, fixes...)
	}
	return l
}

func freeLine(key, label, a, b, why string) Line {
	return Line{Key: key, Label: label, Values: [2]string{a, b}, Verdict: Free, Why: why, Fixes: []LineFix{}}
}

func peeringLines(d *design.Design, o *design.Object) []Line {
	p := o.Body.(*design.Peering)
	x, y := p.Halves[0], p.Halves[1]
	out := []Line{halvesLine(d, o, p)}
	for n := range p.Halves {
		out = append(out, lentLine(d, o, p, n))
	}
	forwarded := freeLine(
		"forwarded", "Takes what the other passes on", yes(x.AcceptForwarded), yes(y.AcceptForwarded),
		"each half decides for itself",
	)
	if rule := d.ProfileOf(x.Network); rule != nil && rule.Peering != nil && rule.Peering.AcceptForwarded {
		for n, h := range p.Halves {
			forwarded.Fixes = append(
				forwarded.Fixes,
				option(
					n, d.Title(h.Network), "take what the other passes on", h.AcceptForwarded,
					withHalf(o, n, func(x *design.Half) { x.AcceptForwarded = !x.AcceptForwarded }),
				),
			)
		}
	}
	return append(out, forwarded)
}

// withHalf changes one half of a peering.
func withHalf(o *design.Object, n int, change func(*design.Half)) []design.Edit {
	return []design.Edit{design.PutEdit(design.Edited(o, func(b *design.Peering) { change(&b.Halves[n]) }))}
}

// halvesLine says which halves are made.
func halvesLine(d *design.Design, o *design.Object, p *design.Peering) Line {
	x, y := p.Halves[0], p.Halves[1]
	made := map[bool]string{true: "made", false: "not made"}
	var fixes []LineFix
	for n, h := range p.Halves {
		if !h.Made {
			fixes = append(
				fixes,
				LineFix{
					n, "The half of " + d.Title(h.Network) + " is made",
					lifecycle.Half(d, o, n),
				},
			)
		}
	}
	both := x.Made && y.Made
	why := ""
	if !both {
		why = "a peering exists only when both halves do"
	}
	l := line("half", "Half", made[x.Made], made[y.Made], both || !x.Made && !y.Made, why, fixes...)
	if !x.Made && !y.Made {
		l.Verdict, l.Fixes = Unknown, fixes
	}
	return l
}

// lentLine says whether the n-th half's gateway is lent, and whether the other
// uses it.
func lentLine(d *design.Design, o *design.Object, p *design.Peering, n int) Line {
	h, far := p.Halves[n], p.Halves[1-n]
	values := [2]string{does(h.LendsGateway, "lent"), does(far.UsesGateway, "used")}
	if n == 1 {
		values[0], values[1] = values[1], values[0]
	}
	l := line(
		fmt.Sprintf("gateway-%d", n+1),
		"Gateway of "+d.Title(h.Network),
		values[0],
		values[1],
		h.LendsGateway || !far.UsesGateway,
		"",
		LineFix{
			n, "Let " + d.Title(h.Network) + " lend it", withHalf(o, n, func(x *design.Half) { x.LendsGateway = true }),
		},
		LineFix{
			1 - n,
			"Let " + d.Title(far.Network) + " not use it",
			withHalf(o, 1-n, func(x *design.Half) { x.UsesGateway = false }),
		},
	)
	if rule := d.ProfileOf(h.Network); l.Verdict == Agrees && rule != nil && rule.Peering != nil &&
		rule.Peering.LendGateway {
		l.Fixes = append(
			l.Fixes,
			option(
				n,
				d.Title(h.Network),
				"lend its gateway",
				h.LendsGateway,
				withHalf(o, n, func(x *design.Half) { x.LendsGateway = !x.LendsGateway }),
			),
			option(
				1-n,
				d.Title(far.Network),
				"use it",
				far.UsesGateway,
				withHalf(o, 1-n, func(x *design.Half) { x.UsesGateway = !x.UsesGateway }),
			),
		)
	}
	return l
}

// option turns something on or off at one end.
func option(end int, who, what string, on bool, edits []design.Edit) LineFix {
	if on {
		return LineFix{end, "Let " + who + " no longer " + what, edits}
	}
	return LineFix{end, "Let " + who + " " + what, edits}
}

func does(b bool, what string) string {
	if b {
		return what
	}
	return "not " + what
}

func circuitLines(d *design.Design, o *design.Object) []Line {
	c := o.Body.(*design.Circuit)
	x, y := c.Ends[0], c.Ends[1]
	set := func(n int, change func(*design.CircuitEnd)) []design.Edit {
		edited := design.Edited(o, func(b *design.Circuit) {
			b.Ends = append([]design.CircuitEnd{}, c.Ends...)
			change(&b.Ends[n])
		})
		return []design.Edit{design.PutEdit(edited)}
	}
	pair := func(what func(design.CircuitEnd) string, take func(to *design.CircuitEnd, from design.CircuitEnd)) []LineFix {
		var out []LineFix
		for n := range c.Ends {
			far := c.Ends[1-n]
			out = append(
				out,
				LineFix{
					n, fmt.Sprintf("Set %s to %s", d.Title(c.Ends[n].At), what(far)),
					set(n, func(e *design.CircuitEnd) { take(e, far) }),
				},
			)
		}
		return out
	}
	speed := func(e design.CircuitEnd) string { return fmt.Sprintf("%d Mbit/s", e.Mbps) }
	tag := func(e design.CircuitEnd) string { return limitTag(e.VLAN) }
	zone := func(e design.CircuitEnd) string { return orWord(e.Zone, "none") }
	out := []Line{
		line(
			"speed", "Speed", speed(x), speed(y), x.Mbps == y.Mbps, "",
			pair(speed, func(to *design.CircuitEnd, from design.CircuitEnd) { to.Mbps = from.Mbps })...,
		),
		line(
			"vlan", "VLAN tag", tag(x), tag(y), x.VLAN == y.VLAN, "",
			pair(tag, func(to *design.CircuitEnd, from design.CircuitEnd) { to.VLAN = from.VLAN })...,
		),
		line(
			"zone", "Zone", zone(x), zone(y), x.Zone == y.Zone, "",
			pair(zone, func(to *design.CircuitEnd, from design.CircuitEnd) { to.Zone = from.Zone })...,
		),
	}
	if len(d.Inside(o.ID, design.KindSession)) == 0 {
		out = append(out, onCircuit(d, o, x, y))
	}
	code := "none yet"
	if c.Code != "" {
		code = c.Code
	}
	l := freeLine("code", "Order code", code, code, "for "+c.CodeZone+until(c.Expires))
	if c.CodeZone == "" {
		l.Why = until(c.Expires)
	} else if c.CodeZone != x.Zone || c.CodeZone != y.Zone {
		l.Verdict, l.Why = Differs, fmt.Sprintf("the code is for %s", c.CodeZone)
	}
	out = append(out, l)
	return append(out, sessionsOf(d, o.ID)...)
}

// onCircuit says which addresses the ends of a circuit have on it where no session says
// so: a route into it needs one to send to.
func onCircuit(d *design.Design, o *design.Object, x, y design.CircuitEnd) Line {
	word := func(e design.CircuitEnd) string {
		if e.Inside.IsValid() {
			return e.Inside.String()
		}
		return "none"
	}
	l := line("inside", "Inside address", word(x), word(y), x.Inside.IsValid() || len(x.Routes)+len(y.Routes) == 0, "",
		LineFix{0, "Give both ends addresses in a free range", draft.AddressCircuit(d, o)})
	if l.Verdict == Differs {
		l.Why = "routes are sent into it, and there is no address to send them to"
	}
	return l
}

func until(date string) string {
	if date == "" {
		return ""
	}
	return " until " + date
}

func limitTag(n uint16) string {
	if n == 0 {
		return "none"
	}
	return fmt.Sprint(n)
}

// tableChoices bind an attachment to another table of its hub, and let it feed
// more or fewer, where the cloud's hubs have several.
func tableChoices(d *design.Design, o *design.Object, a *design.Attachment) (bind, feed []LineFix) {
	bind, feed = []LineFix{}, []LineFix{}
	p := d.ProfileOf(o.Parent)
	if p == nil || p.Hub == nil || !p.Hub.ManyTables {
		return bind, feed
	}
	tables := d.Inside(o.Parent, design.KindHubTable)
	put := func(change func(*design.Attachment)) design.Edit {
		return design.PutEdit(design.Edited(o, change))
	}
	for _, t := range tables {
		if t.ID != a.Bound {
			bind = append(
				bind,
				LineFix{0, "Bind it to " + t.Name, []design.Edit{put(func(b *design.Attachment) { b.Bound = t.ID })}},
			)
		}
		if i := slices.Index(a.Feeds, t.ID); i >= 0 {
			feed = append(
				feed,
				LineFix{
					0, "No longer feed " + t.Name,
					[]design.Edit{
						put(func(b *design.Attachment) { b.Feeds = slices.Delete(slices.Clone(b.Feeds), i, i+1) }),
					},
				},
			)
		} else {
			feed = append(
				feed,
				LineFix{
					0, "Feed " + t.Name,
					[]design.Edit{put(func(b *design.Attachment) { b.Feeds = append(slices.Clone(b.Feeds), t.ID) })},
				},
			)
		}
	}
	table := draft.Beside(d, design.KindHubTable, o.Parent, fmt.Sprintf("table %d", len(tables)+1), &design.HubTable{})
	return append(
		bind,
		LineFix{
			0, "Bind it to a new table",
			[]design.Edit{design.PutEdit(table), put(func(b *design.Attachment) { b.Bound = table.ID })},
		},
	), feed
}

func attachmentLines(d *design.Design, o *design.Object) []Line {
	a := o.Body.(*design.Attachment)
	titles := func(ids []design.Ref) string {
		words := make([]string, len(ids))
		for n, id := range ids {
			words[n] = d.Get(id).Name
		}
		return orWord(strings.Join(words, ", "), "none")
	}
	bound := "the only table"
	if a.Bound != "" {
		bound = d.Get(a.Bound).Name
	}
	exports := d.AttachmentExports(o)
	boundLine := freeLine("bound", "Bound to", bound, "", "the hub table that decides for what comes in by it")
	feeds := freeLine(
		"feeds", "Feeds", titles(a.Feeds), negotiate.Joined(exports),
		"the hub tables that learn its ranges, and the ranges",
	)
	boundLine.Fixes, feeds.Fixes = tableChoices(d, o, a)
	return []Line{
		boundLine,
		feeds,
		freeLine("keep-out", "Kept out of export", "", orWord(negotiate.Joined(a.KeepOut), "nothing"), ""),
		freeLine(
			"subnets", "Subnets, one for each zone", "", titles(a.Subnets),
			"hosts in other zones are cut off where the cloud wants subnets",
		),
	}
}

func orWord(text, word string) string {
	if text == "" {
		return word
	}
	return text
}
