package handover

import (
	"encoding/base64"
	"fmt"
	"net/netip"
	"strings"

	"dravin/core/box"
	"dravin/core/route"
)

// keyed renders a gateway's connections in the IPsec daemon's older style. It knows no if_id, but marks: where routes
// decide, the daemon puts the tunnel's number on its policies, and the interface puts the same on what is routed into
// it.
func keyed(b *box.Box, keys Keys) []File {
	var links []*box.Link
	for _, l := range b.Links {
		if len(l.Tunnels) > 0 {
			links = append(links, l)
		}
	}
	if len(links) == 0 {
		return nil
	}
	p, s := &page{}, &page{}
	p.head("IPsec connections of " + b.Title + ", in the older style")
	s.comment("The pre-shared keys. Readable by root alone (mode 0600).")
	p.line("config setup")
	keyedBypass(p, b.Main().Table)
	for _, l := range links {
		for _, t := range l.Tunnels {
			p.line("")
			p.comment("%s, %s, to %s", l.Name, t.Name, l.Far)
			for n, pair := range t.Pairs() {
				keyedConn(p, l, t, childName(l, t, n), pair)
			}
			ids := keyedIdentity(t.Set.Identity) + " " + keyedIdentity(orFill(t.Set.PeerIdentity))
			if key := keys[t.ID]; key == "" || key == Masked {
				s.comment(
					"%s, %s: put the key into the next line in place of %s, and begin it without the mark",
					l.Name, t.Name, fillIn,
				)
				s.comment("%s : PSK \"%s\"", ids, fillIn)
			} else {
				s.line("%s : PSK %s", ids, keyedKey(key))
			}
		}
	}
	at := folders.name(b.Name) + "/"
	return append(keyedInterfaces(b, at), []File{
		{Path: at + "ipsec.conf", About: "the IPsec daemon's connections, in its older style", Content: p.String()},
		{
			Path: at + "ipsec.secrets", About: "the pre-shared keys in the older style, where they are known",
			Content: s.String(), Secret: true,
		},
	}...)
}

// keyedBypass keeps traffic between the site's own ranges out of every selector, as [bypass] does.
func keyedBypass(p *page, point *route.Point) {
	if !drawn(point) {
		return
	}
	for n, a := range point.Own {
		for k, b := range point.Own {
			if a.Addr().Is4() != b.Addr().Is4() {
				continue
			}
			p.line("")
			p.line("conn own-ranges-%d-%d", n+1, k+1)
			for _, l := range []string{
				"left=127.0.0.1", "right=127.0.0.1", "authby=never", "leftsubnet=" + a.String(),
				"rightsubnet=" + b.String(), "type=passthrough", "auto=route",
			} {
				p.line("    %s", l)
			}
		}
	}
}

// keyedInterfaces makes the interfaces of route-based tunnels before the routes' script looks for them: this style
// knows marks and no if_id, so they are of the kind that puts its key on what is routed into it as a mark.
func keyedInterfaces(b *box.Box, at string) []File {
	s := &page{}
	s.line("#!/bin/sh")
	s.head("Interfaces of tunnels at " + b.Title + ", for the older style")
	s.line("set -eu")
	made := 0
	for _, l := range b.Links {
		for _, t := range l.Tunnels {
			if !l.Routed() {
				continue
			}
			made++
			kind, any := "vti", netip.IPv4Unspecified()
			if t.Set.Peer.Is6() {
				kind, any = "vti6", netip.IPv6Unspecified()
			}
			local := t.Set.Address
			if t.Set.NAT || !local.IsValid() {
				local = any // it has another address there
			}
			s.line("")
			s.comment("%s, %s, to %s", l.Name, t.Name, l.Far)
			s.line("if ip -d link show %[1]s 2>/dev/null | grep -q xfrm; then ip link delete %[1]s; fi", t.Device())
			s.line(
				"ip link show %[1]s >/dev/null 2>&1 || ip link add %[1]s type %[2]s local %[3]s remote %[4]s key %[5]d",
				t.Device(), kind, local, keyedPeer(t), t.Number,
			)
			s.line("sysctl -qw net.ipv4.conf.%s.disable_policy=1", t.Device())
		}
	}
	if made == 0 {
		return nil
	}
	first := &page{}
	first.head("The interfaces of the older style are there before the routes' script looks for them.")
	first.line("[Service]")
	first.line("ExecStartPre=/bin/sh /etc/dravin/keyed.sh")
	return []File{
		{
			Path: at + "dravin/keyed.sh", About: "makes the tunnels' interfaces where the older style is used",
			Content: s.String(),
		},
		{
			Path:  at + "systemd/system/" + start + ".d/keyed.conf",
			About: "has the unit make them before the routes", Content: first.String(),
		},
	}
}

func keyedConn(p *page, l *box.Link, t box.Tunnel, name string, pair box.Pair) {
	p.line("conn %s", name)
	set := func(key, format string, args ...any) { p.line("    %s=%s", key, fmt.Sprintf(format, args...)) }
	set("keyexchange", "ikev%d", t.Set.Version)
	set("authby", "secret")
	if t.Set.NAT {
		set("left", "%%any")
	} else {
		set("left", "%s", t.Set.Address)
	}
	set("leftid", "%s", keyedIdentity(t.Set.Identity))
	set("leftsubnet", "%s", pair.Local)
	set("right", "%s", keyedPeer(t))
	set("rightid", "%s", keyedIdentity(orFill(t.Set.PeerIdentity)))
	set("rightsubnet", "%s", pair.Remote)
	set("ike", "%s!", strings.Join(t.Set.IKE, ","))
	set("esp", "%s!", strings.Join(t.Set.ESP, ","))
	set("ikelifetime", "%ds", t.Set.IKELife)
	set("lifetime", "%ds", t.Set.ChildLife)
	set("dpddelay", "%ds", t.Set.DPD)
	set("mobike", "no")
	if t.Set.Encapsulate || t.Set.NAT {
		set("forceencaps", "yes")
	}
	if l.Routed() {
		set("mark", "%d", t.Number)
	}
	if t.Starts {
		set("dpdaction", "restart")
		set("closeaction", "restart")
		set("auto", "start")
	} else {
		set("dpdaction", "clear")
		set("auto", "add")
	}
}

// keyedKey is a key in that style, in which nothing within quotes can be a quote: a key that has one is written in
// Base64 (RFC 4648 section 4).
func keyedKey(key string) string {
	if strings.ContainsAny(key, "\"\n\r") {
		return "0s" + base64.StdEncoding.EncodeToString([]byte(key))
	}
	return `"` + key + `"`
}

// keyedIdentity keeps the daemon from asking a name server for what is a name.
func keyedIdentity(text string) string {
	address := strings.Contains(text, ":") || strings.Trim(text, "0123456789.") == ""
	if address || strings.Contains(text, "@") || text == fillIn {
		return text
	}
	return "@" + text
}

func keyedPeer(t box.Tunnel) string {
	if !t.Set.Peer.IsValid() || t.Set.Peer.IsUnspecified() {
		return fillIn
	}
	return t.Set.Peer.String()
}
