package draft

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/inuse"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/provider"
)

// books keep what is taken while many things are made one after the other, so that each
// costs what it takes itself: names, IDs, autonomous systems, ranges of one's own, mapped
// and inside ranges.
type books struct {
	d       *design.Design
	names   map[string]map[string]bool // by scope: slugs
	ids     map[design.ID]bool         // of what is made
	asns    map[uint32]bool
	asn     uint32 // none before it is free
	holding *taken
	mapping *taken
	inside  *taken
}

func newBooks(d *design.Design) *books {
	return &books{
		d: d, names: map[string]map[string]bool{}, ids: map[design.ID]bool{}, asns: usedASNs(d), asn: firstPrivateASN,
		holding: takenOf(inuse.ForHolding(d, nil, "")), mapping: takenOf(inuse.ForMapping(d)),
		inside: takenOf(inuse.ForInside(d)),
	}
}

// scope are the names beside which a new one must differ.
func (b *books) scope(k design.Kind, parent design.ID) map[string]bool {
	key := string(parent)
	if parent == "" && !slices.Contains(design.Parties, k) {
		key = string(k) + ":"
	}
	if b.names[key] == nil {
		b.names[key] = map[string]bool{}
		for _, o := range b.d.Inside(parent) {
			if parent != "" || o.Kind == k || slices.Contains(design.Parties, k) && slices.Contains(design.Parties, o.Kind) {
				b.names[key][design.Slug(o.Name)] = true
			}
		}
	}
	return b.names[key]
}

// free reports whether nothing beside it has a name.
func (b *books) free(k design.Kind, parent design.ID, name string) bool {
	return !b.scope(k, parent)[design.Slug(name)]
}

// name is a name like the one that is wanted that nothing beside it has; it is taken then.
func (b *books) name(k design.Kind, parent design.ID, want string) string {
	name := want
	for n := 2; !b.free(k, parent, name); n++ {
		name = fmt.Sprintf("%s %d", want, n)
	}
	b.scope(k, parent)[design.Slug(name)] = true
	return name
}

// id is a new ID for a thing of that name.
func (b *books) id(k design.Kind, parent design.ID, name string) design.ID {
	id := design.IDFor(k, string(parent)+"/"+name)
	for n := 2; b.ids[id] || b.d.Get(id) != nil; n++ {
		id = design.IDFor(k, fmt.Sprintf("%s/%s#%d", parent, name, n))
	}
	b.ids[id] = true
	return id
}

// nextASN is one that nobody has; it is taken then.
func (b *books) nextASN() (uint32, error) {
	n, err := freeASN(b.asns, b.asn)
	if err == nil {
		b.asns[n], b.asn = true, n+1
	}
	return n, err
}

// hold takes the next free range like one, for hosts or for mapped addresses.
func (b *books) hold(p netip.Prefix, mapped bool) (netip.Prefix, bool) {
	busy := []*taken{b.holding}
	if mapped {
		busy = append(busy, b.mapping)
	}
	next, ok := nextLike(p, busy...)
	if ok {
		b.holding.add(next)
		b.mapping.add(next)
		b.inside.add(next)
	}
	return next, ok
}

// insideRange takes a free inside range that both ends take.
func (b *books) insideRange(rules [2]*provider.Inside) (netip.Prefix, error) {
	rule, err := insideRule(rules[0], rules[1])
	if err != nil {
		return netip.Prefix{}, err
	}
	reserved := takenOf(rule.Reserved)
	for _, within := range rule.Within {
		if p, ok := firstFree(within, netip.PrefixFrom(within.Addr(), int(rule.Bits)), b.inside, reserved); ok {
			b.inside.add(p)
			b.holding.add(p)
			return p, nil
		}
	}
	return netip.Prefix{}, fmt.Errorf("no /%d is free in %s for inside addresses", rule.Bits, negotiate.Joined(rule.Within))
}

// taken is a set of ranges that are taken: whether another overlaps one of them is told
// by as many look-ups as an address has bits.
type taken struct {
	held   map[netip.Prefix]bool
	above  map[netip.Prefix]bool         // what holds one of them
	passed map[netip.Prefix]netip.Prefix // by a whole and a size: up to where all is taken
}

func takenOf(list []netip.Prefix) *taken {
	t := &taken{map[netip.Prefix]bool{}, map[netip.Prefix]bool{}, map[netip.Prefix]netip.Prefix{}}
	for _, p := range list {
		t.add(p)
	}
	return t
}

func (t *taken) add(p netip.Prefix) {
	p = p.Masked()
	if t.held[p] {
		return
	}
	t.held[p] = true
	for bits := p.Bits() - 1; bits >= 0; bits-- {
		up := netip.PrefixFrom(p.Addr(), bits).Masked()
		if t.above[up] {
			break // and so are all above it
		}
		t.above[up] = true
	}
}

// by is a range that p overlaps: one that holds it, or p itself where it holds one.
func (t *taken) by(p netip.Prefix) (netip.Prefix, bool) {
	for bits := 0; bits <= p.Bits(); bits++ {
		if up := netip.PrefixFrom(p.Addr(), bits).Masked(); t.held[up] {
			return up, true
		}
	}
	return p, t.above[p]
}

// firstFree is the first range inside a whole, from one of its size on, that overlaps
// nothing that is taken.
func firstFree(whole, from netip.Prefix, busy ...*taken) (netip.Prefix, bool) {
	key := netip.PrefixFrom(from.Masked().Addr(), from.Bits())
	at := key
	if last, ok := busy[0].passed[key]; ok && whole.Contains(last.Addr()) {
		at = last
	}
	for whole.Contains(at.Addr()) {
		clash, found := netip.Prefix{}, false
		for _, t := range busy {
			if clash, found = t.by(at); found {
				break
			}
		}
		if !found {
			busy[0].passed[key] = at
			return at, true
		}
		end := prefix.Last(clash)
		if prefix.Last(at).Compare(end) > 0 {
			end = prefix.Last(at)
		}
		next := end.Next()
		if !next.IsValid() {
			return netip.Prefix{}, false
		}
		at = netip.PrefixFrom(next, from.Bits())
	}
	return netip.Prefix{}, false
}

// nextLike is the first free range of a range's size behind it, as near as can be.
func nextLike(p netip.Prefix, busy ...*taken) (netip.Prefix, bool) {
	_, odd := prefix.Reserved(p)
	for _, wide := range []int{48, 32, 16, 12, 8} {
		if wide > p.Bits() || p.Addr().Is4() && wide > 16 {
			continue
		}
		whole := netip.PrefixFrom(p.Addr(), wide).Masked()
		best, ok := netip.Prefix{}, false
		if behind := prefix.Last(p).Next(); behind.IsValid() {
			best, ok = firstFree(whole, netip.PrefixFrom(behind, p.Bits()), busy...)
		}
		if !ok {
			best, ok = firstFree(whole, netip.PrefixFrom(whole.Addr(), p.Bits()), busy...)
		}
		if _, reserved := prefix.Reserved(best); ok && (odd || !reserved) {
			return best, true
		}
	}
	return netip.Prefix{}, false
}
