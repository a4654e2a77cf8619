package lab_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/lab"
)

// selectingSites is three or four sites in a row by policy-based links, whose selectors let
// neighbours' ranges pass, perhaps those behind them too. A range may be missing at one end
// or both, proposals may not meet, an end may be gone.
func selectingSites(t *testing.T, seed uint64) (d *design.Design, gateways []design.ID, lans [][]design.ID) {
	r := rand.New(rand.NewPCG(seed, 53))
	var m maker
	sites := 3 + r.IntN(2)
	ranges := make([][]netip.Prefix, sites)
	for s := range sites {
		site := m.add(design.KindSite, "", fmt.Sprint("site ", s), &design.Site{})
		gateways = append(
			gateways, m.add(design.KindGateway, site, "gateway", &design.Gateway{Addresses: []netip.Addr{wanOf(s)}}),
		)
		lans = append(lans, nil)
		for k := range 1 + r.IntN(2) {
			p := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(212 + s), byte(k), 0}), 24)
			ranges[s] = append(ranges[s], p)
			lans[s] = append(
				lans[s], m.add(design.KindLAN, site, fmt.Sprint("lan ", k), &design.LAN{Prefixes: []netip.Prefix{p}}),
			)
		}
	}
	some := func(list []netip.Prefix) (out []netip.Prefix) {
		for _, p := range list {
			if r.IntN(6) > 0 {
				out = append(out, p)
			}
		}
		if len(out) == 0 {
			return list[:1]
		}
		return out
	}
	transit := r.IntN(2) == 0
	for s := range sites - 1 {
		near, far := some(ranges[s]), some(ranges[s+1])
		for k := range sites {
			switch {
			case transit && k < s:
				near = append(near, some(ranges[k])...)
			case transit && k > s+1:
				far = append(far, some(ranges[k])...)
			}
		}
		body := &design.Link{
			Routing: design.RoutingSelectors,
			Ends: []design.End{
				{Gateway: gateways[s], Local: near, Remote: far}, {Gateway: gateways[s+1], Local: far, Remote: near},
			},
		}
		if r.IntN(4) == 0 {
			body.Ends[1].Remote = some(near)
		}
		tunnel := &design.Tunnel{Outside: []netip.Addr{wanOf(s), wanOf(s + 1)}, Ends: make([]design.TunnelEnd, 2)}
		switch r.IntN(8) {
		case 0:
			tunnel.Ends[r.IntN(2)].State = design.Gone
		case 1:
			tunnel.Ends[0].IKE, tunnel.Ends[1].IKE = []string{"aes256-sha256-ecp256"}, []string{"aes256-sha256-ecp384"}
		}
		m.add(
			design.KindTunnel, m.add(design.KindLink, "", fmt.Sprintf("link %d %d", s, s+1), body), "tunnel 1", tunnel,
		)
	}
	return m.design(t), gateways, lans
}

func wanOf(site int) netip.Addr { return netip.AddrFrom4([4]byte{198, 51, 100, byte(10*site + 1)}) }

// Random estates of policy-based links: the boxes run the IPsec daemon with the files as
// they are handed over, whole, and packets go through its ESP. Its selectors decide what
// passes, and it is what walks say.
func TestTruthOfSelectors(t *testing.T) {
	estates(t, number("DRAVIN_TRUTH_INSTANCES", 2), func(t *testing.T, seed uint64) (works, all int) {
		d, gateways, lans := selectingSites(t, seed)
		l := needs(t, "ping", "ip", "swanctl", "/usr/lib/ipsec/charon")
		tables := route.Solve(d, status.Condition{})
		hosts := map[design.ID]*lab.Node{}
		var daemons []func(string) (string, error)
		wan := node(t, l, "wan")
		for s, g := range gateways {
			box := node(t, l, fmt.Sprint("box", s))
			online(t, l, wan, box, wanOf(s))
			for k, lan := range lans[s] {
				hosts[lan] = behind(t, l, box, fmt.Sprintf("lan%d%d", s, k), d.Ranges(lan)[0])
			}
			standsIn(t, box, d, g)
			files := renderedFor(t, tables, g)
			require.NoError(t, box.Script("sh "+files+"/dravin/routes.sh", "nft -f "+files+"/nftables.d/dravin.nft"))
			daemons = append(daemons, daemon(t, box, files))
			selecting(t, box, d, lans[s])
		}
		agree(t, d, tables, daemons)
		return pings(t, fmt.Sprint("seed ", seed), d, hosts), len(hosts) * (len(hosts) - 1)
	})
}

// online puts a box on a node that stands for the internet.
func online(t *testing.T, l *lab.Lab, wan, box *lab.Node, at netip.Addr) {
	device := "to" + box.Name()[max(0, len(box.Name())-8):]
	require.NoError(t, l.Join(box, "wan", at.String()+"/32", wan, device, "192.0.2.1/32"))
	require.NoError(
		t,
		wan.Script("ip route add "+at.String()+" dev "+device, "echo 1 >/proc/sys/net/ipv4/conf/"+device+"/proxy_arp"),
	)
	require.NoError(t, box.Script("ip route add default dev wan"))
}

// standsIn gives the box an address in what it tunnels for others: IPsec in user space
// wants one in every range of its own selectors.
func standsIn(t *testing.T, box *lab.Node, d *design.Design, gateway design.ID) {
	for _, o := range d.Referring(gateway, design.KindLink) {
		for _, e := range o.Body.(*design.Link).Ends {
			for _, p := range e.Local {
				if e.Gateway == gateway {
					require.NoError(
						t, box.Script(fmt.Sprintf("ip address replace %s/32 dev lo", prefix.Last(p).Prev())),
					)
				}
			}
		}
	}
}

// selecting asks the daemon's selectors about whatever the box forwards, as a kernel with
// ESP would: in user space they are met behind an interface.
func selecting(t *testing.T, box *lab.Node, d *design.Design, own []design.ID) {
	lines := []string{
		"ip rule add pref 211 to 198.51.100.0/24 lookup main", "ip rule add pref 220 lookup 220 2>/dev/null || true",
		"ip route add default dev ipsec0 metric 9 table 220",
	}
	for _, lan := range own {
		lines = append(lines, "ip rule add pref 210 to "+d.Ranges(lan)[0].String()+" lookup main")
	}
	require.NoError(t, box.Script(lines...))
}

// agree waits until each tunnel has as many children at both ends as its sheet says.
func agree(t *testing.T, d *design.Design, tables *route.Tables, daemons []func(string) (string, error)) {
	told := func() (got, want map[string]int) {
		got, want = map[string]int{}, map[string]int{}
		for _, s := range d.Of(design.KindTunnel) {
			name := strings.ReplaceAll(d.Path(s.ID), "/", "__")
			if n := children(t, tables, s); n > 0 {
				want[name] = n
			}
			for _, ask := range daemons {
				out, err := ask("--list-sas --raw --ike " + name)
				require.NoError(t, err)
				if n := strings.Count(out, "state=INSTALLED"); n > 0 {
					got[name] += n
				}
			}
		}
		return got, want
	}
	assert.Eventually(
		t, func() bool { got, want := told(); return fmt.Sprint(got) == fmt.Sprint(want) }, 2*time.Minute,
		300*time.Millisecond,
	)
	time.Sleep(2 * time.Second) // what must not come up has had its time
	got, want := told()
	require.Equal(t, want, got)
}
