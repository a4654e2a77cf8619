package allocation_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dravin/core/allocation"
)

// What is free is told as if every range were held against every other, whatever was
// taken and given back in between.
func TestWhatIsFreeIsSo(t *testing.T) {
	within := netip.MustParsePrefix("10.208.0.0/20")
	ranges := rapid.Custom(func(t *rapid.T) netip.Prefix {
		at := rapid.IntRange(0, 4095).Draw(t, "at")
		return netip.PrefixFrom(
			netip.AddrFrom4([4]byte{10, 208, byte(at >> 8), byte(at)}), rapid.IntRange(19, 30).Draw(t, "bits"),
		).Masked()
	})
	rapid.Check(t, func(t *rapid.T) {
		taken, list := allocation.NewTaken(), []netip.Prefix{}
		for range rapid.IntRange(1, 30).Draw(t, "steps") {
			if n := len(list); n > 0 && rapid.Bool().Draw(t, "back") {
				n = rapid.IntRange(0, n-1).Draw(t, "which")
				taken.Remove(list[n])
				list = slices.Delete(list, n, n+1)
			} else {
				p := ranges.Draw(t, "range")
				taken.Add(p)
				list = append(list, p)
			}
			from := ranges.Draw(t, "from")
			want := netip.Prefix{}
			for a := from.Addr(); within.Contains(a) && !want.IsValid(); a = a.Next() {
				p := netip.PrefixFrom(a, from.Bits())
				if p == p.Masked() && !slices.ContainsFunc(list, p.Overlaps) {
					want = p
				}
			}
			got, _ := taken.FirstFree(within, from)
			require.Equal(t, want, got, "from %s beside %v", from, list)
		}
	})
}
