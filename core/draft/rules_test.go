package draft_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/finding"
	"dravin/core/lifecycle"
	"dravin/core/negotiate"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/settings"
	"dravin/core/sheet"
	"dravin/core/status"
	"dravin/core/walk"
)

// The sheet and the prediction are one truth: a tunnel comes up, stays up and
// carries all that both ends name exactly if no line of it differs.
func TestSheetAndPredictionNeverContradict(t *testing.T) {
	d := thistledown(t)
	tunnel := find(t, d, "peatside-to-marrow-hill/tunnel-1", design.KindTunnel)
	proposals := []string{
		"aes256gcm16-prfsha384-ecp384", "aes256-sha256-ecp256", "aes128-sha256-modp2048", "aes256-aes128-sha256-ecp256",
	}
	esps := []string{"aes256gcm16-ecp384", "aes256gcm16", "aes256-sha256", "aes128-sha256-modp2048"}
	names := []string{"", "nursery.example", "hill.example"}
	ranges := [][]netip.Prefix{
		parse("10.214.0.0/22"), parse("10.214.0.0/24"), parse("192.168.216.0/24"),
		parse("10.214.0.0/24", "10.214.1.0/24"),
	}
	rapid.Check(t, func(rt *rapid.T) {
		end := func(label string) design.TunnelEnd {
			e := design.TunnelEnd{
				Version:      rapid.SampledFrom([]uint8{0, 2}).Draw(rt, label+" version"),
				Identity:     rapid.SampledFrom(names).Draw(rt, label+" identity"),
				PeerIdentity: rapid.SampledFrom(names).Draw(rt, label+" peer identity"),
			}
			if rapid.Bool().Draw(rt, label+" sets proposals") {
				e.IKE = rapid.SliceOfNDistinct(rapid.SampledFrom(proposals), 1, 2, rapid.ID).Draw(rt, label+" IKE")
				e.ESP = rapid.SliceOfNDistinct(rapid.SampledFrom(esps), 1, 2, rapid.ID).Draw(rt, label+" ESP")
			}
			if rapid.IntRange(0, 4).Draw(rt, label+" peer") == 0 {
				e.Peer = netip.MustParseAddr("198.51.100.99")
			}
			return e
		}
		body := *tunnel.Body.(*design.Tunnel)
		body.Ends = []design.TunnelEnd{end("first"), end("second")}
		l := *d.Get(tunnel.Parent).Body.(*design.Link)
		l.Ends = slices.Clone(l.Ends)
		for n := range l.Ends {
			l.Ends[n].Local = rapid.SampledFrom(ranges).Draw(rt, "local")
			l.Ends[n].Remote = rapid.SampledFrom(ranges).Draw(rt, "remote")
		}
		next, _, err := d.Apply(
			[]design.Edit{design.PutEdit(tunnel.With(&body)), design.PutEdit(d.Get(tunnel.Parent).With(&l))},
		)
		if err != nil {
			rt.Fatal(err)
		}
		now := next.Get(tunnel.ID)
		ends := settings.SettingsOf(next, now, "")
		out := negotiate.Agree(ends[0], ends[1])
		whole := out.Up && out.Renews && !slices.ContainsFunc(
			out.Later, func(s string) bool { return strings.Contains(s, "narrowed") },
		)
		differing := sheet.Differing(sheet.Lines(next, now, [2]string{}))
		if whole != (len(differing) == 0) {
			rt.Fatalf("%s, and these lines differ: %v", out.Why, differing)
		}
		// Each fix ends its own line, at whichever end.
		for _, line := range differing {
			for _, m := range line.Fixes {
				fixed, _, err := next.Apply(m.Edits)
				if err != nil {
					rt.Fatal(err)
				}
				for _, after := range sheet.Lines(fixed, fixed.Get(tunnel.ID), [2]string{}) {
					if after.Key == line.Key && after.Verdict == sheet.Differs {
						rt.Fatalf("%s leaves %s differing: %v, was %v", m.Title, line.Label, after.Values, line.Values)
					}
				}
			}
		}
	})
}

func parse(list ...string) (out []netip.Prefix) {
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

// put changes a copy of an object.
func put(t *testing.T, d *design.Design, path string, kind design.Kind, change func(design.Body)) *design.Design {
	o, err := find(t, d, path, kind).Remap(nil)
	require.NoError(t, err)
	change(o.Body)
	return apply(t, d, []design.Edit{design.PutEdit(o)})
}

// profile puts a copy of a shipped profile into a design, changed.
func profile(t *testing.T, d *design.Design, cloud string, change func(*design.Profile)) *design.Design {
	text, err := design.WriteProfile(cloud, (*design.Profile)(d.Profile(cloud)))
	require.NoError(t, err)
	_, p, err := design.ReadProfile(text)
	require.NoError(t, err)
	change(p)
	return apply(
		t, d,
		[]design.Edit{
			design.PutEdit(
				&design.Object{ID: "own-" + design.ID(cloud), Kind: design.KindProfile, Name: cloud, Body: p},
			),
		},
	)
}

// Each rule of a profile keeps a shape out, with its reason.
func TestProfilesKeepShapesOut(t *testing.T) {
	for _, c := range []struct {
		name, a, b, key, why string
		change               func(*testing.T, *design.Design) *design.Design
	}{
		{"no peering between regions", "ticketing", "seed-bank-index", "peering", "no peering between " +
			"regions", func(t *testing.T, d *design.Design) *design.Design {
			return profile(t, d, "Sedge", func(p *design.Profile) { p.Peering.BetweenRegions = false })
		}},
		{"no peering at all", "ticketing", "public-site", "peering", "Sedge has no peering", func(t *testing.T,
			d *design.Design) *design.Design {
			return profile(t, d, "Sedge", func(p *design.Profile) { p.Peering = nil })
		}},
		{"too many peerings", "sequencing", "image-analysis", "peering", "which is the most that Osier " +
			"allows", func(t *testing.T, d *design.Design) *design.Design {
			return profile(t, d, "Osier", func(p *design.Profile) { p.Limits.Peerings = 1 })
		}},
		{"overlapping blocks", "ticketing", "public-site", "peering", "refused where blocks " +
			"overlap", func(t *testing.T, d *design.Design) *design.Design {
			return put(
				t, d, "public-site", design.KindNetwork,
				func(b design.Body) { b.(*design.Network).Blocks = parse("172.29.16.0/21", "172.29.32.0/20") },
			)
		}},
		{"hub refuses overlaps", "public-site", "visitor-hub", "hub-visitor-hub", "the hub refuses " +
			"overlaps", func(t *testing.T, d *design.Design) *design.Design {
			return put(
				t, d, "public-site", design.KindNetwork,
				func(b design.Body) { b.(*design.Network).Blocks = parse("172.29.16.0/21", "172.29.32.0/20") },
			)
		}},
		{"hub is full", "public-site", "visitor-hub", "hub-visitor-hub", "attachments, which is the " +
			"most", func(t *testing.T, d *design.Design) *design.Design {
			return profile(t, d, "Sedge", func(p *design.Profile) { p.Limits.Attachments = 2 })
		}},
		{"hub in another region", "herbarium-scans", "visitor-hub", "hub-visitor-hub", "make a hub there", func(t *testing.T,
			d *design.Design) *design.Design {
			d = put(
				t, d, "visitor-hub", design.KindHub,
				func(b design.Body) { b.(*design.Hub).Cloud, b.(*design.Hub).Region = "Tarn", "tarn-south" },
			)
			return d
		}},
		{"only public subnets", "herbarium-scans", "visitor-hub", "hub-visitor-hub", "no subnet that is not " +
			"public", func(t *testing.T, d *design.Design) *design.Design {
			d = put(
				t, d, "visitor-hub", design.KindHub,
				func(b design.Body) { b.(*design.Hub).Cloud, b.(*design.Hub).Region = "Tarn", "tarn-north" },
			)
			for _, s := range []string{"herbarium-scans/racks-a", "herbarium-scans/racks-b"} {
				d = put(t, d, s, design.KindSubnet, func(b design.Body) { b.(*design.Subnet).Public = true })
			}
			return d
		}},
		{"no room for the gateway's subnet", "dunmoss-arboretum", "sequencing", "vpn-bgp-twin", "no free /26",
			func(t *testing.T, d *design.Design) *design.Design {
				d = put(
					t, d, "sequencing/readers", design.KindSubnet,
					func(b design.Body) { b.(*design.Subnet).Prefixes = parse("10.219.0.0/16") },
				)
				return d
			}},
		{"no proposal in common", "dunmoss-arboretum", "ticketing", "vpn-bgp-doubled", "no proposal in " +
			"common", func(t *testing.T, d *design.Design) *design.Design {
			return put(
				t, d, "dunmoss-arboretum/gateway", design.KindGateway,
				func(b design.Body) { b.(*design.Gateway).IKE = []string{"aes128-sha1-modp1024"} },
			)
		}},
		{"a cloud without a profile", "dunmoss-arboretum", "ticketing", "vpn", "no profile is known for " +
			"Rush", func(t *testing.T, d *design.Design) *design.Design {
			return put(
				t, d, "ticketing", design.KindNetwork, func(b design.Body) { b.(*design.Network).Cloud = "Rush" },
			)
		}},
		{"no gateway at the site", "dunmoss-arboretum", "ticketing", "vpn", "has no gateway with a public " +
			"address", func(t *testing.T, d *design.Design) *design.Design {
			return put(
				t, d, "dunmoss-arboretum/gateway", design.KindGateway,
				func(b design.Body) { b.(*design.Gateway).Addresses = nil },
			)
		}},
		{"no inside range free", "dunmoss-arboretum", "ticketing", "vpn-bgp-doubled", "is free in 169.254.128.0/17",
			func(t *testing.T, d *design.Design) *design.Design {
				return put(
					t, d, "dunmoss-arboretum/house", design.KindLAN,
					func(b design.Body) { b.(*design.LAN).Prefixes = parse("192.168.211.0/24", "169.254.0.0/16") },
				)
			}},
		{"inside ranges of different spaces", "image-analysis", "ticketing", "vpn-bgp-twin-and-doubled", "different spaces",
			func(t *testing.T, d *design.Design) *design.Design {
				return profile(t, d, "Sedge", func(p *design.Profile) {
					p.VPN[0].Inside.Within, p.VPN[0].Inside.Reserved = parse("169.254.200.0/24"), nil
				})
			}},
		{
			"hubs of two clouds", "tarn-hub", "visitor-hub", "hubs", "within one cloud",
			func(_ *testing.T, d *design.Design) *design.Design { return d },
		},
		{
			"a circuit to a hub", "saltmarsh-station", "tarn-hub", "circuit", "choose a network attached to the hub",
			func(_ *testing.T, d *design.Design) *design.Design { return d },
		},
		{
			"a VPN at an edge router", "saltmarsh-station", "millrace", "vpn", "has circuits only",
			func(_ *testing.T, d *design.Design) *design.Design { return d },
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := c.change(t, thistledown(t))
			all := shapes(t, d, c.a, c.b)
			s, ok := all[c.key]
			require.True(t, ok, "%v", keysOf(all))
			assert.Contains(t, strings.Join(s.Out, "; "), c.why)
			assert.Empty(t, s.Edits)
		})
	}
}

func keysOf(all map[string]draft.Shape) (out []string) {
	for k, s := range all {
		out = append(out, fmt.Sprintf("%s %v", k, s.Out))
	}
	return out
}

// Two hubs of one cloud are attached to each other, with the static entries
// that the profile wants.
func TestHubToHub(t *testing.T) {
	d := put(
		t, thistledown(t), "visitor-hub", design.KindHub,
		func(b design.Body) { b.(*design.Hub).Cloud, b.(*design.Hub).Region = "Tarn", "tarn-south" },
	)
	s := shapes(t, d, "tarn-hub", "visitor-hub")["hubs"]
	require.Empty(t, s.Out)
	d = apply(t, d, s.Edits)
	main := find(t, d, "visitor-hub/main", design.KindHubTable).Body.(*design.HubTable)
	require.Len(t, main.Routes, 2, "the catalogue's and the scans' blocks")
	assert.Equal(t, "Tarn hub", d.Get(main.Routes[0].Via).Name)
	assert.Equal(
		t, "Public",
		d.Title(
			lifecycle.OpenRequest(
				d, find(t, d, "visitor-hub/tarn-hub", design.KindAttachment).ID,
			).Body.(*design.Request).To,
		),
		"the other owner is asked",
	)
}

// Sedge's hubs ask their owner, so a foreign attachment waits; one's own does
// not.
func TestForeignJoinsWaitWhereTheProfileSaysSo(t *testing.T) {
	d := thistledown(t)
	own := shapes(t, d, "public-site", "visitor-hub")["hub-visitor-hub"]
	foreign := shapes(t, d, "sequencing", "visitor-hub")["hub-visitor-hub"]
	assert.Equal(t, design.NotBegun, apply(t, d, own.Edits).StateOf(own.Subject))
	require.Empty(t, foreign.Out)
	joined := apply(t, d, foreign.Edits)
	assert.NotNil(t, lifecycle.OpenRequest(joined, foreign.Subject))
	tables := route.Solve(joined, status.Condition{})
	for _, ends := range [][2]string{{"sequencing", "ticketing"}, {"ticketing", "sequencing"}} {
		f, err := walk.ParseFlow(tables, ends[0], ends[1], design.Service{Proto: "tcp", Port: 443})
		require.NoError(t, err)
		stop := walk.Prove(tables, f).Stop
		require.NotNil(t, stop)
		assert.EqualValues(t, status.NotAccepted, stop.Code, "%v: nobody is told to learn what waits for an answer", ends)
	}
	for _, f := range finding.All(proof.Of(tables)) {
		assert.NotEqual(t, "expected-not-learned", f.Code, f.Sentence)
	}
	assert.Nil(t, lifecycle.OpenRequest(apply(t, d, own.Edits), own.Subject))
}

// Where a cloud lets nobody set filters and limits of BGP, none is drafted, and one that is said is not in effect.
func TestFiltersOnlyWhereTheyCanBeSet(t *testing.T) {
	d := thistledown(t)
	site := find(t, d, "dunmoss-arboretum", design.KindSite).Body.(*design.Site)
	d = put(t, d, "ticketing", design.KindNetwork, func(b design.Body) { b.(*design.Network).Owner = site.Owner })
	s := shapes(t, d, "dunmoss-arboretum", "ticketing")["vpn-bgp-doubled"]
	require.Empty(t, s.Out)
	d = apply(t, d, s.Edits)
	link := d.Get(s.Subject)
	sessions := d.Inside(d.Inside(link.ID, design.KindTunnel)[0].ID, design.KindSession)
	require.Len(t, sessions, 1)
	cloud := 0
	if d.Party(settings.Speaker(d, sessions[0], 1).ID).Name == "ticketing" {
		cloud = 1
	}
	ends := sessions[0].Body.(*design.Session).Ends
	assert.Empty(t, slices.Concat(ends[cloud].In, ends[cloud].Out))
	assert.Zero(t, ends[cloud].MaxPrefixes)
	assert.NotEmpty(t, ends[1-cloud].In)
	assert.Positive(t, ends[1-cloud].MaxPrefixes)

	learned := func(d *design.Design) int { return route.Solve(d, status.Condition{}).Taken(sessions[0].ID, cloud) }
	before := learned(d)
	require.Positive(t, before)
	said := apply(t, d, []design.Edit{design.PutEdit(design.Edited(sessions[0], func(b *design.Session) {
		b.Ends[cloud].In, b.Ends[cloud].MaxPrefixes = []design.Filter{{Verdict: design.Refuse}}, 1
	}))})
	assert.Equal(t, before, learned(said))
	told := ""
	for _, f := range finding.All(proof.Of(route.Solve(said, status.Condition{}))) {
		if f.Code == "not-in-profile" && f.Subjects[0] == sessions[0].ID {
			told += f.Sentence
		}
	}
	assert.Contains(t, told, "lets nobody set any")
}

// A hub of such a cloud passes on by itself what its other members tell it.
func TestHubsWithoutFiltersPassOnWhatTheyKnow(t *testing.T) {
	const file = "dravin: 1\nsites:\n" +
		"  - {name: Marrow Hill, gateways: [{name: gateway, addresses: 198.51.100.10, asn: 64501}], " +
		"lans: [{name: data room, prefixes: 10.214.0.0/22}]}\n" +
		"  - {name: Thornfield Station, gateways: [{name: gateway, addresses: 198.51.100.30, asn: 64503}], " +
		"lans: [{name: weather room, prefixes: 10.215.16.0/23}]}\n" +
		"hubs: [{name: visitor hub, cloud: Sedge, region: sedge-coast, asn: 64520, hub_tables: [{name: main}]}]\n"
	d, err := design.Read([]byte(file))
	require.NoError(t, err)
	for _, site := range []string{"marrow-hill", "thornfield-station"} {
		all := shapes(t, d, site, "visitor-hub")
		s, ok := all["hub-visitor-hub"]
		require.True(t, ok, "%v", keysOf(all))
		require.Empty(t, s.Out)
		d = apply(t, d, s.Edits)
	}
	tables := route.Solve(d, status.Condition{})
	f, err := walk.ParseFlow(tables, "marrow-hill", "thornfield-station", design.Service{Proto: "tcp", Port: 443})
	require.NoError(t, err)
	assert.Nil(t, walk.Prove(tables, f).Stop)
}
