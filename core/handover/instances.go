package handover

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/route"
)

// rulePriority is that of the rules that choose a routing instance: after the
// box's own addresses, before where everything meets.
const rulePriority = 1000

// instances sets up the routing instances of a gateway that carries several
// segments, a kernel table each: what comes from a segment's LANs and strands is
// routed by its table alone. What the BGP daemon learns it puts there itself.
func instances(p *page, t *route.Tables, g *design.Object, all []*end) {
	segments := route.Instances(t.Design, g)[1:]
	if len(segments) == 0 {
		return
	}
	p.line("")
	p.comment("One routing instance for each segment: between segments nothing passes.")
	p.comment("device FAMILY RANGE: the interface on which the box has an address there.")
	p.line(`device() { ip -o "$1" address show to "$2" scope global | awk 'NR == 1 { print $2 }'; }`)
	p.line(`onward() { ip "$1" route show default | awk 'NR == 1 { for (i = 2; i < NF; i += 2) if ($i == "via" || $i == "dev") printf "%%s %%s ", $i, $(i+1) }'; }`)
	p.line(`rule() { f=$1; shift; ip "$f" rule delete "$@" 2>/dev/null || true; ip "$f" rule add "$@"; }`)
	for n, segment := range segments {
		table := kernelTable(n)
		p.line("")
		p.comment("%s", t.Design.Title(segment))
		point := t.PointIn(g.ID, segment)
		for _, r := range point.Routes {
			instanceRoute(p, t.Design, r, all, table)
		}
		for _, f := range []string{"-4", "-6"} {
			p.line("ip %s route replace unreachable default metric 4278198272 table %d", f, table)
		}
		for _, place := range t.Design.Inside(g.Parent, design.KindLAN, design.KindInnerRoute) {
			for _, r := range t.Design.Ranges(place.ID) {
				if t.Design.SegmentOf(place.ID) == segment {
					p.line("rule %s from %s lookup %d pref %d", flag(r.Addr().Is4()), r, table, rulePriority+n)
				}
			}
		}
		for _, e := range all {
			for _, s := range e.strands {
				if e.routed() && t.Design.SegmentOf(s.tunnel.ID) == segment {
					p.line("rule -4 iif %s lookup %d pref %d", s.device(), table, rulePriority+n)
					p.line("rule -6 iif %s lookup %d pref %d", s.device(), table, rulePriority+n)
				}
			}
		}
	}
}

// instanceRoute puts one route into an instance's table.
func instanceRoute(p *page, d *design.Design, r route.Route, all []*end, table int) {
	f := flag(r.Prefix.Addr().Is4())
	switch {
	case r.Unusable != "" && r.Down == nil, r.Source == route.VPNBGP || r.Source == route.CircuitBGP:
		// What is down is set up all the same, as outside the instances.
	case r.Source == route.Implied:
		p.line(`w=$(onward %s); if [ -n "$w" ]; then ip %s route replace default $w table %d; fi`, f, f, table)
	case r.Source == route.Connected:
		p.line(`v=$(device %s %s); if [ -n "$v" ]; then ip %s route replace %s dev "$v" table %d; fi`, f, r.Prefix, f, r.Prefix, table)
	case r.Source == route.Inner:
		if via := d.Get(r.Hop.To).Body.(*design.InnerRoute).Via; via.IsValid() && via.Is4() == r.Prefix.Addr().Is4() {
			p.line(`v=$(ip %s -o route get %s 2>/dev/null | awk '{ for (i = 1; i < NF; i++) if ($i == "dev") print $(i+1) }'); if [ -n "$v" ]; then ip %s route replace %s via %s dev "$v" onlink table %d; fi`, f, via, f, r.Prefix, via, table)
		}
	case r.Hop.Kind == route.BlackHole:
		p.line("ip %s route replace blackhole %s table %d", f, r.Prefix, table)
	case r.Hop.Kind == route.Tunnel:
		for _, e := range all {
			if e.link.ID == r.Hop.To {
				instanceLink(p, e, r, f, table)
			}
		}
	}
}

func instanceLink(p *page, e *end, r route.Route, f string, table int) {
	k := 0
	for _, s := range e.strands {
		if len(r.Strands) > 0 && !slices.Contains(r.Strands, s.tunnel.ID) {
			continue
		}
		for _, half := range halves(netip.PrefixFrom(r.Prefix.Addr(), r.Prefix.Bits())) {
			p.line("ip %s route replace %s dev %s metric %d table %d", f, half, s.device(), metric4+k, table)
		}
		k++
	}
}

// boxRoutes are the gateway's or box's own entries.
func boxRoutes(p *page, list []design.BoxRoute) {
	if len(list) == 0 {
		return
	}
	p.line("")
	p.comment("Entries of its own. hop FAMILY ADDRESS: by which router, or into which strand, an address is met.")
	p.line(`hop() { ip "$1" -o route get "$2" 2>/dev/null | awk '{ for (i = 1; i < NF; i++) { if ($i == "via") v = $(i+1); if ($i == "dev") d = $(i+1) } print d, v }' | { read -r d v || true; if [ -z "$d" ]; then return; fi; if ip -o link show dev "$d" | grep -q NOARP; then echo "dev $d"; else echo "via ${v:-$2} dev $d onlink"; fi; }; }`)
	for _, r := range list {
		f := flag(r.Prefix.Addr().Is4())
		if !r.Via.IsValid() {
			p.line("ip %s route replace blackhole %s metric %d", f, r.Prefix, enteredMetric(r.Prefix))
			continue
		}
		p.line("w=$(hop %s %s); if [ -n \"$w\" ]; then ip %s route replace %s $w metric %d; fi", f, r.Via, f, r.Prefix, enteredMetric(r.Prefix))
	}
}

func enteredMetric(p netip.Prefix) int {
	if p.Addr().Is4() {
		return entered4
	}
	return entered6
}
