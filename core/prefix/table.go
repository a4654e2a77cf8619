package prefix

import (
	"net/netip"

	"github.com/gaissmai/bart"
)

// Table finds values by longest match. The zero Table is empty and ready; copies of one that
// holds something share what it holds.
type Table[V any] struct{ held *held[V] }

type held[V any] struct {
	trie  numbers
	lists [][]V // by what the trie holds
}

// Add puts v at p, behind what is there already.
func (t *Table[V]) Add(p netip.Prefix, v V) {
	if t.held == nil {
		t.held = &held[V]{trie: newNumbers()}
	}
	h := t.held
	n := h.trie.at(p, len(h.lists))
	if n == len(h.lists) {
		h.lists = append(h.lists, nil)
	}
	h.lists[n] = append(h.lists[n], v)
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
	if t.held == nil {
		return
	}
	t.held.trie.covering(p, func(n int) {
		for _, v := range t.held.lists[n] {
			f(v)
		}
	})
}

// numbers finds numbers by longest match. It hides of what type the trie is: else every package that has a Table of
// anything compiles the whole trie for it again, which took more time than all the rest.
type numbers interface {
	// at is the number at p, which is next if there is none yet.
	at(p netip.Prefix, next int) int
	// covering calls f with the numbers of all prefixes that contain p, the longest first.
	covering(p netip.Prefix, f func(int))
}

type trie struct{ bart.Table[int] }

//go:noinline
func newNumbers() numbers { return &trie{} }

func (t *trie) at(p netip.Prefix, next int) (n int) {
	t.Modify(p, func(had int, there bool) (int, bool) {
		n = next
		if there {
			n = had
		}
		return n, false
	})
	return n
}

func (t *trie) covering(p netip.Prefix, f func(int)) {
	for _, n := range t.Supernets(p) {
		f(n)
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
