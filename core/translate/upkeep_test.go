package translate_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/ledger"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/translate"
)

func unneeded(d *design.Design) string {
	var out []string
	for _, u := range ledger.UnneededOf(route.Solve(d, status.Condition{})) {
		out = append(out, u.Title+": "+u.Why)
	}
	return strings.Join(out, "\n")
}

func apply(t *testing.T, d *design.Design, edits ...design.Edit) *design.Design {
	next, _, err := d.Apply(edits)
	require.NoError(t, err)
	return next
}

// A translation is named as soon as nothing needs it, and not before.
func TestWhatNothingNeedsAnyMore(t *testing.T) {
	d := applied(t, "two-gardens-alike", translate.Map)
	assert.Empty(t, unneeded(d))
	glasshouse := d.Find("old-orangery/glasshouse", design.KindLAN)[0]
	lan := *glasshouse.Body.(*design.LAN)
	lan.Prefixes = []netip.Prefix{netip.MustParsePrefix("10.215.70.0/24")}
	host := d.Find("orangery-controller")[0]
	moved := apply(
		t, d, design.PutEdit(glasshouse.With(&lan)),
		design.PutEdit(host.With(&design.Endpoint{Addresses: []netip.Addr{netip.MustParseAddr("10.215.70.21")}})),
	)
	assert.Contains(t, unneeded(moved), "nothing of Old Orangery is in 192.168.216.0/24 any more")
	assert.Contains(
		t, unneeded(moved), "nobody but Peatside Nursery holds any of 192.168.216.0/24, which could be known as it is",
	)
	link := d.Of(design.KindLink)[0]
	l := *link.Body.(*design.Link)
	l.State = design.Gone
	assert.Contains(t, unneeded(put(t, d, link, &l)), "toward which it maps, is gone")

	hub := applied(t, "hub-refusal", translate.KeepOut)
	assert.Empty(t, unneeded(hub))
	for _, o := range hub.Of(design.KindAttachment) {
		if a := *o.Body.(*design.Attachment); a.Pool != "" {
			a.KeepOut = nil
			assert.Contains(
				t, unneeded(put(t, hub, o, &a)),
				"its source pool hides nothing: all of ticketing is advertised to visitor hub",
			)
		}
	}
}

// A rule behind one that takes all of its packets gets nothing; one that gets any is
// left alone.
func TestRulesThatGetNothing(t *testing.T) {
	p := netip.MustParsePrefix
	wide, part, other := []netip.Prefix{p("10.214.0.0/22")}, []netip.Prefix{
		p("10.214.1.0/24"),
	}, []netip.Prefix{p("10.215.0.0/23")}
	tcp := []design.Service{{Proto: "tcp", Port: 443}}
	hide := func(r design.Rule) design.Rule { r.Hook, r.Does = design.Postrouting, design.OwnAddress; return r }
	for name, c := range map[string]struct {
		before, after design.Rule
		nothing       bool
	}{
		"all of it":          {hide(design.Rule{Source: wide}), hide(design.Rule{Source: part}), true},
		"a part of it":       {hide(design.Rule{Source: part}), hide(design.Rule{Source: wide}), false},
		"everything":         {hide(design.Rule{}), hide(design.Rule{Source: other, Services: tcp}), true},
		"one service":        {hide(design.Rule{Services: tcp}), hide(design.Rule{}), false},
		"the same service":   {hide(design.Rule{Services: tcp}), hide(design.Rule{Source: part, Services: tcp}), true},
		"another way out":    {hide(design.Rule{Toward: "link"}), hide(design.Rule{}), false},
		"other destinations": {hide(design.Rule{Destination: other}), hide(design.Rule{Destination: wide}), false},
		"another hook":       {design.Rule{Hook: design.Prerouting, Does: design.Nothing}, hide(design.Rule{}), false},
		"an exempt range": {design.Rule{Hook: design.Postrouting, Does: design.Nothing, Destination: wide},
			hide(design.Rule{Destination: part}), true},
		"one-to-one, the same": {design.Rule{Hook: design.Postrouting, Does: design.OneToOne, Real: wide[0],
			Into: p("10.223.8.0/22")}, hide(design.Rule{Source: part}), true},
		"one-to-one, others": {design.Rule{Hook: design.Postrouting, Does: design.OneToOne, Real: part[0],
			Into: p("10.223.8.0/24")}, hide(design.Rule{Source: wide}), false},
	} {
		t.Run(name, func(t *testing.T) {
			d := remedies(t, "way-out")
			link := d.Of(design.KindLink)[0].ID
			for _, r := range []*design.Rule{&c.before, &c.after} {
				if r.Toward != "" {
					r.Toward = link
				}
			}
			o := d.Find("marrow-hill/gateway", design.KindGateway)[0]
			g := *o.Body.(*design.Gateway)
			g.Translate = []design.Rule{c.before, c.after}
			said := unneeded(put(t, d, o, &g))
			assert.Equal(
				t, c.nothing, strings.Contains(said, "its rule 2 gets nothing: rule 1 takes everything before it"),
				said,
			)
		})
	}
}

// Capacity is addresses x usable ports by protocol and far end, shared out by the ports
// that each host gets.
func TestHowFarAPoolReaches(t *testing.T) {
	d := remedies(t, "huts")
	at := d.Find("marrow-hill/gateway", design.KindGateway)[0].ID
	p := netip.MustParsePrefix
	for name, c := range map[string]struct {
		pool   string
		behind []netip.Prefix
		ports  uint32
		fits   uint64
		part   uint64
		says   string
	}{
		"one address, a LAN": {"10.223.9.1/32", []netip.Prefix{p("10.214.1.0/24")}, 0, 1008, 26,
			"254 of 1008 hosts at 64 ports each; 754 more fit"},
		"one address, too many": {"10.223.9.1/32", []netip.Prefix{p("10.214.0.0/20")}, 0, 1008, 407, "1008 hosts at " +
			"64 ports each fill it, and 4094 may be behind it"},
		"fourteen, many ports": {"10.223.9.0/28", []netip.Prefix{p("10.214.0.0/22")}, 1024, 882, 116,
			"882 hosts at 1024 ports each fill it"},
		"exactly full": {"10.223.9.1/32", []netip.Prefix{p("10.214.1.0/30")}, 32256, 2, 100,
			"2 of 2 hosts at 32256 ports each; 0 more fit"},
		"nobody":                  {"10.223.9.1/32", nil, 0, 1008, 0, "0 of 1008 hosts"},
		"a host alone, all ports": {"10.223.9.1/32", []netip.Prefix{p("10.214.1.7/32")}, 64512, 1, 100, "1 of 1 hosts"},
	} {
		t.Run(name, func(t *testing.T) {
			got := ledger.CapacityOf(d, at, p(c.pool), c.behind, c.ports)
			assert.Equal(t, got.Addresses*64512, got.Connections)
			assert.Equal(t, c.fits, got.Fits)
			assert.Equal(t, c.part, got.Percent)
			assert.Contains(t, got.Ends, c.says)
		})
	}
}

// Each party's view is its own: mapped names before real ones, services after, and
// whom it does not reach is counted.
func TestTheLedgerByPointOfView(t *testing.T) {
	d := applied(t, "huts", translate.Map)
	tables := route.Solve(d, status.Condition{})
	id := func(name string) design.ID { return d.Find(name, design.KindSite)[0].ID }
	hill := ledger.ViewOf(tables, id("marrow-hill"))
	require.Len(t, hill.Hosts, 9)
	assert.Zero(t, hill.Unreached)
	mapped := 0
	for _, h := range hill.Hosts {
		require.Len(t, h.Names, 1, h.Title)
		if h.Names[0].Address != h.Real {
			mapped++
		}
	}
	assert.Equal(t, 8, mapped, "one keeps its range")
	assert.Equal(t, hill.Hosts[8].Real, hill.Hosts[8].Names[0].Address, "and stands last")
	elder := ledger.ViewOf(tables, id("elder-hut"))
	require.Len(t, elder.Hosts, 1, "the recorder; the other huts' sensors are under its own range")
	assert.Equal(t, 8, elder.Unreached)

	all := ledger.EntriesOf(tables, "")
	one := ledger.EntriesOf(tables, id("marrow-hill"))
	assert.Len(t, one, 8)
	for _, e := range one {
		assert.Equal(t, "Marrow Hill", e.Viewer)
		assert.Contains(t, all, e)
	}
}

// A cloud's gateway takes so many rules: what would be one too many is no answer.
func TestAGatewayTakesSoManyRules(t *testing.T) {
	file := strings.NewReplacer(
		"cloud: Tarn", "cloud: Osier", "tarn-north-a", "osier-west-1", "tarn-north", "osier-west",
	).Replace(vpnToACloud)
	d, err := design.Read([]byte(file))
	require.NoError(t, err)
	both := func(d *design.Design) translate.Option {
		for _, o := range planFor(t, d).Options {
			if o.Remedy == translate.Map && len(o.Maps) == 2 {
				return o
			}
		}
		t.Fatal("nothing maps both")
		return translate.Option{}
	}
	assert.Empty(t, both(d).Refused)
	profile := *d.ProfileOf(d.Of(design.KindNetwork)[0].ID)
	profile.Translation.Rules = 1
	g := d.Find("plate-archive/cloud-gateway", design.KindGateway)[0]
	body := *g.Body.(*design.Gateway)
	body.Translate = []design.Rule{
		{
			Hook: design.Postrouting, Does: design.Nothing,
			Destination: []netip.Prefix{netip.MustParsePrefix("10.210.0.0/16")},
		},
	}
	own := design.Profile(profile)
	d = apply(
		t, d, design.PutEdit(&design.Object{ID: "osier", Kind: design.KindProfile, Name: "Osier", Body: &own}),
		design.PutEdit(g.With(&body)),
	)
	assert.Contains(t, both(d).Refused, "would have 2 rules and mappings, and its cloud takes 1")
}

// vpnToACloud is a garden and a cloud's network of one range, joined by a VPN.
const vpnToACloud = `dravin: 1
sites:
  - name: Saltmarsh Station
    gateways: [{name: gateway, addresses: 198.51.100.40}]
    lans:
      - name: instrument room
        prefixes: 192.168.216.0/24
        fixed: true
        endpoints: [{name: tide recorder, addresses: 192.168.216.15}]
networks:
  - name: plate archive
    cloud: Tarn
    region: tarn-north
    blocks: 192.168.216.0/22
    gateways: [{name: cloud gateway, addresses: 203.0.113.5, vpn: lone}]
    tables: [{name: main table}]
    subnets:
      - name: plates
        zone: tarn-north-a
        prefixes: 192.168.216.0/24
        table: plate-archive/main-table
        endpoints: [{name: plate server, addresses: 192.168.216.40}]
reservations: [{name: mapped ranges, prefix: 10.223.0.0/16, use: mapping}]
links:
  - name: Saltmarsh to plates
    routing: static
    ends: [{gateway: saltmarsh-station/gateway}, {gateway: plate-archive/cloud-gateway}]
    tunnels: [{name: tunnel 1, outside: [198.51.100.40, 203.0.113.5], inside: [169.254.140.1/30, 169.254.140.2/30]}]
intents:
  - {name: the recorder files plates, from: saltmarsh-station/instrument-room/tide-recorder,
	to: plate-archive/plates/plate-server, service: tcp/443}
  - {name: the plates ask the recorder, from: plate-archive/plates/plate-server,
	to: saltmarsh-station/instrument-room/tide-recorder, service: udp/514}
`

// Where the cloud has rules, its gateway maps; where it has none, a box in its network,
// whatever the link decides by; either side starts, and nothing is left of the real range.
func TestOverAVPNWhateverTheCloud(t *testing.T) {
	session := "        sessions: [{name: session, ends: [{asn: 64502, address: 169.254.140.1}, {asn: 64505, " +
		"address: 169.254.140.2}]}]\n"
	static := vpnToACloud
	bgp := strings.NewReplacer("routing: static", "routing: bgp", "addresses: 198.51.100.40}",
		"addresses: 198.51.100.40, asn: 64502}", "vpn: lone}", "asn: 64505}",
		"tunnels: [{name: tunnel 1, outside: [198.51.100.40, 203.0.113.5], inside: [169.254.140.1/30, 169.254.140.2/30]}]\n",
		"tunnels:\n      - name: tunnel 1\n        outside: [198.51.100.40, 203.0.113.5]\n        inside: "+
			"[169.254.140.1/30, 169.254.140.2/30]\n"+session).
		Replace(static)
	osier := strings.NewReplacer(
		"169.254.140.", "169.254.141.", "cloud: Tarn", "cloud: Osier", "tarn-north-a", "osier-west-1", "tarn-north",
		"osier-west",
	)
	tarn := strings.NewReplacer(", vpn: lone", "")
	for name, c := range map[string]struct {
		file  string
		boxes int
	}{
		"static, no rules":  {tarn.Replace(static), 1},
		"BGP, no rules":     {tarn.Replace(bgp), 1},
		"static, its rules": {osier.Replace(static), 0},
		"BGP, its rules":    {osier.Replace(bgp), 0},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := design.Read([]byte(c.file))
			require.NoError(t, err)
			o := planFor(t, d).Options[0]
			require.Empty(t, o.Refused, o.Title)
			assert.Equal(t, translate.Map, o.Remedy)
			assert.Len(t, o.Maps, 2)
			assert.True(t, o.Both)
			next := apply(t, d, o.Edits...)
			assert.Len(t, next.Of(design.KindBox), c.boxes)
			for _, l := range next.Of(design.KindLink) {
				for _, e := range l.Body.(*design.Link).Ends {
					assert.NotContains(t, e.Routes, netip.MustParsePrefix("192.168.216.0/24"))
				}
			}
			assert.Equal(t, 2, proof.Holding(proof.Intents(route.Solve(next, status.Condition{}))))
		})
	}
}
