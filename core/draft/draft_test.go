package draft_test

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/lifecycle"
	"dravin/core/negotiate"
	"dravin/core/overlap"
	"dravin/core/provider"
	"dravin/core/settings"
	"dravin/core/sheet"
	"dravin/demo"
)

func thistledown(t testing.TB) *design.Design {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	return d
}

// find names a party, link or gateway by its path.
func find(t testing.TB, d *design.Design, path string, kinds ...design.Kind) *design.Object {
	found := d.Find(path, kinds...)
	require.Len(t, found, 1, path)
	return found[0]
}

func shapes(t testing.TB, d *design.Design, a, b string) map[string]draft.Shape {
	list, err := draft.Shapes(
		allocation.NewBooks(d),
		draft.Options{A: find(t, d, a, design.Parties...).ID, B: find(t, d, b, design.Parties...).ID, GB: 1000},
	)
	require.NoError(t, err)
	out := map[string]draft.Shape{}
	for _, s := range list {
		out[s.Key] = s
	}
	return out
}

func apply(t testing.TB, d *design.Design, edits []design.Edit) *design.Design {
	next, _, err := d.Apply(edits)
	require.NoError(t, err)
	return next
}

// Every shape that is offered, between any two parties of the demo, can be
// applied, and everything in it that must agree does.
func TestEveryOfferedShapeAppliesAndAgrees(t *testing.T) {
	d := thistledown(t)
	parties := d.Inside("", design.KindSite, design.KindNetwork, design.KindHub, design.KindEdgeRouter)
	offered := map[string]int{}
	for _, a := range parties {
		for _, b := range parties {
			if a == b || strings.HasSuffix(a.Name, " Hut") && a.Name != "Alder Hut" ||
				strings.HasSuffix(b.Name, " Hut") && b.Name != "Alder Hut" {
				continue
			}
			list, err := draft.Shapes(allocation.NewBooks(d), draft.Options{A: a.ID, B: b.ID, GB: 500})
			require.NoError(t, err)
			for _, s := range list {
				if len(s.Out) > 0 {
					assert.Empty(t, s.Edits)
					continue
				}
				offered[s.Key]++
				if strings.HasPrefix(s.Key, "hub-") {
					offered["hub"]++
				}
				name := a.Name + " to " + b.Name + ": " + s.Title
				next, inverse, err := d.Apply(s.Edits)
				require.NoError(t, err, name)
				require.NotNil(t, next.Get(s.Subject), name)
				requireAgreement(t, d, next, name)
				back, _, err := next.Replay(inverse)
				require.NoError(t, err)
				assert.Empty(t, d.EditsTo(back), "undone whole: %s", name)
				assert.NotEmpty(t, s.Parties, name)
				assert.NotEmpty(t, s.Survives, name)
				assert.NotZero(t, s.Next, name)
			}
		}
	}
	for _, want := range []string{
		"vpn-bgp-braided", "vpn-static-braided", "vpn-selectors-", "vpn-bgp-twin", "vpn-bgp-doubled",
		"vpn-static-plain", "peering", "hub", "circuit",
	} {
		assert.NotZero(t, offered[want], "%s is offered for some pair: %v", want, offered)
	}
}

func requireAgreement(t *testing.T, before, d *design.Design, name string) {
	for _, o := range d.Of(design.KindTunnel) {
		if before.Get(o.ID) != nil {
			continue
		}
		for _, l := range sheet.Differing(sheet.Lines(d, o, [2]string{})) {
			assert.Fail(t, "a drafted line differs", "%s: %s: %v %s", name, l.Label, l.Values, l.Why)
		}
		ends := settings.SettingsOf(d, o, "")
		outcome := negotiate.Agree(ends[0], ends[1])
		assert.True(t, outcome.Up && outcome.Renews, "%s: %s", name, outcome.Why)
	}
	for _, o := range d.Of(design.KindSession) {
		ends := settings.BGPEnds(o.Body.(*design.Session))
		outcome := negotiate.AgreeSession(ends[0], ends[1])
		assert.True(t, outcome.Up, "%s: %s", name, outcome.Why)
		assert.False(t, outcome.Internal, "%s: ASNs differ", name)
	}
}

func TestShapesSayWhyTheyAreOut(t *testing.T) {
	d := thistledown(t)
	for _, c := range []struct{ a, b, key, why string }{
		{"catalogue", "sequencing", "peering", "stays within one cloud"},
		{"marrow-hill", "sequencing", "peering", "two cloud networks"},
		{"marrow-hill", "catalogue", "vpn-bgp-braided", "joins them already"},
		{"marrow-hill", "ticketing", "vpn-static-doubled", "BGP only"},
		{"marrow-hill", "sequencing", "hub", "Osier has no hub"},
		{"old-orangery", "peatside-nursery", "vpn-selectors-", ""},
		{"old-orangery", "peatside-nursery", "circuit", "one range in two places"},
	} {
		s, ok := shapes(t, d, c.a, c.b)[c.key]
		require.True(t, ok, "%s to %s: %s", c.a, c.b, c.key)
		if c.why == "" {
			assert.Empty(t, s.Out)
			continue
		}
		assert.Contains(t, strings.Join(s.Out, "; "), c.why)
	}
	_, err := draft.Shapes(
		allocation.NewBooks(d),
		draft.Options{A: find(t, d, "ashcombe-herbarium").ID, B: find(t, d, "catalogue", design.KindNetwork).ID},
	)
	assert.ErrorContains(t, err, "at which no link can end")
}

// What one draft makes, the next one uses.
func TestDraftingReusesWhatIsThere(t *testing.T) {
	d := thistledown(t)
	first := shapes(t, d, "saltmarsh-station", "sequencing")["vpn-bgp-twin"]
	d = apply(t, d, first.Edits)
	second := shapes(t, d, "dunmoss-arboretum", "sequencing")["vpn-bgp-twin"]
	var reused []string
	for _, b := range second.Builds {
		if b.Reused {
			reused = append(reused, b.What)
		}
	}
	assert.Equal(t, []string{"The gateway Dunmoss Arboretum gateway", "The gateway sequencing twin gateway"}, reused)
	assert.Less(t, second.Monthly, first.Monthly, "the gateway is paid for once")
	d = apply(t, d, second.Edits)
	requireAgreement(t, design.New("", nil), d, "both")
}

// What is handed out never clashes with anything: inside ranges with no range
// or inside address, ASNs with no ASN, in random designs.
func TestAllocationNeverClashes(t *testing.T) {
	checks := 0
	rapid.Check(t, func(t *rapid.T) {
		for range 100 { // rapid runs a hundred rounds
			checkAllocation(t)
			checks++
		}
	})
	assert.GreaterOrEqual(t, checks, 10_000)
}

func checkAllocation(t *rapid.T) {
	d := randomDesign(t)
	taken := allocation.ForInside(d)
	rules := make([]*provider.Inside, 0, 4)
	for _, p := range d.Profiles() {
		for n := range p.Profile.VPN {
			rules = append(rules, &p.Profile.VPN[n].Inside)
		}
	}
	a := rapid.SampledFrom(append(rules, nil)).Draw(t, "one end")
	n := rapid.IntRange(1, 4).Draw(t, "tunnels")
	books := allocation.NewBooks(d)
	for range n {
		p, err := draft.TakeInside(books, a, nil)
		if err != nil {
			break
		}
		if a != nil && len(a.Within) > 0 {
			taken = append(slices.Clone(a.Reserved), taken...)
		}
		for _, other := range taken {
			if p.Overlaps(other) {
				t.Fatalf("%s was given out and overlaps %s", p, other)
			}
		}
		taken = append(taken, p)
	}
	asn, err := books.ASN()
	if err != nil {
		return
	}
	if who := allocation.ASNs(d)[asn]; len(who) > 0 {
		t.Fatalf("ASN %d was given out and %v has it", asn, who)
	}
	for _, c := range overlap.Claims(d) {
		if !c.Prefix.IsValid() {
			t.Fatal("a claim has no range")
		}
	}
}

// randomDesign is a few gateways, LANs, tunnels and sessions that crowd the
// spaces from which is given out.
func randomDesign(t *rapid.T) *design.Design {
	var objects []*design.Object
	add := func(k design.Kind, parent design.ID, body design.Body) design.ID {
		name := fmt.Sprintf("%s %d", k, len(objects))
		id := design.ID(name)
		objects = append(objects, &design.Object{ID: id, Kind: k, Parent: parent, Name: name, Body: body})
		return id
	}
	site := add(design.KindSite, "", &design.Site{})
	linkLocal := func(label string) netip.Prefix {
		bits := rapid.SampledFrom([]int{17, 18, 20, 24, 28, 30}).Draw(t, label+" length")
		a := netip.AddrFrom4([4]byte{169, 254, rapid.Byte().Draw(t, label), rapid.Byte().Draw(t, label)})
		return netip.PrefixFrom(a, bits)
	}
	for range rapid.IntRange(0, 4).Draw(t, "LANs") {
		add(design.KindLAN, site, &design.LAN{Prefixes: []netip.Prefix{linkLocal("LAN").Masked()}})
	}
	g := add(design.KindGateway, site, &design.Gateway{ASN: 64512 + uint32(rapid.IntRange(0, 5).Draw(t, "ASN"))})
	far := add(design.KindGateway, site, &design.Gateway{ASN: 64512 + uint32(rapid.IntRange(0, 5).Draw(t, "far ASN"))})
	l := add(
		design.KindLink, "", &design.Link{Routing: design.RoutingBGP, Ends: []design.End{{Gateway: g}, {Gateway: far}}},
	)
	for range rapid.IntRange(0, 5).Draw(t, "tunnels there") {
		p := linkLocal("tunnel")
		tunnel := add(design.KindTunnel, l, &design.Tunnel{Inside: []netip.Prefix{p, p}})
		add(design.KindSession, tunnel, &design.Session{Ends: []design.SessionEnd{
			{
				ASN:     64512 + uint32(rapid.IntRange(0, 9).Draw(t, "session ASN")),
				Address: linkLocal("session").Addr(),
			}, {ASN: 64600, Address: p.Addr()}}})
	}
	return design.New("random", objects)
}

// The names of a far administrator's parameters, and what they are taken for.
func TestSentIsUnderstood(t *testing.T) {
	near, far := netip.MustParseAddr("198.51.100.10"), netip.MustParseAddr("203.0.113.20")
	conf := `# from the far end
include conf.d/*.conf
connections {
    other { local_addrs = 203.0.113.20
        remote_addrs = 192.0.2.77
        local { id = x }
    }
    hill {
        version = 2
        local_addrs = 203.0.113.20
        remote_addrs = 198.51.100.10
        proposals = aes256-sha256-modp2048, aes256gcm16-prfsha384-ecp384
        rekey_time = 4h
        local-main { auth = psk
            id = nursery.example }
        remote-main { id = "198.51.100.10" }
        children {
            a { local_ts = 192.168.216.0/24
                remote_ts = 10.214.0.0/22
                esp_proposals = aes256-sha256
                rekey_time = 45m }
            b { local_ts = 192.168.216.0/24
                remote_ts = 10.213.0.0/20 }
        }
    }
}
secrets { ike-hill { id-1 = 198.51.100.10
  secret = "a key with \"quotes\"" } }
`
	s, err := sheet.ReadSent(conf, near, far, "")
	require.NoError(t, err)
	assert.Empty(t, s.Problems)
	assert.Equal(
		t,
		[]string{
			"address", "peer", "identity", "peer-identity", "key", "version", "ike", "esp", "ike-life", "child-life",
			"local", "remote",
		},
		s.Given,
	)
	assert.Equal(t, []string{"aes256-sha256-modp2048", "aes256gcm16-prfsha384-ecp384"}, s.Settings.IKE)
	assert.Equal(t, `a key with "quotes"`, s.Settings.Key)
	assert.Equal(t, uint32(2700), s.Settings.ChildLife)
	assert.Equal(t, "nursery.example", s.Settings.Identity)
	assert.Len(t, s.Settings.Remote, 2)

	s, err = sheet.ReadSent(
		"Our address: 203.0.113.20\n| Your address | 198.51.100.10 |\nIKE proposal = AES-256 SHA2-256 DH group 14\n"+
			"Phase 2: aes-256-gcm/group20\nLifetime: 1h\nColour: green\nOur ASN: 64500\nMTU: many",
		near,
		far,
		"",
	)
	require.NoError(t, err)
	assert.Equal(t, []string{"address", "peer", "ike", "esp", "child-life", "asn"}, s.Given)
	assert.Equal(t, []string{"aes256-sha256-modp2048"}, s.Settings.IKE)
	assert.Equal(t, []string{"aes256gcm16-ecp384"}, s.Settings.ESP)
	assert.Equal(t, near, s.Settings.Peer)
	require.Len(t, s.Problems, 2, "what is not understood is said")
	assert.Equal(t, 6, s.Problems[0].Line)

	for text, why := range map[string]string{
		"":                             "nothing here is a parameter",
		"hello there":                  "has no colon",
		"connections { a {":            "is not closed",
		"connections { } }":            "closes that none opened",
		strings.Repeat("a{}", 300_000): "no connections section",
		"secrets { ike { } }":          "no connections section",
		"connections { a {x} }":        "neither a section nor a setting",
		"Remote address: next door":    "is not an address",
		"IKE proposals: aes512-sha9":   "no algorithm that Dravin knows",
	} {
		_, err := sheet.ReadSent(text, near, far, "")
		assert.ErrorContains(t, err, why, text)
	}
}

// What the far end sent differs in three lines; each fix ends one.
func TestRecordedDifferencesAreMendedAtEitherEnd(t *testing.T) {
	d := thistledown(t)
	tunnel := find(t, d, "peatside-to-marrow-hill/tunnel-1", design.KindTunnel)
	sent, err := sheet.ReadSent(
		"Your address: 198.51.100.12\nIKE proposals: aes128-sha256-modp3072\nRemote networks: 10.214.0.0/24\nIKE "+
			"version: 2\nKey lifetime: 3600",
		netip.Addr{},
		netip.Addr{},
		"",
	)
	require.NoError(t, err)
	edits, err := sheet.Record(d, tunnel, 0, sent)
	require.NoError(t, err)
	recorded := apply(t, d, edits)
	differing := sheet.Differing(sheet.Lines(recorded, recorded.Get(tunnel.ID), [2]string{}))
	require.Len(t, differing, 3)
	for _, end := range []int{0, 1} {
		next, left := recorded, 3
		for _, l := range differing {
			for _, m := range l.Fixes {
				if m.End != end {
					continue
				}
				// fixes are made one after another, each on what the last left
				for _, now := range sheet.Lines(next, next.Get(tunnel.ID), [2]string{}) {
					if now.Key == l.Key {
						for _, fix := range now.Fixes {
							if fix.End == end {
								next = apply(t, next, fix.Edits)
								left--
							}
						}
					}
				}
			}
		}
		assert.Len(
			t, sheet.Differing(sheet.Lines(next, next.Get(tunnel.ID), [2]string{})), left, "fixes at end %d", end,
		)
	}
}

func TestARequestForOneCircuitIsForBoth(t *testing.T) {
	d := thistledown(t)
	s := shapes(t, d, "millrace", "ticketing")["circuit"]
	require.Empty(t, s.Out)
	d = apply(t, d, s.Edits)
	request := lifecycle.OpenRequest(d, s.Subject)
	require.NotNil(t, request)
	edits, err := lifecycle.Answer(d, request, false, "no")
	require.NoError(t, err)
	d = apply(t, d, edits)
	refused := 0
	for _, o := range d.Of(design.KindCircuit) {
		if design.StateOf(o) == design.Refused {
			refused++
		}
	}
	assert.Equal(t, 2, refused)
	steps := lifecycle.Steps(d, d.Get(s.Subject))
	require.Len(t, steps, 1)
	d = apply(t, d, steps[0].Edits)
	assert.NotNil(t, lifecycle.OpenRequest(d, s.Subject), "asked again")
}

// What a far end sent is not taken where it could not be written, and no error
// tells what may be a key.
func TestSentIsRefusedWhereItCouldNotBeWritten(t *testing.T) {
	near, far := netip.MustParseAddr("198.51.100.10"), netip.MustParseAddr("203.0.113.20")
	s, err := sheet.ReadSent(
		"connections {\n c {\n  local_addrs = 203.0.113.20\n  dpd_delay = 20s\n  local {\n   id = \"x\\\"\\n}\\nplanted "+
			"{\\n children { p { updown = run } }\"\n  }\n }\n}\n",
		near,
		far,
		"",
	)
	require.NoError(t, err)
	assert.Empty(t, s.Settings.Identity)
	assert.NotContains(t, s.Given, "identity")
	require.Len(t, s.Aside, 1)
	assert.Equal(t, 6, s.Aside[0].Line)
	assert.Contains(t, s.Aside[0].Why, "is no identity; write an address")

	for _, text := range []string{
		"mtu: 1400\nbadgers-and-moss\nbadgers and moss: psk\npsk: badgers\x0band moss",
		"mtu: 1400\npsk: " + strings.Repeat("badgers", 100),
		"connections {\n c {\n }\n}\nsecrets {\n ike-1 {\n  secret badgers\n }\n}",
		"connections {\n c {\n }\n}\nsecrets {\n ike-1 {\n  secret = \"badgers\n }\n}",
		"connections {\n c {\n }\n}\nsecrets {\n ike-1 {\n  secret = \"badgers\\nand moss\"\n }\n}",
	} {
		s, err := sheet.ReadSent(text, near, far, "")
		said := fmt.Sprint(s.Problems, s.Aside, err)
		assert.NotContains(t, said, "badgers")
		assert.NotEmpty(t, said)
		assert.Empty(t, s.Settings.Key)
	}
	s, err = sheet.ReadSent("identity: @hut.example\npsk: a\\b\"c", near, far, "")
	require.NoError(t, err)
	assert.Equal(t, "hut.example", s.Settings.Identity)
	assert.Equal(t, `a\b"c`, s.Settings.Key)
	s, err = sheet.ReadSent(
		"connections {\n c {\n  dpd_delay = 20s\n }\n}\nsecrets {\n ike {\n  secret = \" a\\\\b\\\"c \"\n }\n}", near,
		far, "",
	)
	require.NoError(t, err)
	assert.Equal(t, ` a\b"c `, s.Settings.Key, "just what the daemon takes it for")
}

// What is suggested names a value and a reason, and the reason is a sentence.
func TestSuggestionsSayWhy(t *testing.T) {
	d := thistledown(t)
	for _, pair := range [][2]string{
		{"dunmoss-arboretum", "sequencing"}, {"millrace", "ticketing"}, {"public-site", "visitor-hub"},
		{"old-orangery", "marrow-hill"},
	} {
		for _, s := range shapes(t, d, pair[0], pair[1]) {
			for _, g := range s.Suggestions {
				assert.NotEmpty(t, g.What, s.Title)
				assert.NotEmpty(t, g.Value, s.Title)
				assert.Greater(t, len(strings.Fields(g.Why)), 3, "%s: %s", s.Title, g.What)
			}
		}
	}
	left := shapes(t, d, "old-orangery", "marrow-hill")["vpn-selectors-"]
	i := slices.IndexFunc(left.Suggestions, func(g draft.Suggestion) bool { return g.What == "Left out" })
	if assert.GreaterOrEqual(t, i, 0) {
		assert.Equal(t, "192.168.216.0/24", left.Suggestions[i].Value, "the range that both hold goes into no selector")
	}
}

// What is drafted or copied changes of what is there only what it means to: whether a
// table learns, and whose a hub's table is, stays.
func TestDraftingKeepsWhatTablesAre(t *testing.T) {
	d := thistledown(t)
	segment := d.Of(design.KindSegment)[0].ID
	var edits []design.Edit
	for _, o := range d.Of(design.KindTable) {
		b := *o.Body.(*design.Table)
		b.Learns = "no"
		edits = append(edits, design.PutEdit(o.With(&b)))
	}
	for _, o := range d.Of(design.KindHubTable) {
		b := *o.Body.(*design.HubTable)
		b.Segment = segment
		edits = append(edits, design.PutEdit(o.With(&b)))
	}
	d = apply(t, d, edits)
	changed := 0
	kept := func(edits []design.Edit) {
		for _, e := range edits {
			old := d.Get(e.ID)
			if old == nil || e.Op != design.Put {
				continue
			}
			switch b := e.Object.Body.(type) {
			case *design.Table:
				assert.Equal(t, "no", b.Learns, d.Title(e.ID))
				changed++
			case *design.HubTable:
				assert.Equal(t, segment, b.Segment, d.Title(e.ID))
				changed++
			}
		}
	}
	parties := d.Inside("", design.KindSite, design.KindNetwork, design.KindHub)
	for _, a := range parties {
		for _, b := range parties {
			if shapes, err := draft.Shapes(allocation.NewBooks(d), draft.Options{A: a.ID, B: b.ID}); err == nil &&
				a.ID < b.ID && (a.Kind != design.KindSite || b.Kind != design.KindSite) {
				for _, s := range shapes {
					kept(s.Edits)
				}
			}
		}
		if c, err := draft.Like(context.Background(), allocation.NewBooks(d), a.ID, []string{"one more"}); err == nil {
			kept(c.Edits)
		}
	}
	assert.Greater(t, changed, 20)
}
