package handover

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// The priorities of the rules that choose a routing instance, to which a segment's number is added: after the box's
// own addresses, before where everything meets; answers of what crossed one way go first. Numbers are below
// [design.MostSegments].
const (
	crossingPriority = 1000
	rulePriority     = crossingPriority + design.MostSegments
	lastPriority     = rulePriority + design.MostSegments
)

// lan is a LAN in which a gateway stands, with the variable of the script that holds its
// interface.
type lan struct {
	box.LAN
	variable string
}

// interfacesOf finds the interfaces of a gateway's LANs, where it carries several segments:
// what comes by one of them is in its segment, whatever source it claims. A gateway
// whose interfaces do not tell two segments apart is left as it is.
func interfacesOf(p *page, b *box.Box) []lan {
	if len(b.Instances) < 2 || b.Kind != design.KindGateway {
		return nil
	}
	p.line("")
	p.comment("The interfaces of its LANs: by them it tells segments apart, never by a source address.")
	p.comment(
		"device FAMILY RANGE [TAG]: the interface on which the box has an address there, with that VLAN tag if " +
			"one is given. One of the range's own length goes before others, since ranges may hold each other.",
	)
	p.line(`device() {`)
	p.line(`  for v in $(ip -o "$1" address show to "$2" scope global | awk -v bits="/${2#*/}" '$2 != "lo" {`)
	p.line(`    if (substr($4, length($4) - length(bits) + 1) == bits) print $2; else others = others $2 "\n"`)
	p.line(`  } END { printf "%%s", others }'); do`)
	p.line(`    if [ -z "${3-}" ] || ip -d -o link show dev "$v" | grep -q "802.1Q id $3 "; then echo "$v"; break; fi`)
	p.line(`  done`)
	p.line(`}`)
	var out []lan
	for n, x := range b.LANs {
		l := lan{x, fmt.Sprintf("lan%d", n+1)}
		tag := ""
		if x.VLAN != 0 {
			tag = fmt.Sprintf(" %d", x.VLAN)
		}
		p.line("%s=", l.variable)
		for _, r := range x.Ranges {
			p.line(`%[1]s=${%[1]s:-$(device %[2]s %[3]s%[4]s)}`, l.variable, flag(r), r, tag)
		}
		p.line(`if [ -z "$%s" ]; then`, l.variable)
		p.line(`  echo "no interface is in %s: give this box its address there, and run this again" >&2`, words(x.Ranges))
		p.line(`fi`)
		out = append(out, l)
	}
	for n, x := range out {
		for _, y := range out[:n] {
			if x.Segment != y.Segment {
				p.line(`if [ -n "$%[1]s" ] && [ "$%[1]s" = "$%[2]s" ]; then`, x.variable, y.variable)
				p.line(`  echo "two segments are on the interface $%s: give each of their LANs an interface or a VLAN" \`, x.variable)
				p.line(`    "of its own" >&2`)
				p.line(`  exit 1`)
				p.line(`fi`)
			}
		}
	}
	return out
}

// script is what renders a gateway's or edge router's routes.
type script struct {
	*page
	box    *box.Box
	lans   []lan
	routes []string // those into interfaces of its own, as [script.placed] writes them
}

// instances sets up the routing instances of a box that carries several segments, a
// kernel table each: what comes from a segment's LANs, tunnels and circuits is routed
// by its table alone. What the BGP daemon learns it puts there itself.
func (s *script) instances() {
	segments := s.box.Instances[1:]
	if len(segments) == 0 {
		return
	}
	s.line("")
	s.comment("One routing instance for each segment: between segments nothing passes but by crossings.")
	s.line(
		`onward() { ip "$1" route show default | awk 'NR == 1 { for (i = 2; i < NF; i += 2) if ($i == "via" || $i == "dev") printf "%%s %%s ", $i, $(i+1) }'; }`,
	)
	s.comment("rule FAMILY RULE: is there from now on; one that is there stays, so that nothing goes otherwise meanwhile.")
	s.line(`rule() {`)
	s.line(`  f=$1; shift; rules="${rules-}|$f $*"`)
	s.line(`  e=$(ip "$f" rule add "$@" 2>&1) || case "$e" in *exists*) ;; *) echo "$e" >&2; exit 1 ;; esac`)
	s.line(`}`)
	s.comment("member INTERFACE GROUP: the interface is in the group of its segment, which the ruleset asks for.")
	s.line(`member() {`)
	s.line(`  if [ -n "$1" ] && ip link show "$1" >/dev/null 2>&1; then`)
	s.line(`    ip link set dev "$1" group "$2"; groups="${groups-}|$1 $2"`)
	s.line(`  fi`)
	s.line(`}`)
	for n := range segments {
		i := &segments[n]
		table := kernelTable(i)
		s.line("")
		s.comment("%s", i.Title)
		for _, device := range s.devicesIn(i.Segment) {
			s.line("member %s %d", device, members(i))
		}
		for _, r := range i.Table.Routes {
			s.instanceRoute(r, s.segmentOf(r, i.Segment), table)
		}
		for _, w := range s.ways(i.Table, table) {
			s.place(w)
		}
		for _, f := range []string{"-4", "-6"} {
			s.line("ip %s route replace unreachable default metric 4278198272 table %d", f, table)
		}
		for _, l := range s.lans {
			for _, r := range i.Behind[l.ID] {
				s.line(
					`if [ -n "$%[2]s" ]; then rule %[1]s iif "$%[2]s" from %[3]s lookup %[4]d pref %[5]d; fi`,
					flag(r), l.variable, bareAddress(r), table, rulePriority+i.Number,
				)
			}
		}
		for _, device := range s.devicesIn(i.Segment) {
			for _, f := range []string{"-4", "-6"} {
				s.line(
					"if [ -n %[2]s ]; then rule %[1]s iif %[2]s lookup %[3]d pref %[4]d; fi", f, device, table,
					rulePriority+i.Number,
				)
			}
		}
	}
	s.crossings()
}

// segmentOf is the segment in which a route of an instance's table leads on: another one by a crossing.
func (s *script) segmentOf(r route.Route, segment design.ID) design.ID {
	for _, c := range s.box.Crossings {
		if r.Crossing == c.ID && s.box.Instances[c.From].Segment == segment {
			return s.box.Instances[c.To].Segment
		}
	}
	return segment
}

// devicesIn are the interfaces by which what comes is in a segment.
func (s *script) devicesIn(segment design.ID) (out []string) {
	for _, l := range s.lans {
		if l.Segment == segment {
			out = append(out, `"$`+l.variable+`"`)
		}
	}
	for _, l := range s.box.Links {
		for _, t := range l.Tunnels {
			if l.Routed() && t.Segment == segment {
				out = append(out, t.Device())
			}
		}
	}
	for _, c := range s.box.Circuits {
		if c.Segment == segment {
			out = append(out, c.Device())
		}
	}
	return out
}

// lan is the variable of a LAN's interface; that of the LAN that holds an address, in a
// segment, where an inner router is asked for.
func (s *script) lan(place design.ID, via netip.Addr, segment design.ID) string {
	best := ""
	for _, l := range s.lans {
		holds := slices.ContainsFunc(l.Ranges, func(r netip.Prefix) bool { return r.Contains(via) })
		switch {
		case l.ID == place:
			return l.variable
		case holds && (best == "" || l.Segment == segment):
			best = l.variable
		}
	}
	return best
}

// instanceRoute puts one route into an instance's table; those into links and circuits
// go by [script.ways].
func (s *script) instanceRoute(r route.Route, segment design.ID, table int) {
	f := flag(r.Prefix)
	switch {
	case r.Unusable != "" && r.Down == nil, r.Learned != nil:
	case r.Source == route.Implied:
		s.line(`w=$(onward %s); if [ -n "$w" ]; then ip %s route replace %s $w table %d; fi`, f, f, r.Prefix, table)
	case r.Source == route.Connected:
		s.line(
			`if [ -n "$%[3]s" ]; then ip %[1]s route replace %[2]s dev "$%[3]s" table %[4]d; fi`, f, r.Prefix,
			s.lan(r.Hop.To, netip.Addr{}, segment), table,
		)
	case r.Source == route.Inner:
		s.beside(f, r.Prefix, r.NextHop, r.Hop.To, segment, table)
	case r.Hop.Kind == route.BlackHole:
		s.line("ip %s route replace blackhole %s table %d", f, r.Prefix, table)
	case r.Entered() && (r.Hop.Kind == route.Deliver || r.Hop.Kind == route.Gateway):
		s.beside(f, r.Prefix, r.NextHop, r.Hop.Through, segment, table)
	case r.Entered() && r.Hop.Kind == route.Tunnel:
		if l := s.box.Link(r.Hop.To); l != nil {
			if up := upAmong(l, devicesOf(l, r)); len(up) > 0 {
				s.placed(r.Prefix, noMetric(r.Prefix), table)
				s.line(
					"ip %s route replace %s %s table %d", f, r.Prefix, hopsOf(up, prefix.FamilyOf(r.Prefix.Addr()))[0],
					table,
				)
			}
		}
	case r.Source == route.Inside && r.Hop.Kind == route.Tunnel:
		if l := s.box.Link(r.Hop.To); l != nil {
			if devices := devicesOf(l, r); len(devices) > 0 { // its interface is not made while nothing of it is set up
				s.placed(r.Prefix, noMetric(r.Prefix), table)
				s.line("ip %s route replace %s dev %s table %d", f, r.Prefix, devices[0], table)
			}
		}
	case r.Source == route.Inside && r.Hop.Kind == route.Circuit:
		if c := s.box.Circuit(r.Hop.To); c != nil {
			s.placed(r.Prefix, noMetric(r.Prefix), table)
			s.line(
				"if has %[3]s; then ip %[1]s route replace %[2]s dev %[3]s table %[4]d; fi", f, r.Prefix, c.Device(),
				table,
			)
		}
	}
}

// beside routes to a router in one of the LANs.
func (s *script) beside(f string, to netip.Prefix, via netip.Addr, place, segment design.ID, table int) {
	if v := s.lan(place, via, segment); v != "" && via.IsValid() && via.Is4() == to.Addr().Is4() {
		s.line(
			`if [ -n "$%[4]s" ]; then ip %[1]s route replace %[2]s via %[3]s dev "$%[4]s" onlink table %[5]d; fi`, f,
			to, via, v, table,
		)
	}
}
