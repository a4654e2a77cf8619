package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/walk"
)

// routes renders a script that sets up what a gateway needs beside the IPsec
// daemon and the ruleset. Every line may be run again.
func routes(t *route.Tables, g *design.Object, ends []*end) string {
	p := &page{}
	p.line("#!/bin/sh")
	p.head("Addresses, interfaces and routes of " + t.Design.Title(g.ID))
	p.line("set -eu")
	p.line("")
	p.comment("The gateway forwards, and replies may leave by another interface than requests came in by.")
	for _, s := range []string{"net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1", "net.ipv4.conf.all.rp_filter=2"} {
		p.line("sysctl -qw %s", s)
	}
	ownMapped(p, t.Point(g.ID))
	for _, e := range ends {
		if e.routed() {
			interfaces(p, e)
			if e.body.Routing == design.RoutingStatic {
				linkRoutes(p, e)
			}
		}
	}
	return p.String()
}

// ownMapped gives the gateway its own address inside each mapped range: it
// then answers under it, and the IPsec daemon finds a source address that fits
// its selectors.
func ownMapped(p *page, point *route.Point) {
	var done []netip.Addr
	for _, m := range point.Mappings {
		a := prefix.FirstHost(m.Mapped)
		if slices.Contains(done, a) {
			continue
		}
		if done == nil {
			p.line("")
			p.comment("The gateway's own addresses in the mapped ranges.")
		}
		done = append(done, a)
		p.line("ip address replace %s/%d dev lo", a, a.BitLen())
	}
}

func interfaces(p *page, e *end) {
	p.line("")
	p.comment("%s: one interface for each strand.", e.link.Name)
	for _, s := range e.strands {
		p.line("ip link show %[1]s >/dev/null 2>&1 || ip link add %[1]s type xfrm if_id %[2]d", s.device(), s.number)
		if len(s.body.Inside) == 2 {
			p.line("ip address replace %s dev %s", s.body.Inside[e.n], s.device())
		}
		p.line("ip link set %s up", s.device())
	}
}

func linkRoutes(p *page, e *end) {
	var hops []string
	for _, d := range e.devices() {
		hops = append(hops, "nexthop dev "+d)
	}
	for _, r := range e.near.Routes {
		p.line("ip %sroute replace %s %s", map[bool]string{true: "", false: "-6 "}[r.Addr().Is4()], r, strings.Join(hops, " "))
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
		for _, e := range endsOf(d, g.ID) {
			linkSheet(p, d, e)
		}
		for _, m := range t.Point(g.ID).Mappings {
			p.line("  [ ] map %s to %s toward %s, one to one", m.Real, m.Mapped, d.Title(m.Link))
		}
	}
	joinSheet(p, d, party)
	for _, table := range d.Inside(party, design.KindTable) {
		p.line("")
		p.line("%s: exactly these entries beside the local ones", table.Name)
		for _, r := range table.Body.(*design.Table).Routes {
			p.line("  [ ] %s via %s", r.Prefix, d.Get(r.Via).Name)
		}
	}
	p.line("")
	p.line("Then prove it")
	for _, i := range d.Of(design.KindIntent) {
		proofLine(p, d, i, party)
	}
	return File{Path: folders.name(o.Name) + "-sheet.txt", About: "what the administrator must find set, to tick off", Content: p.String()}
}

func linkSheet(p *page, d *design.Design, e *end) {
	p.line("  %s, to %s", e.link.Name, d.Title(e.far.Gateway))
	for _, s := range e.strands {
		p.line("  [ ] %s: IKEv%d from %s to %s, pre-shared key%s", s.tunnel.Name, s.set.Version, orFill(unknown(s.set.Address)), orFill(unknown(s.set.Peer)), insideWords(e, s))
		p.line("      IKE: %s; renewed after %d s", strings.Join(s.set.IKE, ", "), s.set.IKELife)
		p.line("      ESP: %s; renewed after %d s", strings.Join(s.set.ESP, ", "), s.set.ChildLife)
		for _, o := range d.Inside(s.tunnel.ID, design.KindSession) {
			sessionSheet(p, o.Body.(*design.Session), e.n)
		}
	}
	if e.body.Routing == design.RoutingStatic {
		for _, r := range e.near.Routes {
			p.line("  [ ] send %s into it", r)
		}
	}
	for _, ts := range pairs(e) {
		if !e.routed() {
			p.line("  [ ] selectors: local %s, remote %s", ts.local, ts.remote)
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

func insideWords(e *end, s strand) string {
	if len(s.body.Inside) != 2 {
		return ""
	}
	return fmt.Sprintf("; inside address %s, far end %s", s.body.Inside[e.n], s.body.Inside[1-e.n].Addr())
}

func proofLine(p *page, d *design.Design, intent *design.Object, party design.ID) {
	in := intent.Body.(*design.Intent)
	if d.Party(in.From).ID != party {
		return
	}
	to := d.Get(in.To)
	a := to.Body.(*design.Endpoint).Addresses[0]
	if flow, err := walk.FlowBetween(d, in.From, in.To, in.Service); err == nil {
		a = flow.To
	}
	must := "must answer"
	if in.Never {
		must = "must not answer"
	}
	p.line("  [ ] from %s: %s %s %s (%s)", d.Get(in.From).Name, a, in.Service, must, to.Name)
}
