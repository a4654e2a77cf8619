package rehearsal

import (
	"maps"
	"net/netip"
	"slices"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/prefix"
	"dravin/core/topology"
	"dravin/core/walk"
)

// boxOf is a box as its own files will have it, or as its player will have been told: its cables are those.
func (b *builder) boxOf(id design.ID) *box.Box {
	if b.boxes[id] == nil {
		t := b.frame
		if n := b.nodes[id]; n != nil && n.Role == OwnBox {
			t = b.whole
		}
		b.boxes[id] = box.Of(t, id)
	}
	return b.boxes[id]
}

// links lays a wire for every tunnel that both ends have.
func (b *builder) links() {
	for o, body := range design.Each[design.Link](b.design.Of(design.KindLink)) {
		if !b.frame.Status.Intended(b.frame.Design.Get(o.ID)) {
			continue
		}
		var ends [2]*box.Link
		for k, e := range body.Ends {
			if b.nodes[e.Gateway] != nil {
				ends[k] = b.boxOf(e.Gateway).Link(o.ID)
			}
		}
		if ends[0] == nil || ends[1] == nil {
			b.leaves("%s: one of its ends has no box", o.Name)
			continue
		}
		for _, t := range ends[0].Tunnels {
			far := slices.IndexFunc(ends[1].Tunnels, func(x box.Tunnel) bool { return x.ID == t.ID })
			if far >= 0 {
				b.tunnel(o, body, ends, [2]box.Tunnel{t, ends[1].Tunnels[far]})
			}
		}
	}
}

// tunnel lays one wire, and notes what its two daemons are to agree on.
func (b *builder) tunnel(o *design.Object, body *design.Link, links [2]*box.Link, ends [2]box.Tunnel) {
	w := Wire{Tunnel: ends[0].ID, Link: o.ID, Name: o.Name + ", " + ends[0].Name, Policies: !links[0].Routed()}
	for k, t := range ends {
		n := b.nodes[body.Ends[k].Gateway]
		end := WireEnd{Node: n.Name, Address: t.Set.Address, Peer: t.Set.Peer}
		if n.Role == OwnBox && links[k].Routed() {
			end.Device = t.Device()
		} else {
			end.Device = n.device("tunnel")
		}
		if n.Role == OwnBox && !links[k].Routed() {
			b.asks(n, b.design.Get(body.Ends[k].Gateway))
			end.Asks, end.Stay = true, b.boxOf(body.Ends[k].Gateway).Main().Table.Own
		}
		if !links[k].Routed() {
			b.speaksFor(n, b.boxOf(body.Ends[k].Gateway), t)
		}
		_, end.Inner = b.cable(n, end.Device, b.ether, "")
		b.ether.do("ip link set %s arp off addrgenmode none address %s up", end.Inner, WireMAC)
		n.do("ip link set %s arp off addrgenmode none address %s", end.Device, WireMAC)
		if n.Role == OwnBox { // a kernel asks no reverse path of what it has decapsulated
			n.do("sysctl -qw net.ipv4.conf.%s.rp_filter=0", end.Device)
		}
		if n.Role != OwnBox || end.Asks {
			n.do("ip link set %s up", end.Device)
		}
		b.devices[[2]design.ID{t.ID, n.ID}] = end.Device
		if fits, _ := walk.Inside(b.frame, t.ID); fits > 0 && links[k].Routed() {
			n.do("ip link set %s mtu %d", end.Device, b.frame.Status.Tunnel(t.ID).MTU)
			b.ether.do("ip link set %s mtu %d", end.Inner, fits)
		}
		if n.Role == Player {
			b.playersEnd(n, body.Ends[k].Gateway, o, t, end.Device)
		}
		links[k], ends[k] = b.running(body.Ends[k].Gateway, o.ID, links[k], t)
		end.Connection, end.Children = handover.ConnectionName(links[k], ends[k])
		end.Starts, end.DPD = ends[k].Starts, int(ends[k].Set.DPD)
		w.Ends[k] = end
	}
	b.terms(&w, links, ends)
	b.plan.Wires = append(b.plan.Wires, w)
}

// running is an end of a tunnel as its daemon has it by now; as it will be, while it has not got it.
func (b *builder) running(gateway, link design.ID, whole *box.Link, end box.Tunnel) (*box.Link, box.Tunnel) {
	x := b.boxOf(gateway)
	switch {
	case b.nodes[gateway].Role != OwnBox:
		x = b.playedBox(gateway)
	case b.built.Design.Get(gateway) != nil:
		x = box.Of(b.built, gateway)
	}
	now := x.Link(link)
	if now == nil {
		return whole, end
	}
	if k := slices.IndexFunc(now.Tunnels, func(t box.Tunnel) bool { return t.ID == end.ID }); k >= 0 {
		return now, now.Tunnels[k]
	}
	return whole, end
}

// Selected is the mark of what fits a selector before it is translated: it leaves by the way out, whatever a route
// says.
const Selected = "0x40000000"

const selectedTable = 100

// asks gives a box with policy-based tunnels the way out of what fits their selectors. What no route is for is asked
// about, too, since the box has a way out.
func (b *builder) asks(n *Node, gateway *design.Object) {
	if n.asks {
		return
	}
	n.asks = true
	x, _ := b.wire(n, "selected", b.ether, "")
	if public := gateway.Body.(*design.Gateway).Addresses; !b.behindNAT(gateway) {
		for _, a := range public { // what hides behind the address of the way out finds it there
			n.do("ip address add %s/%d dev %s%s", a, a.BitLen(), x, nodad(a))
		}
	}
	for _, f := range []string{"-4", "-6"} {
		n.do("ip %s rule add pref 100 fwmark %s/%s lookup %d", f, Selected, Selected, selectedTable)
		n.do("ip %s route add default dev %s table %d", f, x, selectedTable)
		n.do("ip %s route add default dev %s metric 40000", f, x)
	}
}

// speaksFor gives a box an address in each range behind it, by an inner router or another link, for which a selector
// speaks: IPsec in user space holds no child SA for a range in which it has none, which the kernel's own does not ask
// for.
func (b *builder) speaksFor(n *Node, x *box.Box, t box.Tunnel) {
	for _, pair := range t.Pairs() {
		if !standsIn(x, pair.Local) {
			a := b.stranger(pair.Local)
			n.do("ip address replace %s/%d dev lo%s", a, a.BitLen(), nodad(a))
		}
	}
}

// standsIn reports whether a box has an address in a range by itself: in a LAN, or by its mapping.
func standsIn(x *box.Box, p netip.Prefix) bool {
	return slices.ContainsFunc(x.LANs, func(l box.LAN) bool { return slices.ContainsFunc(l.Ranges, p.Overlaps) }) ||
		slices.ContainsFunc(x.Rules, func(r box.Rule) bool { return r.Does == design.OneToOne && p.Overlaps(r.Into) })
}

// stranger is an address of a range that nobody has and nobody dials: the last, else the one before it.
func (b *builder) stranger(p netip.Prefix) netip.Addr {
	a := prefix.LastHost(p)
	for ; p.Contains(a.Prev()); a = a.Prev() {
		dialled := slices.ContainsFunc(b.plan.Flows, func(f Flow) bool { return f.To == a || f.From.Address == a })
		had := slices.ContainsFunc(b.everybody(), func(h walk.Host) bool { return h.Address == a })
		if !dialled && !had && !slices.Contains(slices.Collect(maps.Values(b.given)), a) {
			break
		}
	}
	return a
}

// playersEnd gives a player what a box of one's own gets by its script: the inside address, and the
// table by which what comes out is routed.
func (b *builder) playersEnd(n *Node, gateway design.ID, link *design.Object, t box.Tunnel, device string) {
	for _, own := range t.Insides() {
		n.do("ip address replace %s dev %s%s", own, device, nodad(own.Addr()))
	}
	if t.Set.MTU != 0 {
		n.do("ip link set %s mtu %d", device, t.Set.MTU)
	}
	b.comesIn(n, gateway, link.ID, device)
}

// comesIn says by which table a player routes what comes in by a link or circuit.
func (b *builder) comesIn(n *Node, gateway, joint design.ID, device string) {
	if b.design.Party(gateway).Kind == design.KindHub {
		if a := b.design.AttachmentOf(n.ID, joint); a != nil {
			if bound := topology.BoundTable(b.design, a); bound != "" {
				n.routedBy(device, b.number(bound))
			}
		}
		return
	}
	if g, ok := b.design.Get(gateway).Body.(*design.Gateway); ok && g.Enters != "" {
		for _, f := range []string{"-4", "-6"} {
			n.do("ip %s rule add pref 50 iif %s lookup %d", f, device, lentTable)
		}
	}
}

// circuits lays a cable for every circuit that carries; one that does not leads nowhere.
func (b *builder) circuits() {
	for o, body := range design.Each[design.Circuit](b.design.Of(design.KindCircuit)) {
		var ends [2]*box.Circuit
		for k, e := range body.Ends {
			if b.nodes[e.At] != nil {
				ends[k] = b.boxOf(e.At).Circuit(o.ID)
			}
		}
		if ends[0] == nil || ends[1] == nil {
			continue // no part of the plan
		}
		at := [2]*Node{b.nodes[body.Ends[0].At], b.nodes[body.Ends[1].At]}
		var devices [2]string
		for k, n := range at {
			if n.Role == OwnBox {
				devices[k] = ends[k].Device()
			}
		}
		if b.frame.Status.Of(o.ID).Up {
			devices[0], devices[1] = b.cable(at[0], devices[0], at[1], devices[1])
			b.standsFor(o.ID)
		} else {
			devices[0], _ = b.cable(at[0], devices[0], b.ether, "")
			devices[1], _ = b.cable(at[1], devices[1], b.ether, "")
		}
		for k, n := range at {
			b.devices[[2]design.ID{o.ID, n.ID}] = devices[k]
			if n.Role != OwnBox {
				b.playersCircuit(n, body.Ends[k].At, o, ends[k], devices[k])
			}
		}
	}
}

func (b *builder) playersCircuit(n *Node, gateway design.ID, o *design.Object, c *box.Circuit, device string) {
	n.do("ip link set %s up", device)
	if c.Inside.IsValid() {
		n.do("ip address replace %s dev %s%s", c.Inside, device, nodad(c.Inside.Addr()))
	}
	b.comesIn(n, gateway, o.ID, device)
}

// farOnCircuit is the address of whoever is at the other end of a circuit.
func (b *builder) farOnCircuit(circuit design.ID, n *Node) netip.Addr {
	o := b.design.Get(circuit)
	for k, e := range o.Body.(*design.Circuit).Ends {
		if b.nodes[e.At] == n {
			return topology.OnCircuit(b.design, o, k).Far
		}
	}
	return netip.Addr{}
}
