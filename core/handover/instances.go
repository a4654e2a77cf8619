package handover

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/route"
)

// rulePriority is that of the rules that choose a routing instance: after the
// box's own addresses, before where everything meets.
const rulePriority = 1000

// lanOf is a LAN in which a gateway stands, with the variable of the script that holds
// its interface.
type lanOf struct {
	lan      *design.Object
	variable string
}

// lansAt finds the interfaces of a gateway's LANs, where it carries several segments:
// what comes by one of them is in its segment, whatever source it claims. A gateway
// whose interfaces do not tell two segments apart is left as it is.
func lansAt(p *page, t *route.Tables, g *design.Object) []lanOf {
	if len(route.Instances(t.Design, g)) < 2 || g.Kind != design.KindGateway {
		return nil
	}
	p.line("")
	p.comment("The interfaces of its LANs: by them it tells segments apart, never by a source address.")
	p.comment("device FAMILY RANGE [TAG]: the interface on which the box has an address there, with that VLAN tag if one is given.")
	p.line(`device() { for v in $(ip -o "$1" address show to "$2" scope global | awk '$2 != "lo" { print $2 }'); do if [ -z "${3-}" ] || ip -d -o link show dev "$v" | grep -q "802.1Q id $3 "; then echo "$v"; break; fi; done; }`)
	var out []lanOf
	for n, lan := range route.LANsOf(t.Design, g) {
		l := lanOf{lan, fmt.Sprintf("lan%d", n+1)}
		tag := ""
		if b := lan.Body.(*design.LAN); b.VLAN != 0 {
			tag = fmt.Sprintf(" %d", b.VLAN)
		}
		p.line("%s=", l.variable)
		for _, r := range t.Design.Ranges(lan.ID) {
			p.line(`%[1]s=${%[1]s:-$(device %[2]s %[3]s%[4]s)}`, l.variable, flag(r.Addr().Is4()), r, tag)
		}
		p.line(`if [ -z "$%s" ]; then echo "no interface is in %s: give this box its address there, and run this again" >&2; fi`, l.variable, words(t.Design.Ranges(lan.ID)))
		out = append(out, l)
	}
	for n, a := range out {
		for _, b := range out[:n] {
			if t.Design.SegmentOf(a.lan.ID) != t.Design.SegmentOf(b.lan.ID) {
				p.line(`if [ -n "$%[1]s" ] && [ "$%[1]s" = "$%[2]s" ]; then echo "two segments are on the interface $%[1]s: give each of their LANs an interface or a VLAN of its own" >&2; exit 1; fi`, a.variable, b.variable)
			}
		}
	}
	return out
}

// script is what renders a gateway's or edge router's routes.
type script struct {
	*page
	t    *route.Tables
	box  *design.Object
	ends []*end
	lans []lanOf
	on   []circuitAt
}

// instances sets up the routing instances of a box that carries several segments, a
// kernel table each: what comes from a segment's LANs, tunnels and circuits is routed
// by its table alone. What the BGP daemon learns it puts there itself.
func (s *script) instances() {
	segments := route.Instances(s.t.Design, s.box)[1:]
	if len(segments) == 0 {
		return
	}
	s.line("")
	s.comment("One routing instance for each segment: between segments nothing passes.")
	s.line(`onward() { ip "$1" route show default | awk 'NR == 1 { for (i = 2; i < NF; i += 2) if ($i == "via" || $i == "dev") printf "%%s %%s ", $i, $(i+1) }'; }`)
	s.line(`rule() { f=$1; shift; ip "$f" rule delete "$@" 2>/dev/null || true; ip "$f" rule add "$@"; }`)
	for n, segment := range segments {
		s.line("")
		s.comment("%s", s.t.Design.Title(segment))
		for _, r := range s.t.PointIn(s.box.ID, segment).Routes {
			s.instanceRoute(r, segment, kernelTable(n))
		}
		for _, w := range s.ways(s.t.PointIn(s.box.ID, segment), kernelTable(n)) {
			w.place(s.page)
		}
		for _, f := range []string{"-4", "-6"} {
			s.line("ip %s route replace unreachable default metric 4278198272 table %d", f, kernelTable(n))
		}
		for _, l := range s.lans {
			for _, r := range route.Behind(s.t.Design, l.lan, segment) {
				s.line(
					`if [ -n "$%[2]s" ]; then rule %[1]s iif "$%[2]s" from %[3]s lookup %[4]d pref %[5]d; fi`,
					flag(r.Addr().Is4()), l.variable, r, kernelTable(n), rulePriority+n,
				)
			}
		}
		for _, device := range s.devicesIn(segment) {
			for _, f := range []string{"-4", "-6"} {
				s.line(
					"if [ -n %[2]s ]; then rule %[1]s iif %[2]s lookup %[3]d pref %[4]d; fi", f, device, kernelTable(n),
					rulePriority+n,
				)
			}
		}
	}
}

// devicesIn are the interfaces by which what comes is in a segment.
func (s *script) devicesIn(segment design.ID) (out []string) {
	for _, l := range s.lans {
		if s.t.Design.SegmentOf(l.lan.ID) == segment {
			out = append(out, `"$`+l.variable+`"`)
		}
	}
	for _, e := range s.ends {
		for _, x := range e.tunnels {
			if e.routed() && s.t.Design.SegmentOf(x.tunnel.ID) == segment {
				out = append(out, x.device())
			}
		}
	}
	for _, c := range s.on {
		if s.t.Design.SegmentOf(c.object.ID) == segment {
			out = append(out, c.device)
		}
	}
	return out
}

// lan is the variable of a LAN's interface; that of the LAN that holds an address, in a
// segment, where an inner router is asked for.
func (s *script) lan(place design.ID, via netip.Addr, segment design.ID) string {
	best := ""
	for _, l := range s.lans {
		holds := slices.ContainsFunc(s.t.Design.Ranges(l.lan.ID), func(r netip.Prefix) bool { return r.Contains(via) })
		switch {
		case l.lan.ID == place:
			return l.variable
		case holds && (best == "" || s.t.Design.SegmentOf(l.lan.ID) == segment):
			best = l.variable
		}
	}
	return best
}

// instanceRoute puts one route into an instance's table; those into links and circuits
// go by [script.ways].
func (s *script) instanceRoute(r route.Route, segment design.ID, table int) {
	f := flag(r.Prefix.Addr().Is4())
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
		s.beside(f, r.Prefix, s.t.Design.Get(r.Hop.To).Body.(*design.InnerRoute).Via, r.Hop.To, segment, table)
	case r.Hop.Kind == route.BlackHole:
		s.line("ip %s route replace blackhole %s table %d", f, r.Prefix, table)
	case r.Entered() && (r.Hop.Kind == route.Deliver || r.Hop.Kind == route.Gateway):
		s.beside(f, r.Prefix, r.NextHop, r.Hop.Through, segment, table)
	case r.Entered() && r.Hop.Kind == route.Tunnel:
		for _, e := range s.ends {
			if up := e.upAmong(e.devicesOf(r)); e.link.ID == r.Hop.To && len(up) > 0 {
				s.line("ip %s route replace %s %s table %d", f, r.Prefix, hopsOf(up, r.Prefix.Addr().Is4())[0], table)
			}
		}
	case r.Source == route.Inside && r.Hop.Kind == route.Tunnel:
		for _, e := range s.ends {
			if e.link.ID == r.Hop.To {
				s.line("ip %s route replace %s dev %s table %d", f, r.Prefix, e.devicesOf(r)[0], table)
			}
		}
	case r.Source == route.Inside && r.Hop.Kind == route.Circuit:
		for _, c := range s.on {
			if c.object.ID == r.Hop.To {
				s.line(
					"if has %[3]s; then ip %[1]s route replace %[2]s dev %[3]s table %[4]d; fi", f, r.Prefix, c.device,
					table,
				)
			}
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
