package prefix

import (
	"net/netip"

	"github.com/gaissmai/bart"
)

// Table finds values by longest match. The zero Table is empty and ready; copies of one that
// holds something share what it holds.
type Table[V any] struct{ trie *bart.Table[[]V] }

// Add puts v at p, behind what is there already.
func (t *Table[V]) Add(p netip.Prefix, v V) {
	if t.trie == nil {
		t.trie = &bart.Table[[]V]{}
	}
	t.trie.Modify(p, func(had []V, _ bool) ([]V, bool) { return append(had, v), false })
}

// Matches returns the values of all prefixes that contain a, longest prefix
// first, in the order of adding within one prefix.
func (t *Table[V]) Matches(a netip.Addr) (out []V) {
	t.Covering(Alone(a), func(v V) { out = append(out, v) })
	return out
}

// Covering calls f with the values of all prefixes that contain p, the longest
// first.
func (t *Table[V]) Covering(p netip.Prefix, f func(V)) {
	if t.trie == nil {
		return
	}
	for _, list := range t.trie.Supernets(p) {
		for _, v := range list {
			f(v)
		}
	}
}

// Alone is the prefix that holds one address.
func Alone(a netip.Addr) netip.Prefix { return netip.PrefixFrom(a, a.BitLen()) }

func family(a netip.Addr) int {
	if a.Is4() {
		return 0
	}
	return 1
}
