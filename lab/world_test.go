package lab_test

import (
	"fmt"
	"net/netip"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go4.org/netipx"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/lab"
)

// world is an estate in namespaces. It is built from the design and from what the
// estate's maker knows, without asking any table, walk or status, but for what
// sessions bring.
type world struct {
	t       testing.TB
	e       *estate
	lab     *lab.Lab
	nodes   map[design.ID]*lab.Node
	cables  []string // made outside, before the nodes' scripts
	scripts map[design.ID][]string
	order   []design.ID
	n       int
	lost    map[design.ID][]string  // what takes the devices of tunnels that are not up down
	devices map[[2]design.ID]string // of a tunnel, peering or attachment at a node
	solved  *route.Tables
	sums    map[design.ID][]added
}

const fabric design.ID = "fabric" // the namespace of all switches

func (w *world) node(id design.ID) *lab.Node {
	if w.nodes[id] == nil {
		n, err := w.lab.Node(fmt.Sprintf("n%d", len(w.nodes)))
		require.NoError(w.t, err)
		w.nodes[id] = n
		w.order = append(w.order, id)
		w.do(
			id,
			"sysctl -qw net.ipv6.conf.all.forwarding=1; for f in /proc/sys/net/ipv6/conf/*/accept_dad; do echo 0 "+
				">$f; done",
		)
	}
	return w.nodes[id]
}

func (w *world) do(id design.ID, format string, args ...any) {
	w.scripts[id] = append(w.scripts[id], fmt.Sprintf(format, args...))
}

// cable joins two nodes and returns the devices.
func (w *world) cable(a, b design.ID, names ...string) (x, y string) {
	na, nb := w.node(a), w.node(b)
	w.n++
	x, y = fmt.Sprintf("a%d", w.n), fmt.Sprintf("b%d", w.n)
	for n, name := range names {
		if name != "" && n == 0 {
			x = name
		} else if name != "" {
			y = name
		}
	}
	w.cables = append(
		w.cables, fmt.Sprintf("link add %s netns %s type veth peer name %s netns %s", x, na.Name(), y, nb.Name()),
	)
	return x, y
}

// wireMAC is that of both ends of every wire: whatever is sent into one is taken.
const wireMAC = "02:00:00:00:00:01"

// wire is a cable without neighbours: what is sent into one end comes out of the
// other.
func (w *world) wire(a, b design.ID, names ...string) (x, y string) {
	x, y = w.cable(a, b, names...)
	w.do(a, "ip link set %s arp off addrgenmode none address %s up", x, wireMAC)
	w.do(b, "ip link set %s arp off addrgenmode none address %s up", y, wireMAC)
	return x, y
}

func ipFlag(p netip.Prefix) string {
	if p.Addr().Is4() {
		return "-4"
	}
	return "-6"
}

// metric puts routes of IPv6 behind the connected ones.
func metric(p netip.Prefix, n int) int {
	if p.Addr().Is6() {
		return 1024 + n
	}
	return n
}

// build makes the whole world and runs the scripts.
func build(
	t testing.TB,
	e *estate,
	rendered func(gateway design.ID) (devices map[design.ID]string, files []string),
) *world {
	l, err := lab.New()
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	w := &world{
		t: t, e: e, lab: l, nodes: map[design.ID]*lab.Node{}, scripts: map[design.ID][]string{},
		lost: map[design.ID][]string{}, devices: map[[2]design.ID]string{},
		solved: route.Solve(e.d.On(e.side), status.Condition{}),
	}
	w.node(fabric)
	late := map[design.ID][]string{}
	names := map[design.ID]map[design.ID]string{}
	for _, g := range e.d.Of(design.KindGateway) {
		if rendered != nil && e.d.Party(g.ID).Kind == design.KindSite {
			names[g.ID], late[g.ID] = rendered(g.ID)
		}
	}
	for _, b := range e.d.Of(design.KindBox) {
		_, late[b.ID] = rendered(b.ID)
	}
	for _, s := range e.d.Of(design.KindSite) {
		w.site(s)
	}
	for _, n := range e.d.Of(design.KindNetwork) {
		w.network(n)
	}
	for _, h := range e.d.Of(design.KindHub) {
		w.hub(h)
	}
	w.tunnels(names)
	w.peerings()
	for _, g := range e.d.Of(design.KindGateway) {
		w.gateway(g, late[g.ID])
	}
	for _, b := range e.d.Of(design.KindBox) {
		w.scripts[b.ID] = append(w.scripts[b.ID], late[b.ID]...)
		w.faults(b.ID, design.FaultsOf(b), nil)
	}
	for _, n := range e.d.Of(design.KindNetwork) {
		w.tables(n)
	}
	for _, h := range e.d.Of(design.KindHub) {
		w.hubTables(h)
	}
	w.filters(rendered != nil)
	batch := exec.Command("ip", "-batch", "-")
	batch.Stdin = strings.NewReader(strings.Join(w.cables, "\n") + "\n")
	out, err := batch.CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, id := range w.order {
		require.NoError(t, w.nodes[id].Script(append([]string{"set -x"}, w.scripts[id]...)...), w.e.d.Title(id))
	}
	return w
}

func addressesOf(o *design.Object) []netip.Addr { return o.Body.(*design.Endpoint).Addresses }

// addressIn is the address of a site's gateway in a range of a LAN: the one that it is
// said to stand at, or the one that its number in the site gives.
func (w *world) addressIn(g *design.Object, n int, p netip.Prefix) netip.Addr {
	for _, a := range design.StandsAt(g) {
		if p.Contains(a) {
			return a
		}
	}
	return nth(p, 2+n)
}

// hosts makes the namespace of a place's hosts, behind a device at a router with an
// address in each range.
func (w *world) hosts(place *design.Object, device string, router func(netip.Prefix) netip.Addr) {
	id := place.ID
	w.node(id)
	w.do(id, "sysctl -qw net.ipv4.ip_forward=0 net.ipv6.conf.all.forwarding=0")
	w.do(
		id,
		"for f in /proc/sys/net/ipv[46]/conf/*/accept_redirects; do echo 0 >$f; done",
	) // a host that was told of a way around its gateway shows nothing of the gateway
	w.do(id, "ip link set %s up", device)
	for _, host := range w.e.d.Inside(id, design.KindEndpoint) {
		for _, a := range addressesOf(host) {
			for _, p := range design.RangesOf(place) {
				if p.Contains(a) {
					w.do(id, "ip address add %s/%d dev %s %s", a, p.Bits(), device, nodad(a))
				}
			}
		}
	}
	for _, p := range design.RangesOf(place) {
		if len(w.e.d.Inside(id, design.KindEndpoint)) > 0 {
			w.do(id, "ip %s route replace default via %s", ipFlag(p), router(p))
		}
	}
}

func nodad(a netip.Addr) string {
	if a.Is6() {
		return "nodad"
	}
	return ""
}

// gatewaysOf are the gateways of a LAN, the first one its hosts' default, as the
// numbers that they have in the site.
func (w *world) gatewaysOf(lan *design.Object) []int {
	var out []int
	all := w.e.d.Inside(lan.Parent, design.KindGateway)
	for n, g := range all {
		if list := lan.Body.(*design.LAN).Gateways; len(list) == 0 || slices.Contains(list, g.ID) {
			out = append(out, n)
		}
	}
	return out
}

func (w *world) site(s *design.Object) {
	d := w.e.d
	gateways := d.Inside(s.ID, design.KindGateway)
	for _, g := range gateways {
		w.node(g.ID)
	}
	for k, lan := range d.Inside(s.ID, design.KindLAN) {
		bridge := fmt.Sprintf("br%d-%d", len(w.order), k)
		w.do(fabric, "ip link add %s type bridge", bridge)
		w.do(fabric, "ip link set %s up", bridge)
		plug := func(id design.ID) string {
			x, y := w.cable(id, fabric)
			w.do(fabric, "ip link set %s master %s up", y, bridge)
			w.do(id, "ip link set %s up", x)
			return x
		}
		for _, n := range w.gatewaysOf(lan) {
			x := plug(gateways[n].ID)
			for _, p := range design.RangesOf(lan) {
				w.do(
					gateways[n].ID, "ip address add %s/%d dev %s %s", w.addressIn(gateways[n], n, p), p.Bits(), x,
					nodad(p.Addr()),
				)
			}
			w.devices[[2]design.ID{lan.ID, gateways[n].ID}] = x
		}
		for n, g := range gateways { // it stands there, and the hosts use another
			if !slices.Contains(w.gatewaysOf(lan), n) && w.e.d.StandsIn(g, lan) {
				x := plug(g.ID)
				for _, p := range design.RangesOf(lan) {
					w.do(g.ID, "ip address add %s/%d dev %s %s", w.addressIn(g, n, p), p.Bits(), x, nodad(p.Addr()))
				}
			}
		}
		first := w.gatewaysOf(lan)[0]
		w.hosts(lan, plug(lan.ID), func(p netip.Prefix) netip.Addr { return w.addressIn(gateways[first], first, p) })
		w.boxes(lan, plug)
		for _, inner := range d.Inside(s.ID, design.KindInnerRoute) {
			if via := inner.Body.(*design.InnerRoute).Via; design.RangesOf(lan)[0].Contains(via) {
				w.inner(lan, inner, via, plug, gateways)
			}
		}
	}
}

func (w *world) inner(
	lan, inner *design.Object,
	via netip.Addr,
	plug func(design.ID) string,
	gateways []*design.Object,
) {
	router := inner.ID + "-router"
	x := plug(router)
	first := w.gatewaysOf(lan)[0]
	for _, p := range design.RangesOf(lan) {
		at := nth(p, 5)
		if p.Contains(via) {
			at = via
		}
		w.do(router, "ip address add %s/%d dev %s %s", at, p.Bits(), x, nodad(p.Addr()))
		w.do(router, "ip %s route add default via %s", ipFlag(p), w.addressIn(gateways[first], first, p))
	}
	a, b := w.cable(inner.ID, router)
	w.do(router, "ip link set %s up", b)
	for _, p := range design.RangesOf(inner) {
		w.do(router, "ip address add %s/%d dev %s", nth(p, 1), p.Bits(), b)
		for _, n := range w.gatewaysOf(lan) {
			w.do(gateways[n].ID, "ip route add %s via %s metric 1", p, via)
		}
	}
	w.hosts(inner, a, firstIn)
}

// tunnels are wires, where they are up; in a rendered world also the others have
// a device, which is down.
func (w *world) tunnels(names map[design.ID]map[design.ID]string) {
	for _, t := range w.e.d.Of(design.KindTunnel) {
		l := w.e.d.Get(t.Parent).Body.(*design.Link)
		a, b := w.at(l.Ends[0].Gateway), w.at(l.Ends[1].Gateway)
		x, y := names[l.Ends[0].Gateway][t.ID], names[l.Ends[1].Gateway][t.ID]
		if w.e.up[t.ID] {
			x, y = w.wire(a, b, x, y)
			w.devices[[2]design.ID{t.ID, a}], w.devices[[2]design.ID{t.ID, b}] = x, y
			continue
		}
		for n, name := range []string{x, y} {
			if at := []design.ID{a, b}[n]; name != "" {
				w.do(at, "ip link add %s type veth peer name p%s", name, name)
				w.lost[at] = append(w.lost[at], "ip link set "+name+" down")
			}
		}
	}
}

// at is the node of a gateway: a hub's gateway is the hub.
func (w *world) at(gateway design.ID) design.ID {
	if p := w.e.d.Party(gateway); p.Kind == design.KindHub {
		return p.ID
	}
	return gateway
}

// tunnelsOf are the devices of a link's tunnels that are up, at a node.
func (w *world) tunnelsOf(link, at design.ID) (out []string) {
	for _, t := range w.e.d.Inside(link, design.KindTunnel) {
		if dev := w.devices[[2]design.ID{t.ID, at}]; dev != "" {
			out = append(out, dev)
		}
	}
	return out
}

// brings tells whether a link brings routes: it has a tunnel that is up, and with
// BGP a session.
func (w *world) brings(link *design.Object) bool {
	for _, t := range w.e.d.Inside(link.ID, design.KindTunnel) {
		if link.Body.(*design.Link).Routing != design.RoutingBGP && w.e.up[t.ID] {
			return true
		}
		for _, s := range w.e.d.Inside(t.ID, design.KindSession) {
			if w.e.up[s.ID] {
				return true
			}
		}
	}
	return false
}

// meant tells whether a link counts at the side, whatever its ends come to.
func (w *world) meant(o *design.Object) bool {
	switch design.StateOf(o) {
	case design.Ready:
		return true
	case design.Making:
		return w.e.side == design.Planned
	}
	return false
}

// linksAt are the links of a gateway in the order of the design, with the end
// there.
func (w *world) linksAt(gateway design.ID) (links []*design.Object, near []design.End) {
	for _, o := range w.e.d.Of(design.KindLink) {
		l := o.Body.(*design.Link)
		e, _, _, ok := l.End(gateway)
		if !ok || !w.meant(o) {
			continue
		}
		end := *e
		if l.Routing == design.RoutingBGP {
			end.Routes = w.learned(gateway, o.ID)
		}
		links, near = append(links, o), append(near, end)
	}
	return links, near
}

// learned are the ranges that a box has learned over a link: what the daemons of
// [TestTruthOfLearnedRoutes] vouch for.
func (w *world) learned(table, link design.ID) (out []netip.Prefix) {
	for _, r := range w.solved.Point(table).Routes {
		if r.Learned != nil && r.Unusable == "" && r.Hop.To == link {
			out = append(out, r.Prefix)
		}
	}
	return out
}

// gateway sets up the routes, policies and translations of a box.
func (w *world) gateway(g *design.Object, late []string) {
	party := w.e.d.Party(g.ID)
	if party.Kind == design.KindHub {
		return
	}
	body := g.Body.(*design.Gateway)
	var own []netip.Prefix
	if party.Kind == design.KindSite {
		for n, other := range w.e.d.Inside(party.ID, design.KindGateway) {
			for _, lan := range w.e.d.Inside(party.ID, design.KindLAN) {
				if other.ID == g.ID && slices.Contains(w.gatewaysOf(lan), n) {
					own = append(own, design.RangesOf(lan)...)
				}
			}
		}
		for _, inner := range w.e.d.Inside(party.ID, design.KindInnerRoute) {
			own = append(own, design.RangesOf(inner)...)
		}
	}
	links, near := w.linksAt(g.ID)
	for n, o := range links {
		devs := w.tunnelsOf(o.ID, g.ID)
		l := o.Body.(*design.Link)
		if len(devs) == 0 || !w.brings(o) || late != nil && l.Routing == design.RoutingStatic {
			continue
		}
		rank := 10 + n
		switch {
		case l.Routing == design.RoutingBGP && party.Kind == design.KindSite:
			rank = 20000 + n
		case l.Routing != design.RoutingBGP && party.Kind == design.KindNetwork:
			rank = 1000 + n
		}
		routes := near[n].Routes
		if party.Kind == design.KindNetwork {
			routes = slices.Concat(routes, near[n].Remote)
		}
		for _, r := range routes {
			if party.Kind == design.KindNetwork && w.overridden(party, r) {
				continue
			}
			by := ""
			if rank >= 20000 { // as the daemon does, whose the route is then
				by = " proto bird"
			}
			w.do(g.ID, "ip %s route replace %s dev %s metric %d%s", ipFlag(r), r, devs[0], metric(r, rank), by)
		}
	}
	if body.Enters != "" { // whatever comes in is routed by a table of the network
		inner := w.devices[[2]design.ID{party.ID, g.ID}]
		w.do(g.ID, "for f in -4 -6; do ip $f route add default dev %s table 60; done", inner)
		for _, o := range links {
			for _, dev := range w.tunnelsOf(o.ID, g.ID) {
				w.do(g.ID, "for f in -4 -6; do ip $f rule add pref 50 iif %s lookup 60; done", dev)
			}
		}
	}
	if len(late) > 0 {
		w.scripts[g.ID] = append(append(w.scripts[g.ID], late...), w.lost[g.ID]...)
	} else {
		w.hides(g)
		w.translate(g, links, near, own)
	}
	w.policies(g.ID, party.Kind == design.KindSite, links, near, own)
	w.faults(g.ID, body.Faults, links)
}

func (w *world) faults(id design.ID, faults []string, links []*design.Object) {
	switch {
	case slices.Contains(faults, design.ForwardingOff):
		w.do(id, "sysctl -qw net.ipv4.ip_forward=0 net.ipv6.conf.all.forwarding=0")
	case slices.Contains(faults, design.SourceCheck):
		w.do(id, "nft 'table inet check { chain c { type filter hook forward priority 0; policy drop; }; }'")
	case slices.Contains(faults, design.StrictReversePath):
		w.do(
			id,
			"for f in /proc/sys/net/ipv4/conf/*/rp_filter; do echo 1 >$f; done; sysctl -qw "+
				"net.ipv4.conf.all.rp_filter=0",
		)
		for _, o := range links {
			if o.Body.(*design.Link).Routing == design.RoutingSelectors {
				for _, dev := range w.tunnelsOf(o.ID, id) {
					w.do(id, "sysctl -qw net.ipv4.conf.%s.rp_filter=0", dev)
				}
			}
		}
	}
}

func setOf(ps []netip.Prefix, v4 bool) string {
	var words []string
	for _, p := range ps {
		inside := slices.ContainsFunc(
			ps, func(o netip.Prefix) bool { return o != p && o.Overlaps(p) && o.Bits() < p.Bits() },
		)
		if p.Addr().Is4() == v4 && !inside && !slices.Contains(words, p.String()) {
			words = append(words, p.String())
		}
	}
	if len(words) == 0 {
		return ""
	}
	return "{ " + strings.Join(words, ", ") + " }"
}

// hides writes the pools of a cloud's gateway, which loads no file, as rules of the kernel.
func (w *world) hides(g *design.Object) {
	var rules []string
	for _, r := range design.RulesOf(g) {
		devs := w.tunnelsOf(r.Toward, g.ID)
		if from := setOf(r.Source, true); r.Does == design.FromPool && len(devs) > 0 && from != "" {
			rules = append(rules, fmt.Sprintf(
				"oifname { %s } ip saddr %s snat to %s-%s", strings.Join(devs, ", "), from, r.Into.Masked().Addr(),
				netipx.RangeOfPrefix(r.Into).To(),
			))
		}
	}
	if len(rules) > 0 && w.e.d.Party(g.ID).Kind == design.KindNetwork {
		w.do(
			g.ID, "nft -f - <<'END'\ntable ip hides {\nchain out { type nat hook postrouting priority 99;\n%s\n}\n"+
				"}\nEND",
			strings.Join(rules, "\n"),
		)
	}
}

// translate writes the mappings of a site's gateway as rules of the kernel.
func (w *world) translate(g *design.Object, links []*design.Object, near []design.End, own []netip.Prefix) {
	for _, v4 := range []bool{true, false} {
		ip := map[bool]string{true: "ip", false: "ip6"}[v4]
		var in, out []string
		for _, o := range w.e.d.Of(design.KindMapping) {
			m := o.Body.(*design.Mapping)
			n := slices.IndexFunc(links, func(l *design.Object) bool { return l.ID == m.Link })
			if m.Gateway != g.ID || n < 0 || m.Real.Addr().Is4() != v4 {
				continue
			}
			from, to := "", ""
			if links[n].Body.(*design.Link).Routing == design.RoutingSelectors {
				remote := setOf(near[n].Remote, v4)
				if remote == "" {
					continue
				}
				from, to = ip+" saddr "+remote, ip+" daddr "+remote
				if mine := setOf(own, v4); mine != "" {
					from, to = from+" "+ip+" saddr != "+mine, to+" "+ip+" daddr != "+mine
				}
			} else if devs := w.tunnelsOf(m.Link, g.ID); len(devs) > 0 {
				from, to = "iifname { "+strings.Join(devs, ", ")+" }", "oifname { "+strings.Join(devs, ", ")+" }"
			} else {
				continue
			}
			in = append(
				in,
				fmt.Sprintf(
					"%s %s daddr %s dnat %s prefix to %s daddr map { %s : %s }", from, ip, m.Mapped, ip, ip, m.Mapped,
					m.Real,
				),
			)
			out = append(
				out,
				fmt.Sprintf(
					"%s %s saddr %s snat %s prefix to %s saddr map { %s : %s }", to, ip, m.Real, ip, ip, m.Real,
					m.Mapped,
				),
			)
		}
		if len(in) > 0 {
			w.do(
				g.ID,
				"nft -f - <<'END'\ntable %s maps {\nchain in { type nat hook prerouting priority -100;\n%s\n}\n"+
					"chain out { "+
					"type nat hook postrouting priority 100;\n%s\n}\n}\nEND",
				ip,
				strings.Join(in, "\n"),
				strings.Join(out, "\n"),
			)
		}
	}
}

// policies do what selectors do. A cloud's gateway routes, and drops what does not
// fit.
func (w *world) policies(id design.ID, site bool, links []*design.Object, near []design.End, own []netip.Prefix) {
	for _, v4 := range []bool{true, false} {
		k := kernelPolicies{
			w: w, id: id, v4: v4, ip: map[bool]string{true: "ip", false: "ip6"}[v4],
			flag: map[bool]string{true: "-4", false: "-6"}[v4],
		}
		if mine := setOf(own, v4); mine != "" {
			k.stay = fmt.Sprintf("%s saddr %s %s daddr %s return", k.ip, mine, k.ip, mine)
		}
		for n, o := range links {
			if o.Body.(*design.Link).Routing != design.RoutingSelectors {
				continue
			}
			local, remote, devs := setOf(near[n].Local, v4), setOf(near[n].Remote, v4), w.tunnelsOf(o.ID, id)
			k.inbound(local, remote, devs, !site)
			if site && local != "" && remote != "" {
				k.outbound(local, remote, devs)
			}
		}
		if site {
			k.otherwise(links, near)
		}
		k.load()
	}
}

// otherwise sends what was kept from the links that routes decide on, and fits no
// selector once it is translated, where the routes say after all.
func (k *kernelPolicies) otherwise(links []*design.Object, near []design.End) {
	type way struct {
		p   netip.Prefix
		dev string
	}
	var ways []way
	for n, o := range links {
		if devs := k.w.tunnelsOf(o.ID, k.id); len(devs) > 0 && k.w.brings(o) {
			for _, r := range near[n].Routes {
				if r.Addr().Is4() == k.v4 {
					ways = append(ways, way{r, devs[0]})
				}
			}
		}
	}
	slices.SortStableFunc(ways, func(a, b way) int { return b.p.Bits() - a.p.Bits() })
	for _, x := range ways {
		if k.out != "" {
			k.rest = append(
				k.rest,
				fmt.Sprintf("oifname %s %s daddr %s ether daddr set %s fwd to %s", k.out, k.ip, x.p, wireMAC, x.dev),
			)
		}
	}
}

// kernelPolicies write the policies of one box and family. What fits a selector
// before its source is translated leaves by none of the links that routes decide
// on; what fits one afterwards is sent into its tunnel from behind the
// translation, as IPsec would, and nothing else is.
type kernelPolicies struct {
	w                            *world
	id                           design.ID
	v4                           bool
	ip, flag, stay               string
	in, before, past, into, rest []string
	hold                         []string
	out                          string // the device that stands for the way out
}

func (k *kernelPolicies) inbound(local, remote string, devs []string, hold bool) {
	for _, dev := range devs {
		if local != "" && remote != "" {
			k.in = append(
				k.in, fmt.Sprintf("iifname %s %s saddr %s %s daddr %s return", dev, k.ip, remote, k.ip, local),
			)
			k.hold = append(
				k.hold, fmt.Sprintf("oifname %s %s saddr %s %s daddr %s return", dev, k.ip, local, k.ip, remote),
			)
		}
		k.in, k.hold = append(k.in, "iifname "+dev+" drop"), append(k.hold, "oifname "+dev+" drop")
	}
	if !hold {
		k.hold = nil
	}
}

func (k *kernelPolicies) outbound(local, remote string, devs []string) {
	if k.out == "" {
		k.out, _ = k.w.wire(k.id, fabric)
		k.w.do(
			k.id,
			"ip %s rule add pref 100 fwmark 0x10000/0xff0000 lookup 100; ip %s route add default dev %s table "+
				"100; ip %s "+
				"route replace default dev %s metric 40000",
			k.flag,
			k.flag,
			k.out,
			k.flag,
			k.out,
		)
	}
	k.before = append(
		k.before,
		fmt.Sprintf(
			"%s saddr %s %s daddr %s meta mark set mark and 0xffff or 0x10000 return", k.ip, local, k.ip, remote,
		),
	)
	fit := fmt.Sprintf("%s saddr %s %s daddr %s ", k.ip, local, k.ip, remote)
	if len(devs) == 0 {
		k.past = append(k.past, fit+"drop")
		return
	}
	k.past = append(k.past, fmt.Sprintf("%sether daddr set %s fwd to %s", fit, wireMAC, devs[0]))
	k.into = append(k.into, devs[0])
}

func (k *kernelPolicies) load() {
	if len(k.in)+len(k.before)+len(k.hold) == 0 {
		return
	}
	before, past := k.before, k.past
	if k.stay != "" {
		before, past = append([]string{k.stay}, before...), append([]string{k.stay}, past...)
	}
	k.w.do(
		k.id,
		"nft -f - <<'END'\ntable %s policies {\nchain in { type filter hook prerouting priority -250;\n%s\n}\nchain "+
			"before { type filter hook prerouting priority -50;\n%s\n}\nchain hold { type filter hook forward "+
			"priority "+
			"10;\n%s\n}\n}\nEND",
		k.ip,
		strings.Join(k.in, "\n"),
		strings.Join(before, "\n"),
		strings.Join(k.hold, "\n"),
	)
	if k.out != "" { // behind everything else, on every device but the tunnels' own
		k.w.do(
			k.id,
			"devs=$(ls /sys/class/net | grep -vxE 'lo%s' | paste -sd,); nft \"table netdev past%s { chain past { type "+
				"filter hook egress devices = { $devs } priority 0; %s; }; }\"",
			strings.Join(append([]string{""}, k.into...), "|"),
			k.flag[1:],
			strings.Join(append(past, k.rest...), "; "),
		)
	}
}
