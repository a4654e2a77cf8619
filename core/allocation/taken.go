package allocation

import (
	"net/netip"

	"dravin/core/prefix"
)

// Taken are ranges that are taken, each as often as it was added: whether another
// overlaps one of them is told by as many look-ups as an address has bits.
type Taken struct {
	held   map[netip.Prefix]int
	above  map[netip.Prefix]int    // of a range: in how many of its halves some are taken
	passed map[search]netip.Prefix // up to where all is taken
}

type search struct{ whole, from netip.Prefix }

// NewTaken holds the ranges of a list.
func NewTaken(list ...netip.Prefix) *Taken {
	t := &Taken{map[netip.Prefix]int{}, map[netip.Prefix]int{}, map[search]netip.Prefix{}}
	for _, p := range list {
		t.Add(p)
	}
	return t
}

// Add takes a range, once more if it is taken.
func (t *Taken) Add(p netip.Prefix) {
	p = p.Masked()
	was := t.any(p)
	t.held[p]++
	for ; !was && p.Bits() > 0; p = wider(p) { // a range that holds some already is counted
		up := wider(p)
		was = t.any(up)
		t.above[up]++
	}
}

// Remove gives back a range that was added.
func (t *Taken) Remove(p netip.Prefix) {
	p = p.Masked()
	if t.held[p]--; t.held[p] > 0 {
		return
	}
	delete(t.held, p)
	for key, at := range t.passed { // the search goes on from what is free again
		if key.whole.Overlaps(p) && p.Addr().Less(at.Addr()) {
			t.passed[key] = netip.PrefixFrom(p.Addr(), at.Bits()).Masked()
			if !key.from.Addr().Less(p.Addr()) {
				delete(t.passed, key)
			}
		}
	}
	for ; !t.any(p) && p.Bits() > 0; p = wider(p) {
		up := wider(p)
		if t.above[up]--; t.above[up] == 0 {
			delete(t.above, up)
		}
	}
}

// any reports whether a range or one in it is taken.
func (t *Taken) any(p netip.Prefix) bool { return t.held[p] > 0 || t.above[p] > 0 }

func wider(p netip.Prefix) netip.Prefix { return netip.PrefixFrom(p.Addr(), p.Bits()-1).Masked() }

// by is a range that p overlaps: one that holds it, or p itself where it holds one.
func (t *Taken) by(p netip.Prefix) (netip.Prefix, bool) {
	for bits := 0; bits <= p.Bits(); bits++ {
		if up := netip.PrefixFrom(p.Addr(), bits).Masked(); t.held[up] > 0 {
			return up, true
		}
	}
	return p, t.above[p] > 0
}

// FirstFree is the first range inside a whole, from one of its size on, that overlaps
// nothing that is taken.
func (t *Taken) FirstFree(whole, from netip.Prefix) (netip.Prefix, bool) {
	key := search{whole, from.Masked()}
	at, known := t.passed[key]
	if !known {
		at = key.from
	}
	for whole.Contains(at.Addr()) {
		if at != key.from {
			t.passed[key] = at
		}
		clash, found := t.by(at)
		if !found {
			return at, true
		}
		end := prefix.Last(clash)
		if prefix.Last(at).Compare(end) > 0 {
			end = prefix.Last(at)
		}
		next := end.Next()
		if !next.IsValid() {
			break
		}
		at = netip.PrefixFrom(next, from.Bits())
	}
	return netip.Prefix{}, false
}

// NextLike is the first free range of a range's size behind it, as near as can be.
func (t *Taken) NextLike(p netip.Prefix) (netip.Prefix, bool) {
	_, odd := prefix.Reserved(p)
	for _, wide := range []int{48, 32, 16, 12, 8} {
		if wide > p.Bits() || p.Addr().Is4() && wide > 16 {
			continue
		}
		whole := netip.PrefixFrom(p.Addr(), wide).Masked()
		best, ok := netip.Prefix{}, false
		if behind := prefix.Last(p).Next(); behind.IsValid() {
			best, ok = t.FirstFree(whole, netip.PrefixFrom(behind, p.Bits()))
		}
		if !ok {
			best, ok = t.FirstFree(whole, netip.PrefixFrom(whole.Addr(), p.Bits()))
		}
		if _, reserved := prefix.Reserved(best); ok && (odd || !reserved) {
			return best, true
		}
	}
	return netip.Prefix{}, false
}
