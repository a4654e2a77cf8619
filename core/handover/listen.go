package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
)

// answers lets a gateway or box answer for what it listens on, and, among the
// hosts of a LAN or subnet, for its pools and mapped ranges. Neighbours of IPv4 are
// told of any address that the box has; of IPv6 only of those of the interface that
// was asked, and those that it is told to answer for there (RFC 4389).
func answers(p *page, b *box.Box) {
	if len(b.Listens)+len(b.Among) == 0 {
		return
	}
	p.line("")
	p.comment("What it answers for beside its own addresses: listeners, and pools among the addresses of hosts.")
	met := func(a box.Answer) bool { return a.Range.Addr().Is6() && a.Beside.IsValid() }
	if slices.ContainsFunc(slices.Concat(b.Among, b.Listens), met) {
		p.comment("at RANGE: the interface on which this box is in a range; the loopback one if on none.")
		p.line(
			`at() { ip -6 -o address show to "$1" scope global | awk '$2 != "lo" { print $2; n++; exit } END { if (!n) print "lo" }'; }`,
		)
	}
	for _, a := range b.Listens {
		if met(a) {
			p.line(
				`ip address replace %s dev "$(at %s)" nodad preferred_lft 0`,
				a.Range,
				a.Beside,
			) // never a source by itself
			continue
		}
		p.line("ip address replace %s dev lo%s", a.Range, neverSource(a.Range.Addr()))
	}
	for _, x := range b.Among {
		p.line("ip %s route replace local %s dev lo", flag(x.Range), x.Range)
		if x.Range.Addr().Is4() {
			continue
		}
		p.line(`d=$(at %s); sysctl -qw "net.ipv6.conf.$d.proxy_ndp=1" "net.ipv6.neigh.$d.proxy_delay=0"`, x.Beside)
		for a := x.Range.Masked().Addr(); x.Range.Contains(a); a = a.Next() {
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

// callers keeps everybody out of a published service whom it does not let in.
func (r ruleset) callers() {
	var limited []box.Listener
	for _, l := range r.box.Listeners {
		if len(l.Callers) > 0 && r.of.Has(l.Address) {
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
func relays(b *box.Box) []File {
	var out []File
	for _, l := range b.Listeners {
		if !l.Proxies {
			continue
		}
		content := unit(
			l.Name+", a published service at "+b.Title,
			"Dravin: published service "+slug(l),
			later,
			[]string{
				"ExecStart=" + relayCommand(l),
				"Restart=always",
				"RestartSec=2",
				"DynamicUser=yes",
				"AmbientCapabilities=CAP_NET_BIND_SERVICE",
			},
		)
		out = append(out, File{
			Path:  folders.name(b.Name) + "/systemd/system/dravin-listener-" + folders.name(slug(l)) + ".service",
			About: "runs the listener of " + l.Name + "; needs the package socat", Content: content,
		})
	}
	return out
}

func slug(l box.Listener) string { return design.Slug(l.Name) }

// relayCommand listens where callers dial, and dials on from the address that
// walks show.
func relayCommand(l box.Listener) string {
	proto := strings.ToUpper(l.Service.Proto)
	listen := fmt.Sprintf(
		"%s%s-LISTEN:%d,bind=%s,reuseaddr,fork", proto,
		socketFamily(l.Address), l.Service.Port, socketAddress(l.Address),
	)
	dial := fmt.Sprintf("%s%s:%s:%d", proto, socketFamily(l.Dials), socketAddress(l.Dials), l.Port)
	if l.Source.IsValid() {
		dial += ",bind=" + socketAddress(l.Source)
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
