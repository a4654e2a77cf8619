package passes_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/passes"
)

// fewestBySearch is the fewest rules that let pass exactly some points, by trying all sets of boxes, the smallest
// first: written without a thought for speed.
func fewestBySearch(points [][3]int) int {
	is := map[[3]int]int{}
	for n, p := range points {
		is[p] = n
	}
	var boxes []uint32
	for sides := range 1 << 9 { // three values a side
		box, whole := uint32(0), true
		for x := range 3 {
			for y := range 3 {
				for z := range 3 {
					if sides&(1<<x) == 0 || sides&(1<<(3+y)) == 0 || sides&(1<<(6+z)) == 0 {
						continue
					}
					n, ok := is[[3]int{x, y, z}]
					whole = whole && ok
					box |= 1 << n
				}
			}
		}
		if whole && box != 0 {
			boxes = append(boxes, box)
		}
	}
	all := uint32(1)<<len(points) - 1
	reached := map[uint32]bool{0: true}
	for count := 1; ; count++ {
		next := map[uint32]bool{}
		for have := range reached {
			for _, b := range boxes {
				next[have|b] = true
			}
		}
		if next[all] {
			return count
		}
		reached = next
	}
}

func TestRulesAreTheFewestThatLetExactlyThatPass(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 22))
		var needs []passes.Need
		var points [][3]int
		for x := range 3 {
			for y := range 3 {
				for z := range 3 {
					if len(points) < 12 && r.IntN(100) < 35 {
						points = append(points, [3]int{x, y, z})
						needs = append(needs, passes.Need{
							From:    netip.MustParsePrefix(fmt.Sprintf("10.212.%d.0/24", 2*x)),
							To:      netip.MustParsePrefix(fmt.Sprintf("10.213.%d.0/24", 2*y)),
							Traffic: design.Traffic{Proto: "tcp", First: uint16(501 + z), Last: uint16(501 + z)},
							Intent:  design.ID(fmt.Sprintf("i%d", len(points))),
						})
					}
				}
			}
		}
		if len(points) == 0 {
			continue
		}
		rules := passes.Least(needs, "")
		assert.Len(t, rules, fewestBySearch(points), "seed %d: %v", seed, points)
		got := map[[3]int]bool{}
		for _, rule := range rules {
			for x := range 3 {
				for y := range 3 {
					for _, s := range rule.Services {
						from := netip.MustParseAddr(fmt.Sprintf("10.212.%d.9", 2*x))
						to := netip.MustParseAddr(fmt.Sprintf("10.213.%d.9", 2*y))
						if has(rule.From, from) && has(rule.To, to) {
							got[[3]int{x, y, int(s.First) - 501}] = true
						}
					}
				}
			}
		}
		require.Len(t, got, len(points), "seed %d", seed)
		for _, p := range points {
			require.True(t, got[p], "seed %d: %v", seed, p)
		}
	}
}

func has(ps []netip.Prefix, a netip.Addr) bool {
	for _, p := range ps {
		if p.Contains(a) {
			return true
		}
	}
	return false
}
