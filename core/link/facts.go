package link

import (
	"fmt"
	"slices"

	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/provider"
)

// Facts are what one wants to know of a link at a glance.
type Facts struct {
	A        design.ID      `json:"a"` // parties
	B        design.ID      `json:"b"`
	EndA     string         `json:"end_a"` // what stands at each end, in words
	EndB     string         `json:"end_b"`
	Shape    string         `json:"shape"` // in words
	Strands  int            `json:"strands"`
	Mbps     uint32         `json:"mbps"` // 0: not limited by the link, or not known
	Survives string         `json:"survives"`
	Fragile  bool           `json:"fragile"`
	Monthly  provider.Money `json:"monthly"` // without traffic
	Costs    []cost.Line    `json:"costs"`
}

// FactsOf describes a link, peering, circuit or attachment.
func FactsOf(d *design.Design, o *design.Object) Facts {
	f := Facts{Costs: []cost.Line{}}
	add := func(text string, amount provider.Money) {
		if amount > 0 {
			f.Costs = append(f.Costs, cost.Line{Text: text, Amount: amount})
		}
	}
	between := func(a, b design.ID) {
		f.EndA, f.EndB = d.Title(a), d.Title(b)
		if p := d.Party(a); p != nil {
			f.A = p.ID
		}
		if p := d.Party(b); p != nil {
			f.B = p.ID
		}
	}
	switch b := o.Body.(type) {
	case *design.Link:
		between(b.Ends[0].Gateway, b.Ends[1].Gateway)
		f.Shape, f.Strands = "VPN, "+routingWords[b.Routing], len(d.Inside(o.ID, design.KindTunnel))
		x, y := endOf(d, b.Ends[0].Gateway), endOf(d, b.Ends[1].Gateway)
		f.Mbps = bandwidth(x, y, f.Strands, b.Routing)
		f.Survives, f.Fragile = survives(x, y, f.Strands)
		add("VPN link", cost.Monthly(linkHour(x)+linkHour(y)))
	case *design.Peering:
		between(b.Halves[0].Network, b.Halves[1].Network)
		f.Shape, f.Strands, f.Survives = "peering", 1, "any single failure of yours"
		if design.StateOf(o) == design.Waiting {
			f.Strands, f.Survives = 0, "nothing yet: one half is missing"
		}
	case *design.Circuit:
		between(b.Ends[0].At, b.Ends[1].At)
		f.Shape, f.Strands, f.Mbps = "circuit", 1, min(b.Ends[0].Mbps, b.Ends[1].Mbps)
		f.Survives, f.Fragile = "nothing by itself; a second circuit in another zone does", true
		if partners(d, o, b) > 1 {
			f.Survives, f.Fragile = "its failure: there is a second circuit", false
		}
		for _, e := range b.Ends {
			if p := d.ProfileOf(e.At); p != nil {
				add("circuit", p.Prices.CircuitMonth+p.Prices.CircuitMbpsOver*provider.Money(e.Mbps))
			}
		}
	case *design.Attachment:
		between(o.Parent, b.What)
		f.Shape, f.Strands, f.Survives = "attachment to a hub", 1, "any single failure of yours, in the zones that it serves"
		if p := d.ProfileOf(o.Parent); p != nil {
			add("attachment", cost.Monthly(p.Prices.AttachmentHour))
		}
		if d.Get(b.What).Kind != design.KindNetwork && d.Get(b.What).Kind != design.KindHub {
			f.B = o.Parent // a link or circuit shows its own far party
		}
	}
	f.Monthly = cost.Sum(f.Costs)
	return f
}

func endOf(d *design.Design, gateway design.ID) end {
	e := end{gateway: d.Get(gateway), v: d.VPNOf(gateway)}
	if p := d.Party(gateway); p != nil {
		e.side = side{o: p, profile: d.ProfileOf(gateway)}
	}
	return e
}

// partners counts the circuits between the same two ends.
func partners(d *design.Design, o *design.Object, c *design.Circuit) int {
	n := 0
	for _, other := range d.Of(design.KindCircuit) {
		x := other.Body.(*design.Circuit)
		same := x.Ends[0].At == c.Ends[0].At && x.Ends[1].At == c.Ends[1].At || x.Ends[0].At == c.Ends[1].At && x.Ends[1].At == c.Ends[0].At
		if same && design.Carries(design.StateOf(other)) {
			n++
		}
	}
	return n
}

// JoinLines are the lines of a peering, circuit or attachment.
func JoinLines(d *design.Design, o *design.Object) []Line {
	switch b := o.Body.(type) {
	case *design.Peering:
		return peeringLines(d, o, b)
	case *design.Circuit:
		return circuitLines(d, o, b)
	case *design.Attachment:
		return attachmentLines(d, o, b)
	}
	return []Line{}
}

func line(key, label, a, b string, ok bool, why string, mends ...LineMend) Line {
	l := Line{Key: key, Label: label, Values: [2]string{a, b}, Verdict: Agrees, Why: why, Mends: []LineMend{}}
	if !ok {
		l.Verdict, l.Mends = Differs, append(l.Mends, mends...)
	}
	return l
}

func freeLine(key, label, a, b, why string) Line {
	return Line{Key: key, Label: label, Values: [2]string{a, b}, Verdict: Free, Why: why, Mends: []LineMend{}}
}

func peeringLines(d *design.Design, o *design.Object, p *design.Peering) []Line {
	x, y := p.Halves[0], p.Halves[1]
	set := func(n int, change func(*design.Half)) []design.Edit {
		b := *p
		b.Halves = append([]design.Half{}, p.Halves...)
		change(&b.Halves[n])
		return []design.Edit{design.PutEdit(o.With(&b))}
	}
	made := map[bool]string{true: "made", false: "not made"}
	var mends []LineMend
	for n, h := range p.Halves {
		if !h.Made {
			mends = append(mends, LineMend{n, "The half of " + d.Title(h.Network) + " is made", []design.Edit{design.PutEdit(WithHalf(o, n, true))}})
		}
	}
	both := x.Made && y.Made
	why := ""
	if !both {
		why = "a peering exists only when both halves do"
	}
	out := []Line{line("half", "Half", made[x.Made], made[y.Made], both || !x.Made && !y.Made, why, mends...)}
	if !x.Made && !y.Made {
		out[0].Verdict, out[0].Mends = Unknown, mends
	}
	for n, h := range p.Halves {
		far := p.Halves[1-n]
		values := [2]string{does(h.LendsGateway, "lent"), does(far.UsesGateway, "used")}
		if n == 1 {
			values[0], values[1] = values[1], values[0]
		}
		l := line(fmt.Sprintf("gateway-%d", n+1), "Gateway of "+d.Title(h.Network), values[0], values[1], h.LendsGateway || !far.UsesGateway, "",
			LineMend{n, "Let " + d.Title(h.Network) + " lend it", set(n, func(x *design.Half) { x.LendsGateway = true })},
			LineMend{1 - n, "Let " + d.Title(far.Network) + " not use it", set(1-n, func(x *design.Half) { x.UsesGateway = false })})
		if rule := d.ProfileOf(h.Network); l.Verdict == Agrees && rule != nil && rule.Peering != nil && rule.Peering.LendGateway {
			l.Mends = append(l.Mends, option(n, d.Title(h.Network), "lend its gateway", h.LendsGateway, set(n, func(x *design.Half) { x.LendsGateway = !x.LendsGateway })),
				option(1-n, d.Title(far.Network), "use it", far.UsesGateway, set(1-n, func(x *design.Half) { x.UsesGateway = !x.UsesGateway })))
		}
		out = append(out, l)
	}
	forwarded := freeLine("forwarded", "Accepts forwarded packets", yes(x.AcceptForwarded), yes(y.AcceptForwarded), "each half decides for itself")
	if rule := d.ProfileOf(x.Network); rule != nil && rule.Peering != nil && rule.Peering.AcceptForwarded {
		for n, h := range p.Halves {
			forwarded.Mends = append(forwarded.Mends, option(n, d.Title(h.Network), "accept forwarded packets", h.AcceptForwarded, set(n, func(x *design.Half) { x.AcceptForwarded = !x.AcceptForwarded })))
		}
	}
	return append(out, forwarded)
}

// option turns something on or off at one end.
func option(end int, who, what string, on bool, edits []design.Edit) LineMend {
	if on {
		return LineMend{end, "Let " + who + " no longer " + what, edits}
	}
	return LineMend{end, "Let " + who + " " + what, edits}
}

func does(b bool, what string) string {
	if b {
		return what
	}
	return "not " + what
}

func circuitLines(d *design.Design, o *design.Object, c *design.Circuit) []Line {
	x, y := c.Ends[0], c.Ends[1]
	set := func(n int, change func(*design.CircuitEnd)) []design.Edit {
		b := *c
		b.Ends = append([]design.CircuitEnd{}, c.Ends...)
		change(&b.Ends[n])
		return []design.Edit{design.PutEdit(o.With(&b))}
	}
	pair := func(what func(design.CircuitEnd) string, take func(to *design.CircuitEnd, from design.CircuitEnd)) []LineMend {
		var out []LineMend
		for n := range c.Ends {
			far := c.Ends[1-n]
			out = append(out, LineMend{n, fmt.Sprintf("Set %s to %s", d.Title(c.Ends[n].At), what(far)), set(n, func(e *design.CircuitEnd) { take(e, far) })})
		}
		return out
	}
	speed := func(e design.CircuitEnd) string { return fmt.Sprintf("%d Mbit/s", e.Mbps) }
	tag := func(e design.CircuitEnd) string { return limitTag(e.VLAN) }
	zone := func(e design.CircuitEnd) string { return orText(e.Zone, "none") }
	out := []Line{
		line("speed", "Speed", speed(x), speed(y), x.Mbps == y.Mbps, "", pair(speed, func(to *design.CircuitEnd, from design.CircuitEnd) { to.Mbps = from.Mbps })...),
		line("vlan", "VLAN tag", tag(x), tag(y), x.VLAN == y.VLAN, "", pair(tag, func(to *design.CircuitEnd, from design.CircuitEnd) { to.VLAN = from.VLAN })...),
		line("zone", "Zone", zone(x), zone(y), x.Zone == y.Zone, "", pair(zone, func(to *design.CircuitEnd, from design.CircuitEnd) { to.Zone = from.Zone })...),
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
func tableChoices(d *design.Design, o *design.Object, a *design.Attachment) (bind, feed []LineMend) {
	bind, feed = []LineMend{}, []LineMend{}
	p := d.ProfileOf(o.Parent)
	if p == nil || p.Hub == nil || !p.Hub.ManyTables {
		return bind, feed
	}
	tables := d.Inside(o.Parent, design.KindHubTable)
	put := func(change func(*design.Attachment)) design.Edit {
		b := *a
		change(&b)
		return design.PutEdit(o.With(&b))
	}
	for _, t := range tables {
		if t.ID != a.Bound {
			bind = append(bind, LineMend{0, "Bind it to " + t.Name, []design.Edit{put(func(b *design.Attachment) { b.Bound = t.ID })}})
		}
		if i := slices.Index(a.Feeds, t.ID); i >= 0 {
			feed = append(feed, LineMend{0, "No longer feed " + t.Name, []design.Edit{put(func(b *design.Attachment) { b.Feeds = slices.Delete(slices.Clone(b.Feeds), i, i+1) })}})
		} else {
			feed = append(feed, LineMend{0, "Feed " + t.Name, []design.Edit{put(func(b *design.Attachment) { b.Feeds = append(slices.Clone(b.Feeds), t.ID) })}})
		}
	}
	s := newShape("table", "")
	table := draft(d, &s).put(design.KindHubTable, o.Parent, fmt.Sprintf("table %d", len(tables)+1), &design.HubTable{})
	return append(bind, LineMend{0, "Bind it to a new table", []design.Edit{design.PutEdit(table), put(func(b *design.Attachment) { b.Bound = table.ID })}}), feed
}

func attachmentLines(d *design.Design, o *design.Object, a *design.Attachment) []Line {
	titles := func(ids []design.Ref) string {
		words := make([]string, len(ids))
		for n, id := range ids {
			words[n] = d.Get(id).Name
		}
		return orText(joinWords(words), "none")
	}
	bound := "the only table"
	if a.Bound != "" {
		bound = d.Get(a.Bound).Name
	}
	exports := AttachmentExports(d, o)
	boundLine := freeLine("bound", "Bound to", bound, "", "the hub table that decides for what comes in by it")
	feeds := freeLine("feeds", "Feeds", titles(a.Feeds), negotiate.Joined(exports), "the hub tables that learn its ranges, and the ranges")
	boundLine.Mends, feeds.Mends = tableChoices(d, o, a)
	return []Line{
		boundLine,
		feeds,
		freeLine("keep-out", "Kept out of export", "", orText(negotiate.Joined(a.KeepOut), "nothing"), ""),
		freeLine("subnets", "Subnets, one for each zone", "", titles(a.Subnets), "hosts in other zones are cut off where the cloud wants subnets"),
	}
}
