package design

import (
	"cmp"
	"maps"
	"slices"
)

// Scratch is a design that is changed in place, for whoever makes many changes one
// after the other and looks at what comes of each: a change costs what it touches,
// not what there is. Nothing is asked whether it is valid.
type Scratch struct {
	design *Design

	// What is shared with the design it began as, or may be held by somebody who
	// asked for it, is copied before it is changed.
	siblings map[ID]bool   // by parent: the list is the scratch's own
	kinds    map[Kind]bool // the list was copied for the changes under way; "": that of all

	unlisted bool // the lists of all are to be made anew
}

// few is how many edits are worked in one by one; more are cheaper from nothing.
const few = 100

// Scratch begins a design that is changed in place as a copy of d, which stays as it
// is.
func (d *Design) Scratch() *Scratch {
	c := &Design{
		Name: d.Name, objects: maps.Clone(d.objects), inside: maps.Clone(d.inside), all: d.all,
		byKind: maps.Clone(d.byKind), referring: maps.Clone(d.referring), paths: &paths{},
		side: d.side, built: d.built, aside: d.aside,
	}
	if c.objects == nil {
		c.objects, c.inside, c.referring = map[ID]*Object{}, map[ID][]*Object{}, map[ID][]*Object{}
	}
	if c.byKind == nil {
		c.byKind = map[Kind][]*Object{}
	}
	return &Scratch{design: c, siblings: map[ID]bool{}}
}

// Design is the design as the changes so far have left it, until the next change:
// it is changed in place, and always the same.
func (s *Scratch) Design() *Design { return s.design }

// Sketch changes the design as edits say.
func (s *Scratch) Sketch(edits []Edit) {
	s.kinds = map[Kind]bool{}
	s.design.paths = &paths{}
	edits = s.design.own(edits)
	if len(edits) > few {
		s.anew(edits)
		return
	}
	for _, e := range edits {
		if e.Op == Remove || e.Object != nil {
			s.change(s.design.objects[e.ID], e.Object)
		}
	}
	if s.unlisted {
		s.design.list()
		s.unlisted = false
	}
}

// own are those of edits that are of this side.
func (d *Design) own(edits []Edit) []Edit {
	if d.side == Built || !slices.ContainsFunc(edits, func(e Edit) bool { return e.Side == Built }) {
		return edits
	}
	return slices.DeleteFunc(slices.Clone(edits), func(e Edit) bool { return e.Side == Built })
}

// SketchEach is as [Scratch.Sketch], and tells of every object that edits name what was
// there before and what is there now; either may be nil.
func (s *Scratch) SketchEach(edits []Edit, tell func(old, now *Object)) {
	before := map[ID]*Object{}
	for _, e := range s.design.own(edits) {
		before[e.ID] = s.design.objects[e.ID]
	}
	s.Sketch(edits)
	for id, old := range before {
		if now := s.design.objects[id]; now != old {
			tell(old, now)
		}
	}
}

// anew makes everything again from the objects.
func (s *Scratch) anew(edits []Edit) {
	for _, e := range edits {
		if e.Op == Remove {
			delete(s.design.objects, e.ID)
		} else if e.Object != nil {
			s.design.objects[e.ID] = e.Object
		}
	}
	was := s.design
	now := New(was.Name, slices.Collect(maps.Values(was.objects)))
	now.side, now.built, now.aside = was.side, was.built, was.aside
	keepEqual(now.inside, was.inside)
	keepEqual(now.referring, was.referring)
	*s.design = *now
	s.siblings = map[ID]bool{}
}

// keepEqual takes those lists of before that are the same, so that they are kept once.
func keepEqual(now, before map[ID][]*Object) {
	for id, list := range now {
		if was := before[id]; slices.Equal(was, list) {
			now[id] = was
		}
	}
}

// change puts now in the place of old; either may be nil.
func (s *Scratch) change(old, now *Object) {
	if old == now {
		return
	}
	d := s.design
	d.refer(old, now)
	inPlace := old != nil && now != nil && old.Parent == now.Parent && old.Name == now.Name && old.Kind == now.Kind
	if inPlace {
		s.exchange(old, now)
		d.objects[now.ID] = now
		return
	}
	for _, o := range []*Object{old, now} {
		s.unlisted = s.unlisted || o != nil && len(d.inside[o.ID]) > 0 // what is inside moves with it
	}
	if old != nil {
		s.unlist(old)
		delete(d.objects, old.ID)
		s.leave(old)
	}
	if now != nil {
		s.enlist(now)
		d.objects[now.ID] = now
		s.enter(now)
	}
}

// exchange puts an object in the place of one of the same name in all lists.
func (s *Scratch) exchange(old, now *Object) {
	list := s.own(old.Parent)
	if n := slices.Index(list, old); n >= 0 {
		list[n] = now
	}
	s.eachList(old, func(list []*Object, n int, found bool) []*Object {
		if found {
			list[n] = now
		}
		return list
	})
}

func (s *Scratch) unlist(o *Object) {
	s.eachList(o, func(list []*Object, n int, found bool) []*Object {
		if found {
			return slices.Delete(list, n, n+1)
		}
		return list
	})
}

func (s *Scratch) enlist(o *Object) {
	s.eachList(o, func(list []*Object, n int, _ bool) []*Object { return slices.Insert(list, n, o) })
}

// eachList changes the lists of all objects and of those of one's kind, where the
// object is or would be. What stands in nothing is in no list.
func (s *Scratch) eachList(o *Object, change func(list []*Object, n int, found bool) []*Object) {
	line, whole := s.design.lineage(o)
	if s.unlisted = s.unlisted || !whole; s.unlisted {
		return
	}
	changed := func(list []*Object, key Kind) []*Object {
		if !s.kinds[key] {
			s.kinds[key] = true
			list = slices.Clone(list)
		}
		n, found := slices.BinarySearchFunc(list, line, func(x *Object, line []*Object) int {
			other, _ := s.design.lineage(x)
			return slices.CompareFunc(other, line, canonical)
		})
		return change(list, n, found)
	}
	s.design.all = changed(s.design.all, "")
	if s.design.byKind[o.Kind] = changed(s.design.byKind[o.Kind], o.Kind); len(s.design.byKind[o.Kind]) == 0 {
		delete(s.design.byKind, o.Kind)
	}
}

// deepest is more than there can be of objects one inside the other.
const deepest = 8

// lineage is what an object stands in, from the top level to itself, and whether it
// is whole.
func (d *Design) lineage(o *Object) (line []*Object, whole bool) {
	line = make([]*Object, 0, deepest)
	for at := o; at != nil; at = d.objects[at.Parent] {
		if line = append(line, at); len(line) == deepest {
			return nil, false
		}
		if at.Parent == "" {
			slices.Reverse(line)
			return line, true
		}
	}
	return nil, false
}

// own is the list of what stands in a parent, to be changed.
func (s *Scratch) own(parent ID) []*Object {
	if !s.siblings[parent] {
		s.siblings[parent] = true
		s.design.inside[parent] = slices.Clone(s.design.inside[parent])
	}
	return s.design.inside[parent]
}

// leave takes an object out of its list of siblings.
func (s *Scratch) leave(o *Object) {
	list := s.own(o.Parent)
	if n := slices.Index(list, o); n >= 0 {
		list = slices.Delete(list, n, n+1)
	}
	if s.design.inside[o.Parent] = list; len(list) == 0 {
		delete(s.design.inside, o.Parent)
		delete(s.siblings, o.Parent)
	}
}

// enter puts an object into its list of siblings.
func (s *Scratch) enter(o *Object) {
	list := s.own(o.Parent)
	n, _ := slices.BinarySearchFunc(list, o, canonical)
	s.design.inside[o.Parent] = slices.Insert(list, n, o)
}

// refer sets who refers to what old refers to, and now does.
func (d *Design) refer(old, now *Object) {
	byID := func(o *Object, id ID) int { return cmp.Compare(o.ID, id) }
	if old != nil {
		for _, to := range RefsOf(old) {
			list := d.referring[to]
			if n, found := slices.BinarySearchFunc(list, old.ID, byID); found {
				list = slices.Delete(slices.Clone(list), n, n+1)
			}
			if d.referring[to] = list; len(list) == 0 {
				delete(d.referring, to)
			}
		}
	}
	if now == nil {
		return
	}
	for _, to := range RefsOf(now) {
		list := d.referring[to]
		if n, found := slices.BinarySearchFunc(list, now.ID, byID); !found { // it may be shared
			d.referring[to] = slices.Insert(slices.Clone(list), n, now)
		}
	}
}
