package defaults

import (
	"cmp"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
)

// around is which ranges are around: those of a kind and family, in one place or
// anywhere.
type around struct {
	kind   design.Kind
	four   bool
	parent design.ID // empty: anywhere
}

// ranges are some ranges that come and go: how many of which length, and where.
type ranges struct {
	count int
	sizes map[int]int
	in    map[netip.Prefix]int // how many of at most the same size lie in a wide range
	all   map[netip.Prefix]int
	last  map[netip.Prefix]netip.Addr // by what was asked for; forgotten when a range goes
}

// wides are the lengths of what is near.
var wides = []int{16, 12, 8}

// rangesAround are those in the same place, or else anywhere.
func (f *Filler) rangesAround(w Wanted) *ranges {
	key := around{w.Kind, !w.Within.IsValid() || w.Within.Addr().Is4(), w.Parent}
	if beside := f.rangesOf(key); w.Parent != "" && beside.count > 0 {
		return beside
	}
	key.parent = ""
	return f.rangesOf(key)
}

func (f *Filler) rangesOf(key around) *ranges {
	if r := f.around[key]; r != nil {
		return r
	}
	r := &ranges{
		sizes: map[int]int{}, in: map[netip.Prefix]int{}, all: map[netip.Prefix]int{},
		last: map[netip.Prefix]netip.Addr{},
	}
	f.around[key] = r
	list := f.design.Of(key.kind)
	if key.parent != "" {
		list = f.design.Inside(key.parent, key.kind)
	}
	for _, o := range list {
		for _, p := range design.RangesOf(o) {
			if p.Addr().Is4() == key.four {
				r.add(p, 1)
			}
		}
	}
	return r
}

// add counts a range, or lets it go.
func (r *ranges) add(p netip.Prefix, by int) {
	r.count += by
	r.sizes[p.Bits()] += by
	if r.all[p] += by; r.all[p] <= 0 {
		delete(r.all, p)
	}
	for _, near := range wides {
		if p.Bits() >= near {
			r.in[netip.PrefixFrom(p.Addr(), near).Masked()] += by
		}
	}
	for within, last := range r.last {
		switch end := prefix.Last(p); {
		case !within.Contains(end):
		case by < 0:
			delete(r.last, within)
		case !last.IsValid() || end.Compare(last) > 0:
			r.last[within] = end
		}
	}
}

// size is the length that most have, the longest of these.
func (r *ranges) size(otherwise int) int {
	best := 0
	for bits, n := range r.sizes {
		if n > 0 && (best == 0 || n > r.sizes[best] || n == r.sizes[best] && bits > best) {
			best = bits
		}
	}
	return cmp.Or(best, otherwise)
}

// wide are the private ranges of a length in which some are, first that with the most.
func (r *ranges) wide(bits int) []netip.Prefix {
	var out []netip.Prefix
	for p, n := range r.in {
		inPrivate := slices.ContainsFunc(private, func(q netip.Prefix) bool { return prefix.Contains(q, p) })
		if n > 0 && p.Bits() == bits && inPrivate {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, func(a, b netip.Prefix) int { return cmp.Or(r.in[b]-r.in[a], prefix.Compare(a, b)) })
	return out
}

// lastIn is the end of the last of them in a range, the zero Addr if there is none.
func (r *ranges) lastIn(within netip.Prefix) netip.Addr {
	last, known := r.last[within]
	if !known {
		for p := range r.all {
			if end := prefix.Last(p); within.Contains(end) && (!last.IsValid() || end.Compare(last) > 0) {
				last = end
			}
		}
		r.last[within] = last
	}
	return last
}
