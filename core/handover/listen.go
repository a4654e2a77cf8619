package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/route"
)

// answers lets a gateway or box answer for what it listens on, and, among the
// hosts of a LAN or subnet, for its pools and mapped ranges.
func answers(p *page, d *design.Design, g *design.Object) {
	var listens []netip.Addr
	for _, o := range d.ListenersAt(g.ID) {
		if a := o.Body.(*design.Listener).Address; !slices.Contains(listens, a) && !slices.Contains(design.StandsAt(g), a) {
			listens = append(listens, a)
		}
	}
	if among := route.Among(d, g); len(listens)+len(among) > 0 {
		p.line("")
		p.comment("What it answers for beside its own addresses: listeners, and pools among the addresses of hosts.")
		for _, a := range listens {
			p.line("ip address replace %s dev lo", route.Alone(a))
		}
		for _, r := range among {
			p.line("ip %s route replace local %s dev lo", flag(r.Addr().Is4()), r)
		}
	}
}

// callers keeps everybody out of a published service whom it does not let in.
func (r ruleset) callers() {
	var limited []*design.Listener
	for _, o := range r.t.Design.ListenersAt(r.point.ID) {
		if l := o.Body.(*design.Listener); len(l.Callers) > 0 && l.Address.Is4() == r.v4 {
			limited = append(limited, l)
		}
	}
	if len(limited) == 0 {
		return
	}
	r.chain("calling", "input", "filter", "filter", func() {
		for _, l := range limited {
			refuse := "drop"
			if list := r.ofFamily(l.Callers); len(list) > 0 {
				refuse = fmt.Sprintf("%s saddr != %s drop", r.family, set(list))
			}
			r.line("%s daddr %s %s dport %d %s", r.family, l.Address, l.Service.Proto, l.Service.Port, refuse)
		}
	})
}

// relays are the units of the published services that proxy at a gateway or box:
// each a program that listens and opens a connection of its own for every caller.
func relays(t *route.Tables, g *design.Object) []File {
	d := t.Design
	var out []File
	for _, o := range d.ListenersAt(g.ID) {
		l := o.Body.(*design.Listener)
		if !l.Proxies() {
			continue
		}
		p := &page{}
		p.head(o.Name + ", a published service at " + d.Title(g.ID))
		p.line("[Unit]")
		p.line("Description=Dravin: published service %s", slug(o))
		p.line("After=network-online.target")
		p.line("")
		p.line("[Service]")
		p.line("ExecStart=%s", relayCommand(t, g, l))
		p.line("Restart=always")
		p.line("DynamicUser=yes")
		p.line("AmbientCapabilities=CAP_NET_BIND_SERVICE")
		p.line("")
		p.line("[Install]")
		p.line("WantedBy=multi-user.target")
		out = append(out, File{Path: folders.name(g.Name) + "/systemd/system/dravin-listener-" + folders.name(slug(o)) + ".service", About: "runs the listener of " + o.Name + "; needs the package socat", Content: p.String()})
	}
	return out
}

func slug(o *design.Object) string { return design.Slug(o.Name) }

// relayCommand listens where callers dial, and dials on from the address that
// walks show.
func relayCommand(t *route.Tables, g *design.Object, l *design.Listener) string {
	to, port := t.Design.DialOf(l)
	point := t.Point(g.ID)
	hop := route.Hop{}
	if c := point.Lookup(to); c.Winner != nil {
		hop = c.Winner.Hop
	}
	proto := strings.ToUpper(l.Service.Proto)
	listen := fmt.Sprintf("%s%s-LISTEN:%d,bind=%s,reuseaddr,fork", proto, socketFamily(l.Address), l.Service.Port, socketAddress(l.Address))
	dial := fmt.Sprintf("%s%s:%s:%d", proto, socketFamily(to), socketAddress(to), port)
	if src := t.OwnAddress(point, hop, to); src.IsValid() && src.Is4() == to.Is4() {
		dial += ",bind=" + socketAddress(src)
	}
	return "/usr/bin/socat -T 600 " + listen + " " + dial
}

func socketFamily(a netip.Addr) string {
	if a.Is4() {
		return "4"
	}
	return "6"
}

func socketAddress(a netip.Addr) string {
	if a.Is4() {
		return a.String()
	}
	return "[" + a.String() + "]"
}

func boxSheet(p *page, d *design.Design, o *design.Object) {
	b := o.Body.(*design.Box)
	p.line("")
	p.line("%s (%s): it forwards, and no source check keeps it from that", o.Name, words(b.Addresses))
	for _, r := range b.Routes {
		via := "nothing: a black hole"
		if r.Via.IsValid() {
			via = r.Via.String()
		}
		p.line("  [ ] %s via %s", r.Prefix, via)
	}
	for _, r := range b.Translate {
		p.line("  [ ] %s: %s", r.Hook, RuleWords(d, r))
	}
}

// listenerSheet lists what is published at a party.
func listenerSheet(p *page, d *design.Design, party design.ID) {
	first := true
	for _, o := range d.Of(design.KindListener) {
		l := o.Body.(*design.Listener)
		if d.Party(l.At).ID != party {
			continue
		}
		if first {
			p.line("")
			p.line("Published services")
			first = false
		}
		p.line("  [ ] %s: %s", o.Name, ListenerWords(d, l))
	}
}

// ListenerWords is a published service in words.
func ListenerWords(d *design.Design, l *design.Listener) string {
	to, port := d.DialOf(l)
	how := "proxied"
	if !l.Proxies() {
		how = "rewritten"
		if l.Hides {
			how = "rewritten, callers hidden"
		}
	}
	out := fmt.Sprintf("%s %s at %s to %s %s (%s), %s", l.Address, l.Service, d.Title(l.At), to, design.Service{Proto: l.Service.Proto, Port: port}, d.Title(l.Target), how)
	if len(l.Callers) > 0 {
		out += "; callers: " + words(l.Callers)
	}
	return out
}
