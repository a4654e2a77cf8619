package lab_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/settings"
	"dravin/core/status"
	"dravin/lab"
)

// joinedSites is three or four sites in a row, perhaps in a ring, by links of one or two
// tunnels with typed routes or with BGP: those between pass on what they learn. A tunnel may
// be gone at one end, or have proposals that do not meet. In one of the LANs a relay may
// stand, which dials out to another site from behind the gateway there.
func joinedSites(t *testing.T, seed uint64) (d *design.Design, gateways, lans []design.ID) {
	r := rand.New(rand.NewPCG(seed, 47))
	var m maker
	sites := 3 + r.IntN(2)
	outside := func(s, k int) netip.Addr { return netip.AddrFrom4([4]byte{198, 51, 100, byte(10*s + k + 1)}) }
	lan := func(s int) netip.Prefix {
		return netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(212 + s), 0, 0}), 24)
	}
	for s := range sites {
		site := m.add(design.KindSite, "", fmt.Sprint("site ", s), &design.Site{})
		gateways = append(
			gateways,
			m.add(
				design.KindGateway, site, "gateway",
				&design.Gateway{ASN: uint32(64501 + s), Addresses: []netip.Addr{outside(s, 0), outside(s, 1)}},
			),
		)
		lans = append(lans, m.add(design.KindLAN, site, "lan", &design.LAN{Prefixes: []netip.Prefix{lan(s)}}))
	}
	inside := netip.MustParseAddr("169.254.140.0")
	join := func(a, b int) {
		body := &design.Link{
			Routing: design.RoutingBGP, Ends: []design.End{{Gateway: gateways[a]}, {Gateway: gateways[b]}},
		}
		if r.IntN(2) == 0 {
			body.Routing = design.RoutingStatic
			for s := range sites {
				end := &body.Ends[map[bool]int{true: 1}[s <= a]] // by the near end what lies ahead, by the far one what lies behind
				if r.IntN(5) > 0 {
					end.Routes = append(end.Routes, lan(s))
				}
			}
		}
		link := m.add(design.KindLink, "", fmt.Sprintf("link %d %d", a, b), body)
		for k := range 1 + r.IntN(2) {
			x, y := inside.Next(), inside.Next().Next()
			inside = y.Next().Next()
			tunnel := &design.Tunnel{
				Outside: []netip.Addr{outside(a, k), outside(b, k)},
				Inside:  []netip.Prefix{netip.PrefixFrom(x, 30), netip.PrefixFrom(y, 30)},
				Ends:    make([]design.TunnelEnd, 2),
			}
			switch r.IntN(8) {
			case 0:
				tunnel.Ends[r.IntN(2)].State = design.Gone
			case 1:
				tunnel.Ends[0].IKE, tunnel.Ends[1].IKE = []string{
					"aes256-sha256-ecp256",
				}, []string{"aes256-sha256-ecp384"}
			}
			id := m.add(design.KindTunnel, link, fmt.Sprint("tunnel ", k+1), tunnel)
			if body.Routing == design.RoutingBGP {
				m.add(
					design.KindSession, id, "session",
					&design.Session{
						Ends: []design.SessionEnd{
							{ASN: uint32(64501 + a), Address: x}, {ASN: uint32(64501 + b), Address: y},
						},
					},
				)
			}
		}
	}
	for s := range sites - 1 {
		join(s, s+1)
	}
	if r.IntN(3) == 0 {
		join(0, sites-1)
	}
	if r.IntN(2) == 0 {
		at, to := r.IntN(sites), r.IntN(sites)
		if at == to {
			to = (at + 1) % sites
		}
		stands := prefix.FirstHost(lan(at)).Next().Next()
		site := m.of(lans[at]).Parent
		m.of(lans[at]).Body.(*design.LAN).Gateways = []design.ID{gateways[at]}
		relay := m.add(
			design.KindGateway, site, "relay",
			&design.Gateway{Addresses: []netip.Addr{outside(at, 2)}, Stands: []netip.Addr{stands}},
		)
		link := m.add(
			design.KindLink, "", "link to the relay",
			&design.Link{Routing: design.RoutingStatic, Ends: []design.End{{Gateway: gateways[to]}, {Gateway: relay}}},
		)
		tunnel := &design.Tunnel{
			Outside: []netip.Addr{outside(to, 0), outside(at, 2)},
			Inside:  []netip.Prefix{netip.PrefixFrom(inside.Next(), 30), netip.PrefixFrom(inside.Next().Next(), 30)},
			Ends:    []design.TunnelEnd{{}, {NAT: true}},
		}
		if r.IntN(4) == 0 {
			tunnel.Ends[0].IKE, tunnel.Ends[1].IKE = []string{"aes256-sha256-ecp256"}, []string{"aes256-sha256-ecp384"}
		}
		m.add(design.KindTunnel, link, "tunnel 1", tunnel)
	}
	return m.design(t), gateways, lans
}

// Random estates whose links run in the daemons, by the files as they are handed over:
// IPsec daemons agree on exactly the tunnels that the sheet calls up, the BGP daemons put
// into the kernel what is computed, and packets pass where walks say. The kernels of test
// machines have no ESP, so that packets go over a cable for each tunnel that is up.
func TestTruthOfDaemons(t *testing.T) {
	estates(t, number("DRAVIN_TRUTH_INSTANCES", 2), func(t *testing.T, seed uint64) (works, all int) {
		d, gateways, lans := joinedSites(t, seed)
		l := needs(t, "ping", "bird", "ip", "swanctl", "/usr/lib/ipsec/charon")
		tables := route.Solve(d, status.Condition{})
		agreed(t, l, tables)
		boxes, hosts := cabled(t, l, tables, gateways, lans)
		for g, box := range boxes {
			install(t, box, filesFor(tables, g), nil)
		}
		for _, g := range gateways {
			learnsAll(t, boxes[g], tables, g)
		}
		return pings(t, fmt.Sprint("seed ", seed), d, hosts), len(hosts) * (len(hosts) - 1)
	})
}

// agreed loads the files of both gateways of each tunnel into two IPsec daemons that reach
// each other by that tunnel alone: it comes up exactly if it is called up.
func agreed(t *testing.T, l *lab.Lab, tables *route.Tables) {
	d := tables.Design
	waits, passes := map[string]func() (children, want int){}, map[string]func() bool{}
	for n, s := range d.Of(design.KindTunnel) {
		want := children(t, tables, s)
		boxes := apart(t, l, d, s, fmt.Sprint("ike", n))
		inside := s.Body.(*design.Tunnel).Inside
		var swanctl [2]func(string) (string, error)
		order := []int{0, 1} // who asks is there before who is asked, and is refused at first
		if settings.Starts(d, s, 1) {
			order = []int{1, 0}
		}
		for _, k := range order {
			require.NoError(
				t,
				boxes[k].Script(
					"ip address add "+inside[k].Addr().String()+" dev lo", "ip route add blackhole 169.254.0.0/16",
				),
			)
			swanctl[k] = daemon(
				t, boxes[k], renderedFor(t, tables, d.Get(s.Parent).Body.(*design.Link).Ends[k].Gateway),
			)
		}
		waits[d.Path(s.ID)] = func() (children, _ int) {
			for _, ask := range swanctl {
				out, err := ask("--list-sas --raw")
				require.NoError(t, err)
				children += strings.Count(out, "state=INSTALLED")
			}
			return children, want
		}
		passes[d.Path(s.ID)] = func() bool {
			_, err := boxes[0].Output(fmt.Sprintf("ping -n -c 2 -W 2 -I %s %s", inside[0].Addr(), inside[1].Addr()))
			return err == nil
		}
	}
	for path, told := range waits {
		if !assert.Eventually(
			t, func() bool { got, want := told(); return got >= want }, 2*time.Minute, 200*time.Millisecond, path,
		) {
			t.FailNow()
		}
	}
	time.Sleep(2 * time.Second) // what must not come up has had its time
	for path, told := range waits {
		got, want := told()
		assert.Equal(t, want, got, path)
		assert.Equal(t, want > 0, passes[path](), "through %s", path)
	}
}

// children are how many the two ends of a tunnel tell of, 0 of one that is down.
func children(t *testing.T, tables *route.Tables, tunnel *design.Object) int {
	both := settings.SettingsOf(tables.Design, tunnel, "")
	outcome := negotiate.Agree(both[0], both[1])
	up := outcome.Up && !design.GoneAtAnEnd(tunnel)
	require.Equal(t, tables.Status.Of(tunnel.ID).Up, up, tables.Design.Path(tunnel.ID))
	if !up {
		return 0
	}
	return 2 * len(outcome.Local) * len(outcome.Remote)
}

// apart are two boxes that reach each other by one tunnel's public addresses alone; an end
// behind a NAT has a router between.
func apart(t *testing.T, l *lab.Lab, d *design.Design, tunnel *design.Object, name string) (boxes [2]*lab.Node) {
	body := tunnel.Body.(*design.Tunnel)
	var out [2]*lab.Node
	for k := range boxes {
		boxes[k] = node(t, l, fmt.Sprintf("%s%c", name, 'a'+k))
		out[k] = boxes[k]
		if body.Ends[k].NAT {
			g := d.Get(d.Get(tunnel.Parent).Body.(*design.Link).Ends[k].Gateway).Body.(*design.Gateway)
			own := netip.PrefixFrom(g.Stands[0], 24)
			out[k] = node(t, l, name+"nat")
			require.NoError(
				t,
				l.Join(
					boxes[k], "lan", own.String(), out[k], "lan",
					netip.PrefixFrom(prefix.FirstHost(own.Masked()), 24).String(),
				),
			)
			require.NoError(t, boxes[k].Script("ip route add default via "+prefix.FirstHost(own.Masked()).String()))
			require.NoError(
				t,
				out[k].Script(
					"nft 'table ip nat { chain out { type nat hook postrouting priority 100; oifname wan masquerade; }; }'",
				),
			)
		}
	}
	require.NoError(
		t, l.Join(out[0], "wan", body.Outside[0].String()+"/32", out[1], "wan", body.Outside[1].String()+"/32"),
	)
	for _, n := range out {
		require.NoError(t, n.Script("ip route add default dev wan"))
	}
	return boxes
}

// filesFor are the files of one gateway.
func filesFor(tables *route.Tables, gateway design.ID) []handover.File {
	own := handover.Folder(tables.Design.Get(gateway).Name) + "/"
	files := handover.Render(tables, tables.Design.Party(gateway).ID, nil)
	return slices.DeleteFunc(files, func(f handover.File) bool { return !strings.HasPrefix(f.Path, own) })
}

// cabled are the gateways, each with the host of its LAN, and a cable for each tunnel that
// is up. A relay has its tunnel alone: nothing of the LAN goes through it.
func cabled(
	t *testing.T,
	l *lab.Lab,
	tables *route.Tables,
	gateways, lans []design.ID,
) (at, hosts map[design.ID]*lab.Node) {
	d, at, hosts := tables.Design, map[design.ID]*lab.Node{}, map[design.ID]*lab.Node{}
	for n, g := range d.Of(design.KindGateway) {
		at[g.ID] = node(t, l, fmt.Sprint("box", n))
	}
	for n, g := range gateways {
		hosts[lans[n]] = behind(t, l, at[g], fmt.Sprint("lan", n), d.Ranges(lans[n])[0])
	}
	void := node(t, l, "void")
	for n, s := range d.Of(design.KindTunnel) {
		e := d.Get(s.Parent).Body.(*design.Link).Ends
		a, b := handover.Devices(tables, e[0].Gateway)[s.ID], handover.Devices(tables, e[1].Gateway)[s.ID]
		switch {
		case design.GoneAtAnEnd(s):
			continue
		case !tables.Status.Of(s.ID).Up: // what is sent into it is gone
			require.NoError(
				t,
				l.Join(
					at[e[0].Gateway], a, fmt.Sprintf("192.0.2.%d/32", 2*n+101), void, fmt.Sprintf("a%d", n),
					"192.0.2.1/32",
				),
			)
			require.NoError(
				t,
				l.Join(
					at[e[1].Gateway], b, fmt.Sprintf("192.0.2.%d/32", 2*n+102), void, fmt.Sprintf("b%d", n),
					"192.0.2.2/32",
				),
			)
			continue
		}
		require.NoError(
			t,
			l.Join(
				at[e[0].Gateway], a, fmt.Sprintf("192.0.2.%d/32", 2*n+101), at[e[1].Gateway], b,
				fmt.Sprintf("192.0.2.%d/32", 2*n+102),
			),
		)
		require.NoError(t, at[e[0].Gateway].Script("echo 1 >"+filepath.Join("/proc/sys/net/ipv4/conf", a, "proxy_arp")))
		require.NoError(t, at[e[1].Gateway].Script("echo 1 >"+filepath.Join("/proc/sys/net/ipv4/conf", b, "proxy_arp")))
	}
	return at, hosts
}
