package rehearsal

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/topology"
)

// worldAt is the internet's address on every line (RFC 6598: no estate's own).
const worldAt, worldAt6 = "100.64.0.1", "fe80::1"

// own makes a box of one's own with the files that are handed over for it.
func (b *builder) own(id design.ID) *Node {
	n := b.add(OwnBox, id, "")
	if b.built != b.whole && (b.built.Design.Get(id) == nil || box.Of(b.built, id).Idle()) {
		// It has been handed nothing yet: whoever has set it up lets it route among its LANs.
		n.do("sysctl -qw net.ipv4.ip_forward=1 net.ipv6.conf.all.forwarding=1")
		return n
	}
	folder := handover.Folder(b.built.Design.Get(id).Name) + "/"
	for _, f := range handover.Render(b.built, b.built.Design.Party(id).ID, b.keys) {
		if path, ok := strings.CutPrefix(f.Path, folder); ok {
			f.Path = path
			n.Files = append(n.Files, f)
		}
	}
	for _, fault := range design.FaultsOf(b.built.Design.Get(id)) {
		n.After = append(n.After, faults[fault])
	}
	return n
}

// faults are what is wrong with a box although its files are right.
var faults = map[string]string{
	design.ForwardingOff: "sysctl -qw net.ipv4.ip_forward=0 net.ipv6.conf.all.forwarding=0",
	design.SourceCheck:   "nft 'table inet check { chain c { type filter hook forward priority 0; policy drop; }; }'",
	design.StrictReversePath: "for f in /proc/sys/net/ipv4/conf/*/rp_filter; do echo 1 >$f; done; " +
		"echo 0 >/proc/sys/net/ipv4/conf/all/rp_filter",
}

// site makes a site: its boxes, its LANs with their hosts, and its inner routers.
func (b *builder) site(s *design.Object) {
	for _, o := range b.design.Inside(s.ID, design.KindGateway, design.KindBox) {
		b.own(o.ID)
	}
	for _, lan := range b.design.Inside(s.ID, design.KindLAN) {
		b.lan(lan)
	}
	b.innerRouters(s)
	for _, g := range b.design.Inside(s.ID, design.KindGateway) {
		b.wayOut(g)
	}
	for _, x := range b.design.Inside(s.ID, design.KindBox) {
		b.routerOf(x)
	}
}

// lan makes the switch of a LAN and plugs in who stands there.
func (b *builder) lan(lan *design.Object) {
	bridge := b.lans.device("lan")
	b.lans.do("ip link add %s type bridge && ip link set %s up", bridge, bridge)
	b.devices[[2]design.ID{lan.ID, bridgeKey}] = bridge
	for _, e := range topology.Standing(b.design, lan) {
		n := b.nodes[e.To]
		dev := b.plug(n, lan)
		if tag := lan.Body.(*design.LAN).VLAN; tag != 0 {
			// Not every kernel makes tagged interfaces. A cable of its own stands for one, and says its tag.
			n.do("ip link set %s alias 'vlan protocol 802.1Q id %d '", dev, tag)
		}
		for _, p := range b.design.Ranges(lan.ID) {
			n.do("ip address add %s/%d dev %s%s", b.at(e.To, lan, p), p.Bits(), dev, nodad(p.Addr()))
		}
	}
	b.hosts(lan, func(n *Node) string { return b.plug(n, lan) })
}

// plug joins a node with the switch of a LAN.
func (b *builder) plug(n *Node, lan *design.Object) string {
	x, y := b.cable(n, "", b.lans, "")
	b.lans.do("ip link set %s master %s up", y, b.devices[[2]design.ID{lan.ID, bridgeKey}])
	n.do("ip link set %s up", x)
	b.devices[[2]design.ID{lan.ID, n.ID}] = x
	return x
}

// at is the address that a box has in a range of a place: what the design says, else one that
// nobody else has.
func (b *builder) at(id design.ID, place *design.Object, p netip.Prefix) netip.Addr {
	o := b.design.Get(id)
	stands := design.StandsAt(o)
	if x, ok := o.Body.(*design.Box); ok {
		stands = append(slices.Clone(stands), x.Addresses...)
	}
	for _, a := range stands {
		if p.Contains(a) {
			return a
		}
	}
	if a := route.Unheld(b.design, place, p); o.Kind == design.KindGateway && a.IsValid() {
		// The one that walks show, unless another gateway has it by now.
		key := fmt.Sprint(place.ID, " ", p, " ", id)
		if b.given[key] == a || !b.taken(place, a) {
			b.given[key] = a
		}
	}
	return b.free(place, p, string(id))
}

// free is an address of a range that the design gives to nobody: the first, else the next. The
// same who asks again gets the same.
func (b *builder) free(place *design.Object, p netip.Prefix, who string) netip.Addr {
	key := fmt.Sprint(place.ID, " ", p, " ", who)
	if a, ok := b.given[key]; ok {
		return a
	}
	a := prefix.FirstHost(p)
	for p.Contains(a) && b.taken(place, a) {
		a = a.Next()
	}
	b.given[key] = a
	return a
}

// taken reports whether an address of a place is somebody's.
func (b *builder) taken(place *design.Object, a netip.Addr) bool {
	for key, g := range b.given {
		if g == a && strings.HasPrefix(key, string(place.ID)+" ") {
			return true
		}
	}
	if slices.ContainsFunc(b.plan.Flows, func(f Flow) bool { return f.To == a }) {
		return true // somebody dials it, and means another
	}
	d := b.design
	for _, e := range d.Inside(place.ID, design.KindEndpoint) {
		if slices.Contains(e.Body.(*design.Endpoint).Addresses, a) {
			return true
		}
	}
	for _, i := range d.Inside(place.Parent, design.KindInnerRoute) {
		if i.Body.(*design.InnerRoute).Via == a {
			return true
		}
	}
	return b.tables.Bearer(place.ID, a) != ""
}

// hosts makes the hosts of a place, each with its way out: those that are declared, and somebody where
// there is none.
func (b *builder) hosts(place *design.Object, plug func(*Node) string) {
	declared := b.design.Inside(place.ID, design.KindEndpoint)
	for _, e := range declared {
		body := e.Body.(*design.Endpoint)
		n := b.add(HostRole, e.ID, "")
		n.Answers = body.Answers
		b.host(n, place, body.Addresses, plug)
		b.hostFilter(n, e)
	}
	if len(declared) > 0 {
		return
	}
	n := b.add(HostRole, "", "somebody in "+b.design.Title(place.ID))
	n.Party = b.design.Party(place.ID).ID
	var addresses []netip.Addr
	for _, p := range b.design.Ranges(place.ID) {
		addresses = append(addresses, b.somebody(place, p))
	}
	b.host(n, place, addresses, plug)
}

func (b *builder) host(n *Node, place *design.Object, addresses []netip.Addr, plug func(*Node) string) {
	n.Place, n.Addresses = place.ID, addresses
	n.do("sysctl -qw net.ipv4.ip_forward=0 net.ipv6.conf.all.forwarding=0")
	// A host that was told of a way around its gateway shows nothing of the gateway.
	n.do("for f in /proc/sys/net/ipv[46]/conf/*/accept_redirects; do echo 0 >$f; done")
	dev := plug(n)
	for _, p := range b.design.Ranges(place.ID) {
		beside := false
		for _, a := range addresses {
			if p.Contains(a) {
				beside = true
				n.do("ip address add %s/%d dev %s%s", a, p.Bits(), dev, nodad(a))
			}
		}
		if r := b.routerAt(place, p); beside && r.IsValid() {
			n.do("ip %s route replace default via %s", flag(p.Addr()), r)
		}
	}
}

// hostFilter gives a host the filter that is handed over for it.
func (b *builder) hostFilter(n *Node, e *design.Object) {
	place := b.proven.Design.Get(e.Parent)
	folder := handover.HostFolder(place.Name, e.Name) + "/"
	for _, f := range handover.Render(b.proven, n.Party, nil) {
		if path, ok := strings.CutPrefix(f.Path, folder); ok {
			f.Path = path
			n.Files = append(n.Files, f)
		}
	}
}

// routerAt is the address that the hosts of a place send to for everything that is not beside them.
func (b *builder) routerAt(place *design.Object, p netip.Prefix) netip.Addr {
	switch id := topology.Router(b.design, place); {
	case place.Kind != design.KindLAN:
		return b.free(place, p, "router")
	case id == "":
		return netip.Addr{}
	default:
		return b.at(id, place, p)
	}
}

// routerOf gives a box its way out: by the router of its first address.
func (b *builder) routerOf(o *design.Object) {
	n := b.nodes[o.ID]
	done := map[bool]bool{}
	for _, a := range o.Body.(*design.Box).Addresses {
		for _, e := range topology.Places(b.design, o) {
			place := b.design.Get(e.To)
			for _, p := range b.design.Ranges(e.To) {
				if r := b.routerAt(place, p); p.Contains(a) && r.IsValid() && !done[a.Is4()] {
					done[a.Is4()] = true
					n.do("ip %s route replace default via %s", flag(a), r)
				}
			}
		}
	}
}

// innerRouters makes what stands between a LAN and the ranges behind it: one for each address.
func (b *builder) innerRouters(s *design.Object) {
	made := map[netip.Addr]*Node{}
	for _, inner := range b.design.Inside(s.ID, design.KindInnerRoute) {
		via := inner.Body.(*design.InnerRoute).Via
		lan, beside := b.lanOf(s, via)
		if lan == nil {
			b.leaves("%s: no LAN holds its router's address", b.design.Title(inner.ID))
			continue
		}
		n := made[via]
		if n == nil {
			n = b.add(Router, "", b.design.Title(inner.ID)+" router")
			n.Party = s.ID
			dev := b.plug(n, lan)
			n.do("ip address add %s/%d dev %s%s", via, beside.Bits(), dev, nodad(via))
			if r := b.routerAt(lan, beside); r.IsValid() {
				n.do("ip %s route replace default via %s", flag(via), r)
			}
			made[via] = n
		}
		b.behind(s, inner, lan, n)
	}
}

// lanOf is the LAN of a site that holds an address, and the range in which it is.
func (b *builder) lanOf(s *design.Object, a netip.Addr) (*design.Object, netip.Prefix) {
	for _, lan := range b.design.Inside(s.ID, design.KindLAN) {
		for _, p := range b.design.Ranges(lan.ID) {
			if p.Contains(a) {
				return lan, p
			}
		}
	}
	return nil, netip.Prefix{}
}

// behind puts the ranges of an inner route behind their router. The site's gateways know them: they
// were there before.
func (b *builder) behind(s, inner, lan *design.Object, n *Node) {
	bridge := n.device("in")
	n.do("ip link add %s type bridge && ip link set %s up", bridge, bridge)
	for _, p := range b.design.Ranges(inner.ID) {
		n.do("ip address add %s/%d dev %s%s", b.free(inner, p, "router"), p.Bits(), bridge, nodad(p.Addr()))
		for _, g := range b.design.Inside(s.ID, design.KindGateway) {
			via := inner.Body.(*design.InnerRoute).Via
			if b.design.StandsIn(g, lan) && p.Addr().Is4() == via.Is4() {
				b.nodes[g.ID].do("ip %s route replace %s via %s metric 1", flag(via), p, via)
			}
		}
	}
	b.hosts(inner, func(h *Node) string {
		x, y := b.cable(h, "", n, "")
		n.do("ip link set %s master %s up", y, bridge)
		h.do("ip link set %s up", x)
		return x
	})
}

// wayOut gives a gateway its public addresses and the internet; one behind a NAT has what translates
// before it.
func (b *builder) wayOut(g *design.Object) {
	n, public := b.nodes[g.ID], g.Body.(*design.Gateway).Addresses
	if len(public) == 0 {
		return
	}
	if b.behindNAT(g) {
		b.nat(g, n, public)
		return
	}
	b.line(n, "wan", public)
}

// line joins a node with the internet under public addresses.
func (b *builder) line(n *Node, device string, public []netip.Addr) {
	x, y := b.cable(n, device, b.world, "")
	n.do("ip link set %s up", x)
	b.world.do("ip address add %s/32 dev %s; ip -6 address add %s/64 dev %s nodad", worldAt, y, worldAt6, y)
	b.world.do("ip link set %s up", y)
	for _, a := range public {
		n.do("ip address add %s/%d dev %s%s", a, a.BitLen(), x, nodad(a))
		b.world.do("ip %s route replace %s dev %s", flag(a), a, y)
	}
	if slices.ContainsFunc(public, netip.Addr.Is4) {
		n.do("ip route replace %s dev %s scope link; ip route replace default via %s dev %s", worldAt, x, worldAt, x)
	}
	if slices.ContainsFunc(public, netip.Addr.Is6) {
		n.do("ip -6 route replace default via %s dev %s", worldAt6, x)
	}
}

// behindNAT reports whether an end of a tunnel says so of a gateway.
func (b *builder) behindNAT(g *design.Object) bool {
	for l, body := range design.Each[design.Link](design.InOrder(b.design.Referring(g.ID, design.KindLink))) {
		_, _, end, ok := body.End(g.ID)
		for _, t := range b.design.Inside(l.ID, design.KindTunnel) {
			if ends := t.Body.(*design.Tunnel).Ends; ok && len(ends) == 2 && ends[end].NAT {
				return true
			}
		}
	}
	return false
}

// nat is the router in the LAN that has a gateway's public addresses and passes on to it what comes.
func (b *builder) nat(g *design.Object, n *Node, public []netip.Addr) {
	for _, e := range topology.Places(b.design, g) {
		lan := b.design.Get(e.To)
		for _, p := range b.design.Ranges(e.To) {
			own := b.at(g.ID, lan, p)
			if !p.Addr().Is4() {
				continue
			}
			r := b.add(Router, "", "what translates before "+b.design.Title(g.ID))
			r.Party = g.Parent
			dev, a := b.plug(r, lan), b.free(lan, p, "nat "+string(g.ID))
			r.do("ip address add %s/%d dev %s", a, p.Bits(), dev)
			b.line(r, "wan", public)
			r.do(
				"nft 'table ip nat { chain out { type nat hook postrouting priority 100; oifname wan masquerade; }; "+
					"chain in { type nat hook prerouting priority -100; iifname wan dnat to %s; }; }'", own,
			)
			n.do("ip route replace default via %s", a)
			return
		}
	}
	b.line(n, "wan", public)
}

func flag(a netip.Addr) string { return [2]string{"-4", "-6"}[prefix.FamilyOf(a)] }

func nodad(a netip.Addr) string { return map[bool]string{true: " nodad"}[a.Is6()] }

// bridgeKey stands for the switch of a LAN among devices: no object has this ID.
const bridgeKey design.ID = "\x00bridge"
