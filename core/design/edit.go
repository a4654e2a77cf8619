package design

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
)

// What an edit does.
const (
	Put    = "put"    // add the object, or replace the one with its ID
	Remove = "remove" // take the object away
)

// Edit is the smallest change of a design. Its inverse is an Edit again.
type Edit struct {
	// Side is which of the two designs of an estate it changes; empty: that as planned.
	Side   Side    `json:"side,omitempty" enum:"planned,built,both"`
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
// back. What is new gets the numbers that it has for life. If the result would
// not be valid, or an edit makes no sense, it returns [Problems] and nothing is
// changed.
func (d *Design) Apply(edits []Edit) (next *Design, inverse []Edit, err error) {
	return d.apply(edits, true)
}

// Replay is as Apply for edits that an Apply has led to before, or their inverse:
// nothing but what they say is changed.
func (d *Design) Replay(edits []Edit) (next *Design, inverse []Edit, err error) {
	return d.apply(edits, false)
}

func (d *Design) apply(edits []Edit, number bool) (next *Design, inverse []Edit, err error) {
	if d.side == Built { // a design of its own, such as one on the way from what is there to the plan
		next, problems := d.after(edits, false)
		if len(problems) > 0 {
			return nil, nil, problems.sorted()
		}
		return next, next.editsTo(d), nil
	}
	planned, built := parted(edits)
	next, problems := d.after(planned, number)
	if len(problems) > 0 {
		return nil, nil, problems.sorted()
	}
	if number { // what comes or goes there alone counts, too
		for _, e := range next.numbering(d, built) {
			next.renumbered = append(next.renumbered, e.ID)
			next = next.numbered(e)
		}
	}
	if next.built, problems = d.applyBuilt(next, planned, built); len(problems) > 0 {
		for n := range problems {
			problems[n].Why += ", as built"
		}
		return nil, nil, problems.sorted()
	}
	return next, next.EditsTo(d), nil
}

// numbered is the design in which something was given a number.
func (d *Design) numbered(e Edit) *Design {
	next := d.Sketch([]Edit{e})
	next.renumbered = d.renumbered
	return next
}

// Sketch is the design after edits, without a question whether it is valid: what
// is being said or typed is looked at before it is whole.
func (d *Design) Sketch(edits []Edit) *Design {
	s := d.Scratch()
	s.Sketch(edits)
	return s.Design()
}

// Refusals are all the problems for which [Design.Apply] would refuse the edits,
// however many there are.
func (d *Design) Refusals(edits []Edit) Problems {
	_, problems := d.after(edits, true)
	return problems
}

// after is the design after all the edits, or why there is none. What the edits
// do not touch is shared with d, and only what they can have made invalid is
// validated again.
func (d *Design) after(edits []Edit, number bool) (*Design, Problems) {
	var problems Problems
	now := map[ID]*Object{} // as the edits before have left it
	sound := make([]Edit, 0, len(edits))
	for n, e := range edits {
		old, met := now[e.ID]
		if !met {
			old = d.objects[e.ID]
		}
		if p := e.refused(old); p != nil {
			p.Field = fmt.Sprintf("edits[%d]%s", n, p.Field)
			problems = append(problems, *p)
			continue
		}
		switch {
		case e.Op == Remove:
			now[e.ID] = nil
		case same(old, e.Object):
			now[e.ID] = old
			continue
		default:
			now[e.ID] = e.Object
		}
		sound = append(sound, e)
	}
	if len(problems) > 0 {
		return nil, problems
	}
	next := d.Sketch(sound)
	touched := slices.DeleteFunc(slices.Sorted(maps.Keys(now)), func(id ID) bool { return d.objects[id] == now[id] })
	if number {
		if given := next.numbering(d, sound); len(given) > 0 {
			next = next.Sketch(given)
			for _, e := range given {
				touched = append(touched, e.ID)
				next.renumbered = append(next.renumbered, e.ID)
			}
			touched = slices.Compact(slices.Sorted(slices.Values(touched)))
		}
	}
	problems = next.revalidate(d, touched)
	d.explainRemovals(problems)
	return next, problems
}

// refused tells why the edit makes no sense where an object is old, or nil.
func (e Edit) refused(old *Object) *Problem {
	switch {
	case e.Op == Put && e.Object != nil && e.Object.ID == e.ID && e.ID != "" && e.Object.Body != nil:
		if old != nil && old.Kind != e.Object.Kind {
			return &Problem{
				Field: ".object.kind", Why: "an object can not change its kind", Want: "it is a " + string(old.Kind),
			}
		}
		return nil
	case e.Op == Remove && old != nil:
		return nil
	case e.Op == Remove:
		return &Problem{
			Object: e.ID,
			Field:  ".id",
			Why:    "there is no such object",
			Want:   "somebody may have removed it already; reload",
		}
	}
	return &Problem{
		Why:  "is neither a put of an object nor a remove",
		Want: `send {"op":"put","id":...,"object":{...}} with the same id in both places, or {"op":"remove","id":...}`,
	}
}

// EditsTo returns the fewest edits that lead from d to another design, on either side: one for
// each object in which they differ.
func (d *Design) EditsTo(other *Design) []Edit {
	planned := d.editsTo(other)
	if d.side == Built || d.Built() == other.Built() {
		return planned
	}
	there := slices.DeleteFunc(d.Built().editsTo(other.Built()), func(e Edit) bool { // shared kinds follow their plan
		o := cmpFirst(other.Built().objects[e.ID], d.Built().objects[e.ID])
		return Shared(o.Kind)
	})
	return bothSides(planned, there)
}

// Work are the edits by which what is there becomes what is planned.
func (d *Design) Work() []Edit { return d.Built().Toward(d) }

// Toward are the edits by which a design as built becomes what another plans; none is of what belongs to the estate.
func (d *Design) Toward(plan *Design) []Edit {
	return slices.DeleteFunc(d.editsTo(plan), func(e Edit) bool {
		return Shared(cmpFirst(plan.objects[e.ID], d.objects[e.ID]).Kind)
	})
}

// Sharing is a design as built that has of what belongs to the estate all that its plan has, as far as what that names
// is there.
func (d *Design) Sharing(plan *Design) *Design { return d.sharing(plan, nil) }

func (d *Design) editsTo(other *Design) []Edit {
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

// Edited is o with a body that change has changed. change gets a copy of its own, lists
// included, so that what it alters alters nothing else; it panics if o is of another kind.
func Edited[T any](o *Object, change func(body *T)) *Object {
	own := reflect.New(reflect.TypeFor[T]())
	own.Elem().Set(cloned(reflect.ValueOf(o.Body).Elem()))
	change(own.Interface().(*T))
	return o.With(own.Interface().(Body))
}

// cloned is a value with lists of its own, however deep.
func cloned(v reflect.Value) reflect.Value {
	out := reflect.New(v.Type()).Elem()
	out.Set(v)
	switch {
	case v.Kind() == reflect.Slice && !v.IsNil():
		out.Set(reflect.MakeSlice(v.Type(), v.Len(), v.Len()))
		reflect.Copy(out, v)
		for n := range v.Len() {
			if mayHold(v.Type().Elem()) {
				out.Index(n).Set(cloned(v.Index(n)))
			}
		}
	case v.Kind() == reflect.Struct:
		for n := range v.NumField() {
			if f := out.Field(n); f.CanSet() && mayHold(f.Type()) {
				f.Set(cloned(v.Field(n)))
			}
		}
	}
	return out
}
