package lab_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/ends"
	"dravin/core/handover"
	"dravin/core/negotiate"
	"dravin/core/route"
	"dravin/core/standing"
	"dravin/lab"
)

// joinedSites is three or four sites in a row, perhaps in a ring, by links of one or two
// strands with typed routes or with BGP: those between pass on what they learn. A strand may
// be gone at one end, have proposals that do not meet, or an end that only waits.
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
		gateways = append(gateways, m.add(design.KindGateway, site, "gateway", &design.Gateway{ASN: uint32(64501 + s), Addresses: []netip.Addr{outside(s, 0), outside(s, 1)}}))
		lans = append(lans, m.add(design.KindLAN, site, "lan", &design.LAN{Prefixes: []netip.Prefix{lan(s)}}))
	}
	inside := netip.MustParseAddr("169.254.140.0")
	join := func(a, b int) {
		body := &design.Link{Routing: design.RoutingBGP, Ends: []design.End{{Gateway: gateways[a]}, {Gateway: gateways[b]}}}
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
			strand := &design.Tunnel{Outside: []netip.Addr{outside(a, k), outside(b, k)}, Inside: []netip.Prefix{netip.PrefixFrom(x, 30), netip.PrefixFrom(y, 30)}, Ends: make([]design.TunnelEnd, 2)}
			switch r.IntN(8) {
			case 0:
				strand.Ends[r.IntN(2)].State = design.Gone
			case 1:
				strand.Ends[0].IKE, strand.Ends[1].IKE = []string{"aes256-sha256-ecp256"}, []string{"aes256-sha256-ecp384"}
			}
			id := m.add(design.KindTunnel, link, fmt.Sprint("strand ", k+1), strand)
			if body.Routing == design.RoutingBGP {
				m.add(design.KindSession, id, "session", &design.Session{Ends: []design.SessionEnd{{ASN: uint32(64501 + a), Address: x}, {ASN: uint32(64501 + b), Address: y}}})
			}
		}
	}
	for s := range sites - 1 {
		join(s, s+1)
	}
	if r.IntN(3) == 0 {
		join(0, sites-1)
	}
	return m.design(t), gateways, lans
}

// Random estates whose links run in the daemons, by the files as they are handed over:
// IPsec daemons agree on exactly the strands that the sheet calls up, the BGP daemons put into the kernel what is computed, and packets pass where walks say. The kernels of
// test machines have no ESP, so that packets go over a cable for each strand that is up.
func TestTruthOfDaemons(t *testing.T) {
	count := 2
	if n, err := strconv.Atoi(os.Getenv("DRAVIN_TRUTH_INSTANCES")); err == nil {
		count = n
	}
	works, all := 0, 0
	for seed := range uint64(count) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			d, gateways, lans := joinedSites(t, seed)
			l := needs(t, "ping", "bird", "ip", "swanctl", "/usr/lib/ipsec/charon")
			tables := route.Solve(d, standing.Condition{})
			agreed(t, l, tables)
			boxes, hosts := cabled(t, l, tables, gateways, lans)
			for n, g := range gateways {
				install(t, boxes[n], handover.Render(tables, d.Party(g).ID, nil), nil)
			}
			for n, g := range gateways {
				learnsAll(t, boxes[n], tables, g)
			}
			works += pings(t, fmt.Sprint("seed ", seed), d, hosts)
			all += len(hosts) * (len(hosts) - 1)
		})
	}
	t.Logf("%d flows, %d work by their walks", all, works)
	assert.Positive(t, works)
	assert.Less(t, works, all)
}

// agreed loads the files of both gateways of each strand into two IPsec daemons that reach
// each other by that strand alone: it comes up exactly if it is called up.
func agreed(t *testing.T, l *lab.Lab, tables *route.Tables) {
	d := tables.Design
	waits := map[string]func() (children, want int){}
	for n, s := range d.Of(design.KindTunnel) {
		both := ends.SettingsOf(d, s, "")
		outcome := negotiate.Agree(both[0], both[1])
		up := outcome.Up && !design.GoneAtAnEnd(s)
		require.Equal(t, tables.Standing.Of(s.ID).Up, up, d.Path(s.ID))
		want := 0
		if up {
			want = 2 * len(outcome.Local) * len(outcome.Remote) // each end tells of them
		}
		boxes := [2]*lab.Node{node(t, l, fmt.Sprintf("ike%da", n)), node(t, l, fmt.Sprintf("ike%db", n))}
		outside := s.Body.(*design.Tunnel).Outside
		require.NoError(t, l.Join(boxes[0], "wan", outside[0].String()+"/32", boxes[1], "wan", outside[1].String()+"/32"))
		var swanctl [2]func(string) (string, error)
		order := []int{0, 1} // who asks is there before who is asked, and is refused at first
		if ends.Starts(d, s, 1) {
			order = []int{1, 0}
		}
		for _, k := range order {
			require.NoError(t, boxes[k].Script("ip route add default dev wan"))
			swanctl[k] = daemon(t, boxes[k], rendered(t, tables, d.Party(d.Get(s.Parent).Body.(*design.Link).Ends[k].Gateway).Name))
		}
		waits[d.Path(s.ID)] = func() (children, _ int) {
			for _, ask := range swanctl {
				out, err := ask("--list-sas --raw")
				require.NoError(t, err)
				children += strings.Count(out, "state=INSTALLED")
			}
			return children, want
		}
	}
	for path, told := range waits {
		if !assert.Eventually(t, func() bool { got, want := told(); return got >= want }, 40*time.Second, 200*time.Millisecond, path) {
			t.FailNow()
		}
	}
	time.Sleep(2 * time.Second) // what must not come up has had its time
	for path, told := range waits {
		got, want := told()
		assert.Equal(t, want, got, path)
	}
}

// cabled are the gateways, each with the host of its LAN, and a cable for each strand that
// is up.
func cabled(t *testing.T, l *lab.Lab, tables *route.Tables, gateways, lans []design.ID) (boxes []*lab.Node, hosts map[design.ID]*lab.Node) {
	d, at, hosts := tables.Design, map[design.ID]*lab.Node{}, map[design.ID]*lab.Node{}
	for n, g := range gateways {
		at[g] = node(t, l, fmt.Sprint("box", n))
		boxes = append(boxes, at[g])
		hosts[lans[n]] = behind(t, l, at[g], fmt.Sprint("lan", n), d.Ranges(lans[n])[0])
	}
	void := node(t, l, "void")
	for n, s := range d.Of(design.KindTunnel) {
		e := d.Get(s.Parent).Body.(*design.Link).Ends
		a, b := handover.Devices(tables, e[0].Gateway)[s.ID], handover.Devices(tables, e[1].Gateway)[s.ID]
		switch {
		case design.GoneAtAnEnd(s):
			continue
		case !tables.Standing.Of(s.ID).Up: // what is sent into it is gone
			require.NoError(t, l.Join(at[e[0].Gateway], a, fmt.Sprintf("192.0.2.%d/32", 2*n+101), void, fmt.Sprintf("a%d", n), "192.0.2.1/32"))
			require.NoError(t, l.Join(at[e[1].Gateway], b, fmt.Sprintf("192.0.2.%d/32", 2*n+102), void, fmt.Sprintf("b%d", n), "192.0.2.2/32"))
			continue
		}
		require.NoError(t, l.Join(at[e[0].Gateway], a, fmt.Sprintf("192.0.2.%d/32", 2*n+101), at[e[1].Gateway], b, fmt.Sprintf("192.0.2.%d/32", 2*n+102)))
		require.NoError(t, at[e[0].Gateway].Script("echo 1 >"+filepath.Join("/proc/sys/net/ipv4/conf", a, "proxy_arp")))
		require.NoError(t, at[e[1].Gateway].Script("echo 1 >"+filepath.Join("/proc/sys/net/ipv4/conf", b, "proxy_arp")))
	}
	return boxes, hosts
}
