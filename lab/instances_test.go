package lab_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/lab"
)

// maker collects the objects of a small estate.
type maker struct{ objects []*design.Object }

func (m *maker) add(k design.Kind, parent design.ID, name string, b design.Body) design.ID {
	id := design.IDFor(k, string(parent)+name)
	m.objects = append(m.objects, &design.Object{ID: id, Kind: k, Parent: parent, Name: name, Body: b})
	return id
}

func (m *maker) has(id design.ID) bool {
	return slices.ContainsFunc(m.objects, func(o *design.Object) bool { return o.ID == id })
}

// of is an object that was added.
func (m *maker) of(id design.ID) *design.Object {
	return m.objects[slices.IndexFunc(m.objects, func(o *design.Object) bool { return o.ID == id })]
}

func (m *maker) design(t *testing.T) *design.Design {
	edits := make([]design.Edit, len(m.objects))
	for n, o := range m.objects {
		edits[n] = design.PutEdit(o)
	}
	d, _, err := design.New("small", nil).Apply(edits)
	require.NoError(t, err)
	return d
}

// estates runs many, some at a time: they mostly wait. Some of their flows work, not all.
func estates(t *testing.T, count int, run func(t *testing.T, seed uint64) (works, all int)) {
	var works, all atomic.Int64
	t.Run("estates", func(t *testing.T) {
		for n := range count {
			seed := uint64(firstSeed + n)
			t.Run(fmt.Sprint(seed), func(t *testing.T) {
				t.Parallel()
				w, a := run(t, seed)
				works.Add(int64(w))
				all.Add(int64(a))
			})
		}
	})
	t.Logf("%d flows, %d work by their walks", all.Load(), works.Load())
	assert.Positive(t, works.Load())
	assert.Less(t, works.Load(), all.Load())
}

// pings asks every host of every other, and holds what comes back against the
// walks.
func pings(t *testing.T, what string, d *design.Design, hosts map[design.ID]*lab.Node) (works int) {
	tables := route.Solve(d, status.Condition{})
	var mu sync.Mutex
	var wg sync.WaitGroup
	for from, node := range hosts {
		for to := range hosts {
			a, b := prefix.FirstHost(d.Ranges(from)[0]).Next(), prefix.FirstHost(d.Ranges(to)[0]).Next()
			if a == b {
				continue
			}
			wg.Go(func() {
				p := walk.Prove(
					tables,
					walk.Flow{From: walk.Host{Place: from, Address: a}, To: b, Service: design.Service{Proto: "icmp"}},
				)
				_, err := node.Output("ping -n -c 1 -W 1 " + b.String())
				if err != nil && p.Works { // a busy machine may be late
					_, err = node.Output("ping -n -c 3 -W 2 " + b.String())
				}
				mu.Lock()
				defer mu.Unlock()
				if p.Works {
					works++
				}
				assert.Equal(t, p.Works, err == nil, "%s: %s to %s: %+v", what, d.Title(from), d.Title(to), p.Stop)
			})
		}
	}
	wg.Wait()
	return works
}

// behind puts a host behind a box and gives it its way out.
func behind(t *testing.T, l *lab.Lab, box *lab.Node, device string, lan netip.Prefix) *lab.Node {
	h := node(t, l, "h"+device)
	gateway, own := prefix.FirstHost(lan), prefix.FirstHost(lan).Next()
	require.NoError(
		t,
		l.Join(
			box, device, netip.PrefixFrom(gateway, lan.Bits()).String(), h, "eth",
			netip.PrefixFrom(own, lan.Bits()).String(),
		),
	)
	require.NoError(t, h.Script("ip route add default via "+gateway.String()))
	return h
}

// Two sites with LANs in random segments, and tunnels that carry one or none: the
// rendered files make the routing instances, and packets pass exactly where walks
// say.
func TestTruthOfSegments(t *testing.T) {
	estates(t, number("DRAVIN_TRUTH_INSTANCES", 4), func(t *testing.T, seed uint64) (works, all int) {
		r := rand.New(rand.NewPCG(seed, 21))
		var m maker
		segments := []design.ID{
			"", m.add(design.KindSegment, "", "science", &design.Segment{}),
			m.add(design.KindSegment, "", "grounds", &design.Segment{}),
			m.add(design.KindSegment, "", "visitors", &design.Segment{}),
		}
		any := func() design.ID { return segments[r.IntN(len(segments))] }
		var gateways, lans []design.ID
		routes := [2][]netip.Prefix{}
		for s := range 2 {
			site := m.add(design.KindSite, "", fmt.Sprint("site ", s), &design.Site{})
			gateways = append(
				gateways,
				m.add(
					design.KindGateway, site, "gateway",
					&design.Gateway{Addresses: []netip.Addr{netip.AddrFrom4([4]byte{198, 51, 100, byte(1 + s)})}},
				),
			)
			for k := range 2 + r.IntN(2) {
				p := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(212 + s), byte(k), 0}), 24)
				if s == 1 && r.IntN(3) == 0 { // the far site has the range, too, perhaps in another segment
					p = netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 212, byte(k), 0}), 24)
				}
				routes[1-s] = append(routes[1-s], p)
				lans = append(
					lans,
					m.add(
						design.KindLAN, site, fmt.Sprint("lan ", k),
						&design.LAN{Prefixes: []netip.Prefix{p}, Segment: any()},
					),
				)
			}
		}
		bgp := seed%2 == 1
		body := &design.Link{
			Routing: design.RoutingStatic,
			Ends:    []design.End{{Gateway: gateways[0], Routes: routes[0]}, {Gateway: gateways[1], Routes: routes[1]}},
		}
		if bgp {
			body = &design.Link{
				Routing: design.RoutingBGP, Ends: []design.End{{Gateway: gateways[0]}, {Gateway: gateways[1]}},
			}
		}
		link := m.add(design.KindLink, "", "link", body)
		tunnels := 1 + r.IntN(3)
		for k := range tunnels {
			in := netip.AddrFrom4([4]byte{169, 254, 140, byte(4 * k)})
			tunnel := m.add(
				design.KindTunnel,
				link,
				fmt.Sprint("tunnel ", k+1),
				&design.Tunnel{Segment: segments[(k+r.IntN(2))%len(segments)],
					Outside: []netip.Addr{netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("198.51.100.2")},
					Inside:  []netip.Prefix{netip.PrefixFrom(in.Next(), 30), netip.PrefixFrom(in.Next().Next(), 30)}},
			)
			if bgp {
				m.add(
					design.KindSession, tunnel, "session",
					&design.Session{
						Ends: []design.SessionEnd{
							{ASN: 64501, Address: in.Next()}, {ASN: 64502, Address: in.Next().Next()},
						},
					},
				)
			}
		}
		if seed%4 > 0 { // crossings between some of them, drawn apart from the rest
			crossed(&m, rand.New(rand.NewPCG(seed, 22)), segments[1:], lans)
		}
		d := m.design(t)
		l := needs(t, "ping", "bird", "nft")
		boxes := map[design.ID]*lab.Node{}
		for n, g := range gateways {
			boxes[g] = node(t, l, fmt.Sprint("g", n))
		}
		for k := range tunnels { // a cable stands for each tunnel
			require.NoError(
				t,
				l.Join(
					boxes[gateways[0]], fmt.Sprint("dravin", k+1), fmt.Sprintf("192.0.2.%d/32", 2*k+1),
					boxes[gateways[1]], fmt.Sprint("dravin", k+1), fmt.Sprintf("192.0.2.%d/32", 2*k+2),
				),
			)
		}
		hosts := map[design.ID]*lab.Node{}
		for n, lan := range lans {
			site := d.Get(lan).Parent
			for _, g := range gateways {
				if d.Get(g).Parent == site {
					hosts[lan] = behind(t, l, boxes[g], fmt.Sprint("lan", n), d.Ranges(lan)[0])
				}
			}
		}
		tables := route.Solve(d, status.Condition{})
		daemons := map[design.ID]string{}
		for _, g := range gateways {
			for _, f := range handover.Render(tables, d.Get(g).Parent, nil) {
				if strings.HasSuffix(f.Path, "bird.conf") {
					daemons[g] = f.Content
				}
				for _, load := range []struct{ suffix, with string }{{"dravin.nft", "nft -f "}, {"routes.sh", "sh "}} {
					if strings.HasSuffix(f.Path, load.suffix) {
						file := filepath.Join(t.TempDir(), load.suffix)
						require.NoError(t, os.WriteFile(file, []byte(f.Content), 0o600))
						out, err := boxes[g].Output(load.with + file)
						require.NoError(t, err, "%s\n%s", out, f.Content)
					}
				}
			}
			for k := range tunnels { // the other end of a cable is asked for nobody's address
				require.NoError(
					t, boxes[g].Script(fmt.Sprintf("echo 1 >/proc/sys/net/ipv4/conf/dravin%d/proxy_arp", k+1)),
				)
			}
		}
		for g, conf := range daemons {
			bird(t, boxes[g], conf)
		}
		for g := range daemons {
			learnsAll(t, boxes[g], tables, g)
		}
		return pings(t, fmt.Sprint("seed ", seed), d, hosts), len(hosts) * (len(hosts) - 1)
	})
}

// crossed adds crossings between segments, some with a filter.
func crossed(m *maker, r *rand.Rand, segments, lans []design.ID) {
	for n, from := range segments {
		for k, to := range segments {
			if n == k || r.IntN(3) > 0 || n > k && m.has(design.IDFor(design.KindCrossing, fmt.Sprint(k, " to ", n))) {
				continue
			}
			id := m.add(design.KindCrossing, "", fmt.Sprint(n, " to ", k), &design.Crossing{
				From: from, To: to, Does: []string{
					design.CrossingOpen, design.CrossingOneWay, design.CrossingServices,
				}[r.IntN(3)],
			})
			if r.IntN(3) > 0 {
				continue
			}
			f := &design.PacketFilter{
				At: id, Default: []string{design.Allow, design.Refuse}[r.IntN(2)], Stateless: r.IntN(3) == 0,
			}
			for range 1 + r.IntN(3) {
				x := design.FilterRule{
					Does: []string{design.Allow, design.Refuse}[r.IntN(2)], Services: []design.Traffic{{Proto: "icmp"}},
					From: m.of(lans[r.IntN(len(lans))]).Body.(*design.LAN).Prefixes,
				}
				if r.IntN(2) == 0 {
					x.Services[0].Message = design.EchoRequest
					x.Replies = r.IntN(2) == 0
				}
				f.Rules = append(f.Rules, x)
			}
			m.add(design.KindFilter, "", fmt.Sprint("filter of ", n, " to ", k), f)
		}
	}
}

// learnsAll waits until every table of a box's kernel has what it is said to learn,
// and no more.
func learnsAll(t *testing.T, box *lab.Node, tables *route.Tables, gateway design.ID) {
	numbers := tables.Design.SegmentNumbers()
	for n, segment := range route.Instances(tables.Design, tables.Design.Get(gateway)) {
		var want []string
		for _, r := range tables.PointIn(gateway, segment).Routes {
			if r.Learned != nil && r.Unusable == "" {
				want = append(want, r.Prefix.String())
			}
		}
		table := "main"
		if n > 0 {
			table = strconv.Itoa(300 + numbers[segment])
		}
		var got []string
		assert.Eventually(t, func() bool {
			out, err := box.Output("ip -4 route show table " + table + " proto bird | awk '/^[0-9]/ { print $1 }'")
			got = strings.Fields(out)
			return err == nil && slices.Equal(slices.Sorted(slices.Values(want)), slices.Sorted(slices.Values(got)))
		}, 2*time.Minute, 200*time.Millisecond, "table %s of %s", table, box.Name())
		if t.Failed() {
			t.Fatalf("table %s: want %v, got %v", table, want, got)
		}
	}
}

// Transit through one network by entering tables, with entries and tables left
// out at random: a site, a gateway, the network and two that are peered with it.
// Each table is a table of the kernel, each way in a rule.
func TestTruthOfEnteringTables(t *testing.T) {
	estates(t, number("DRAVIN_TRUTH_INSTANCES", 4), func(t *testing.T, seed uint64) (works, all int) {
		r := rand.New(rand.NewPCG(seed, 22))
		maybe := func() bool { return r.IntN(4) > 0 }
		var m maker
		pfx := netip.MustParsePrefix
		site := m.add(design.KindSite, "", "site", &design.Site{})
		own := m.add(
			design.KindGateway, site, "gateway",
			&design.Gateway{Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.1")}},
		)
		lan := m.add(design.KindLAN, site, "lan", &design.LAN{Prefixes: []netip.Prefix{pfx("10.215.0.0/24")}})
		blocks := []netip.Prefix{pfx("10.208.0.0/16"), pfx("10.209.0.0/16"), pfx("10.210.0.0/16")}
		var networks, tables, subnets []design.ID
		for n, b := range blocks {
			id := m.add(
				design.KindNetwork, "", fmt.Sprint("network ", n),
				&design.Network{Cloud: "Osier", Region: "osier-west", Blocks: []netip.Prefix{b}},
			)
			networks, tables = append(networks, id), append(tables, design.IDFor(design.KindTable, string(id)+"main"))
			subnets = append(
				subnets,
				m.add(
					design.KindSubnet, id, "subnet",
					&design.Subnet{Prefixes: []netip.Prefix{netip.PrefixFrom(b.Addr(), 24)}, Table: tables[n]},
				),
			)
		}
		entering := []design.ID{
			design.IDFor(design.KindTable, string(networks[0])+"from the gateway"),
			design.IDFor(design.KindTable, string(networks[0])+"from the peers"),
		}
		gate := &design.Gateway{Addresses: []netip.Addr{netip.MustParseAddr("192.0.2.1")}, VPN: "lone"}
		if maybe() {
			gate.Enters = entering[0]
		}
		gateway := m.add(design.KindGateway, networks[0], "gateway", gate)
		m.add(
			design.KindLink, "", "link",
			&design.Link{
				Routing: design.RoutingStatic,
				Ends: []design.End{
					{Gateway: own, Routes: blocks}, {Gateway: gateway, Routes: []netip.Prefix{pfx("10.215.0.0/24")}},
				},
			},
		)
		m.add(
			design.KindTunnel, m.objects[len(m.objects)-1].ID, "tunnel 1",
			&design.Tunnel{
				Outside: []netip.Addr{netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("192.0.2.1")},
				Inside:  []netip.Prefix{pfx("169.254.140.1/30"), pfx("169.254.140.2/30")},
			},
		)
		var peerings []design.ID
		for n := range 2 {
			halves := []design.Half{
				{Network: networks[0], Made: true, AcceptForwarded: maybe()},
				{Network: networks[n+1], Made: true, AcceptForwarded: maybe()},
			}
			if maybe() {
				halves[0].Enters = entering[1]
			}
			peerings = append(
				peerings, m.add(design.KindPeering, "", fmt.Sprint("peering ", n), &design.Peering{Halves: halves}),
			)
		}
		entries := func(list ...design.Entry) (out []design.Entry) {
			for _, e := range list {
				if maybe() {
					out = append(out, e)
				}
			}
			return out
		}
		m.add(design.KindTable, networks[0], "main", &design.Table{})
		m.add(
			design.KindTable, networks[0], "from the gateway",
			&design.Table{
				Learns: []string{"yes", "no"}[r.IntN(2)],
				Routes: entries(design.Entry{Prefix: pfx("10.208.0.0/25"), Via: peerings[1]}),
			},
		)
		m.add(design.KindTable, networks[0], "from the peers", &design.Table{Learns: []string{"", "no"}[r.IntN(2)]})
		for n := range 2 {
			m.add(
				design.KindTable, networks[n+1], "main",
				&design.Table{
					Routes: entries(
						design.Entry{Prefix: pfx("10.215.0.0/24"), Via: peerings[n]},
						design.Entry{Prefix: blocks[2-n], Via: peerings[n]},
					),
				},
			)
		}
		d := m.design(t)
		hosts := enteringWorld(t, d, own, gateway, networks, peerings, append(subnets, lan))
		return pings(t, fmt.Sprint("seed ", seed), d, hosts), len(hosts) * (len(hosts) - 1)
	})
}

// enteringWorld builds the estate of [TestTruthOfEnteringTables]: a node for the
// site, the gateway and every network.
func enteringWorld(
	t *testing.T,
	d *design.Design,
	own, gateway design.ID,
	networks, peerings, places []design.ID,
) map[design.ID]*lab.Node {
	l := needs(t, "ping")
	site, gate := node(t, l, "site"), node(t, l, "gate")
	cables := 0
	join := func(a *lab.Node, da string, b *lab.Node, db string) {
		cables++
		require.NoError(
			t,
			l.Join(
				a, da, fmt.Sprintf("169.254.200.%d/31", 2*cables), b, db, fmt.Sprintf("169.254.200.%d/31", 2*cables+1),
			),
		)
		require.NoError(t, a.Script("echo 1 >/proc/sys/net/ipv4/conf/"+da+"/proxy_arp"))
		require.NoError(t, b.Script("echo 1 >/proc/sys/net/ipv4/conf/"+db+"/proxy_arp"))
	}
	nets := map[design.ID]*lab.Node{}
	for n, id := range networks {
		nets[id] = node(t, l, fmt.Sprint("n", n))
	}
	join(site, "wan", gate, "wan")
	join(gate, "net", nets[networks[0]], "gate")
	for n, p := range peerings {
		for k, h := range d.Get(p).Body.(*design.Peering).Halves {
			if k == 0 {
				join(nets[h.Network], fmt.Sprint("peer", n), nets[networks[n+1]], fmt.Sprint("peer", n))
			}
		}
	}
	hosts := map[design.ID]*lab.Node{}
	for n, p := range places {
		box := site
		if o := d.Get(p); o.Kind == design.KindSubnet {
			box = nets[o.Parent]
		}
		hosts[p] = behind(t, l, box, fmt.Sprint("lan", n), d.Ranges(p)[0])
	}
	tables := route.Solve(d, status.Condition{})
	for _, r := range tables.Point(own).Routes {
		if r.Hop.Kind == route.Tunnel {
			require.NoError(t, site.Script(fmt.Sprintf("ip route replace %s dev wan", r.Prefix)))
		}
	}
	// The gateway sends what comes from outside into the network where that has a
	// table for it, and what comes from inside by its own.
	for _, r := range tables.Point(gateway).Routes {
		dev := map[route.HopKind]string{route.Tunnel: "wan", route.Deliver: "net"}[r.Hop.Kind]
		require.NoError(t, gate.Script(fmt.Sprintf("ip route replace %s dev %s table 50", r.Prefix, dev)))
	}
	require.NoError(
		t, gate.Script("ip rule add pref 100 iif net lookup 50", "ip rule add pref 200 iif net unreachable"),
	)
	if d.Get(gateway).Body.(*design.Gateway).Enters != "" {
		require.NoError(
			t, gate.Script("ip rule add pref 100 iif wan lookup 51", "ip route add default dev net table 51"),
		)
	} else {
		require.NoError(
			t, gate.Script("ip rule add pref 100 iif wan lookup 50", "ip rule add pref 200 iif wan unreachable"),
		)
	}
	for n, id := range networks {
		networkTables(t, d, tables, n, id, nets[id], gateway, peerings)
	}
	return hosts
}

// networkTables loads a network's tables into its node's kernel, and says by
// rules which decides for what comes in where.
func networkTables(
	t *testing.T,
	d *design.Design,
	tables *route.Tables,
	n int,
	network design.ID,
	box *lab.Node,
	gateway design.ID,
	peerings []design.ID,
) {
	const local = 99
	var script []string
	say := func(format string, args ...any) { script = append(script, fmt.Sprintf(format, args...)) }
	block := d.Ranges(network)[0]
	subnet := netip.PrefixFrom(block.Addr(), 24)
	deliver := func(table int) {
		say("ip route replace unreachable %s table %d", block, table)
		say("ip route replace %s dev lan%d table %d", subnet, n, table)
	}
	deliver(local)
	number := map[design.ID]int{}
	for k, o := range d.Inside(network, design.KindTable) {
		number[o.ID] = 60 + k
		for _, r := range tables.Point(o.ID).Routes {
			switch {
			case r.Unusable != "":
			case r.Hop.Kind == route.Deliver:
				deliver(60 + k)
			case r.Hop.Kind == route.Gateway:
				say("ip route replace %s dev gate table %d", r.Prefix, 60+k)
			case r.Hop.Kind == route.Peer:
				for m, p := range peerings {
					if p == r.Hop.To {
						say("ip route replace %s dev peer%d table %d", r.Prefix, m, 60+k)
					}
				}
			}
		}
	}
	by := func(dev string, table int) {
		say("ip rule add pref 100 iif %s lookup %d", dev, table)
		say("ip rule add pref 200 iif %s unreachable", dev)
	}
	for _, o := range d.Inside(network, design.KindSubnet) {
		by(fmt.Sprint("lan", n), number[o.Body.(*design.Subnet).Table])
	}
	if n == 0 {
		enters := local
		if e := d.Get(gateway).Body.(*design.Gateway).Enters; e != "" {
			enters = number[e]
		}
		by("gate", enters)
	}
	for m, p := range peerings {
		h := d.Get(p).Body.(*design.Peering).Halves
		for k := range h {
			if h[k].Network != network {
				continue
			}
			enters := local
			if h[k].Enters != "" {
				enters = number[h[k].Enters]
			}
			by(fmt.Sprint("peer", m), enters)
			if !h[k].AcceptForwarded { // it takes only what is the other network's own
				say(
					"nft 'add table ip own%d; add chain ip own%d in { type filter hook prerouting priority -300; "+
						"}; add rule ip "+
						"own%d in iif peer%d ip saddr != %s drop'",
					m,
					m,
					m,
					m,
					d.Ranges(h[1-k].Network)[0],
				)
			}
		}
	}
	require.NoError(t, box.Script(script...))
}
