package handover

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/route"
)

// swanctl renders the connections of a gateway: one for each tunnel, in it one
// child for each pair of ranges, since not every far end takes several pairs
// in one.
func swanctl(b *box.Box) string {
	p := &page{}
	p.head("IPsec connections of " + b.Title)
	p.block("connections", func() {
		bypass(p, b.Main().Table)
		for _, l := range b.Links {
			for _, t := range l.Tunnels {
				connection(p, l, t)
			}
		}
	})
	return p.String()
}

// daemonSettings are those of the IPsec daemon as a whole.
func daemonSettings(b *box.Box) string {
	p := &page{}
	p.head("The IPsec daemon at " + b.Name)
	p.block("charon", func() {
		p.comment(
			"What it would add goes before every other route, the box's own ranges included; routes.sh has what is needed.",
		)
		p.line("install_routes = no")
	})
	return p.String()
}

// Bypass is what the IPsec daemon calls the policies that keep traffic between the site's own ranges out of tunnels.
const Bypass = "own-ranges"

// bypass keeps traffic between the site's own ranges out of every selector,
// where a far range overlaps one of them: it must never draw local traffic into
// a tunnel, and a kernel asks its selectors whatever the route says.
func bypass(p *page, point *route.Point) {
	if !drawn(point) {
		return
	}
	p.block(Bypass, func() {
		p.line("remote_addrs = 127.0.0.1")
		p.block("children", func() {
			p.block("stay", func() {
				p.line("local_ts = %s", tsList(point.Own))
				p.line("remote_ts = %s", tsList(point.Own))
				p.line("mode = pass")
				p.line("start_action = trap")
			})
		})
	})
}

// drawn reports whether a far range overlaps one of the site's own.
func drawn(point *route.Point) bool {
	return slices.ContainsFunc(
		point.Selectors, func(s route.Selector) bool { return slices.ContainsFunc(point.Own, s.Remote.Overlaps) },
	)
}

func connection(p *page, l *box.Link, t box.Tunnel) {
	p.comment("%s, %s, to %s", l.Name, t.Name, l.Far)
	p.block(connectionName(l, t), func() {
		p.line("version = %d", t.Set.Version)
		if t.Set.Version != 1 { // else it would move into the tunnel itself once that has addresses
			p.line("mobike = no # its addresses are as they are (RFC 4555)")
		}
		if t.Set.NAT {
			p.comment("It stands behind a NAT: it listens on the address that it has itself.")
			p.line("local_addrs = %%any")
		} else {
			p.line("local_addrs = %s", t.Set.Address)
		}
		p.line("remote_addrs = %s", farAddress(p, t.Set))
		p.line("proposals = %s", value(strings.Join(t.Set.IKE, ", ")))
		p.line("rekey_time = %ds", t.Set.IKELife)
		p.line("dpd_delay = %ds", t.Set.DPD)
		if t.Set.Encapsulate || t.Set.NAT {
			p.line("encap = yes")
		}
		if l.Routed() {
			p.line("if_id_in = %d", t.Number)
			p.line("if_id_out = %d", t.Number)
		}
		authentication(p, "local", t.Set.Identity)
		authentication(p, "remote", orFill(t.Set.PeerIdentity))
		p.block("children", func() {
			for n, pair := range t.Pairs() {
				child(p, t, childName(l, t, n), pair)
			}
		})
	})
}

func authentication(p *page, side, identity string) {
	p.block(side, func() {
		p.line("auth = psk")
		p.line("id = %s", value(identity))
	})
}

// fillIn stands for what is not known yet.
const fillIn = box.FillIn

func orFill(text string) string {
	if text == "" {
		return fillIn
	}
	return text
}

func farAddress(p *page, s negotiate.Settings) string {
	if !s.Peer.IsValid() || s.Peer.IsUnspecified() {
		p.comment("The far end's public address is not known yet; put it here and as its id.")
		return fillIn
	}
	return s.Peer.String()
}

func connectionName(l *box.Link, t box.Tunnel) string {
	return sections.name(l.Name, t.Name)
}

func childName(l *box.Link, t box.Tunnel, n int) string {
	return fmt.Sprintf("%s__%d", connectionName(l, t), n+1)
}

func child(p *page, t box.Tunnel, name string, ts box.Pair) {
	p.block(name, func() {
		p.line("local_ts = %s", ts.Local)
		p.line("remote_ts = %s", ts.Remote)
		p.line("esp_proposals = %s", value(strings.Join(t.Set.ESP, ", ")))
		p.line("rekey_time = %ds", t.Set.ChildLife)
		if t.Starts { // only one end starts, so that there is never a second pair of SAs
			p.line("start_action = start")
			p.line("dpd_action = restart")
			p.line("close_action = start")
		} else {
			p.line("start_action = none # the far end starts")
		}
	})
}

func swanctlKeys(b *box.Box, keys Keys) string {
	p := &page{}
	p.head("Pre-shared keys. Readable by root alone (mode 0600).")
	p.block("secrets", func() {
		for _, l := range b.Links {
			for _, t := range l.Tunnels {
				key := keys[t.ID]
				if key == "" {
					p.comment(
						"No key is known for %s, %s: agree on one with %s and put it here.", l.Name, t.Name, l.Far,
					)
				}
				p.block("ike-"+connectionName(l, t), func() {
					p.line("id-1 = %s", value(t.Set.Identity))
					p.line("id-2 = %s", value(orFill(t.Set.PeerIdentity)))
					// A tunnel without a key stays down. One whose key is a word that stands in everybody's file would come up.
					if key == "" || key == Masked {
						p.comment("secret = %s", quoted(cmp.Or(key, fillIn)))
						return
					}
					p.line("secret = %s", quoted(key))
				})
			}
		}
	})
	return p.String()
}

// cloudKeys lists the pre-shared keys of the tunnels that end at a cloud's gateways: its
// administrator enters them there. It is empty where none ends.
func cloudKeys(party *box.Party, keys Keys) (f File) {
	if party.Kind == design.KindSite {
		return f
	}
	p := &page{}
	p.comment(
		"The pre-shared keys of the tunnels at %s. Enter each at its tunnel, and keep this file to yourself.",
		party.Name,
	)
	for _, b := range party.Boxes {
		for _, l := range b.Links {
			for _, t := range l.Tunnels {
				f = File{
					Path:  folders.name(party.Name) + "-keys.txt",
					About: "the pre-shared keys to enter; the far end needs the same", Secret: true,
				}
				p.line("%s, %s, to %s: %s", l.Name, t.Name, l.Far, orFill(keys[t.ID]))
			}
		}
	}
	f.Content = p.String()
	return f
}

func tsList(ps []netip.Prefix) string { return strings.ReplaceAll(words(ps), ", ", ",") }
