package prefix

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// What covers a prefix is what a look at every prefix that was added finds: the longest first, in the order of adding
// within one. A copy shares what it holds.
func TestTablesFindWhatCovers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var table Table[int]
		var ps []netip.Prefix
		for n := range rapid.IntRange(0, 40).Draw(t, "prefixes") {
			p := crowded(t, "added")
			table.Add(p, n)
			ps = append(ps, p)
		}
		copied := table
		for range 4 {
			asked := crowded(t, "asked")
			var want, got []int
			for n, p := range ps {
				if Contains(p, asked) {
					want = append(want, n)
				}
			}
			slices.SortStableFunc(want, func(a, b int) int { return ps[b].Bits() - ps[a].Bits() })
			table.Covering(asked, func(n int) { got = append(got, n) })
			assert.Equal(t, want, got, "%s among %v", asked, ps)
			assert.Equal(t, table.Matches(asked.Addr()), copied.Matches(asked.Addr()))
			if len(ps) > 0 {
				copied.Add(asked, len(ps))
				ps = append(ps, asked)
			}
		}
	})
}
