package link_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"dravin/core/design"
	"dravin/core/link"
	"dravin/core/negotiate"
)

// A session comes up exactly if no line of it differs, whatever the two ends
// are set to; and each mend ends its line.
func TestSessionLinesAndPredictionNeverContradict(t *testing.T) {
	d := thistledown(t)
	o := find(t, d, "saltmarsh-station-to-image-analysis/strand-1/session", design.KindSession)
	planned := o.Body.(*design.Session).Ends
	rapid.Check(t, func(rt *rapid.T) {
		s := design.Session{Ends: slices.Clone(planned)}
		for n := range s.Ends {
			e := &s.Ends[n]
			e.PeerASN = rapid.SampledFrom([]uint32{0, 0, planned[1-n].ASN, 64999}).Draw(rt, "peer ASN")
			e.Peer = rapid.SampledFrom([]netip.Addr{{}, {}, planned[1-n].Address, netip.MustParseAddr("169.254.199.9")}).Draw(rt, "peer")
			e.Password = rapid.Bool().Draw(rt, "password")
			e.Families = rapid.SampledFrom([][]string{nil, {"ipv4"}, {"ipv6"}, {"ipv4", "ipv6"}}).Draw(rt, "families")
			e.Hold = rapid.SampledFrom([]uint32{0, 3, 30, 240}).Draw(rt, "hold")
			e.MaxPrefixes = rapid.SampledFrom([]uint32{0, 1, 100}).Draw(rt, "most routes")
		}
		next, _, err := d.Apply([]design.Edit{design.PutEdit(o.With(&s))})
		if err != nil {
			rt.Fatal(err)
		}
		ends := link.SessionEndsOf(next, next.Get(o.ID))
		out := negotiate.AgreeSession(ends[0], ends[1])
		differing := link.Differing(link.SessionLines(next, next.Get(o.ID)))
		if out.Up != (len(differing) == 0) {
			rt.Fatalf("%s, and these lines differ: %v", out.Why, differing)
		}
		if out.Up && out.Hold != min(ends[0].Hold, ends[1].Hold) {
			rt.Fatalf("hold time %d of %d and %d", out.Hold, ends[0].Hold, ends[1].Hold)
		}
		for _, l := range differing {
			for _, m := range l.Mends {
				mended, _, err := next.Apply(m.Edits)
				if err != nil {
					rt.Fatal(err)
				}
				for _, after := range link.Differing(link.SessionLines(mended, mended.Get(o.ID))) {
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
	tunnel := find(t, d, "saltmarsh-station-to-image-analysis/strand-1", design.KindTunnel)
	first := d.Inside(tunnel.ID, design.KindSession)[0]
	d = apply(t, d, []design.Edit{design.PutEdit(&design.Object{ID: "six", Kind: design.KindSession, Parent: tunnel.ID, Name: "over IPv6", Body: first.Body})})
	seen := map[string]bool{}
	for _, l := range link.Lines(d, tunnel, [2]string{}) {
		assert.False(t, seen[l.Key], l.Key)
		seen[l.Key] = true
	}
	assert.True(t, seen["asn-1"] && seen["asn-1/2"])
}

// What is suggested names a value and a reason, and the reason is a sentence.
func TestSuggestionsSayWhy(t *testing.T) {
	d := thistledown(t)
	for _, pair := range [][2]string{{"dunmoss-arboretum", "sequencing"}, {"millrace", "ticketing"}, {"public-site", "visitor-hub"}, {"old-orangery", "marrow-hill"}} {
		for _, s := range shapes(t, d, pair[0], pair[1]) {
			for _, g := range s.Suggestions {
				assert.NotEmpty(t, g.What, s.Title)
				assert.NotEmpty(t, g.Value, s.Title)
				assert.Greater(t, len(strings.Fields(g.Why)), 3, "%s: %s", s.Title, g.What)
			}
		}
	}
	left := shapes(t, d, "old-orangery", "marrow-hill")["vpn-selectors-"]
	i := slices.IndexFunc(left.Suggestions, func(g link.Suggestion) bool { return g.What == "Left out" })
	if assert.GreaterOrEqual(t, i, 0) {
		assert.Equal(t, "192.168.216.0/24", left.Suggestions[i].Value, "the range that both hold goes into no selector")
	}
}
