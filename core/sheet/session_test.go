package sheet_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/settings"
	"dravin/core/sheet"
)

// A session comes up exactly if no line of it differs, whatever the two ends
// are set to; and each fix ends its line.
func TestSessionLinesAndPredictionNeverContradict(t *testing.T) {
	d := thistledown(t)
	o := find(t, d, "saltmarsh-station-to-image-analysis/tunnel-1/session", design.KindSession)
	planned := o.Body.(*design.Session).Ends
	rapid.Check(t, func(rt *rapid.T) {
		s := design.Session{Ends: slices.Clone(planned)}
		for n := range s.Ends {
			e := &s.Ends[n]
			e.PeerASN = rapid.SampledFrom([]uint32{0, 0, planned[1-n].ASN, 64999}).Draw(rt, "peer ASN")
			e.Peer = rapid.SampledFrom(
				[]netip.Addr{{}, {}, planned[1-n].Address, netip.MustParseAddr("169.254.199.9")},
			).Draw(rt, "peer")
			e.Password = rapid.Bool().Draw(rt, "password")
			e.Families = rapid.SampledFrom([][]string{nil, {"ipv4"}, {"ipv6"}, {"ipv4", "ipv6"}}).Draw(rt, "families")
			e.Hold = rapid.SampledFrom([]uint32{0, 3, 30, 240}).Draw(rt, "hold")
			e.MaxPrefixes = rapid.SampledFrom([]uint32{0, 1, 100}).Draw(rt, "most routes")
		}
		next, _, err := d.Apply([]design.Edit{design.PutEdit(o.With(&s))})
		if err != nil {
			rt.Fatal(err)
		}
		set := settings.SessionEndsOf(next, next.Get(o.ID))
		out := negotiate.AgreeSession(set[0], set[1])
		differing := sheet.Differing(sheet.SessionLines(next, next.Get(o.ID)))
		if out.Up != (len(differing) == 0) {
			rt.Fatalf("%s, and these lines differ: %v", out.Why, differing)
		}
		if out.Up && out.Hold != min(set[0].Hold, set[1].Hold) {
			rt.Fatalf("hold time %d of %d and %d", out.Hold, set[0].Hold, set[1].Hold)
		}
		for _, l := range differing {
			for _, m := range l.Fixes {
				fixed, _, err := next.Apply(m.Edits)
				if err != nil {
					rt.Fatal(err)
				}
				for _, after := range sheet.Differing(sheet.SessionLines(fixed, fixed.Get(o.ID))) {
					if after.Key == l.Key {
						rt.Fatalf("%s leaves %s differing", m.Title, l.Label)
					}
				}
			}
		}
	})
}

// Two sessions in one tunnel have lines of their own.
func TestLinesOfSeveralSessionsAreApart(t *testing.T) {
	d := thistledown(t)
	tunnel := find(t, d, "saltmarsh-station-to-image-analysis/tunnel-1", design.KindTunnel)
	first := d.Inside(tunnel.ID, design.KindSession)[0]
	d, _, err := d.Apply(
		[]design.Edit{
			design.PutEdit(
				&design.Object{
					ID: "six", Kind: design.KindSession, Parent: tunnel.ID, Name: "over IPv6", Body: first.Body,
				},
			),
		},
	)
	require.NoError(t, err)
	seen := map[string]bool{}
	for _, l := range sheet.Lines(d, tunnel, [2]string{}) {
		assert.False(t, seen[l.Key], l.Key)
		seen[l.Key] = true
	}
	assert.True(t, seen["asn-1"] && seen["asn-1/2"])
}

// A cell is set by the same table that reads what a far end sent, at the end that
// it is about; what follows from something else can not be set.
func TestCellsAreSetWhereTheyAreShown(t *testing.T) {
	d := thistledown(t)
	tunnel := find(t, d, "marrow-hill-to-catalogue/tunnel-1", design.KindTunnel)
	value := func(key string, end int) string {
		for _, l := range sheet.Lines(d, d.Get(tunnel.ID), [2]string{}) {
			if l.Key == key {
				return l.Values[end]
			}
		}
		return ""
	}
	for _, c := range []struct {
		line, value string
		end         int
	}{{"ike", "aes256-sha256-ecp256", 0}, {"identity-2", "keyid:other", 0}, {"identity-1", "hill.example", 0}, {"version",
		"1", 1}, {"child-life", "1800 s", 1}, {"mtu", "1380", 0}} {
		edits, err := sheet.SetCell(d, d.Get(tunnel.ID), c.end, c.line, c.value)
		require.NoError(t, err, c.line)
		d, _, err = d.Apply(edits)
		require.NoError(t, err, c.line)
		assert.Contains(t, value(c.line, c.end), strings.TrimPrefix(c.value, "keyid:"), c.line)
	}
	for line, says := range map[string]string{
		"nat": "can not be set", "bgp-password": "can not be set", "ike": "no algorithm",
	} {
		_, err := sheet.SetCell(d, d.Get(tunnel.ID), 0, line, "rhubarb")
		assert.ErrorContains(t, err, says)
	}
}
