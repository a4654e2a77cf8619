package handover

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/bgp"
	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/route"
)

// protocolName is the name of a session in the daemon's file.
func protocolName(s box.Session) string { return protocols.name(s.Path...) }

// bird renders the BGP daemon's configuration: what is announced is originated
// here, and what is learned goes into the kernel, equal paths side by side.
func bird(b *box.Box) string {
	p := &page{}
	p.head("BGP sessions of " + b.Title)
	p.line("router id %s;", b.RouterID)
	p.line("protocol device { }")
	main := b.Main()
	for _, family := range prefix.Families {
		if !slices.ContainsFunc(
			b.Sessions, func(s box.Session) bool { return slices.Contains(families(s.Set), family) },
		) {
			continue
		}
		p.block("protocol kernel kernel_"+family.Code(), func() {
			if b.Shares {
				p.line("merge paths on;")
			}
			p.line("metric %d; # behind the static routes", learnedMetric)
			p.line("%s { export %s; };", family.Code(), toKernel(main, family))
		})
		p.block("protocol static own_"+family.Code(), func() {
			p.line("%s;", family.Code())
			for _, r := range announced(main.Announces, b.Summaries, family) {
				p.line("route %s unreachable; # announced, never put into the kernel", r)
			}
		})
		birdSummaries(p, main, b.Summaries, family, "")
		birdHops(p, b, main, family)
		for n := range b.Instances[1:] {
			birdInstance(p, b, n+1, family)
		}
		birdCrossings(p, b, family)
	}
	for _, s := range b.Sessions {
		table := slices.IndexFunc(b.Instances, func(i box.Instance) bool { return i.Segment == s.Segment })
		birdSession(p, s, &b.Instances[table], b.Summaries, uncrossed(b, table))
	}
	return p.String()
}

// toKernel is what of a table goes into the kernel: what was learned, with the source
// that the box prefers for what it sends itself, where the design gives it one. Without
// that it would be the tunnel's, to which not every far end knows the way.
func toKernel(i *box.Instance, family prefix.Family) string {
	if a := i.Preferred(family); a.IsValid() {
		return fmt.Sprintf("filter { if source != RTS_BGP then reject; krt_prefsrc = %s; accept; }", a)
	}
	return "where source = RTS_BGP"
}

// learnedMetric is that of learned routes in the kernel: behind all static ones.
const learnedMetric = 20000

// birdInstance is the routing instance of a segment: a table in the daemon and
// one in the kernel, with what its own sessions bring and those that are in no
// segment. What it learned goes back to where everything meets, and no further.
func birdInstance(p *page, b *box.Box, n int, family prefix.Family) {
	i := &b.Instances[n]
	name := instanceTable(i, family)
	p.comment("The routing instance of %s.", i.Title)
	p.line("%s table %s;", family.Code(), name)
	p.block("protocol kernel kernel_"+name, func() {
		if b.Shares {
			p.line("merge paths on;")
		}
		p.line("metric %d;", learnedMetric)
		p.line("kernel table %d;", kernelTable(i))
		p.line("%s { table %s; export %s; };", family.Code(), name, toKernel(i, family))
	})
	p.block("protocol static own_"+name, func() {
		p.line("%s { table %s; };", family.Code(), name)
		for _, r := range announced(i.Announces, b.Summaries, family) {
			p.line("route %s unreachable;", r)
		}
	})
	birdSummaries(p, i, b.Summaries, family, name)
	birdHops(p, b, i, family)
	p.block("protocol pipe to_"+name, func() {
		p.line("table master%s;", family.Code()[3:])
		p.line("peer table %s;", name)
		// What a table's own sessions bring goes first there.
		p.line("export %s;", fromAfar(sessionsIn(b, ""), route.Away(0)))
		p.line("import %s;", fromAfar(sessionsIn(b, i.Segment), route.Away(n)))
	})
}

// fromAfar lets through a pipe what some sessions brought, behind what the table's own do by so much.
func fromAfar(sessions []box.Session, away uint32) string {
	if len(sessions) == 0 {
		return "none"
	}
	return fmt.Sprintf(
		"filter { if source != RTS_BGP || !(%s) then reject; preference = preference - %d; accept; }",
		learnedOn(sessions), away,
	)
}

// birdHops is the table in which next hops are looked up that the far ends of an instance's sessions keep: where the
// box stands itself, which is no route that it could announce, and what it has learned.
func birdHops(p *page, b *box.Box, i *box.Instance, family prefix.Family) {
	if !slices.ContainsFunc(b.Sessions, func(s box.Session) bool {
		return s.FarKeeps && s.Segment == i.Segment && slices.Contains(families(s.Set), family)
	}) {
		return
	}
	name, code := hopsTable(i, family), family.Code()
	p.line("%s table %s; # for next hops that far ends keep", code, name)
	p.line("protocol direct stands_%s { %s { table %s; }; }", name, code, name)
	p.block("protocol pipe learned_"+name, func() {
		if i.Segment == "" {
			p.line("table master%s;", code[3:])
		} else {
			p.line("table %s;", instanceTable(i, family))
		}
		p.line("peer table %s;", name)
		p.line("import none; export where source = RTS_BGP;")
	})
}

// hopsTable is what the daemon calls the table in which next hops of an instance are looked up.
func hopsTable(i *box.Instance, family prefix.Family) string {
	return fmt.Sprintf("hops%d_%s", i.Number, family.Code()[3:])
}

// instanceTable is what the daemon calls the table of a segment's instance.
func instanceTable(i *box.Instance, family prefix.Family) string {
	return fmt.Sprintf("instance%d_%s", i.Number, family.Code()[3:])
}

// firstTable is what a segment's number is added to.
const firstTable = 300

// kernelTable is the number of an instance's table in the kernel; 0 of that in which everything meets.
func kernelTable(i *box.Instance) int {
	if i.Segment == "" {
		return 0
	}
	return firstTable + i.Number
}

func birdSession(
	p *page, s box.Session, in *box.Instance, summaries []design.Summary, before string,
) {
	p.block("protocol bgp "+protocolName(s), func() {
		p.line("local %s as %d;", s.Set.Address, s.Set.ASN)
		p.line("neighbor %s as %d;", s.Set.Peer, s.Set.PeerASN)
		if s.Internal {
			p.line("direct;")
		}
		p.line("deterministic med on;")
		if s.Near.Client && s.Internal {
			p.line("rr client;")
		}
		p.line("hold time %d;", s.Set.Hold)
		if s.Near.Password {
			p.line("password \"%s\"; # agree on one with the far end", fillIn)
		}
		if s.Near.AllowOwn > 0 {
			p.line("allow local as %d;", s.Near.AllowOwn)
		}
		for _, family := range families(s.Set) {
			channel(p, s, in, summaries, family, before)
		}
	})
}

// channel is what a session carries of one address family.
func channel(
	p *page, s box.Session, in *box.Instance, summaries []design.Summary, family prefix.Family, before string,
) {
	e, own := s.Near, in.Announces
	p.block(family.Code(), func() {
		if in.Segment != "" {
			p.line("table %s;", instanceTable(in, family))
		}
		if s.First {
			p.line("preference %d; # before what other sessions bring", preferred)
		}
		near := ""
		for _, a := range s.FarHops { // what leads to the neighbour itself is not looked up, and others may be by it
			if family.Has(a) {
				near += fmt.Sprintf("    if bgp_next_hop = %s then gw = %s;\n", a, a)
			}
		}
		switch {
		case len(e.In) > 0:
			birdFilter(p, "import", e.In, family, s.Set.ASN, near)
		case near != "":
			p.line("import filter {")
			p.WriteString(near)
			p.line("    accept;")
			p.line("};")
		default:
			p.line("import all;")
		}
		if e.MaxPrefixes > 0 {
			p.line("import limit %d action disable;", e.MaxPrefixes)
		}
		p.line("next hop %s;", map[bool]string{false: "self", true: "keep"}[e.KeepNextHop])
		if s.FarKeeps {
			p.line("gateway recursive; # the far end keeps next hops: they are looked up")
			p.line("igp table %s;", hopsTable(in, family))
		}
		hidden := hides(own, summaries, s.Joint, family)
		if len(prefix.OfFamily(prefixesOf(summaries), family)) > 0 {
			hidden = "    if source = RTS_STATIC && proto ~ \"summary_*\" && dest = RTD_UNREACHABLE then reject; " +
				"# no part " +
				"of it is known\n" + hidden
		}
		hidden = before + hidden
		mine, summed := advertised(own, s.Joint, family), prefix.OfFamily(prefixesOf(summaries), family)
		switch {
		case len(e.Out) > 0:
			birdFilter(p, "export", e.Out, family, s.Set.ASN, hidden)
		case len(mine)+len(summed) == 0:
			p.line("export none;")
		default: // its own, and nothing learned elsewhere
			p.line("export filter {")
			p.WriteString(hidden)
			p.line("    if source = RTS_STATIC && net ~ [ %s ] then accept;", words(slices.Concat(mine, summed)))
			p.line("    reject;")
			p.line("};")
		}
	})
	p.Truncate(p.Len() - 1)
	p.WriteString(";\n") // a channel ends as a statement does
}

// birdFilter renders the rules of one direction: the first that fits decides,
// and what none fits is dropped.
func birdFilter(p *page, direction string, rules []design.Filter, family prefix.Family, asn uint32, before string) {
	p.line("%s filter {", direction)
	p.WriteString(before)
	for _, r := range rules {
		if r.Prefix.IsValid() && !family.Has(r.Prefix.Addr()) {
			continue
		}
		p.line("    %s{ %s}", condition(r), actions(r, asn))
	}
	p.line("    reject;")
	p.line("};")
}

// preferred is above what the daemon gives BGP routes by itself.
const preferred = 110

// hides are the lines of an export filter that keep the parts of summaries back,
// and what is announced over other links only.
func hides(own []bgp.Originated, summaries []design.Summary, link design.ID, family prefix.Family) string {
	out := ""
	for _, s := range summaries {
		if s.Hide && family.Has(s.Prefix.Addr()) {
			out += fmt.Sprintf(
				"    if net ~ [ %s{%d,%d} ] then reject; # the summary goes instead\n", s.Prefix, s.Prefix.Bits()+1,
				s.Prefix.Addr().BitLen(),
			)
		}
	}
	for _, o := range own {
		if o.Only != "" && o.Only != string(link) && family.Has(o.Prefix.Addr()) &&
			!slices.Contains(advertised(own, link, family), o.Prefix) {
			out += fmt.Sprintf(
				"    if source = RTS_STATIC && net ~ [ %s ] then reject; # it is mapped toward another link\n",
				o.Prefix,
			)
		}
	}
	return out
}

// advertised are the ranges that are announced over a link without a filter.
func advertised(own []bgp.Originated, link design.ID, family prefix.Family) []netip.Prefix {
	var out []netip.Prefix
	for _, o := range own {
		if !o.Quiet && (o.Only == "" || o.Only == string(link)) && !slices.Contains(out, o.Prefix) {
			out = append(out, o.Prefix)
		}
	}
	return prefix.OfFamily(out, family)
}

func prefixesOf(summaries []design.Summary) []netip.Prefix {
	var out []netip.Prefix
	for _, s := range summaries {
		out = append(out, s.Prefix.Masked())
	}
	return out
}

// condition is when a rule is done; empty if always.
func condition(r design.Filter) string {
	var when []string
	if r.Prefix.IsValid() {
		when = append(when, fmt.Sprintf("net ~ [ %s ]", lengths(r)))
	}
	var has []string
	for _, text := range r.Has {
		if c, err := negotiate.ParseCommunity(text); err == nil {
			has = append(has, mark(c)+" ~ "+markList(c))
		}
	}
	if len(r.Has) > 0 {
		when = append(when, strings.Join(append(has, "false"), " || "))
	}
	if r.Through > 0 {
		when = append(when, fmt.Sprintf("bgp_path ~ [= * %d * =]", r.Through))
	}
	if r.Neighbour > 0 {
		when = append(when, fmt.Sprintf("bgp_path.len > 0 && bgp_path.first = %d", r.Neighbour))
	}
	if r.Born > 0 {
		when = append(when, fmt.Sprintf("bgp_path.len > 0 && bgp_path.last = %d", r.Born))
	}
	if r.Longest > 0 {
		when = append(when, fmt.Sprintf("bgp_path.len <= %d", r.Longest))
	}
	switch len(when) {
	case 0:
		return ""
	case 1:
		return "if " + when[0] + " then "
	}
	return "if (" + strings.Join(when, ") && (") + ") then "
}

func mark(c negotiate.Community) string {
	if c.Large {
		return fmt.Sprintf("(%d,%d,%d)", c.Values[0], c.Values[1], c.Values[2])
	}
	return fmt.Sprintf("(%d,%d)", c.Values[0], c.Values[1])
}

func markList(c negotiate.Community) string {
	return map[bool]string{false: "bgp_community", true: "bgp_large_community"}[c.Large]
}

func lengths(r design.Filter) string {
	if r.From == 0 && r.To == 0 {
		return r.Prefix.String()
	}
	from, to := r.Lengths()
	return fmt.Sprintf("%s{%d,%d}", r.Prefix, from, to)
}

func actions(r design.Filter, asn uint32) string {
	if r.Does() == design.Refuse {
		return "reject; "
	}
	out := ""
	if r.LocalPref > 0 {
		out += fmt.Sprintf("bgp_local_pref = %d; ", r.LocalPref)
	}
	if r.MED > 0 {
		out += fmt.Sprintf("bgp_med = %d; ", r.MED)
	}
	if r.Origin != "" {
		out += fmt.Sprintf("bgp_origin = ORIGIN_%s; ", strings.ToUpper(r.Origin))
	}
	for n, list := range [][]string{r.Take, r.Communities} {
		for _, text := range list {
			if c, err := negotiate.ParseCommunity(text); err != nil { // stored before communities were checked
				out += "/* a community that is none is left out here */ "
			} else {
				out += fmt.Sprintf("%s.%s(%s); ", markList(c), [...]string{"delete", "add"}[n], mark(c))
			}
		}
	}
	out += strings.Repeat(fmt.Sprintf("bgp_path.prepend(%d); ", asn), int(r.Prepend))
	if r.Does() == design.GoOn {
		return out
	}
	return out + "accept; "
}

func families(e negotiate.BGPEnd) []prefix.Family {
	return slices.DeleteFunc(
		slices.Clone(prefix.Families[:]), func(f prefix.Family) bool { return !slices.Contains(e.Families, f.Code()) },
	)
}

// announced are the ranges that the daemon gives birth to: what the gateway
// announces by itself, and what else it has that a filter may let out.
// A summary is among them where it has a part of its own; others are made of what is
// learned.
func announced(own []bgp.Originated, summaries []design.Summary, family prefix.Family) []netip.Prefix {
	var out []netip.Prefix
	for _, o := range own {
		made := slices.ContainsFunc(summaries, func(s design.Summary) bool { return s.Prefix.Masked() == o.Prefix })
		if !slices.Contains(out, o.Prefix) && (!made || hasPart(own, o.Prefix)) {
			out = append(out, o.Prefix)
		}
	}
	return prefix.OfFamily(out, family)
}

// hasPart reports whether a range of a box's own is a part of a summary.
func hasPart(own []bgp.Originated, summary netip.Prefix) bool {
	return slices.ContainsFunc(own, func(o bgp.Originated) bool {
		return o.Prefix.Bits() > summary.Bits() && summary.Contains(o.Prefix.Addr())
	})
}

// mostParts is of how many parts a summary is made in the daemon's file: one that has more
// is withdrawn when the first of them, in order, are all lost. docs/truth.md says so.
const mostParts = 32

// birdSummaries are the summaries that are made of what is learned: the daemon has one
// as long as it can reach a part of it.
func birdSummaries(p *page, i *box.Instance, summaries []design.Summary, family prefix.Family, table string) {
	for n, s := range summaries {
		sum := s.Prefix.Masked()
		if !family.Has(sum.Addr()) || hasPart(i.Announces, sum) {
			continue
		}
		k := 0
		for _, r := range i.Table.Routes {
			if r.Learned == nil || r.Prefix.Bits() <= sum.Bits() || !sum.Contains(r.Prefix.Addr()) || k == mostParts {
				continue
			}
			k++
			in := family.Code()
			if table != "" {
				in = family.Code() + " { table " + table + "; }"
			}
			p.line(
				"protocol static summary_%s_%d_%d { %s; %sroute %s recursive %s; } # as long as it knows %s",
				cmp.Or(table, family.Code()), n+1, k, in, igpTable(table), sum, r.Prefix.Addr().Next(), r.Prefix,
			)
		}
	}
}

func igpTable(table string) string {
	if table == "" {
		return ""
	}
	return "igp table " + table + "; "
}
