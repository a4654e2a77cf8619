package handover

import (
	"fmt"
	"strings"

	"dravin/core/box"
)

// keyed renders a gateway's connections in the IPsec daemon's older style. It has no interfaces of tunnels' own, but
// marks: where routes decide, the daemon puts the tunnel's number on its policies, and what is routed into the
// interface has the same.
func keyed(b *box.Box) []File {
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
	s.comment("The pre-shared keys. Readable by root alone (mode 0600); put each in place of %s.", fillIn)
	p.line("config setup")
	for _, l := range links {
		for _, t := range l.Tunnels {
			p.line("")
			p.comment("%s, %s, to %s", l.Name, t.Name, l.Far)
			for n, pair := range t.Pairs() {
				keyedConn(p, l, t, childName(l, t, n), pair)
			}
			s.line("%s %s : PSK \"%s\"", keyedIdentity(t.Set.Identity), keyedIdentity(orFill(t.Set.PeerIdentity)), fillIn)
		}
	}
	at := folders.name(b.Name) + "/"
	return []File{
		{Path: at + "ipsec.conf", About: "the IPsec daemon's connections, in its older style", Content: p.String()},
		{
			Path: at + "ipsec.secrets", About: "the pre-shared keys in the older style, to fill in", Content: s.String(),
			Secret: true,
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
