package prefix

import (
	"net/netip"
	"slices"

	"go4.org/netipx"
)

// Union is what any of the prefixes covers: [Summarise] of all of them.
func Union(a, b []netip.Prefix) []netip.Prefix {
	return Summarise(append(slices.Clone(a), b...))
}

// Intersect is what both a and b cover, as the fewest prefixes. What a covers
// and b does not is [Free](a, b).
func Intersect(a, b []netip.Prefix) []netip.Prefix {
	var x, y netipx.IPSetBuilder
	for _, p := range a {
		x.AddPrefix(p)
	}
	for _, p := range b {
		y.AddPrefix(p)
	}
	both, err := y.IPSet()
	if err != nil {
		return nil
	}
	x.Intersect(both)
	return built(&x)
}

// Index answers which of many prefixes contain a prefix or lie in it.
type Index struct {
	ps    []netip.Prefix
	order []uint32 // sorted
	up    []int32  // for each place in order, the place of the nearest container, or -1
}

// NewIndex builds an index over ps, at most [MaxPrefixes], which must not be
// changed while it is used.
func NewIndex(ps []netip.Prefix) *Index {
	x := &Index{ps: ps, order: sorted(ps), up: make([]int32, len(ps))}
	open := int32(-1)
	for at, n := range x.order {
		for open >= 0 && !Contains(ps[x.order[open]], ps[n]) {
			open = x.up[open]
		}
		x.up[at] = open
		open = int32(at)
	}
	return x
}

// at is the first place in order whose prefix is not before p.
func (x *Index) at(p netip.Prefix) int {
	n, _ := slices.BinarySearchFunc(x.order, p, func(n uint32, p netip.Prefix) int { return Compare(x.ps[n], p) })
	return n
}

// Inside lists the prefixes that lie in p or equal it, as indexes, sorted by
// [Compare].
func (x *Index) Inside(p netip.Prefix) []int {
	var out []int
	for _, n := range x.order[x.at(p):] {
		if !Contains(p, x.ps[n]) {
			break
		}
		out = append(out, int(n))
	}
	return out
}

// Containing lists the prefixes that contain p or equal it, as indexes, the
// longest first.
func (x *Index) Containing(p netip.Prefix) []int {
	at := x.at(p)
	for at < len(x.order) && x.ps[x.order[at]] == p {
		at++
	}
	var out []int
	for n := int32(at) - 1; n >= 0; n = x.up[n] {
		if Contains(x.ps[x.order[n]], p) {
			out = append(out, int(x.order[n]))
		}
	}
	return out
}
