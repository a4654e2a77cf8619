package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// answers lets a gateway or box answer for what it listens on, and, among the
// hosts of a LAN or subnet, for its pools and mapped ranges. Neighbours of IPv4 are
// told of any address that the box has; of IPv6 only of those of the interface that
// was asked, and those that it is told to answer for there (RFC 4389).
func answers(p *page, d *design.Design, g *design.Object) {
	listens := listensOn(d, g)
	among := route.Among(d, g)
	if len(listens)+len(among) == 0 {
		return
	}
	p.line("")
	p.comment("What it answers for beside its own addresses: listeners, and pools among the addresses of hosts.")
	if slices.ContainsFunc(slices.Concat(among, alone(listens)), func(r netip.Prefix) bool { return r.Addr().Is6() && beside(d, g, r).IsValid() }) {
		p.comment("at RANGE: the interface on which this box is in a range; the loopback one if on none.")
		p.line(`at() { ip -6 -o address show to "$1" scope global | awk '$2 != "lo" { print $2; n++; exit } END { if (!n) print "lo" }'; }`)
	}
	for _, a := range listens {
		if own := beside(d, g, route.Alone(a)); a.Is6() && own.IsValid() {
			p.line(`ip address replace %s dev "$(at %s)" nodad preferred_lft 0`, route.Alone(a), own) // never a source by itself
			continue
		}
		p.line("ip address replace %s dev lo%s", route.Alone(a), neverSource(a))
	}
	for _, r := range among {
		p.line("ip %s route replace local %s dev lo", flag(r.Addr().Is4()), r)
		if r.Addr().Is4() {
			continue
		}
		p.line(`d=$(at %s); sysctl -qw "net.ipv6.conf.$d.proxy_ndp=1" "net.ipv6.neigh.$d.proxy_delay=0"`, beside(d, g, r))
		for a := r.Masked().Addr(); r.Contains(a); a = a.Next() {
			p.line(`ip -6 neighbour replace proxy %s dev "$d"`, a)
		}
	}
}

// neverSource keeps the kernel from taking an address of the loopback interface for the
// source of what leaves by an interface that has none.
func neverSource(a netip.Addr) string {
	if a.Is4() {
		return " scope host"
	}
	return " nodad preferred_lft 0"
}

// tunnelsToward are the tunnels over which a box dials an address itself.
func tunnelsToward(t *route.Tables, g *design.Object, to netip.Addr) (out []design.ID) {
	c := t.Point(g.ID).Lookup(to)
	if c.Winner == nil || c.Winner.Hop.Kind != route.Tunnel {
		return nil
	}
	for _, s := range t.Design.Inside(c.Winner.Hop.To, design.KindTunnel) {
		if (len(c.Winner.Tunnels) == 0 || slices.Contains(c.Winner.Tunnels, s.ID)) && !design.GoneAtAnEnd(s) {
			out = append(out, s.ID)
		}
	}
	return out
}

// beside is the range of a LAN or subnet in which a gateway or box stands, and of which
// another is a part; invalid if there is none.
func beside(d *design.Design, g *design.Object, r netip.Prefix) netip.Prefix {
	for _, place := range d.Inside(g.Parent, design.KindLAN, design.KindSubnet) {
		for _, own := range design.RangesOf(place) {
			if d.StandsIn(g, place) && prefix.Contains(own, r) {
				return own
			}
		}
	}
	return netip.Prefix{}
}

// listensOn are the addresses that a gateway or box must be given to listen on:
// those that it does not have anyway.
func listensOn(d *design.Design, g *design.Object) []netip.Addr {
	own := slices.Concat(design.StandsAt(g), route.InsideOf(d, g.ID))
	if b, ok := g.Body.(*design.Gateway); ok {
		own = append(own, b.Addresses...)
	}
	var out []netip.Addr
	for _, o := range d.ListenersAt(g.ID) {
		if a := o.Body.(*design.Listener).Address; !slices.Contains(out, a) && !slices.Contains(own, a) {
			out = append(out, a)
		}
	}
	return out
}

func alone(list []netip.Addr) []netip.Prefix {
	var out []netip.Prefix
	for _, a := range list {
		out = append(out, route.Alone(a))
	}
	return out
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
		content := unit(o.Name+", a published service at "+d.Title(g.ID), "Dravin: published service "+slug(o), later,
			[]string{"ExecStart=" + relayCommand(t, g, l), "Restart=always", "RestartSec=2", "DynamicUser=yes", "AmbientCapabilities=CAP_NET_BIND_SERVICE"})
		out = append(out, File{Path: folders.name(g.Name) + "/systemd/system/dravin-listener-" + folders.name(slug(o)) + ".service", About: "runs the listener of " + o.Name + "; needs the package socat", Content: content})
	}
	return out
}

func slug(o *design.Object) string { return design.Slug(o.Name) }

// relayCommand listens where callers dial, and dials on from the address that
// walks show.
func relayCommand(t *route.Tables, g *design.Object, l *design.Listener) string {
	to, port := t.Design.DialOf(l)
	proto := strings.ToUpper(l.Service.Proto)
	listen := fmt.Sprintf("%s%s-LISTEN:%d,bind=%s,reuseaddr,fork", proto, socketFamily(l.Address), l.Service.Port, socketAddress(l.Address))
	dial := fmt.Sprintf("%s%s:%s:%d", proto, socketFamily(to), socketAddress(to), port)
	if src := t.Dials(g.ID, to); src.IsValid() && !src.Assumed && src.Addr.Is4() == to.Is4() &&
		len(tunnelsToward(t, g, to)) < 2 {
		dial += ",bind=" + socketAddress(src.Addr)
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
