package prefix

import (
	"net/netip"
	"slices"

	"go4.org/netipx"
)

// Space answers where there is room. It is built once of what is allowed and
// what is used, and then asked often.
type Space struct {
	free [2][129][]netip.Prefix // by family and length, each sorted by address
}

// NewSpace builds a space of what is left of within when used is taken away.
func NewSpace(within, used []netip.Prefix) *Space {
	s := &Space{}
	for _, f := range Free(within, used) {
		at := &s.free[family(f.Addr())][f.Bits()]
		*at = append(*at, f)
	}
	return s
}

// Candidate is a place for a prefix.
type Candidate struct {
	Prefix netip.Prefix `json:"prefix"`
	Block  netip.Prefix `json:"block"` // the whole free block that it begins
}

// Room is the number of neighbours of its own size that the block would still
// hold: how far the prefix could grow. It is capped at 1<<30.
func (c Candidate) Room() int { return 1<<min(c.Prefix.Bits()-c.Block.Bits(), 30) - 1 }

// Fits returns up to most places for a prefix of the given length inside the
// allowed range, best fit first: the smallest free blocks that are large
// enough, the lowest of these first, so that large blocks stay whole.
func (s *Space) Fits(allowed netip.Prefix, bits, most int) []Candidate {
	return s.fits(allowed, bits, most, func(n int) int { return bits - n })
}

// Roomy is as [Space.Fits], with the largest free blocks first: there the
// prefix can grow.
func (s *Space) Roomy(allowed netip.Prefix, bits, most int) []Candidate {
	return s.fits(allowed, bits, most, func(n int) int { return n })
}

func (s *Space) fits(allowed netip.Prefix, bits, most int, length func(int) int) []Candidate {
	out := []Candidate{}
	if bits < allowed.Bits() || bits > allowed.Addr().BitLen() {
		return out
	}
	for n := range bits + 1 {
		blocks := s.free[family(allowed.Addr())][length(n)]
		at, _ := slices.BinarySearchFunc(
			blocks, allowed.Addr(), func(p netip.Prefix, a netip.Addr) int { return Last(p).Compare(a) },
		)
		for _, b := range blocks[at:] {
			if len(out) == most || !b.Overlaps(allowed) {
				break
			}
			// The allowed range may be only a part of the block, or hold it.
			if b.Bits() < allowed.Bits() {
				b = allowed
			}
			if b.Bits() <= bits {
				out = append(out, Candidate{Prefix: netip.PrefixFrom(b.Addr(), bits), Block: b})
			}
		}
		if len(out) == most {
			break
		}
	}
	return out
}

// Summarise returns the fewest prefixes that cover exactly what ps cover,
// sorted by [Compare].
func Summarise(ps []netip.Prefix) []netip.Prefix {
	var b netipx.IPSetBuilder
	for _, p := range ps {
		b.AddPrefix(p)
	}
	return built(&b)
}

// built is what a builder holds. It can not fail: prefixes are checked where they come in.
func built(b *netipx.IPSetBuilder) []netip.Prefix {
	set, err := b.IPSet()
	if err != nil {
		return nil
	}
	return set.Prefixes()
}

// SummariseTo returns prefixes that cover ps, each of which holds at most holes
// addresses that ps do not, given as a power of two: with 8, at most 256. It
// joins neighbours upward as long as that holds.
func SummariseTo(ps []netip.Prefix, holes int) []netip.Prefix {
	exact := Summarise(ps)
	for {
		joined := join(exact, ps, holes)
		if len(joined) == len(exact) {
			return joined
		}
		exact = joined
	}
}

// join replaces neighbours by the shortest prefix that holds both, where that
// leaves few enough holes.
func join(list, ps []netip.Prefix, holes int) []netip.Prefix {
	var out []netip.Prefix
	for _, p := range list {
		if len(out) > 0 {
			if whole, ok := common(out[len(out)-1], p); ok && missing(whole, ps) <= holes {
				out[len(out)-1] = whole
				continue
			}
		}
		out = append(out, p)
	}
	return Summarise(out)
}

// common is the longest prefix that contains both; ok is false for two
// families.
func common(a, b netip.Prefix) (netip.Prefix, bool) {
	if a.Addr().BitLen() != b.Addr().BitLen() {
		return a, false
	}
	for bits := min(a.Bits(), b.Bits()); bits >= 0; bits-- {
		if p, err := a.Addr().Prefix(bits); err == nil && p.Contains(b.Addr()) {
			return p, true
		}
	}
	return a, false
}

// missing is the binary logarithm, rounded up, of how many addresses of whole
// are in none of ps; -1 for none.
func missing(whole netip.Prefix, ps []netip.Prefix) int {
	sizes := [129]int{} // how many free blocks of 1<<n addresses
	for _, f := range Free([]netip.Prefix{whole}, ps) {
		sizes[f.Addr().BitLen()-f.Bits()]++
	}
	// Add them up in binary: two of a size are one of the next.
	top, rest := -1, false
	for n := range 128 {
		sizes[n+1] += sizes[n] / 2
		if sizes[n]%2 == 1 {
			rest = rest || top >= 0
			top = n
		}
	}
	if rest {
		return top + 1
	}
	return top
}
