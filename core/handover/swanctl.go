package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/route"
)

// swanctl renders the connections of a gateway: one for each tunnel, in it one
// child for each pair of ranges, since not every far end takes several pairs
// in one.
func swanctl(t *route.Tables, g *design.Object, ends []*end) string {
	p := &page{}
	p.head("IPsec connections of " + t.Design.Title(g.ID))
	p.block("connections", func() {
		bypass(p, t.Point(g.ID))
		for _, e := range ends {
			for _, s := range e.tunnels {
				connection(p, t.Design, e, s)
			}
		}
	})
	return p.String()
}

// daemonSettings are those of the IPsec daemon as a whole.
func daemonSettings(g *design.Object) string {
	p := &page{}
	p.head("The IPsec daemon at " + g.Name)
	p.block("charon", func() {
		p.comment("What it would add goes before every other route, the box's own ranges included; routes.sh has what is needed.")
		p.line("install_routes = no")
	})
	return p.String()
}

// bypass keeps traffic between the site's own ranges out of every selector,
// where a far range overlaps one of them: it must never draw local traffic into
// a tunnel, and a kernel asks its selectors whatever the route says.
func bypass(p *page, point *route.Point) {
	if !slices.ContainsFunc(point.Selectors, func(s route.Selector) bool { return slices.ContainsFunc(point.Own, s.Remote.Overlaps) }) {
		return
	}
	p.block("own-ranges", func() {
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

func connection(p *page, d *design.Design, e *end, s tunnel) {
	p.comment("%s, %s, to %s", e.link.Name, s.tunnel.Name, d.Title(e.far.Gateway))
	p.block(connectionName(e, s), func() {
		p.line("version = %d", s.set.Version)
		if s.set.NAT {
			p.comment("It stands behind a NAT: it listens on the address that it has itself.")
			p.line("local_addrs = %%any")
		} else {
			p.line("local_addrs = %s", s.set.Address)
		}
		p.line("remote_addrs = %s", farAddress(p, s.set))
		p.line("proposals = %s", value(strings.Join(s.set.IKE, ", ")))
		p.line("rekey_time = %ds", s.set.IKELife)
		p.line("dpd_delay = %ds", s.set.DPD)
		if s.set.Encapsulate || s.set.NAT {
			p.line("encap = yes")
		}
		if e.routed() {
			p.line("if_id_in = %d", s.number)
			p.line("if_id_out = %d", s.number)
		}
		authentication(p, "local", s.set.Identity)
		authentication(p, "remote", orFill(s.set.PeerIdentity))
		p.block("children", func() {
			for n, pair := range pairs(s) {
				child(p, e, s, childName(e, s, n), pair)
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
const fillIn = "FILL-IN"

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

func connectionName(e *end, s tunnel) string {
	return sections.name(e.link.Name, s.tunnel.Name)
}

func childName(e *end, s tunnel, n int) string {
	return fmt.Sprintf("%s__%d", connectionName(e, s), n+1)
}

type pair struct{ local, remote netip.Prefix }

// pairs are the selectors of a tunnel, as its end is set: each local range with each
// remote one of its family.
func pairs(s tunnel) []pair {
	var out []pair
	for _, l := range s.set.Local {
		for _, r := range s.set.Remote {
			if l.Addr().Is4() == r.Addr().Is4() {
				out = append(out, pair{l, r})
			}
		}
	}
	return out
}

func child(p *page, e *end, s tunnel, name string, ts pair) {
	p.block(name, func() {
		p.line("local_ts = %s", ts.local)
		p.line("remote_ts = %s", ts.remote)
		p.line("esp_proposals = %s", value(strings.Join(s.set.ESP, ", ")))
		p.line("rekey_time = %ds", s.set.ChildLife)
		if s.starts { // only one end starts, so that there is never a second pair of SAs
			p.line("start_action = start")
			p.line("dpd_action = restart")
			p.line("close_action = start")
		} else {
			p.line("start_action = none # the far end starts")
		}
	})
}

func swanctlKeys(d *design.Design, ends []*end, keys Keys) string {
	p := &page{}
	p.head("Pre-shared keys. Readable by root alone (mode 0600).")
	p.block("secrets", func() {
		for _, e := range ends {
			for _, s := range e.tunnels {
				key := keys[s.tunnel.ID]
				if key == "" {
					p.comment("No key is known for %s, %s: agree on one with %s and put it here.", e.link.Name, s.tunnel.Name, d.Title(e.far.Gateway))
					key = fillIn
				}
				p.block("ike-"+connectionName(e, s), func() {
					p.line("id-1 = %s", value(s.set.Identity))
					p.line("id-2 = %s", value(orFill(s.set.PeerIdentity)))
					p.line("secret = %s", quoted(key))
				})
			}
		}
	})
	return p.String()
}

// cloudKeys lists the pre-shared keys of the tunnels that end at a cloud's gateways: its
// administrator enters them there. It is empty where none ends.
func cloudKeys(t *route.Tables, party design.ID, keys Keys) (f File) {
	o := t.Design.Get(party)
	if o == nil || o.Kind == design.KindSite {
		return f
	}
	p := &page{}
	p.comment(
		"The pre-shared keys of the tunnels at %s. Enter each at its tunnel, and keep this file to yourself.",
		t.Design.Title(party),
	)
	for _, g := range t.Design.Inside(party, design.KindGateway) {
		for _, e := range endsOf(t, g.ID) {
			for _, s := range e.tunnels {
				f = File{Path: folders.name(o.Name) + "-keys.txt", About: "the pre-shared keys to enter; the far end needs the same", Secret: true}
				key := keys[s.tunnel.ID]
				if key == "" {
					key = fillIn
				}
				p.line("%s, %s, to %s: %s", e.link.Name, s.tunnel.Name, t.Design.Title(e.far.Gateway), key)
			}
		}
	}
	f.Content = p.String()
	return f
}

func tsList(ps []netip.Prefix) string { return strings.ReplaceAll(words(ps), ", ", ",") }
