package design

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// What an edit does.
const (
	Put    = "put"    // add the object, or replace the one with its ID
	Remove = "remove" // take the object away
)

// Edit is the smallest change of a design. Its inverse is an Edit again.
type Edit struct {
	Op     string  `json:"op" enum:"put,remove"`
	ID     ID      `json:"id"`
	Object *Object `json:"object,omitempty"` // what to put; none with remove
}

// PutEdit is the edit that puts o.
func PutEdit(o *Object) Edit { return Edit{Op: Put, ID: o.ID, Object: o} }

// With is o with another body, under the same ID.
func (o *Object) With(b Body) *Object {
	c := *o
	c.Body = b
	return &c
}

// Apply returns the design after all the edits, and the fewest edits that lead
// back. If the result would not be valid, or an edit makes no sense, it returns
// [Problems] and nothing is changed.
func (d *Design) Apply(edits []Edit) (next *Design, inverse []Edit, err error) {
	next, problems := d.after(edits)
	if len(problems) > 0 {
		return nil, nil, problems.sorted()
	}
	return next, next.EditsTo(d), nil
}

// Sketch is the design after edits, without a question whether it is valid: what
// is being said or typed is looked at before it is whole.
func (d *Design) Sketch(edits []Edit) *Design {
	objects := maps.Clone(d.objects)
	if objects == nil {
		objects = map[ID]*Object{}
	}
	for _, e := range edits {
		if e.Op == Remove {
			delete(objects, e.ID)
		} else if e.Object != nil {
			objects[e.ID] = e.Object
		}
	}
	next, _ := d.followed(objects, edits)
	return next
}

// Refusals are all the problems for which [Design.Apply] would refuse the edits,
// however many there are.
func (d *Design) Refusals(edits []Edit) Problems {
	_, problems := d.after(edits)
	return problems
}

// after is the design after all the edits, or why there is none. What the edits
// do not touch is shared with d, and only what they can have made invalid is
// validated again.
func (d *Design) after(edits []Edit) (*Design, Problems) {
	objects := maps.Clone(d.objects)
	if objects == nil {
		objects = map[ID]*Object{}
	}
	var problems Problems
	for n, e := range edits {
		if p := e.apply(objects); p != nil {
			p.Field = fmt.Sprintf("edits[%d]%s", n, p.Field)
			problems = append(problems, *p)
		}
	}
	if len(problems) > 0 {
		return nil, problems
	}
	next, touched := d.followed(objects, edits)
	problems = next.revalidate(d, touched)
	d.explainRemovals(problems)
	return next, problems
}

// few is how many edits are worked in one by one; more are cheaper from nothing.
const few = 100

// followed is the design of objects that edits have led to, and the IDs of what
// differs.
func (d *Design) followed(objects map[ID]*Object, edits []Edit) (next *Design, touched []ID) {
	if len(edits) <= few {
		next = &Design{Name: d.Name, objects: objects, paths: &paths{}}
		return next, next.follow(d, edits)
	}
	list := make([]*Object, 0, len(objects))
	for _, o := range objects {
		list = append(list, o)
	}
	seen := make(map[ID]bool, len(edits))
	for _, e := range edits {
		if d.objects[e.ID] != objects[e.ID] && !seen[e.ID] {
			seen[e.ID] = true
			touched = append(touched, e.ID)
		}
	}
	return New(d.Name, list), touched
}

// follow sets everything but the objects from the design before, as the edits
// have changed it, and returns the IDs of what differs.
func (d *Design) follow(before *Design, edits []Edit) []ID {
	d.inside, d.referring = maps.Clone(before.inside), maps.Clone(before.referring)
	if d.inside == nil {
		d.inside, d.referring = map[ID][]*Object{}, map[ID][]*Object{}
	}
	var touched []ID
	inPlace := map[ID]*Object{} // same place, same name: only the body is another
	lists := map[ID]bool{}      // parents whose lists were copied
	for _, e := range edits {
		old, now := before.objects[e.ID], d.objects[e.ID]
		if old == now || slices.Contains(touched, e.ID) {
			continue
		}
		touched = append(touched, e.ID)
		d.refer(old, now)
		if old != nil && now != nil && old.Parent == now.Parent && old.Name == now.Name {
			inPlace[e.ID] = now
		}
		d.place(lists, old, now)
	}
	if len(inPlace) < len(touched) || before.all == nil {
		d.list()
		return touched
	}
	d.all, d.byKind = substituted(before.all, inPlace), maps.Clone(before.byKind)
	kinds := map[Kind]bool{}
	for _, o := range inPlace {
		kinds[o.Kind] = true
	}
	for k := range kinds {
		d.byKind[k] = substituted(before.byKind[k], inPlace)
	}
	return touched
}

func substituted(list []*Object, by map[ID]*Object) []*Object {
	out := slices.Clone(list)
	if len(by) == 0 {
		return out
	}
	for n, o := range out {
		if now := by[o.ID]; now != nil {
			out[n] = now
		}
	}
	return out
}

// place takes one object out of its list of siblings and puts another into its.
func (d *Design) place(copied map[ID]bool, old, now *Object) {
	own := func(parent ID) []*Object {
		if !copied[parent] {
			copied[parent] = true
			d.inside[parent] = slices.Clone(d.inside[parent])
		}
		return d.inside[parent]
	}
	if old != nil {
		list := own(old.Parent)
		if n := slices.Index(list, old); n >= 0 {
			if now != nil && now.Parent == old.Parent && now.Name == old.Name {
				list[n] = now
				return
			}
			d.inside[old.Parent] = slices.Delete(list, n, n+1)
		}
	}
	if now != nil {
		list := own(now.Parent)
		n, _ := slices.BinarySearchFunc(list, now, canonical)
		d.inside[now.Parent] = slices.Insert(list, n, now)
	}
	for _, o := range []*Object{old, now} {
		if o != nil && len(d.inside[o.Parent]) == 0 {
			delete(d.inside, o.Parent)
		}
	}
}

// refer notes who refers to what when one object takes another's place; either
// may be nil.
func (d *Design) refer(old, now *Object) {
	if old != nil {
		for _, to := range RefsOf(old) {
			d.referring[to] = slices.DeleteFunc(slices.Clone(d.referring[to]), func(o *Object) bool { return o.ID == old.ID })
			if len(d.referring[to]) == 0 {
				delete(d.referring, to)
			}
		}
	}
	if now == nil {
		return
	}
	for _, to := range RefsOf(now) {
		list := d.referring[to]
		n, found := slices.BinarySearchFunc(list, now.ID, func(o *Object, id ID) int { return strings.Compare(string(o.ID), string(id)) })
		if !found {
			// What was grown before may be shared with another design.
			d.referring[to] = slices.Insert(slices.Clip(slices.Clone(list)), n, now)
		}
	}
}

// apply changes objects as the edit says, or tells why it makes no sense.
func (e Edit) apply(objects map[ID]*Object) *Problem {
	old := objects[e.ID]
	switch {
	case e.Op == Put && e.Object != nil && e.Object.ID == e.ID && e.ID != "" && e.Object.Body != nil:
		if old != nil && old.Kind != e.Object.Kind {
			return &Problem{Field: ".object.kind", Why: "an object can not change its kind", Want: "it is a " + string(old.Kind)}
		}
		if !same(old, e.Object) {
			objects[e.ID] = e.Object
		}
	case e.Op == Remove && old != nil:
		delete(objects, e.ID)
	case e.Op == Remove:
		return &Problem{Object: e.ID, Field: ".id", Why: "there is no such object", Want: "somebody may have removed it already; reload"}
	default:
		return &Problem{Why: "is neither a put of an object nor a remove", Want: `send {"op":"put","id":...,"object":{...}} with the same id in both places, or {"op":"remove","id":...}`}
	}
	return nil
}

// EditsTo returns the fewest edits that lead from d to another design: one for
// each object in which they differ.
func (d *Design) EditsTo(other *Design) []Edit {
	var out []Edit
	for _, o := range d.all {
		if other.objects[o.ID] == nil {
			out = append(out, Edit{Op: Remove, ID: o.ID})
		}
	}
	for _, o := range other.all {
		if old := d.objects[o.ID]; old != o && !same(old, o) {
			out = append(out, PutEdit(o))
		}
	}
	return out
}

func same(a, b *Object) bool {
	if a == nil || b == nil {
		return a == b
	}
	x, errX := json.Marshal(a)
	y, errY := json.Marshal(b)
	return errX == nil && errY == nil && bytes.Equal(x, y)
}

// explainRemovals makes a reference to nothing readable when the object was
// there before the edit.
func (d *Design) explainRemovals(problems Problems) {
	for n := range problems {
		if missing := d.objects[problems[n].missing]; missing != nil {
			problems[n].Why = fmt.Sprintf("still uses %s %s", missing.Kind, d.Path(missing.ID))
			problems[n].Want = "change or remove the " + problems[n].Subject + " in the same step"
		}
	}
}
