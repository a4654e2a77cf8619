package prefix

import (
	"net/netip"
)

// Table finds values by longest match. The zero Table is empty and ready.
type Table[V any] struct {
	byLength map[netip.Prefix][]V
	lengths  [2][129]bool // per family: the lengths that occur
}

// Add puts v at p, behind what is there already.
func (t *Table[V]) Add(p netip.Prefix, v V) {
	if t.byLength == nil {
		t.byLength = map[netip.Prefix][]V{}
	}
	t.byLength[p] = append(t.byLength[p], v)
	t.lengths[family(p.Addr())][p.Bits()] = true
}

// Matches returns the values of all prefixes that contain a, longest prefix
// first, in the order of adding within one prefix.
func (t *Table[V]) Matches(a netip.Addr) []V {
	var out []V
	for bits := a.BitLen(); bits >= 0; bits-- {
		if !t.lengths[family(a)][bits] {
			continue
		}
		p, err := a.Prefix(bits)
		if err != nil {
			continue
		}
		out = append(out, t.byLength[p]...)
	}
	return out
}

// Covering calls f with the values of all prefixes that contain p, the longest
// first.
func (t *Table[V]) Covering(p netip.Prefix, f func(V)) {
	lengths := &t.lengths[family(p.Addr())]
	for bits := p.Bits(); bits >= 0; bits-- {
		if !lengths[bits] {
			continue
		}
		q, err := p.Addr().Prefix(bits)
		if err != nil {
			continue
		}
		for _, v := range t.byLength[q] {
			f(v)
		}
	}
}

func family(a netip.Addr) int {
	if a.Is4() {
		return 0
	}
	return 1
}
