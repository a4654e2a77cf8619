package prefix

import (
	"iter"
	"net/netip"
)

// Pairs streams every pair of overlapping prefixes in ps once, as indexes into
// ps with the containing (or equal, earlier sorted) one first. The work is a
// sort and then linear in the number of prefixes and pairs.
func Pairs(ps []netip.Prefix) iter.Seq2[int, int] {
	return func(yield func(int, int) bool) {
		for open, n := range nested(ps) {
			for _, o := range open {
				if !yield(o, n) {
					return
				}
			}
		}
	}
}

// Components returns the groups of prefixes that hang together by overlapping, as
// indexes into ps. A prefix that overlaps no other is in none. Each component
// begins with the prefix that contains all others; components are sorted by it.
func Components(ps []netip.Prefix) [][]int {
	var out [][]int
	var component []int
	for open, n := range nested(ps) {
		if len(open) == 0 {
			if len(component) > 1 {
				out = append(out, component)
			}
			component = nil
		}
		component = append(component, n)
	}
	if len(component) > 1 {
		out = append(out, component)
	}
	return out
}

// nested yields the index of each prefix in sorted order, with the indexes of
// those before it that contain it. The slice is only good until the next step.
func nested(ps []netip.Prefix) iter.Seq2[[]int, int] {
	return func(yield func([]int, int) bool) {
		var open []int
		for _, at := range sorted(ps) {
			n := int(at)
			for len(open) > 0 && !Contains(ps[open[len(open)-1]], ps[n]) {
				open = open[:len(open)-1]
			}
			if !yield(open, n) {
				return
			}
			open = append(open, n)
		}
	}
}
