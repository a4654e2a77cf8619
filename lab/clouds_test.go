package lab_test

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
)

// cloudRules are those of the shipped profiles that matter here, written again.
var cloudRules = map[string]struct {
	longerWins, blackHole, feeds, peered, refuses, hubRoutes bool
	rank                                                     map[string]int // of sources: the lower, the better
}{
	"Tarn": {blackHole: true, rank: map[string]int{"entered": 1, "bgp": 2, "static": 3, "peering": 4, "hub": 5}},
	"Osier": {
		longerWins: true,
		blackHole:  true,
		feeds:      true,
		peered:     true,
		rank:       map[string]int{"entered": 1, "bgp": 2, "peering": 3, "static": 4, "hub": 5},
	},
	"Sedge": {
		feeds:     true,
		peered:    true,
		refuses:   true,
		hubRoutes: true,
		rank:      map[string]int{"entered": 1, "peering": 2, "bgp": 3, "static": 4, "hub": 5},
	},
}

// overridden tells whether a network's own blocks beat a route.
func (w *world) overridden(network *design.Object, p netip.Prefix) bool {
	b := network.Body.(*design.Network)
	return slices.ContainsFunc(b.Blocks, func(own netip.Prefix) bool {
		return own == p || !cloudRules[b.Cloud].longerWins && prefix.Contains(own, p)
	})
}

// network makes a network's fabric, its subnets and the wires to its gateways.
func (w *world) network(n *design.Object) {
	w.node(n.ID)
	w.do(
		n.ID,
		"ip -4 rule add pref 30000 lookup 50; ip -6 rule add pref 30000 lookup 50; ip -4 rule add pref 30001 "+
			"unreachable; ip -6 rule add pref 30001 unreachable",
	)
	for _, s := range w.e.d.Inside(n.ID, design.KindSubnet) {
		a, b := w.cable(s.ID, n.ID)
		w.do(n.ID, "ip link set %s up", b)
		w.devices[[2]design.ID{s.ID, n.ID}] = b
		for _, p := range design.RangesOf(s) {
			w.do(n.ID, "ip address add %s/%d dev %s %s", nth(p, 1), p.Bits(), b, nodad(p.Addr()))
			w.do(n.ID, "ip %s route add %s dev %s table 50", ipFlag(p), p, b)
		}
		w.hosts(s, a, firstIn)
		w.boxesIn(n, s, b)
	}
	for _, g := range w.e.d.Inside(n.ID, design.KindGateway) {
		a, b := w.wire(n.ID, g.ID)
		w.devices[[2]design.ID{g.ID, n.ID}], w.devices[[2]design.ID{n.ID, g.ID}] = a, b
		for _, p := range design.RangesOf(n) {
			w.do(g.ID, "ip %s route add %s dev %s metric %d", ipFlag(p), p, b, metric(p, 1))
		}
	}
}

func firstIn(p netip.Prefix) netip.Addr { return nth(p, 1) }

// boxesIn puts the boxes of a network into one of its subnets, each by a cable of its
// own to the fabric, which leads to it what it answers for there.
func (w *world) boxesIn(n, subnet *design.Object, device string) {
	p := design.RangesOf(subnet)[0]
	for _, o := range w.e.d.Inside(n.ID, design.KindBox) {
		a := o.Body.(*design.Box).Addresses[0]
		if !p.Contains(a) {
			continue
		}
		x, y := w.cable(o.ID, n.ID)
		w.devices[[2]design.ID{o.ID, n.ID}] = y
		w.do(o.ID, "ip link set %s up; ip address add %s/%d dev %s", x, a, p.Bits(), x)
		w.do(o.ID, "ip route replace default via %s", firstIn(p))
		w.do(
			n.ID,
			"ip link set %s up; echo 1 >/proc/sys/net/ipv4/conf/%s/proxy_arp; echo 1 >/proc/sys/net/ipv4/conf/%s/proxy_arp",
			y,
			y,
			device,
		)
		own := []netip.Prefix{netip.PrefixFrom(a, 32)}
		for _, l := range w.e.d.Of(design.KindListener) {
			if b := l.Body.(*design.Listener); b.At == o.ID && p.Contains(b.Address) && b.Address != a {
				own = append(own, netip.PrefixFrom(b.Address, 32))
			}
		}
		for _, r := range own {
			w.do(n.ID, "ip route add %s dev %s table 50; ip route add %s dev %s", r, y, r, y)
		}
	}
}

func (w *world) peerings() {
	for _, o := range w.e.d.Of(design.KindPeering) {
		h := o.Body.(*design.Peering).Halves
		if !w.e.up[o.ID] {
			continue
		}
		a, b := w.wire(h[0].Network, h[1].Network)
		w.devices[[2]design.ID{o.ID, h[0].Network}], w.devices[[2]design.ID{o.ID, h[1].Network}] = a, b
	}
}

// row is a route of a network's table.
type row struct {
	p    netip.Prefix
	rank int
	way  string
}

// tables fills the tables of a network: entries, what its gateways feed, what its
// peerings and hubs bring.
func (w *world) tables(n *design.Object) {
	rules := cloudRules[n.Body.(*design.Network).Cloud]
	for k, t := range w.e.d.Inside(n.ID, design.KindTable) {
		table := fmt.Sprint(1000 + k)
		for _, s := range w.e.d.Inside(n.ID, design.KindSubnet) {
			if s.Body.(*design.Subnet).Table != t.ID {
				continue
			}
			devs := []string{w.devices[[2]design.ID{s.ID, n.ID}]}
			for _, b := range w.e.d.Inside(n.ID, design.KindBox) {
				if design.RangesOf(s)[0].Contains(b.Body.(*design.Box).Addresses[0]) {
					devs = append(devs, w.devices[[2]design.ID{b.ID, n.ID}])
				}
			}
			for _, dev := range devs {
				w.do(
					n.ID, "ip -4 rule add pref 100 iif %s lookup %s; ip -6 rule add pref 100 iif %s lookup %s", dev,
					table, dev, table,
				)
			}
		}
		w.entering(n, t, table)
		for _, p := range design.RangesOf(n) {
			w.do(n.ID, "ip %s route add throw %s table %s metric %d", ipFlag(p), p, table, metric(p, 0))
		}
		rows := w.brought(n)
		for _, e := range t.Body.(*design.Table).Routes {
			way := ""
			if dev := w.devices[[2]design.ID{e.Via, n.ID}]; dev != "" {
				way = " dev " + dev
				if b, ok := w.e.d.Get(e.Via).Body.(*design.Box); ok {
					way = fmt.Sprintf(" via %s dev %s onlink", b.Addresses[0], dev)
				}
			} else if rules.blackHole {
				way = "blackhole"
			}
			rows = append(rows, row{e.Prefix, rules.rank["entered"] * 100, way})
		}
		for _, r := range rows {
			switch {
			case r.way == "" || w.overridden(n, r.p):
			case r.way == "blackhole":
				w.do(
					n.ID, "ip %s route replace blackhole %s table %s metric %d", ipFlag(r.p), r.p, table,
					metric(r.p, r.rank),
				)
			default:
				w.do(
					n.ID, "ip %s route replace %s%s table %s metric %d", ipFlag(r.p), r.p, r.way, table,
					metric(r.p, r.rank),
				)
			}
		}
	}
	w.guards(n)
}

// entering lets a table route what comes in by hubs, gateways and peerings that say so, or for
// what it has published.
func (w *world) entering(n, t *design.Object, table string) {
	routes := func(dev string) {
		w.do(n.ID, "for f in -4 -6; do ip $f rule add pref 100 iif %s lookup %s; done", dev, table)
	}
	for _, a := range w.e.d.Of(design.KindAttachment) {
		b := a.Body.(*design.Attachment)
		dev := w.devices[[2]design.ID{a.ID, n.ID}]
		if b.What != n.ID || dev == "" {
			continue
		}
		if b.Enters == t.ID {
			routes(dev)
		}
		for _, e := range t.Body.(*design.Table).Routes {
			if e.Publish == design.Published && b.Enters == "" {
				w.do(n.ID, "ip rule add pref 100 iif %s to %s lookup %s", dev, e.Prefix, table)
			}
		}
		w.pooled(n, t, a, dev)
	}
	for _, g := range w.e.d.Inside(n.ID, design.KindGateway) {
		if g.Body.(*design.Gateway).Enters == t.ID {
			routes(w.devices[[2]design.ID{g.ID, n.ID}])
		}
	}
	for _, o := range w.e.d.Of(design.KindPeering) {
		for _, h := range o.Body.(*design.Peering).Halves {
			if dev := w.devices[[2]design.ID{o.ID, n.ID}]; dev != "" && h.Network == n.ID && h.Enters == t.ID {
				routes(dev)
			}
		}
	}
}

// pooled hides what an attachment does not export behind its source pool.
func (w *world) pooled(n, t, a *design.Object, dev string) {
	pool := w.e.d.Get(a.Body.(*design.Attachment).Pool)
	if pool == nil || w.e.d.Inside(n.ID, design.KindTable)[0].ID != t.ID {
		return
	}
	told := ""
	if set := setOf(w.exported(a), true); set != "" {
		told = " ip saddr != " + set
	}
	first := nth(design.RangesOf(pool)[0], 1)
	w.do(
		n.ID, "nft 'table ip pool { chain out { type nat hook postrouting priority 100; oifname %s%s snat to %s; }; }'",
		dev, told, first,
	)
}

// brought are the routes that a network's tables have without entries.
func (w *world) brought(n *design.Object) (rows []row) {
	rules := cloudRules[n.Body.(*design.Network).Cloud]
	for _, g := range w.e.d.Inside(n.ID, design.KindGateway) {
		links, near := w.linksAt(g.ID)
		for k, o := range links {
			if !rules.feeds || len(w.tunnelsOf(o.ID, g.ID)) == 0 || !w.brings(o) {
				continue
			}
			source := "static"
			if o.Body.(*design.Link).Routing == design.RoutingBGP {
				source = "bgp"
			}
			for _, p := range slices.Concat(near[k].Routes, near[k].Remote) {
				rows = append(rows, row{p, rules.rank[source]*100 + k, " dev " + w.devices[[2]design.ID{g.ID, n.ID}]})
			}
		}
	}
	for k, o := range w.e.d.Of(design.KindPeering) { // of two that bring one range, the first is taken
		h := o.Body.(*design.Peering).Halves
		for m := range h {
			if dev := w.devices[[2]design.ID{o.ID, n.ID}]; h[m].Network == n.ID && dev != "" && rules.peered {
				for _, p := range design.RangesOf(w.e.d.Get(h[1-m].Network)) {
					rows = append(rows, row{p, rules.rank["peering"]*100 + k, " dev " + dev})
				}
			}
		}
	}
	for _, a := range w.e.d.Of(design.KindAttachment) {
		b := a.Body.(*design.Attachment)
		if dev := w.devices[[2]design.ID{a.ID, n.ID}]; b.What == n.ID && dev != "" && rules.hubRoutes {
			for _, r := range w.hubRows(w.e.d.Get(a.Parent), b.Bound) {
				if r.way != "" && r.way != " dev "+w.devices[[2]design.ID{a.ID, a.Parent}] {
					rows = append(rows, row{r.p, rules.rank["hub"] * 100, " dev " + dev})
				}
			}
		}
	}
	return rows
}

// guards drop what a peering or an attachment does not carry.
func (w *world) guards(n *design.Object) {
	var in, out []string
	for _, o := range w.e.d.Of(design.KindPeering) {
		halves := o.Body.(*design.Peering).Halves
		for k, h := range halves { // a half may take what the other network passes on, too
			dev := w.devices[[2]design.ID{o.ID, n.ID}]
			if dev != "" && h.Network != n.ID && !halves[1-k].AcceptForwarded {
				for _, p := range design.RangesOf(w.e.d.Get(h.Network)) {
					in = append(
						in,
						fmt.Sprintf(
							"iifname %s %s saddr %s return", dev,
							map[bool]string{true: "ip", false: "ip6"}[p.Addr().Is4()], p,
						),
					)
				}
				in = append(in, "iifname "+dev+" drop")
			}
		}
	}
	for _, a := range w.e.d.Of(design.KindAttachment) {
		b := a.Body.(*design.Attachment)
		dev := w.devices[[2]design.ID{a.ID, n.ID}]
		if b.What != n.ID || dev == "" || len(b.Subnets) == 0 {
			continue
		}
		zones := map[string]bool{}
		for _, s := range b.Subnets {
			zones[w.e.d.Get(s).Body.(*design.Subnet).Zone] = true
		}
		for _, s := range w.e.d.Inside(n.ID, design.KindSubnet) {
			if sub := w.devices[[2]design.ID{s.ID, n.ID}]; !zones[s.Body.(*design.Subnet).Zone] {
				out = append(
					out, fmt.Sprintf("iifname %s oifname %s drop", sub, dev),
					fmt.Sprintf("iifname %s oifname %s drop", dev, sub),
				)
			}
		}
	}
	if len(in)+len(out) > 0 {
		w.do(
			n.ID,
			"nft -f - <<'END'\ntable inet guards {\nchain in { type filter hook prerouting priority -250;\n%s\n}\nchain "+
				"pass { type filter hook forward priority 0;\n%s\n}\n}\nEND",
			joined(in),
			joined(out),
		)
	}
}

func joined(lines []string) (out string) {
	for _, l := range lines {
		out += l + "\n"
	}
	return out
}

// hub makes a hub and the wires to what is attached and taken.
func (w *world) hub(h *design.Object) {
	w.node(h.ID)
	w.do(h.ID, "ip -4 rule add pref 30001 unreachable; ip -6 rule add pref 30001 unreachable")
	refused := w.refusedAt(h)
	for _, a := range w.e.d.Inside(h.ID, design.KindAttachment) {
		b := a.Body.(*design.Attachment)
		if !w.e.up[a.ID] || refused[a.ID] {
			w.e.up[a.ID] = false
			continue
		}
		switch back := w.e.d.AttachmentOf(b.What, h.ID); {
		case w.e.d.Get(b.What).Kind == design.KindNetwork:
			x, y := w.wire(h.ID, b.What)
			w.devices[[2]design.ID{a.ID, h.ID}], w.devices[[2]design.ID{a.ID, b.What}] = x, y
		case back != nil && w.devices[[2]design.ID{a.ID, h.ID}] == "": // another hub
			x, y := w.wire(h.ID, b.What)
			w.devices[[2]design.ID{a.ID, h.ID}], w.devices[[2]design.ID{back.ID, b.What}] = x, y
		}
	}
}

// refusedAt are the attachments that a hub refuses for what they overlap: what is
// ready was there first, then the order of the design counts.
func (w *world) refusedAt(h *design.Object) map[design.ID]bool {
	out := map[design.ID]bool{}
	if !cloudRules[h.Body.(*design.Hub).Cloud].refuses {
		return out
	}
	all := w.e.d.Inside(h.ID, design.KindAttachment)
	slices.SortStableFunc(all, func(a, b *design.Object) int {
		rank := map[bool]int{true: 0, false: 1}
		return rank[design.StateOf(a) == design.Ready] - rank[design.StateOf(b) == design.Ready]
	})
	for n, a := range all {
		for _, b := range all[:n] {
			if !w.meant(b) || out[b.ID] && w.alive(b) {
				continue
			}
			for _, p := range w.exported(a) {
				out[a.ID] = out[a.ID] || slices.ContainsFunc(w.exported(b), p.Overlaps)
			}
		}
	}
	return out
}

// alive tells whether what is attached is up by itself.
func (w *world) alive(a *design.Object) bool {
	what := w.e.d.Get(a.Body.(*design.Attachment).What)
	if what.Kind != design.KindLink {
		return true
	}
	for _, t := range w.e.d.Inside(what.ID, design.KindTunnel) {
		if w.e.up[t.ID] {
			return true
		}
	}
	return false
}

func (w *world) exported(a *design.Object) []netip.Prefix {
	switch b := w.e.d.Get(a.Body.(*design.Attachment).What).Body.(type) {
	case *design.Network:
		out := slices.Clone(b.Blocks)
		for _, t := range w.e.d.Inside(a.Body.(*design.Attachment).What, design.KindTable) {
			for _, e := range t.Body.(*design.Table).Routes {
				if e.Publish == design.Published {
					out = append(out, e.Prefix)
				}
			}
		}
		return outOf(out, a.Body.(*design.Attachment).KeepOut)
	case *design.Link:
		for _, e := range b.Ends {
			if w.e.d.Party(e.Gateway).ID == a.Parent {
				return slices.Concat(e.Routes, e.Remote)
			}
		}
	}
	return nil
}

// outOf takes ranges out of others, slowly: what holds a part of one is halved until
// it holds none.
func outOf(list, out []netip.Prefix) (left []netip.Prefix) {
	for _, p := range list {
		hit := slices.IndexFunc(out, p.Overlaps)
		switch {
		case hit < 0:
			left = append(left, p)
		case out[hit].Bits() > p.Bits():
			low := netip.PrefixFrom(p.Addr(), p.Bits()+1)
			b := p.Addr().AsSlice()
			b[p.Bits()/8] |= 0x80 >> (p.Bits() % 8)
			high, _ := netip.AddrFromSlice(b)
			left = append(left, outOf([]netip.Prefix{low, netip.PrefixFrom(high, p.Bits()+1)}, out)...)
		}
	}
	return left
}

// hubRows are the routes of one of a hub's tables.
func (w *world) hubRows(h *design.Object, table design.ID) (rows []row) {
	black := cloudRules[h.Body.(*design.Hub).Cloud].blackHole
	for _, e := range w.e.d.Get(table).Body.(*design.HubTable).Routes {
		way := ""
		if e.Via != "" {
			way = w.hubWay(h, w.e.d.Get(e.Via))
		}
		if way == "" && (e.Via == "" || black) {
			way = "blackhole"
		}
		rows = append(rows, row{e.Prefix, 10, way})
	}
	for k, a := range w.e.d.Inside(h.ID, design.KindAttachment) {
		b := a.Body.(*design.Attachment)
		what := w.e.d.Get(b.What)
		if !slices.Contains(b.Feeds, table) || what.Kind == design.KindLink && !w.brings(what) {
			continue
		}
		exports := w.exported(a)
		if l, ok := what.Body.(*design.Link); what.Kind == design.KindHub || ok && l.Routing == design.RoutingBGP {
			exports = w.learned(table, what.ID)
		}
		for _, p := range exports {
			rows = append(rows, row{p, 100 + k, w.hubWay(h, a)})
		}
	}
	return rows
}

// hubWay is how a hub reaches what is attached, empty if it does not.
func (w *world) hubWay(h, a *design.Object) string {
	if !w.e.up[a.ID] {
		return ""
	}
	what := a.Body.(*design.Attachment).What
	if w.e.d.Get(what).Kind == design.KindLink {
		if devs := w.tunnelsOf(what, h.ID); len(devs) > 0 {
			return " dev " + devs[0]
		}
		return ""
	}
	return " dev " + w.devices[[2]design.ID{a.ID, h.ID}]
}

// hubTables fills the tables of a hub, and binds what comes in to them.
func (w *world) hubTables(h *design.Object) {
	for k, t := range w.e.d.Inside(h.ID, design.KindHubTable) {
		table := fmt.Sprint(1000 + k)
		for _, r := range w.hubRows(h, t.ID) {
			if r.way == "blackhole" {
				w.do(
					h.ID, "ip %s route replace blackhole %s table %s metric %d", ipFlag(r.p), r.p, table,
					metric(r.p, r.rank),
				)
			} else if r.way != "" {
				w.do(
					h.ID, "ip %s route replace %s%s table %s metric %d", ipFlag(r.p), r.p, r.way, table,
					metric(r.p, r.rank),
				)
			}
		}
		for _, a := range w.e.d.Inside(h.ID, design.KindAttachment) {
			b := a.Body.(*design.Attachment)
			if b.Bound != t.ID || !w.e.up[a.ID] {
				continue
			}
			devs := []string{w.devices[[2]design.ID{a.ID, h.ID}]}
			if w.e.d.Get(b.What).Kind == design.KindLink {
				devs = w.tunnelsOf(b.What, h.ID)
			}
			for _, dev := range devs {
				w.do(
					h.ID, "ip -4 rule add pref 100 iif %s lookup %s; ip -6 rule add pref 100 iif %s lookup %s", dev,
					table, dev, table,
				)
			}
		}
	}
	for _, g := range w.e.d.Inside(h.ID, design.KindGateway) {
		links, near := w.linksAt(g.ID)
		w.policies(h.ID, false, links, near, nil)
	}
}
