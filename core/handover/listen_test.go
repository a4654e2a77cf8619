package handover_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/demo"
)

func fileOf(t *testing.T, d *design.Design, party, suffix string) string {
	p := d.Find(party, design.KindSite, design.KindNetwork)
	require.Len(t, p, 1)
	for _, f := range handover.Render(route.Solve(d, status.Condition{}), p[0].ID, nil) {
		if strings.HasSuffix(f.Path, suffix) {
			return f.Content
		}
	}
	return ""
}

func edited(t *testing.T, d *design.Design, objects ...*design.Object) *design.Design {
	var edits []design.Edit
	for _, o := range objects {
		edits = append(edits, design.PutEdit(o))
	}
	next, _, err := d.Apply(edits)
	require.NoError(t, err)
	return next
}

// A relay listens where its chain says, dials on from the address that walks show, lets
// in whom it may, and is given no address that it has anyway.
func TestARelayIsRendered(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	assert.Contains(
		t,
		fileOf(t, d, "rowan-hut", "relay/systemd/system/dravin-listener-rain-gauge-at-the-relay.service"),
		"ExecStart=/usr/bin/socat -T 600 TCP4-LISTEN:502,bind=169.254.140.18,reuseaddr,fork "+
			"TCP4:192.168.211.40:502,bind=192.168.211.250\n",
	)
	assert.Contains(
		t,
		fileOf(t, d, "marrow-hill", "gateway/systemd/system/dravin-listener-rain-gauge-in-the-data-room.service"),
		"TCP4-LISTEN:502,bind=10.214.1.250,reuseaddr,fork TCP4:169.254.140.18:502,bind=169.254.140.17\n",
	)
	rules := fileOf(t, d, "rowan-hut", "relay/nftables.d/dravin.nft")
	assert.Contains(t, rules, "ip daddr 169.254.140.18 tcp dport 502 ip saddr != 169.254.140.17/32 drop")
	relay := fileOf(t, d, "rowan-hut", "relay/dravin/routes.sh")
	assert.NotContains(t, relay, "169.254.140.18/32 dev lo", "it has it on its tunnel")
	assert.Contains(
		t, fileOf(t, d, "marrow-hill", "gateway/dravin/routes.sh"),
		"ip address replace 10.214.1.250/32 dev lo scope host\n",
	)
	assert.NotContains(
		t, fileOf(t, d, "rowan-hut", "gateway/dravin/routes.sh"), "192.168.211", "the forester's gateway is left alone",
	)
	sheet := fileOf(t, d, "rowan-hut", "sheet.txt")
	assert.Contains(
		t,
		sheet,
		"[ ] rain gauge at the relay: 169.254.140.18 tcp/502 at Rowan Hut relay to 192.168.211.40 tcp/502 (Rowan Hut "+
			"rain gauge), proxied; callers: 169.254.140.17/32",
	)
}

// Exemptions go before what hides, and the way out hides what is left.
func TestTheWayOutIsRendered(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	rules := fileOf(t, d, "marrow-hill", "gateway/nftables.d/dravin.nft")
	exempt := strings.Index(rules, "ip daddr { 10.208.0.0/12, 172.29.0.0/16, 192.168.208.0/20 } accept")
	hides := strings.Index(rules, "masquerade")
	require.Positive(t, exempt, rules)
	assert.Less(t, exempt, hides)
	assert.Contains(t, rules, "ip saddr 10.214.0.0/22")
	six := rules[strings.Index(rules, "table ip6 dravin {\n"):]
	assert.NotContains(t, six, "masquerade", "of IPv6 nothing is named")
}

// Neighbours of IPv6 are told of listeners by the interface beside them, and of pools
// one by one; neither becomes a source of what the box sends.
func TestAnswersOfIPv6AreRendered(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	hill := d.Find("marrow-hill/gateway", design.KindGateway)[0]
	g := *hill.Body.(*design.Gateway)
	g.Stands = []netip.Addr{netip.MustParseAddr("2001:db8:20::1")}
	g.Translate = append(
		[]design.Rule{
			{
				Hook: design.Postrouting, Does: design.FromPool, Into: netip.MustParsePrefix("2001:db8:20::f0/126"),
				Source: []netip.Prefix{netip.MustParsePrefix("2001:db8:20::/64")},
			},
		},
		g.Translate...,
	)
	host := d.Find("tide-recorder")[0]
	six := &design.Endpoint{
		Addresses: []netip.Addr{netip.MustParseAddr("10.215.0.15"), netip.MustParseAddr("2001:db8:30::15")},
		Answers:   []design.Service{{Proto: "tcp", Port: 443}},
	}
	l := &design.Object{
		ID: "six", Kind: design.KindListener, Name: "tides",
		Body: &design.Listener{
			At: hill.ID, Address: netip.MustParseAddr("2001:db8:20::99"),
			Service: design.Service{Proto: "tcp", Port: 443}, Target: host.ID,
		},
	}
	script := fileOf(t, edited(t, d, hill.With(&g), host.With(six), l), "marrow-hill", "gateway/dravin/routes.sh")
	assert.Contains(
		t, script, "ip address replace 2001:db8:20::99/128 dev \"$(at 2001:db8:20::/64)\" nodad preferred_lft 0\n",
	)
	assert.Contains(t, script, "ip -6 route replace local 2001:db8:20::f0/126 dev lo\n")
	assert.Equal(t, 4, strings.Count(script, "ip -6 neighbour replace proxy 2001:db8:20::f"))
	assert.Contains(t, script, "net.ipv6.neigh.$d.proxy_delay=0")
	unit := fileOf(t, edited(t, d, hill.With(&g), host.With(six), l), "marrow-hill", "dravin-listener-tides.service")
	assert.Contains(t, unit, "TCP6-LISTEN:443,bind=[2001:db8:20::99]")
}

// A box in a cloud's network gets its files, and the network's sheet what its tables
// lead to, by whom, and what they publish.
func TestABoxInACloudIsRendered(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	network := d.Find("herbarium-scans", design.KindNetwork)[0]
	mapped, real := netip.MustParsePrefix("10.223.36.0/24"), netip.MustParsePrefix("10.209.1.0/24")
	d = edited(
		t,
		d,
		&design.Object{
			ID:     "bt",
			Kind:   design.KindTable,
			Parent: network.ID,
			Name:   "border table",
			Body: &design.Table{Routes: []design.Entry{
				{Prefix: mapped, Via: "bb", Publish: design.Published},
				{
					Prefix: netip.MustParsePrefix("10.208.0.0/16"),
					Via:    d.Find("tarn-hub/herbarium-scans", design.KindAttachment)[0].ID,
				},
			}},
		},
		&design.Object{
			ID: "bs", Kind: design.KindSubnet, Parent: network.ID, Name: "border",
			Body: &design.Subnet{
				Zone: "tarn-north-a", Prefixes: []netip.Prefix{netip.MustParsePrefix("10.209.9.0/28")}, Table: "bt",
			},
		},
		&design.Object{
			ID:     "bb",
			Kind:   design.KindBox,
			Parent: network.ID,
			Name:   "translating box",
			Body: &design.Box{Addresses: []netip.Addr{netip.MustParseAddr("10.209.9.2")}, Translate: []design.Rule{
				{Hook: design.Prerouting, Does: design.OneToOne, Real: real, Into: mapped},
				{Hook: design.Postrouting, Does: design.OneToOne, Real: real, Into: mapped},
			}},
		},
	)
	rules := fileOf(t, d, "herbarium-scans", "translating-box/nftables.d/dravin.nft")
	assert.Contains(
		t, rules, "ip daddr 10.223.36.0/24 dnat ip prefix to ip daddr map { 10.223.36.0/24 : 10.209.1.0/24 }",
	)
	assert.Contains(
		t, rules, "ip saddr 10.209.1.0/24 snat ip prefix to ip saddr map { 10.209.1.0/24 : 10.223.36.0/24 }",
	)
	sheet := fileOf(t, d, "herbarium-scans", "sheet.txt")
	assert.Contains(t, sheet, "      10.223.36.0/24 via translating box, published to its hubs")
	assert.Contains(t, sheet, "      10.208.0.0/16 via the attachment to Tarn hub")
	assert.Contains(t, sheet, "translating box (10.209.9.2): it forwards, and no source check keeps it from that")
}
