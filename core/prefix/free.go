package prefix

import (
	"net/netip"
	"slices"
)

// Minimal returns the prefixes of ps that no other prefix of ps contains,
// sorted by [Compare], each once. ps is not changed.
func Minimal(ps []netip.Prefix) []netip.Prefix {
	out := slices.Clone(ps)
	slices.SortFunc(out, Compare)
	n := 0
	for _, p := range out {
		if n > 0 && Contains(out[n-1], p) {
			continue
		}
		out[n] = p
		n++
	}
	return out[:n]
}

// Same reports whether two lists of ranges hold the same addresses.
func Same(a, b []netip.Prefix) bool { return slices.Equal(Minimal(a), Minimal(b)) }

// Free returns what is left of within when everything in used is taken away:
// the fewest prefixes that cover it, sorted by [Compare].
func Free(within, used []netip.Prefix) []netip.Prefix {
	var out []netip.Prefix
	taken := Minimal(used)
	for _, w := range Minimal(within) {
		out = subtract(out, w, taken)
	}
	return out
}

// subtract appends to out the parts of p outside taken, which is sorted and
// disjoint.
func subtract(out []netip.Prefix, p netip.Prefix, taken []netip.Prefix) []netip.Prefix {
	lo, _ := slices.BinarySearchFunc(taken, p, Compare)
	if lo > 0 && Contains(taken[lo-1], p) {
		return out
	}
	last := Last(p)
	hi := lo
	for hi < len(taken) && taken[hi].Addr().BitLen() == last.BitLen() && taken[hi].Addr().Compare(last) <= 0 {
		hi++
	}
	switch {
	case lo == hi:
		return append(out, p)
	case Contains(taken[lo], p):
		return out
	}
	low, high, _ := Halves(p) // a single address is either taken or free
	return subtract(subtract(out, low, taken[lo:hi]), high, taken[lo:hi])
}

// Carve finds a free prefix of the given length inside within and outside
// used. It takes it from the smallest free block that is large enough, the
// lowest of these, so that large blocks stay whole. ok is false if there is
// none.
func Carve(within, used []netip.Prefix, bits int) (p netip.Prefix, ok bool) {
	best := -1
	for _, f := range Free(within, used) {
		if f.Bits() <= bits && bits <= f.Addr().BitLen() && f.Bits() > best {
			best, p, ok = f.Bits(), netip.PrefixFrom(f.Addr(), bits), true
		}
	}
	return p, ok
}
