package overlap

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"dravin/core/design"
	"dravin/core/prefix"
)

// The sweep must come to the same weight as looking at every pair.
func TestWeighingAgainstEveryPair(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		domains := map[design.ID]int{"p": 1, "q": 1, "r": 2, "s": 2, "t": 0}
		g := Group{}
		for range rapid.IntRange(2, 9).Draw(t, "n") {
			c := Claim{
				Party:   rapid.SampledFrom([]design.ID{"p", "q", "r", "s", "t", ""}).Draw(t, "party"),
				Segment: rapid.SampledFrom([]design.ID{"", "", "x", "y"}).Draw(t, "segment"),
				Prefix: netip.PrefixFrom(
					netip.AddrFrom4([4]byte{10, 0, 0, rapid.Byte().Draw(t, "a")}),
					rapid.IntRange(24, 30).Draw(t, "bits"),
				).Masked(),
			}
			if rapid.IntRange(0, 3).Draw(t, "mapped") == 0 {
				c.Mapped = []netip.Prefix{netip.MustParsePrefix("10.210.0.0/24")}
			}
			g.Claims = append(g.Claims, c)
		}
		slices.SortStableFunc(g.Claims, func(a, b Claim) int { return prefix.Compare(a.Prefix, b.Prefix) })
		var meet, unanswered, different, could bool
		for i, a := range g.Claims {
			for _, b := range g.Claims[i+1:] {
				different = different || a.Party != b.Party
				if a.Party == b.Party || !a.Prefix.Overlaps(b.Prefix) {
					continue
				}
				da, db := domains[a.Party], domains[b.Party]
				divided := a.Segment != b.Segment && a.Segment != "" && b.Segment != ""
				could = could || a.Party == "" || b.Party == "" || !divided
				if a.Party != "" && b.Party != "" &&
					(da == 0 || da != db || a.Segment != b.Segment && a.Segment != "" && b.Segment != "") {
					continue
				}
				meet = true
				unanswered = unanswered || len(a.Mapped) == 0 && len(b.Mapped) == 0
			}
		}
		want := Within
		switch {
		case unanswered:
			want = Joined
		case meet:
			want = Answered
		case could:
			want = Apart
		case different:
			want = Divided
		}
		g.weigh(estate{domains: domains})
		assert.Equal(t, want, g.Weight)
	})
}

func TestSentences(t *testing.T) {
	claim := func(title, p string, fixed bool) Claim {
		return Claim{Title: title, Prefix: netip.MustParsePrefix(p), Fixed: fixed}
	}
	for _, c := range []struct {
		a, b Claim
		want string
	}{
		{
			claim("Marrow Hill offices", "10.214.0.0/22", false), claim("Peatside offices", "10.214.2.0/23", false),
			"Peatside offices 10.214.2.0/23 lies inside Marrow Hill offices 10.214.0.0/22",
		},
		{
			claim("A store", "10.220.0.0/24", false), claim("B house", "10.220.0.0/24", true),
			"B house 10.220.0.0/24 is the same range as A store 10.220.0.0/24",
		},
		{
			claim("A six", "2001:db8::/48", false), claim("B six", "2001:db8:0:1::/64", false),
			"B six 2001:db8:0:1::/64 lies inside A six 2001:db8::/48",
		},
	} {
		assert.Equal(t, c.want, Sentence(c.a, c.b))
	}
}
