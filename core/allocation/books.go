package allocation

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
)

// Books keep what is taken in a design while many things are made one after the other, so
// that each costs what it takes itself: names, IDs, autonomous systems, ranges of one's
// own, mapped and inside ranges. What is taken is either told with every change of the
// design ([Books.Changed]), or taken here first and put into the design later.
type Books struct {
	design  *design.Design
	names   map[string]map[string][]design.ID // by scope and slug; "" is a name that is taken for later
	asns    map[uint32]int
	asn     uint32 // none before it is free
	holding *Taken
	mapping *Taken
	inside  *Taken
	later   later
}

// later is what was taken for what the design does not have yet.
type later struct {
	names  []func() // that give them back
	ids    map[design.ID]bool
	asns   []uint32
	ranges []netip.Prefix
}

// Design is whose books they are.
func (b *Books) Design() *design.Design { return b.design }

// NewBooks are those of a design. What is not asked for is not looked up.
func NewBooks(d *design.Design) *Books {
	return &Books{design: d, names: map[string]map[string][]design.ID{}}
}

// Changed enters that an object of the design has taken another's place; either may be
// nil.
func (b *Books) Changed(old, now *design.Object) {
	if old == nil || now == nil || old.Name != now.Name || old.Parent != now.Parent {
		b.renamed(old, now)
	}
	if now != nil && now.Kind == design.KindProfile || old != nil && old.Kind == design.KindProfile {
		b.asns = nil // what it gives out by default
	}
	if b.asns != nil {
		for _, n := range asnsOf(old) {
			b.asns[n]--
			b.asn = firstPrivateASN
		}
		for _, n := range asnsOf(now) {
			b.asns[n]++
		}
	}
	b.each(now, (*Taken).Add)
	b.each(old, (*Taken).Remove)
}

// Sketch changes the design whose books they are as edits say. It is that of the scratch.
func (b *Books) Sketch(s *design.Scratch, edits []design.Edit) {
	s.SketchEach(edits, b.Changed)
}

// each does with every range that an object takes, where it is counted.
func (b *Books) each(o *design.Object, do func(*Taken, netip.Prefix)) {
	if o == nil {
		return
	}
	takes(o, func(how How, p netip.Prefix) {
		if b.holding != nil && how != Named {
			do(b.holding, p)
		}
		if b.mapping != nil && (how == Held || how == Inside) {
			do(b.mapping, p)
		}
		if b.inside != nil && how != Named {
			do(b.inside, p)
		}
	})
}

func (b *Books) renamed(old, now *design.Object) {
	if old != nil {
		if slugs, known := b.names[scopeOf(old.Kind, old.Parent)]; known {
			slug := design.Slug(old.Name)
			slugs[slug] = slices.DeleteFunc(slugs[slug], func(id design.ID) bool { return id == old.ID })
		}
		delete(b.names, string(old.ID)) // what was inside is gone with it, or is told apart
	}
	if now != nil {
		if slugs, known := b.names[scopeOf(now.Kind, now.Parent)]; known {
			slug := design.Slug(now.Name)
			slugs[slug] = append(slugs[slug], now.ID)
		}
	}
}

// scopeOf is the key of those beside which a name must differ: all parties, all of a
// kind that stands in nothing, all in one place.
func scopeOf(k design.Kind, parent design.ID) string {
	if parent == "" && !slices.Contains(design.Parties, k) {
		return string(k) + ":"
	}
	return string(parent)
}

func (b *Books) scope(k design.Kind, parent design.ID) map[string][]design.ID {
	key := scopeOf(k, parent)
	if b.names[key] == nil {
		b.names[key] = map[string][]design.ID{}
		for _, o := range b.design.Inside(parent) {
			if scopeOf(o.Kind, parent) == key {
				slug := design.Slug(o.Name)
				b.names[key][slug] = append(b.names[key][slug], o.ID)
			}
		}
	}
	return b.names[key]
}

// Named are the objects of a kind with that name in a place, as names are compared there.
func (b *Books) Named(k design.Kind, parent design.ID, name string) []*design.Object {
	var out []*design.Object
	for _, id := range b.scope(k, parent)[design.Slug(name)] {
		if o := b.design.Get(id); o != nil && o.Kind == k {
			out = append(out, o)
		}
	}
	return out
}

// Free reports whether nothing beside it has a name.
func (b *Books) Free(k design.Kind, parent design.ID, name string) bool {
	return len(b.scope(k, parent)[design.Slug(name)]) == 0
}

// Beside is a name like the one that is wanted that nothing beside it has, and an ID for
// what is to have it. Neither is taken.
func (b *Books) Beside(k design.Kind, parent design.ID, want string) (name string, id design.ID) {
	name = want
	for n := 2; !b.Free(k, parent, name); n++ {
		name = fmt.Sprintf("%s %d", want, n)
	}
	id = design.IDFor(k, string(parent)+"/"+name)
	for n := 2; b.later.ids[id] || b.design.Get(id) != nil; n++ {
		id = design.IDFor(k, fmt.Sprintf("%s/%s#%d", parent, name, n))
	}
	return name, id
}

// Take is as [Books.Beside]; both are taken then.
func (b *Books) Take(k design.Kind, parent design.ID, want string) (name string, id design.ID) {
	name, id = b.Beside(k, parent, want)
	slugs, slug := b.scope(k, parent), design.Slug(name)
	slugs[slug] = append(slugs[slug], "")
	b.later.names = append(b.later.names, func() {
		slugs[slug] = slices.DeleteFunc(slugs[slug], func(id design.ID) bool { return id == "" })
	})
	if b.later.ids == nil {
		b.later.ids = map[design.ID]bool{}
	}
	b.later.ids[id] = true
	return name, id
}

// Release gives back all that was taken for later: it is put into the design now, or
// never.
func (b *Books) Release() {
	for _, giveBack := range b.later.names {
		giveBack()
	}
	if b.asns != nil {
		for _, n := range b.later.asns {
			b.asns[n]--
			b.asn = firstPrivateASN
		}
	}
	for _, t := range []*Taken{b.holding, b.mapping, b.inside} {
		for _, p := range b.later.ranges {
			if t != nil {
				t.Remove(p)
			}
		}
	}
	b.later = later{}
}

// ASN is one that nobody has and that no profile gives out by default. It is not taken.
func (b *Books) ASN() (uint32, error) {
	if b.asns == nil {
		b.asns, b.asn = usedASNs(b.design), firstPrivateASN
	}
	n, err := freeASN(b.asns, b.asn)
	if err == nil {
		b.asn = n
	}
	return n, err
}

// TakeASN is as [Books.ASN]; it is taken then.
func (b *Books) TakeASN() (uint32, error) {
	n, err := b.ASN()
	if err == nil {
		b.asns[n]++
		b.later.asns = append(b.later.asns, n)
	}
	return n, err
}

// Holding is all that what holds hosts must keep clear of.
func (b *Books) Holding() *Taken {
	return b.counted(&b.holding, func() []netip.Prefix { return ForHolding(b.design, nil, "") })
}

// Mapping is all that a mapped range must keep clear of.
func (b *Books) Mapping() *Taken {
	return b.counted(&b.mapping, func() []netip.Prefix { return ForMapping(b.design) })
}

// Inside is all that an inside range must keep clear of.
func (b *Books) Inside() *Taken {
	return b.counted(&b.inside, func() []netip.Prefix { return ForInside(b.design) })
}

func (b *Books) counted(t **Taken, list func() []netip.Prefix) *Taken {
	if *t == nil {
		*t = NewTaken(append(list(), b.later.ranges...)...)
	}
	return *t
}

// TakeRange takes a range that was found free.
func (b *Books) TakeRange(p netip.Prefix) {
	b.later.ranges = append(b.later.ranges, p)
	for _, t := range []*Taken{b.holding, b.mapping, b.inside} {
		if t != nil {
			t.Add(p)
		}
	}
}
