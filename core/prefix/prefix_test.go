package prefix

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func must(list ...string) []netip.Prefix {
	out := make([]netip.Prefix, len(list))
	for n, s := range list {
		out[n] = netip.MustParsePrefix(s)
	}
	return out
}

// crowded draws prefixes of one family from a small space, so that they overlap often.
func crowded(t *rapid.T, label string) netip.Prefix {
	if rapid.Bool().Draw(t, label+" v4") {
		a := netip.AddrFrom4([4]byte{10, 0, rapid.Byte().Draw(t, label), rapid.Byte().Draw(t, label)})
		return netip.PrefixFrom(a, rapid.IntRange(14, 32).Draw(t, label+" bits")).Masked()
	}
	b := netip.MustParseAddr("2001:db8::").As16()
	b[15], b[14] = rapid.Byte().Draw(t, label), rapid.Byte().Draw(t, label)
	return netip.PrefixFrom(netip.AddrFrom16(b), rapid.IntRange(110, 128).Draw(t, label+" bits")).Masked()
}

func TestParse(t *testing.T) {
	for _, c := range []struct{ text, want, err string }{
		{"10.214.0.0/22", "10.214.0.0/22", ""},
		{" 2001:db8::/48 ", "2001:db8::/48", ""},
		{"10.214.1.0/22", "", `"10.214.1.0/22" has host bits set; the /22 that holds it is 10.214.0.0/22`},
		{"10.214.1.1", "", `"10.214.1.1" has no prefix length; for the single address write 10.214.1.1/32`},
		{"", "", "is empty"},
		{"10.0.0.0/33", "", "is not a prefix"},
		{"::ffff:10.0.0.0/104", "", "is an IPv4-mapped IPv6 prefix"},
		{"tulips", "", "is not a prefix"},
		{strings.Repeat("tulips", 50_000), "", "tulipstu…\" is not a prefix"},
	} {
		p, err := Parse(c.text)
		if c.err != "" {
			require.ErrorContains(t, err, c.err)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, c.want, p.String())
	}
}

// The obvious, quadratic way.
func TestPairsAndClumpsAgainstReference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(0, 40).Draw(t, "n")
		ps := make([]netip.Prefix, n)
		for i := range ps {
			ps[i] = crowded(t, "p")
		}
		parties := make([]uint32, n)
		for i := range parties {
			parties[i] = rapid.Uint32Range(0, 3).Draw(t, "party")
		}
		type pair [2]int
		want, got := map[pair]bool{}, map[pair]bool{}
		root := make([]int, n)
		for i := range root {
			root[i] = i
		}
		for i := range ps {
			for j := i + 1; j < n; j++ {
				if !ps[i].Overlaps(ps[j]) {
					continue
				}
				want[pair{i, j}] = true
				from, to := root[j], root[i]
				for k := range root {
					if root[k] == from {
						root[k] = to
					}
				}
			}
		}
		for i, j := range Pairs(ps) {
			assert.True(t, Contains(ps[i], ps[j]))
			p := pair{min(i, j), max(i, j)}
			assert.False(t, got[p], "pair given twice")
			got[p] = true
		}
		assert.Equal(t, want, got)

		different := uint64(0)
		for p := range want {
			if parties[p[0]] != parties[p[1]] {
				different++
			}
		}
		assert.Equal(t, uint64(len(want)), Count(ps, nil))
		assert.Equal(t, different, Count(ps, parties))

		inClump := map[int]bool{}
		for _, component := range Components(ps) {
			require.Greater(t, len(component), 1)
			for _, i := range component {
				assert.Equal(t, root[component[0]], root[i])
				assert.True(t, Contains(ps[component[0]], ps[i]), "the first contains the others")
				inClump[i] = true
			}
		}
		for p := range want {
			assert.True(t, inClump[p[0]] && inClump[p[1]])
		}
	})
}

func TestFreeIsExactlyTheRest(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		within := []netip.Prefix{crowded(t, "within")}
		var used []netip.Prefix
		for range rapid.IntRange(0, 12).Draw(t, "n") {
			used = append(used, crowded(t, "used"))
		}
		free := Free(within, used)
		assert.True(t, slices.IsSortedFunc(free, Compare))
		inAny := func(ps []netip.Prefix, a netip.Addr) bool {
			return slices.ContainsFunc(ps, func(p netip.Prefix) bool { return p.Contains(a) })
		}
		probes := []netip.Addr{}
		for _, p := range append(append(slices.Clone(within), used...), free...) {
			probes = append(probes, p.Addr(), Last(p), p.Addr().Prev(), Last(p).Next())
		}
		for _, a := range probes {
			if a.IsValid() {
				assert.Equal(t, inAny(within, a) && !inAny(used, a), inAny(free, a), "%s", a)
			}
		}
		// The fewest prefixes: no two are the halves of one.
		for n := 1; n < len(free); n++ {
			low, high, _ := Halves(netip.PrefixFrom(free[n-1].Addr(), max(0, free[n-1].Bits()-1)).Masked())
			assert.False(t, low == free[n-1] && high == free[n])
		}
	})
}

func TestCarveTakesTheSmallestBlockThatFits(t *testing.T) {
	used := must("10.220.0.0/25", "10.220.1.0/26", "10.220.2.0/24")
	p, ok := Carve(must("10.220.0.0/16"), used, 26)
	require.True(t, ok)
	assert.Equal(t, "10.220.1.64/26", p.String())
	p, ok = Carve(must("10.220.0.0/16"), used, 24)
	require.True(t, ok)
	assert.Equal(t, "10.220.3.0/24", p.String())
	_, ok = Carve(must("10.220.0.0/24"), used, 24)
	assert.False(t, ok)
}

func TestTranslateKeepsHostBitsBothWays(t *testing.T) {
	assert.Equal(
		t, "10.223.0.17",
		Translate(
			netip.MustParseAddr("192.168.216.17"), must("192.168.216.0/24")[0], must("10.223.0.0/24")[0],
		).String(),
	)
	assert.False(
		t,
		Translate(
			netip.MustParseAddr("192.168.217.17"), must("192.168.216.0/24")[0], must("10.223.0.0/24")[0],
		).IsValid(),
	)
	rapid.Check(t, func(t *rapid.T) {
		from, to := crowded(t, "from"), crowded(t, "to")
		if from.Addr().BitLen() != to.Addr().BitLen() {
			return
		}
		to = netip.PrefixFrom(to.Addr(), from.Bits()).Masked()
		for _, a := range []netip.Addr{from.Addr(), Last(from), FirstHost(from)} {
			there := Translate(a, from, to)
			assert.True(t, to.Contains(there))
			assert.Equal(t, a, Translate(there, to, from))
		}
	})
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"10.0.0.0/8", "10.220.0.1/8", "::/0", "1.2.3.4", "/", "fe80::1%x/64"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if p, err := Parse(s); err == nil {
			assert.Equal(t, p.Masked(), p)
			again, err := Parse(p.String())
			require.NoError(t, err)
			assert.Equal(t, p, again)
		}
	})
}

func TestSortKeysAgainstTheLibrary(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.SampledFrom([]int{0, 1, 20, 200, 9_000, 40_000}).Draw(t, "n")
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 0))
		shift := rapid.IntRange(0, 60).Draw(t, "shift") // skewed and crowded as well as spread out
		keys := make([]uint64, n)
		for i := range keys {
			keys[i] = r.Uint64() >> shift << labelBits
			if i > 0 && r.IntN(4) == 0 {
				keys[i] = keys[r.IntN(i)]
			}
		}
		want := slices.Sorted(slices.Values(keys))
		sortKeys(keys, make([]uint64, n), labelBits)
		assert.True(t, slices.Equal(want, keys))
	})
}

func TestSpaceFindsOnlyFreePlacesAndTheBestFirst(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		within := crowded(t, "within")
		var used []netip.Prefix
		for range rapid.IntRange(0, 12).Draw(t, "n") {
			used = append(used, crowded(t, "used"))
		}
		s := NewSpace([]netip.Prefix{within}, used)
		bits := rapid.IntRange(within.Bits(), within.Addr().BitLen()).Draw(t, "bits")
		fits := s.Fits(within, bits, 5)
		carved, ok := Carve([]netip.Prefix{within}, used, bits)
		assert.Equal(t, ok, len(fits) > 0)
		if ok {
			assert.Equal(t, carved, fits[0].Prefix)
			assert.LessOrEqual(t, s.Roomy(within, bits, 1)[0].Block.Bits(), fits[0].Block.Bits())
		}
		for n, c := range fits {
			assert.True(t, Contains(c.Block, c.Prefix) && Contains(within, c.Block))
			assert.False(t, slices.ContainsFunc(used, c.Block.Overlaps))
			assert.True(t, n == 0 || fits[n-1].Block.Bits() >= c.Block.Bits())
		}
		half, _, ok := Halves(within)
		if ok && half.Bits() <= bits {
			for _, c := range s.Fits(half, bits, 5) {
				assert.True(t, Contains(half, c.Prefix), "only inside what is allowed")
			}
		}
	})
}

func TestSummaries(t *testing.T) {
	assert.Equal(
		t, must("10.220.0.0/22"),
		Summarise(must("10.220.3.0/24", "10.220.0.0/24", "10.220.1.0/24", "10.220.2.0/24", "10.220.2.0/25")),
	)
	assert.Equal(t, must("10.220.1.0/24", "10.220.2.0/24"), Summarise(must("10.220.1.0/24", "10.220.2.0/24")))
	gap := must("10.220.0.0/24", "10.220.1.0/24", "10.220.3.0/24")
	assert.Equal(t, must("10.220.0.0/22"), SummariseTo(gap, 8))
	assert.Equal(t, must("10.220.0.0/23", "10.220.3.0/24"), SummariseTo(gap, 7))
	rapid.Check(t, func(t *rapid.T) {
		var ps []netip.Prefix
		for range rapid.IntRange(0, 12).Draw(t, "n") {
			ps = append(ps, crowded(t, "p"))
		}
		exact := Summarise(ps)
		assert.Empty(t, Free(exact, ps), "nothing more")
		assert.Empty(t, Free(ps, exact), "nothing less")
		holes := rapid.IntRange(-1, 12).Draw(t, "holes")
		loose := SummariseTo(ps, holes)
		assert.Empty(t, Free(ps, loose))
		assert.LessOrEqual(t, len(loose), len(exact))
		for _, p := range loose {
			assert.LessOrEqual(t, missing(p, ps), max(holes, -1))
		}
	})
}

func TestSetAlgebraAndContainment(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := func(label string) (out []netip.Prefix) {
			for range rapid.IntRange(0, 10).Draw(t, label) {
				out = append(out, crowded(t, label))
			}
			return out
		}
		a, b := draw("a"), draw("b")
		both := Intersect(a, b)
		assert.Equal(t, Union(a, b), Union(Union(Free(a, b), both), Free(b, a)), "the three parts make the whole")
		assert.Equal(t, Intersect(b, a), both)
		assert.Empty(t, Intersect(Free(a, b), b))
		x, p := NewIndex(a), crowded(t, "p")
		var inside, containing []int
		for n, o := range a {
			if Contains(p, o) {
				inside = append(inside, n)
			}
			if Contains(o, p) {
				containing = append(containing, n)
			}
		}
		assert.ElementsMatch(t, inside, x.Inside(p))
		assert.ElementsMatch(t, containing, x.Containing(p))
	})
}
