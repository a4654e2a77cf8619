package rehearsal

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/topology"
)

// The kernel's tables of players.
const (
	firstTable = 1000 // the tables of a network or hub, in their order
	ownTable   = 50   // a network's own subnets
	lentTable  = 51   // what a network lends its gateways for
)

// Rules of players: what comes in by a device is routed by a table, then what is a network's own is
// delivered, and for the rest there is no way.
const noFurther = "ip -4 rule add pref 30001 unreachable; ip -6 rule add pref 30001 unreachable"

// number is the kernel's number of a table of a network or hub.
func (b *builder) number(table design.ID) int {
	o := b.design.Get(table)
	return firstTable + slices.IndexFunc(
		b.design.Inside(o.Parent, o.Kind), func(x *design.Object) bool { return x.ID == table },
	)
}

// routedBy lets a table route what comes in by a device.
func (n *Node) routedBy(device string, table int) {
	for _, f := range []string{"-4", "-6"} {
		n.do("ip %s rule add pref 100 iif %s lookup %d", f, device, table)
	}
}

// network makes a network: its subnets with their hosts and boxes, and its gateways.
func (b *builder) network(o *design.Object) {
	n := b.add(Network, o.ID, "")
	n.do("ip -4 rule add pref 30000 lookup %d; ip -6 rule add pref 30000 lookup %d", ownTable, ownTable)
	n.do(noFurther)
	for _, s := range b.design.Inside(o.ID, design.KindSubnet) {
		b.subnet(n, s)
	}
	for _, x := range b.design.Inside(o.ID, design.KindBox) {
		b.routerOf(x)
	}
	for _, g := range b.design.Inside(o.ID, design.KindGateway) {
		p := b.add(Player, g.ID, "")
		x, y := b.wire(p, "", n, "")
		b.devices[[2]design.ID{o.ID, g.ID}], b.devices[[2]design.ID{g.ID, o.ID}] = x, y
		table := ownTable
		if enters := g.Body.(*design.Gateway).Enters; enters != "" {
			table = b.number(enters)
			p.do("ip -4 route add default dev %s table %d; ip -6 route add default dev %s table %d", x, lentTable, x, lentTable)
		}
		n.routedBy(y, table)
		b.line(p, "wan", g.Body.(*design.Gateway).Addresses)
	}
	b.privateEndpoints(o)
}

// subnet makes a subnet: a switch of the network's own, with its hosts and the boxes that stand there.
func (b *builder) subnet(n *Node, s *design.Object) {
	bridge := n.device("sub")
	n.do("ip link add %s type bridge && ip link set %s up", bridge, bridge)
	for _, p := range b.design.Ranges(s.ID) {
		n.do("ip address add %s/%d dev %s%s", b.free(s, p, "router"), p.Bits(), bridge, nodad(p.Addr()))
		n.do("ip %s route add %s dev %s table %d", flag(p.Addr()), p, bridge, ownTable)
	}
	b.devices[[2]design.ID{s.ID, n.ID}] = bridge
	if table := s.Body.(*design.Subnet).Table; table != "" {
		n.routedBy(bridge, b.number(table))
	}
	plug := func(h *Node) string {
		x, y := b.cable(h, "", n, "")
		n.do("ip link set %s master %s up", y, bridge)
		h.do("ip link set %s up", x)
		return x
	}
	for _, e := range topology.Standing(b.design, s) {
		o := b.design.Get(e.To)
		if o.Kind != design.KindBox {
			continue
		}
		if b.nodes[o.ID] == nil {
			b.own(o.ID)
		}
		x := plug(b.nodes[o.ID])
		for _, p := range b.design.Ranges(s.ID) {
			b.nodes[o.ID].do("ip address add %s/%d dev %s%s", b.at(o.ID, s, p), p.Bits(), x, nodad(p.Addr()))
		}
	}
	b.hosts(s, plug)
	b.assigned(n, s, bridge)
}

// assigned lets a subnet deliver only what its cloud has assigned to somebody there: the addresses of its router, hosts
// and boxes, and what instructions say is to be given to boxes.
func (b *builder) assigned(n *Node, s *design.Object, bridge string) {
	var rules []string
	for _, p := range b.design.Ranges(s.ID) {
		list := []string{b.free(s, p, "router").String()}
		for _, h := range b.plan.Nodes {
			for _, a := range h.Addresses {
				if h.Place == s.ID && p.Contains(a) {
					list = append(list, a.String())
				}
			}
		}
		for _, e := range topology.Standing(b.design, s) {
			o := b.design.Get(e.To)
			x, ok := o.Body.(*design.Box)
			if !ok {
				continue
			}
			list = append(list, b.at(o.ID, s, p).String())
			for _, a := range x.Addresses {
				if p.Contains(a) {
					list = append(list, a.String())
				}
			}
			for _, r := range box.Assigned(b.design, o) {
				if p.Overlaps(r) {
					list = append(list, r.String())
				}
			}
		}
		slices.Sort(list)
		rules = append(rules, fmt.Sprintf(
			"%s daddr %s %s daddr != { %s } drop",
			family(p.Addr()), p, family(p.Addr()), strings.Join(slices.Compact(list), ", "),
		))
	}
	n.Rulesets = append(n.Rulesets, fmt.Sprintf(
		"table bridge %s {\nchain out { type filter hook postrouting priority 0; %s; }\n}\n", bridge,
		strings.Join(rules, "; "),
	))
}

// privateEndpoints notes the published services that the cloud itself has: no kernel has them.
func (b *builder) privateEndpoints(n *design.Object) {
	for o := range b.design.ListenersAt(n.ID) {
		b.leaves("%s: the cloud itself answers there", b.design.Title(o.ID))
	}
}

// hub makes a hub with all its gateways, which are one router.
func (b *builder) hub(o *design.Object) {
	n := b.add(Player, o.ID, "")
	n.do("ip -4 rule add pref 30000 iif lo lookup main; ip -6 rule add pref 30000 iif lo lookup main")
	n.do(noFurther)
	for _, g := range b.design.Inside(o.ID, design.KindGateway) {
		b.nodes[g.ID] = n
		b.line(n, "", g.Body.(*design.Gateway).Addresses)
	}
}

// peerings joins networks, each half guarded: a peering carries the two networks' own ranges.
func (b *builder) peerings() {
	for _, o := range b.design.Of(design.KindPeering) {
		if !b.frame.Status.Of(o.ID).Up {
			continue
		}
		edges, _ := b.frame.Topology.Edges(o.ID)
		x, y := b.wire(b.nodes[edges[0].From], "", b.nodes[edges[1].From], "")
		b.standsFor(o.ID)
		for k, dev := range []string{x, y} {
			to := edges[1-k].To // what comes out of this device has come along the other direction
			n := b.nodes[to]
			b.devices[[2]design.ID{o.ID, to}] = dev
			b.entersBy(n, edges[1-k], dev)
			own, _, _ := topology.Halves(o, to)
			if !own.AcceptForwarded && !topology.Lends(b.design, edges[1-k]) && !topology.Lends(b.design, edges[k]) {
				n.guard(dev, b.design.Ranges(edges[k].To))
			}
		}
	}
}

// entersBy lets what comes into a network by a joint be routed by the table that it enters, else
// delivered; one that lends its gateway passes on what its gateways know.
func (b *builder) entersBy(n *Node, e topology.Edge, device string) {
	switch {
	case e.Enters != "":
		n.routedBy(device, b.number(e.Enters))
	case topology.Lends(b.design, e):
		n.routedBy(device, ownTable)
		for _, f := range []string{"-4", "-6"} {
			n.do("ip %s rule add pref 101 iif %s lookup %d", f, device, lentTable)
		}
	default:
		n.routedBy(device, ownTable)
	}
}

// guard drops what comes in by a device from elsewhere than some ranges.
func (n *Node) guard(device string, from []netip.Prefix) {
	var lines []string
	for _, p := range from {
		lines = append(lines, fmt.Sprintf("iifname %s %s saddr %s return", device, family(p.Addr()), p))
	}
	lines = append(lines, "iifname "+device+" drop")
	n.do(
		"nft 'table inet guard_%s { chain in { type filter hook prerouting priority -250; %s; }; }'", device,
		strings.Join(lines, "; "),
	)
}

func family(a netip.Addr) string { return map[bool]string{true: "ip", false: "ip6"}[a.Is4()] }

// attachments joins hubs with networks and with each other.
func (b *builder) attachments() {
	for _, a := range b.design.Of(design.KindAttachment) {
		body := a.Body.(*design.Attachment)
		what := b.design.Get(body.What)
		if !b.frame.Status.Of(a.ID).Up {
			continue
		}
		switch what.Kind {
		case design.KindNetwork:
			b.attachNetwork(a, body)
		case design.KindHub:
			b.attachHub(a, what)
		}
	}
}

func (b *builder) attachNetwork(a *design.Object, body *design.Attachment) {
	hub, n := b.nodes[a.Parent], b.nodes[body.What]
	x, y := b.wire(hub, "", n, "")
	b.standsFor(a.ID)
	b.devices[[2]design.ID{a.ID, hub.ID}], b.devices[[2]design.ID{a.ID, n.ID}] = x, y
	if bound := topology.BoundTable(b.design, a); bound != "" {
		hub.routedBy(x, b.number(bound))
	}
	table := ownTable
	if body.Enters != "" {
		table = b.number(body.Enters)
	}
	for _, t := range b.design.Inside(n.ID, design.KindTable) {
		for _, e := range t.Body.(*design.Table).Routes {
			if e.Publish == design.Published && body.Enters == "" {
				n.do("ip %s rule add pref 99 iif %s to %s lookup %d", flag(e.Prefix.Addr()), y, e.Prefix, b.number(t.ID))
			}
		}
	}
	n.routedBy(y, table)
	b.pool(a, body, n, y)
	b.zones(a, n, y)
}

// pool hides what an attachment does not export behind its source pool.
func (b *builder) pool(a *design.Object, body *design.Attachment, n *Node, device string) {
	pool := b.design.Get(body.Pool)
	if pool == nil || len(b.design.Ranges(pool.ID)) == 0 {
		return
	}
	for _, s := range b.design.Inside(n.ID, design.KindSubnet) {
		for _, p := range b.design.Ranges(s.ID) {
			for _, to := range b.beyond(a) {
				if to.Addr().Is4() != p.Addr().Is4() || !to.Addr().Is4() {
					continue
				}
				if as, ok := b.tables.SourcePool(a, prefix.FirstHost(p), prefix.FirstHost(to)); ok {
					n.do(
						"nft 'add table ip pool; add chain ip pool out { type nat hook postrouting priority 100; }; "+
							"add rule ip pool out oifname %s ip saddr %s ip daddr %s snat to %s'", device, p, to, as,
					)
				}
			}
		}
	}
}

// beyond are the ranges to which what comes in by an attachment may go: of networks their subnets, which may be in
// several regions.
func (b *builder) beyond(a *design.Object) (out []netip.Prefix) {
	table := b.tables.Point(topology.BoundTable(b.design, a))
	if table == nil {
		return nil
	}
	for _, r := range table.Routes {
		within := false
		for _, s := range b.design.Inside(r.Hop.To, design.KindSubnet) {
			for _, p := range b.design.Ranges(s.ID) {
				if prefix.Contains(r.Prefix, p) && !slices.Contains(out, p) {
					out, within = append(out, p), true
				}
			}
		}
		if !within && !slices.Contains(out, r.Prefix) {
			out = append(out, r.Prefix)
		}
	}
	return out
}

// zones keeps what is in zones that an attachment does not serve from it.
func (b *builder) zones(a *design.Object, n *Node, device string) {
	var lines []string
	for _, s := range b.design.Inside(n.ID, design.KindSubnet) {
		if sub := b.devices[[2]design.ID{s.ID, n.ID}]; !topology.ServesZone(b.design, a, s) {
			lines = append(
				lines, fmt.Sprintf("iifname %s oifname %s drop; iifname %s oifname %s drop", sub, device, device, sub),
			)
		}
	}
	if len(lines) > 0 {
		n.do(
			"nft 'table inet zones_%s { chain pass { type filter hook forward priority 0; %s; }; }'", device,
			strings.Join(lines, "; "),
		)
	}
}

// attachHub joins two hubs once, by the first of their attachments to each other.
func (b *builder) attachHub(a, far *design.Object) {
	back := b.design.AttachmentOf(far.ID, a.Parent)
	if back == nil || !b.frame.Status.Of(back.ID).Up || cmp.Compare(a.ID, back.ID) > 0 {
		return
	}
	x, y := b.wire(b.nodes[a.Parent], "", b.nodes[far.ID], "")
	b.standsFor(a.ID)
	for k, o := range []*design.Object{a, back} {
		hub := b.nodes[o.Parent]
		b.devices[[2]design.ID{o.ID, hub.ID}] = []string{x, y}[k]
		if bound := topology.BoundTable(b.design, o); bound != "" {
			hub.routedBy([]string{x, y}[k], b.number(bound))
		}
	}
}

// rows are the routes of players: what their tables have without what their own daemons learn.
func (b *builder) rows() {
	for _, p := range b.tables.Points() {
		switch p.Kind {
		case design.KindTable:
			b.rowsOf(p, b.nodes[p.Party.ID], b.number(p.ID))
		case design.KindHubTable:
			b.rowsOf(p, b.nodes[p.Party.ID], b.number(p.ID))
		case design.KindGateway:
			if p.Party.Kind == design.KindNetwork {
				b.rowsOf(p, b.nodes[p.ID], 0)
				b.lent(p)
			}
		}
	}
}

// The metrics of players' rows: before and behind what their daemons learn (handover's metric).
const firstMetric = 100

func (b *builder) rowsOf(p *route.Point, n *Node, table int) {
	for k, r := range p.Routes {
		row := Row{Node: n.Name, Table: table, Prefix: r.Prefix.Masked(), Metric: firstMetric + k}
		if r.Expected != "" || r.Unusable != "" && !r.Swallows {
			continue
		}
		switch {
		case r.Hop.Kind == route.BlackHole, r.Swallows:
		case r.Hop.Kind == route.Deliver && p.Kind == design.KindTable:
			row.Throw = true // its own subnets are next
		default:
			row.Ways = b.waysOf(p, n, r)
			if len(row.Ways) == 0 {
				if r.Learned == nil && r.Hop.Kind != route.Internet {
					b.leaves("the route to %s of %s, by %s", r.Prefix, p.Title, r.Via)
				}
				continue
			}
		}
		b.plan.Rows = append(b.plan.Rows, row)
	}
}

// waysOf are the next hops of a player's route; none for what its own daemon learns, or what is
// not rehearsed.
func (b *builder) waysOf(p *route.Point, n *Node, r route.Route) []Way {
	dev := func(key design.ID) string { return b.devices[[2]design.ID{key, n.ID}] }
	switch r.Hop.Kind {
	case route.Deliver:
		if a := b.design.AttachmentOf(p.Party.ID, r.Hop.To); p.Kind == design.KindHubTable && a != nil && dev(a.ID) != "" {
			return []Way{{Device: dev(a.ID)}}
		}
		if d := b.devices[[2]design.ID{r.Hop.To, p.ID}]; d != "" {
			return []Way{{Device: d}}
		}
	case route.Gateway:
		return b.wayTo(n, r)
	case route.Tunnel, route.Circuit:
		if r.Learned != nil {
			return nil // its own daemon brings it
		}
		return b.waysInto(n, r)
	case route.Peer, route.Attached, route.OtherHub:
		e, _ := b.tables.Edge(p, r.Hop)
		w := Way{Device: dev(e.Joint)}
		if w.Device == "" {
			return nil
		}
		if r.Learned != nil || r.Source == route.Hub {
			w.Known = b.knownBeyond(p, r)
		}
		return []Way{w}
	case route.Internet:
		b.leaves("what leaves %s for the internet", p.Party.Name)
	}
	return nil
}

// wayTo is the way to a gateway of the network, or to a box in one of its subnets.
func (b *builder) wayTo(n *Node, r route.Route) []Way {
	o := b.design.Get(r.Hop.To)
	if o == nil {
		return nil
	}
	if x, ok := o.Body.(*design.Box); ok {
		for _, a := range x.Addresses {
			if a.Is4() != r.Prefix.Addr().Is4() {
				continue
			}
			for _, s := range b.design.Inside(o.Parent, design.KindSubnet) {
				d := b.devices[[2]design.ID{s.ID, n.ID}]
				if prefix.Has(b.design.Ranges(s.ID), a) && d != "" && (r.Hop.Through == "" || r.Hop.Through == s.ID) {
					return []Way{{Device: d, Via: a}}
				}
			}
		}
		return nil
	}
	d := b.devices[[2]design.ID{o.ID, n.ID}]
	if d == "" {
		return nil
	}
	w := Way{Device: d}
	if r.Learned != nil {
		w.Known = Known{Node: b.nodes[o.ID].Name}
	}
	return []Way{w}
}

// waysInto are the tunnels of a link, or a circuit without a session.
func (b *builder) waysInto(n *Node, r route.Route) []Way {
	if r.Hop.Kind == route.Circuit {
		if d := b.devices[[2]design.ID{r.Hop.To, n.ID}]; d != "" {
			return []Way{{Device: d, Via: b.farOnCircuit(r.Hop.To, n)}}
		}
		return nil
	}
	var out []Way
	for _, t := range b.design.Tunnels(r.Hop.To) {
		if len(r.Tunnels) > 0 && !slices.Contains(r.Tunnels, t.ID) {
			continue
		}
		if d := b.devices[[2]design.ID{t.ID, n.ID}]; d != "" {
			out = append(out, Way{Device: d, Tunnel: t.ID})
		}
	}
	return out
}

// lent are the routes by which a network passes on what comes by a peering for which it lends its
// gateways.
func (b *builder) lent(p *route.Point) {
	network, gateway := b.nodes[p.Party.ID], b.nodes[p.ID]
	d := b.devices[[2]design.ID{p.ID, network.ID}]
	for k, r := range p.Routes {
		if r.Unusable != "" || r.Expected != "" || !r.Hop.Leaves() || d == "" {
			continue
		}
		w := Way{Device: d}
		if r.Learned != nil {
			w.Known = Known{Node: gateway.Name}
		}
		b.plan.Rows = append(b.plan.Rows, Row{
			Node: network.Name, Table: lentTable, Prefix: r.Prefix.Masked(), Metric: firstMetric + k, Ways: []Way{w},
		})
	}
}
