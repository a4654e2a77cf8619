package handover_test

import (
	"net/netip"
	"slices"
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

// Filtered is the whole trust with every feature of a route filter at one end
// of the station's first session.
func filtered(t *testing.T) *design.Design {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	o := d.Find("saltmarsh-station-to-image-analysis/tunnel-1/session", design.KindSession)[0]
	s := design.Session{Ends: slices.Clone(o.Body.(*design.Session).Ends)}
	net := netip.MustParsePrefix
	s.Ends[0].Families = []string{"ipv4", "ipv6"}
	s.Ends[0].Password, s.Ends[0].AllowOwn = true, 1
	s.Ends[0].In = []design.Filter{
		{Prefix: net("10.211.9.0/24"), Deny: true},
		{Prefix: net("10.211.0.0/16"), From: 16, To: 24, LocalPref: 200},
		{Prefix: net("2001:db8:45::/48"), To: 64},
	}
	s.Ends[0].Out = []design.Filter{
		{Prefix: net("10.215.0.0/23"), Prepend: 2, MED: 50, Communities: []string{"64502:7", "no-export"}},
		{Prefix: net("2001:db8:30::/64")},
		{Prefix: net("10.215.2.0/24"), Deny: true},
	}
	tunnel := d.Get(o.Parent)
	dual := *tunnel.Body.(*design.Tunnel)
	dual.Inside6 = []netip.Prefix{net("2001:db8:ff::1/64"), net("2001:db8:ff::2/64")}
	d, _, err = d.Apply([]design.Edit{design.PutEdit(o.With(&s)), design.PutEdit(tunnel.With(&dual))})
	require.NoError(t, err)
	return d
}

func birdOf(t *testing.T, d *design.Design) string {
	files := handover.Render(
		route.Solve(d, status.Condition{}), d.Find("saltmarsh-station", design.KindSite)[0].ID, nil,
	)
	i := slices.IndexFunc(files, func(f handover.File) bool { return strings.HasSuffix(f.Path, "bird.conf") })
	require.GreaterOrEqual(t, i, 0)
	return files[i].Content
}

func TestFiltersAreRendered(t *testing.T) {
	text := birdOf(t, filtered(t))
	_, first, _ := strings.Cut(text, "protocol bgp saltmarsh_station_to_image_analysis__tunnel_1__session {")
	first, _, _ = strings.Cut(first, "protocol bgp")
	for _, line := range []string{
		"local 169.254.141.2 as 64502;",
		"neighbor 169.254.141.1 as 64505;",
		`password "FILL-IN"; # agree on one with the far end`,
		"allow local as 1;",
		"if net ~ [ 10.211.9.0/24 ] then { reject; }",
		"if net ~ [ 10.211.0.0/16{16,24} ] then { bgp_local_pref = 200; accept; }",
		"if net ~ [ 2001:db8:45::/48{48,64} ] then { accept; }",
		"if net ~ [ 10.215.0.0/23 ] then { bgp_med = 50; bgp_community.add((64502,7)); " +
			"bgp_community.add((65535,65281)); bgp_path.prepend(64502); bgp_path.prepend(64502); accept; }",
		"import limit 12 action disable;",
	} {
		assert.Contains(t, first, line)
	}
	v4, v6, found := strings.Cut(first, "ipv6 {")
	require.True(t, found)
	assert.NotContains(t, v4, "2001:db8", "each family has its own rules")
	assert.NotContains(t, v6, "10.215.0.0")
	assert.Contains(t, text, "router id 198.51.100.40;")

	d := filtered(t)
	tunnel := d.Find("saltmarsh-station-to-image-analysis/tunnel-1", design.KindTunnel)[0]
	single := *tunnel.Body.(*design.Tunnel)
	single.Inside6 = nil
	d, _, err := d.Apply([]design.Edit{design.PutEdit(tunnel.With(&single))})
	require.NoError(t, err)
	_, first, _ = strings.Cut(birdOf(t, d), "protocol bgp saltmarsh_station_to_image_analysis__tunnel_1__session {")
	first, _, _ = strings.Cut(first, "protocol bgp")
	assert.NotContains(t, first, "ipv6", "a family without addresses has no next hops, and is not set")

	assert.Contains(t, text, "route 10.215.0.0/23 unreachable;")
	assert.NotContains(t, text, "neighbor 169.254.141.9", "another party's session is not here")
}

// What each party's sheet lists of peerings, circuits, attachments and sessions.
func TestSheetsListWhatJoins(t *testing.T) {
	d := filtered(t)
	for party, lines := range map[string][]string{
		"sequencing": {"[ ] sequencing with image analysis: the half toward image analysis", "lends its gateway: no"},
		"herbarium-scans": {"[ ] herbarium scans circuit 1, to Millrace: 40 Mbit/s, VLAN tag 101, zone " +
			"tarn-north-a", "BGP: own ASN 64506 at 169.254.140.13, far ASN 64510", "[ ] herbarium scans at Tarn hub: it " +
			"attaches herbarium scans", "      subnet racks a"},
		"tarn-hub": {"[ ] catalogue at Tarn hub", "      bound to main", "      feeds main"},
		"millrace": {"[ ] Saltmarsh Station circuit, to Saltmarsh Station gateway: 100 Mbit/s, VLAN tag " +
			"100", "take 14 routes at most"},
		"image-analysis": {"[ ] tunnel 2 of Saltmarsh Station to image analysis: IKEv2 from 192.0.2.41 to " +
			"198.51.100.40", "IKE: aes256gcm16-prfsha384-ecp384", "announce 10.211.0.0/16"},
	} {
		files := handover.Render(route.Solve(d, status.Condition{}), d.Find(party, design.Parties...)[0].ID, nil)
		text := files[len(files)-1].Content
		for _, line := range lines {
			assert.Contains(t, text, line, party)
		}
	}
	// What was refused is on nobody's sheet.
	p := d.Find("sequencing-with-image-analysis", design.KindPeering)[0]
	d, _, err := d.Apply([]design.Edit{design.PutEdit(p.InState(design.Refused))})
	require.NoError(t, err)
	files := handover.Render(route.Solve(d, status.Condition{}), d.Find("sequencing", design.KindNetwork)[0].ID, nil)
	assert.NotContains(t, files[0].Content, "the half toward")
}
