package handover

import (
	"net/netip"
	"slices"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// routes renders a script that sets up what a gateway, box or edge router needs beside
// its daemons and the ruleset. Every line may be run again.
func routes(b *box.Box) string {
	s := &script{page: &page{}, box: b}
	s.line("#!/bin/sh")
	s.head("Addresses, interfaces and routes of " + b.Title)
	s.line("set -eu")
	s.tidy()
	s.line("")
	s.comment("away: nothing of what this script sets up stays, the kernel's settings apart.")
	s.line(`if [ "${1-}" = away ]; then`)
	s.line(`  away`)
	s.line(`  exit`)
	s.line(`fi`)
	s.lans = interfacesOf(s.page, b)
	s.line("")
	s.comment("The box forwards, and replies may leave by another interface than requests came in by.")
	for _, x := range []string{
		"net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1", "net.ipv4.conf.all.rp_filter=0",
	} {
		s.line("sysctl -qw %s", x)
	}
	s.line(`for f in /proc/sys/net/ipv4/conf/*/rp_filter; do if [ "$(cat "$f")" = 1 ]; then echo 2 >"$f"; fi; done`)
	if b.Kind != design.KindEdgeRouter {
		s.line("")
		s.comment("own FAMILY RANGE: the address that this box has there, if it has one.")
		s.line(
			`own() { ip -o "$1" address show to "$2" scope global | awk '$2 != "lo" { sub("/.*", "", $4); print $4; exit }'; }`,
		)
		ownMapped(s.page, b)
		answers(s.page, b)
		outside(s.page, b.Main().Table)
		wayOut(s.page, b)
	}
	for _, l := range b.Links {
		if l.Routed() && len(l.Tunnels) > 0 {
			interfaces(s.page, l)
		}
	}
	s.circuits()
	if ways := s.ways(b.Main().Table, 0); len(ways) > 0 {
		s.line("")
		s.comment("What is sent into links and circuits.")
		for _, w := range ways {
			s.place(w)
		}
	}
	boxRoutes(s.page, b.Entries)
	for _, r := range b.Entries { // an address may be met in a tunnel
		s.placed(r.Prefix, enteredMetric(r.Prefix), 0)
	}
	s.instances()
	s.stale()
	return s.String()
}

// ownMapped gives the gateway, under the mapped range, the counterpart of its own
// address in the real one: it then answers under it, and the IPsec daemon finds a
// source address that fits its selectors. No host can have it.
func ownMapped(p *page, b *box.Box) {
	done := map[netip.Prefix]bool{}
	for _, r := range b.Rules {
		if r.Does != design.OneToOne || done[r.Into] || !r.Into.Addr().Is4() {
			continue
		}
		if len(done) == 0 {
			p.line("")
			p.comment("The gateway's own addresses, as they are in the mapped ranges.")
			p.line(
				`mapped() { echo "$1 $2 $3" | awk '{ split($1, a, "."); split($2, r, "."); split($3, m, "."); print a[1]-r[1]+m[1] "." a[2]-r[2]+m[2] "." a[3]-r[3]+m[3] "." a[4]-r[4]+m[4] }'; }`,
			)
		}
		done[r.Into] = true
		p.line(
			`a=$(own -4 %s); if [ -n "$a" ]; then ip address replace "$(mapped "$a" %s %s)/32" dev lo; fi`, r.Real,
			r.Real.Masked().Addr(), r.Into.Masked().Addr(),
		)
	}
}

// outside keeps the way to the far ends' public addresses out of the links, as the
// table has it.
func outside(p *page, point *route.Point) {
	first := true
	for _, r := range point.Routes {
		if r.Source != route.Implied || !r.Prefix.IsSingleIP() {
			continue
		}
		if first {
			p.line("")
			p.comment("The far ends' public addresses stay outside the links that would take them.")
			p.line(
				`way() { ip "$1" route show default | awk 'NR == 1 { for (i = 2; i < NF; i += 2) if ($i == "via" || $i == "dev") printf "%%s %%s ", $i, $(i+1) }'; }`,
			)
			first = false
		}
		f := flag(r.Prefix)
		p.line(`w=$(way %s); if [ -n "$w" ]; then ip %s route replace %s $w; fi`, f, f, r.Prefix.Addr())
	}
}

// wayOut gives policy-based links of IPv6 a route to match on, where the box has
// none: the kernel asks its selectors only about what it could send.
func wayOut(p *page, b *box.Box) {
	if !slices.ContainsFunc(b.Links, func(l *box.Link) bool {
		return !l.Routed() && slices.ContainsFunc(l.Remote, func(r netip.Prefix) bool { return r.Addr().Is6() })
	}) {
		return
	}
	p.line("")
	p.comment("Selectors are asked only about what has a route; without one for IPv6 the way of IPv4 serves.")
	p.line(
		`if [ -z "$(ip -6 route show default)" ]; then w=$(ip -4 route show default | awk 'NR == 1 { for (i = 2; i < NF; i += 2) if ($i == "dev") print $(i+1) }'); if [ -n "$w" ]; then ip -6 route replace default dev "$w" metric 2000000; fi; fi`,
	)
}

// flag says to the ip command which family a range is of.
func flag(p netip.Prefix) string { return [2]string{"-4", "-6"}[prefix.FamilyOf(p.Addr())] }

func interfaces(p *page, l *box.Link) {
	p.line("")
	p.comment("%s: one interface for each tunnel.", l.Name)
	for _, t := range l.Tunnels {
		p.line("ip link show %[1]s >/dev/null 2>&1 || ip link add %[1]s type xfrm if_id %[2]d", t.Device(), t.Number)
		for _, own := range t.Insides() {
			p.line("ip address replace %s dev %s%s", own, t.Device(), nodad(own.Addr().Is6()))
		}
		if t.Set.MTU != 0 {
			p.line("ip link set %s mtu %d", t.Device(), t.Set.MTU)
		}
		p.line("ip link set %s up", t.Device())
		p.line("sysctl -qw net.ipv4.conf.%s.rp_filter=0", t.Device())
	}
}
