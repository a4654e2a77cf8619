package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/walk"
)

// routes renders a script that sets up what a gateway, box or edge router needs beside
// its daemons and the ruleset. Every line may be run again.
func routes(t *route.Tables, g *design.Object, all []*end) string {
	s := &script{page: &page{}, t: t, box: g, ends: all, on: circuitsAt(t, g.ID)}
	s.line("#!/bin/sh")
	s.head("Addresses, interfaces and routes of " + t.Design.Title(g.ID))
	s.line("set -eu")
	s.lans = lansAt(s.page, t, g)
	s.line("")
	s.comment("The box forwards, and replies may leave by another interface than requests came in by.")
	for _, x := range []string{
		"net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1", "net.ipv4.conf.all.rp_filter=0",
	} {
		s.line("sysctl -qw %s", x)
	}
	s.line(`for f in /proc/sys/net/ipv4/conf/*/rp_filter; do if [ "$(cat "$f")" = 1 ]; then echo 2 >"$f"; fi; done`)
	point := t.Point(g.ID)
	if g.Kind != design.KindEdgeRouter {
		s.line("")
		s.comment("own FAMILY RANGE: the address that this box has there, if it has one.")
		s.line(`own() { ip -o "$1" address show to "$2" scope global | awk '$2 != "lo" { sub("/.*", "", $4); print $4; exit }'; }`)
		ownMapped(s.page, point)
		answers(s.page, t.Design, g)
		outside(s.page, point)
		wayOut(s.page, all)
	}
	for _, e := range all {
		if e.routed() && len(e.tunnels) > 0 {
			interfaces(s.page, e)
		}
	}
	s.circuits()
	if ways := s.ways(point, 0); len(ways) > 0 {
		s.line("")
		s.comment("What is sent into links and circuits.")
		for _, w := range ways {
			w.place(s.page)
		}
	}
	switch b := g.Body.(type) {
	case *design.Gateway:
		boxRoutes(s.page, b.Routes)
	case *design.Box:
		boxRoutes(s.page, b.Routes)
	}
	s.instances()
	return s.String()
}

// ownMapped gives the gateway, under the mapped range, the counterpart of its own
// address in the real one: it then answers under it, and the IPsec daemon finds a
// source address that fits its selectors. No host can have it.
func ownMapped(p *page, point *route.Point) {
	done := map[netip.Prefix]bool{}
	for _, r := range point.Translations {
		if r.Does != design.OneToOne || done[r.Into] || !r.Into.Addr().Is4() {
			continue
		}
		if len(done) == 0 {
			p.line("")
			p.comment("The gateway's own addresses, as they are in the mapped ranges.")
			p.line(`mapped() { echo "$1 $2 $3" | awk '{ split($1, a, "."); split($2, r, "."); split($3, m, "."); print a[1]-r[1]+m[1] "." a[2]-r[2]+m[2] "." a[3]-r[3]+m[3] "." a[4]-r[4]+m[4] }'; }`)
		}
		done[r.Into] = true
		p.line(`a=$(own -4 %s); if [ -n "$a" ]; then ip address replace "$(mapped "$a" %s %s)/32" dev lo; fi`, r.Real, r.Real.Masked().Addr(), r.Into.Masked().Addr())
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
			p.line(`way() { ip "$1" route show default | awk 'NR == 1 { for (i = 2; i < NF; i += 2) if ($i == "via" || $i == "dev") printf "%%s %%s ", $i, $(i+1) }'; }`)
			first = false
		}
		f := flag(r.Prefix.Addr().Is4())
		p.line(`w=$(way %s); if [ -n "$w" ]; then ip %s route replace %s $w; fi`, f, f, r.Prefix.Addr())
	}
}

// wayOut gives policy-based links of IPv6 a route to match on, where the box has
// none: the kernel asks its selectors only about what it could send.
func wayOut(p *page, all []*end) {
	if !slices.ContainsFunc(all, func(e *end) bool {
		return !e.routed() && slices.ContainsFunc(e.near.Remote, func(r netip.Prefix) bool { return r.Addr().Is6() })
	}) {
		return
	}
	p.line("")
	p.comment("Selectors are asked only about what has a route; without one for IPv6 the way of IPv4 serves.")
	p.line(`if [ -z "$(ip -6 route show default)" ]; then w=$(ip -4 route show default | awk 'NR == 1 { for (i = 2; i < NF; i += 2) if ($i == "dev") print $(i+1) }'); if [ -n "$w" ]; then ip -6 route replace default dev "$w" metric 2000000; fi; fi`)
}

func flag(v4 bool) string { return map[bool]string{true: "-4", false: "-6"}[v4] }

func interfaces(p *page, e *end) {
	p.line("")
	p.comment("%s: one interface for each tunnel.", e.link.Name)
	for _, s := range e.tunnels {
		p.line("ip link show %[1]s >/dev/null 2>&1 || ip link add %[1]s type xfrm if_id %[2]d", s.device(), s.number)
		if len(s.body.Inside) == 2 {
			p.line(
				"ip address replace %s dev %s%s", s.body.Inside[e.n], s.device(),
				nodad(s.body.Inside[e.n].Addr().Is6()),
			)
		}
		if s.set.MTU != 0 {
			p.line("ip link set %s mtu %d", s.device(), s.set.MTU)
		}
		p.line("ip link set %s up", s.device())
		p.line("sysctl -qw net.ipv4.conf.%s.rp_filter=0", s.device())
	}
}

// sheet lists what a party's administrator must find set, in the words of the
// design: the whole of it, not only what changed.
func sheet(t *route.Tables, party design.ID) File {
	d := t.Design
	o := d.Get(party)
	p := &page{}
	p.line("%s: what must be set", o.Name)
	p.line("%s", strings.Repeat("=", len(o.Name)+18))
	for _, g := range d.Inside(party, design.KindGateway) {
		p.line("")
		p.line("%s (%s)", g.Name, words(g.Body.(*design.Gateway).Addresses))
		all := endsOf(t, g.ID)
		for _, e := range all {
			linkSheet(p, d, e)
		}
		if o.Kind == design.KindSite { // a cloud watches in its own way
			watchSheet(p, t, g, all)
		}
		for _, r := range t.Point(g.ID).Translations {
			if r.Does == design.OneToOne && r.Hook == design.Postrouting {
				p.line("  [ ] map %s to %s toward %s, one to one", r.Real, r.Into, d.Title(r.Toward))
			} else if r.Of == g.ID {
				p.line("  [ ] %s: %s", r.Hook, RuleWords(d, r.Rule))
			}
		}
	}
	for _, b := range d.Inside(party, design.KindBox) {
		boxSheet(p, d, b)
	}
	listenerSheet(p, d, party)
	joinSheet(p, t, party)
	if o.Kind == design.KindEdgeRouter {
		watchSheet(p, t, o, nil)
	}
	for _, table := range d.Inside(party, design.KindHubTable) {
		p.line("")
		p.line("%s: exactly these entries beside what is fed", table.Name)
		for _, r := range table.Body.(*design.HubTable).Routes {
			via := "nothing: a black hole"
			if a := d.Get(r.Via); a != nil {
				via = a.Name
			}
			p.line("  [ ] %s via %s", r.Prefix, via)
		}
	}
	for _, table := range d.Inside(party, design.KindTable) {
		p.line("")
		p.line("%s: exactly these entries beside the local ones", table.Name)
		for _, r := range table.Body.(*design.Table).Routes {
			p.line("  [ ] %s via %s%s", r.Prefix, design.WayWords(d.Get, r.Via), map[bool]string{true: ", published to its hubs"}[r.Publish == design.Published])
		}
	}
	p.line("")
	p.line("Then prove it")
	for _, i := range d.Of(design.KindIntent) {
		proofLine(p, t, i, party)
	}
	return File{Path: folders.name(o.Name) + "-sheet.txt", About: "what the administrator must find set, to tick off", Content: p.String()}
}

// RuleWords is a translation in words.
func RuleWords(d *design.Design, r design.Rule) string {
	out := r.Does
	if r.Real.IsValid() {
		out += " " + r.Real.String()
	}
	if r.Into.IsValid() {
		out += " to " + r.Into.String()
	}
	if r.Target.IsValid() {
		out += " " + r.Target.String()
	}
	for _, c := range []struct {
		word string
		list []netip.Prefix
	}{{"from", r.Source}, {"to", r.Destination}} {
		if len(c.list) > 0 {
			out += ", " + c.word + " " + words(c.list)
		}
	}
	if len(r.Services) > 0 {
		out += ", for " + words(r.Services)
	}
	if r.From != "" {
		out += ", coming by " + d.Title(r.From)
	}
	if r.Toward != "" {
		out += ", going by " + d.Title(r.Toward)
	}
	return out
}

func linkSheet(p *page, d *design.Design, e *end) {
	p.line("  %s, to %s", e.link.Name, d.Title(e.far.Gateway))
	for _, s := range e.tunnels {
		p.line("  [ ] %s: IKEv%d from %s to %s, pre-shared key%s", s.tunnel.Name, s.set.Version, orFill(unknown(s.set.Address)), orFill(unknown(s.set.Peer)), insideWords(e, s))
		p.line("      IKE: %s; renewed after %d s", strings.Join(s.set.IKE, ", "), s.set.IKELife)
		p.line("      ESP: %s; renewed after %d s", strings.Join(s.set.ESP, ", "), s.set.ChildLife)
		for _, ts := range pairs(s) {
			p.line("      selectors: local %s, remote %s", ts.local, ts.remote)
		}
		for _, o := range d.Inside(s.tunnel.ID, design.KindSession) {
			sessionSheet(p, d, o, e.n)
		}
	}
	if e.body.Routing == design.RoutingStatic {
		for _, r := range e.near.Routes {
			p.line("  [ ] send %s into it", r)
		}
	}
}

// unknown is an address, or nothing while a cloud has not given it.
func unknown(a netip.Addr) string {
	if a.IsUnspecified() {
		return ""
	}
	return a.String()
}

func insideWords(e *end, s tunnel) string {
	if len(s.body.Inside) != 2 {
		return ""
	}
	return fmt.Sprintf("; inside address %s, far end %s", s.body.Inside[e.n], s.body.Inside[1-e.n].Addr())
}

func proofLine(p *page, t *route.Tables, intent *design.Object, party design.ID) {
	d := t.Design
	in := intent.Body.(*design.Intent)
	if !d.Concerns(in.From, party) {
		return
	}
	must := "must answer"
	if in.Never {
		must = "must not answer"
	}
	service := "every service"
	if in.Service != (design.Service{}) {
		service = in.Service.String()
	}
	from := in.From
	if o := d.Get(from); o.Kind == design.KindSegment {
		from = party
	}
	at := "any address"
	if flow, err := walk.FlowBetween(t, from, in.To, in.Service); err == nil {
		at = flow.To.String()
		if in.Service != (design.Service{}) {
			service = flow.Service.String() // what is dialled, where a published service leads there
		}
	}
	p.line("  [ ] from %s: %s %s %s (%s)", d.Get(in.From).Name, at, service, must, d.Get(in.To).Name)
}
