package design

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
)

// A design file holds the plan whole, and under built what is otherwise there: objects that are not there, those of
// which fields differ, and those that the plan has no more. What follows from that is not written: what stands in
// something that is not there is not there, and nobody names it.

// The keys below built. An object is named by its kind and path, such as "gateway peatside-nursery/router".
const (
	keyBuilt     = "built"
	keyNotThere  = "not_there"
	keyDiffers   = "differs"
	keyOnlyThere = "only_there"
	keyObject    = "object"
	keyKind      = "kind"
	keyIn        = "in"

	nothingBuilt = "nothing" // in place of all: nothing of it is there
)

// writeBuilt gives what a design file has under built; nil where the two designs are alike.
func (d *Design) writeBuilt() any {
	b := d.Built()
	unlike := d.Unlike()
	if len(unlike) == 0 {
		return nil
	}
	if !slices.ContainsFunc(b.all, func(o *Object) bool { return !Shared(o.Kind) }) {
		return nothingBuilt
	}
	absent, out := d.notThere(), yaml.MapSlice{}
	if len(absent) > 0 {
		list := make([]string, len(absent))
		for n, id := range absent {
			list[n] = placeKey(d, d.objects[id])
		}
		out = append(out, yaml.MapItem{Key: keyNotThere, Value: list})
	}
	base := d.Sketch(d.Removal(absent...).Edits)
	var differs, only []yaml.MapSlice
	for _, o := range b.all {
		switch was := base.objects[o.ID]; {
		case Shared(o.Kind) || was != nil && (was == o || same(was, o)):
		case was == nil || was.Parent != o.Parent:
			only = append(only, b.writeOnly(o))
		default:
			differs = append(differs, b.writeDiffering(placeKey(d, d.objects[o.ID]), was, o))
		}
	}
	if len(differs) > 0 {
		out = append(out, yaml.MapItem{Key: keyDiffers, Value: differs})
	}
	if len(only) > 0 {
		out = append(out, yaml.MapItem{Key: keyOnlyThere, Value: only})
	}
	return out
}

// notThere are the outermost objects of the plan that are not built, in canonical order.
func (d *Design) notThere() (out []ID) {
	b := d.Built()
	for _, o := range d.all {
		if Shared(o.Kind) || b.objects[o.ID] != nil && b.objects[o.ID].Parent == o.Parent {
			continue
		}
		if parent := d.objects[o.Parent]; parent == nil || b.objects[parent.ID] != nil {
			out = append(out, o.ID)
		}
	}
	return out
}

func (d *Design) writeOnly(o *Object) yaml.MapSlice {
	item := yaml.MapSlice{{Key: keyKind, Value: string(o.Kind)}}
	if o.Parent != "" {
		item = append(item, yaml.MapItem{Key: keyIn, Value: placeKey(d, d.objects[o.Parent])})
	}
	item = append(item, yaml.MapItem{Key: "name", Value: o.Name})
	return d.writeStruct(item, reflect.ValueOf(o.Body).Elem())
}

// writeDiffering writes the fields in which an object as built differs from what would be there without them.
func (d *Design) writeDiffering(key string, was, o *Object) yaml.MapSlice {
	item := yaml.MapSlice{{Key: keyObject, Value: key}}
	if was.Name != o.Name {
		item = append(item, yaml.MapItem{Key: "name", Value: o.Name})
	}
	x, y := reflect.ValueOf(was.Body).Elem(), reflect.ValueOf(o.Body).Elem()
	for n := range y.NumField() {
		if alike(x.Field(n), y.Field(n)) {
			continue
		}
		key, _ := keyOf(y.Type().Field(n))
		if f := y.Field(n); f.IsZero() || f.Kind() == reflect.Slice && f.Len() == 0 {
			item = append(item, yaml.MapItem{Key: key, Value: nil})
		} else {
			item = append(item, yaml.MapItem{Key: key, Value: d.writeValue(f)})
		}
	}
	return item
}

// builtFrom reads what is there beside a plan.
func (r *reader) builtFrom(n *node, raw *Design) *Design {
	if n.shape == scalar && n.text == nothingBuilt {
		return New(raw.Name, nil)
	}
	if n.shape == null {
		return raw
	}
	if n.shape != mapping {
		r.problem("", n, keyBuilt, "is "+n.shape.String(), "what differs from the plan is needed, or the word nothing")
		return raw
	}
	known := []string{keyNotThere, keyDiffers, keyOnlyThere}
	for _, f := range n.fields {
		if !slices.Contains(known, f.key) {
			r.problem("", &node{line: f.line, column: f.column}, keyBuilt+"."+f.key, "is not known here",
				"known are "+strings.Join(known, ", "))
		}
	}
	var absent []ID
	for _, item := range r.listed(n, keyNotThere) {
		if o := r.named(item, raw, keyNotThere); o != nil {
			absent = append(absent, o.ID)
		}
	}
	facts := []Edit{}
	for _, o := range raw.all {
		if fact := asFact(o); fact != o {
			facts = append(facts, PutEdit(fact))
		}
	}
	base := raw.Sketch(facts)
	base = base.Sketch(base.Removal(absent...).Edits)
	x := &builtReader{reader: r, plan: raw, there: base, bodies: map[ID]*node{}}
	for _, item := range r.listed(n, keyDiffers) {
		x.differing(item)
	}
	for _, item := range r.listed(n, keyOnlyThere) {
		x.only(item)
	}
	x.fill()
	return x.there
}

func (r *reader) listed(n *node, key string) []*node {
	switch items := n.get(key); {
	case items == nil || items.shape == null:
	case items.shape != list:
		r.problem("", items, keyBuilt+"."+key, "is "+items.shape.String(), "a list is needed")
	default:
		return items.items
	}
	return nil
}

// named is the object of a design that a file names by its kind and path.
func (r *reader) named(n *node, in *Design, field string) *Object {
	if n != nil && n.shape == scalar {
		kind, path, _ := strings.Cut(strings.TrimSpace(n.text), " ")
		for _, o := range in.Find(path, Kind(kind)) {
			if in.Path(o.ID) == strings.TrimSpace(path) {
				return o
			}
		}
	}
	at, text := n, ""
	if at == nil {
		at = &node{}
	} else {
		text = n.text
	}
	r.problem("", at, keyBuilt+"."+field, fmt.Sprintf("nothing is called %s", shown(text)),
		"name it by its kind and path, such as gateway peatside-nursery/router")
	return nil
}

// builtReader reads objects that differ from the plan, first their names and then what they say: it may name others.
type builtReader struct {
	*reader
	plan, there *Design
	bodies      map[ID]*node
	order       []ID
}

func (x *builtReader) differing(item *node) {
	if item.shape != mapping {
		x.problem("", item, keyBuilt+"."+keyDiffers, "is "+item.shape.String(), "a mapping with object is needed")
		return
	}
	o := x.named(item.get(keyObject), x.plan, keyDiffers)
	if o == nil {
		return
	}
	now := x.there.objects[o.ID]
	if now == nil {
		x.problem("", item, keyBuilt+"."+keyDiffers, "is said not to be there, or needs what is not", "keep one of the two")
		return
	}
	if name := item.get("name"); name != nil {
		c := *now
		c.Name = name.text
		now = &c
	}
	x.take(now, item)
}

func (x *builtReader) only(item *node) {
	if item.shape != mapping || item.get(keyKind) == nil || item.get("name") == nil {
		x.problem("", item, keyBuilt+"."+keyOnlyThere, "has no kind or name", "a mapping with kind and name is needed")
		return
	}
	s := specByKind[Kind(item.get(keyKind).text)]
	if s == nil || Slug(item.get("name").text) == "" {
		x.problem("", item, keyBuilt+"."+keyOnlyThere, "is no kind that there is, or has no name", anyKind())
		return
	}
	o := &Object{Kind: s.kind, Name: item.get("name").text, Body: reflect.New(s.body).Interface().(Body)}
	path := Slug(o.Name)
	if in := item.get(keyIn); in != nil {
		parent := x.named(in, x.there, keyOnlyThere)
		if parent == nil {
			return
		}
		o.Parent, path = parent.ID, x.there.Path(parent.ID)+"/"+path
	}
	if !s.fits(x.there.objects[o.Parent]) {
		x.problem("", item, keyBuilt+"."+keyOnlyThere, "a "+Word(s.kind)+" can not stand there", "say in what it stands")
		return
	}
	if o.ID = IDFor(s.kind, path); x.there.objects[o.ID] != nil {
		o.ID = IDFor(s.kind, keyBuilt+":"+path)
	}
	x.take(o, item)
}

func (x *builtReader) take(o *Object, item *node) {
	x.there = x.there.Sketch([]Edit{PutEdit(o)})
	if x.bodies[o.ID] == nil {
		x.order = append(x.order, o.ID)
	}
	x.bodies[o.ID] = item
}

// fill reads what the objects say, now that all have their names.
func (x *builtReader) fill() {
	byPath := map[string][]*Object{}
	for _, o := range x.there.all {
		byPath[x.there.Path(o.ID)] = append(byPath[x.there.Path(o.ID)], o)
	}
	r := &reader{places: map[place]*node{}, byPath: byPath}
	var edits []Edit
	for _, id := range x.order {
		edits = append(edits, PutEdit(r.overlaid(x.there.objects[id], x.bodies[id])))
	}
	x.problems = append(x.problems, r.problems...)
	x.there = x.there.Sketch(edits)
}

// overlaid is an object with the fields that a node gives in place of its own; null takes one away.
func (r *reader) overlaid(o *Object, n *node) *Object {
	body := reflect.New(specOf(o.Kind).body)
	body.Elem().Set(cloned(reflect.ValueOf(o.Body).Elem()))
	d := r.decoder(o)
	for _, f := range n.fields {
		if slices.Contains([]string{"name", keyObject, keyKind, keyIn}, f.key) && !hasKey(body.Elem().Type(), f.key) {
			continue
		}
		sf, ok := fieldByKey(body.Elem().Type(), f.key)
		if !ok {
			d.problem(&node{line: f.line, column: f.column}, f.key, "is not known here",
				"known are "+strings.Join(keysOf(body.Elem().Type()), ", "))
			continue
		}
		into := body.Elem().FieldByIndex(sf.Index)
		into.SetZero()
		if f.value.shape != null {
			d.value(f.value, f.key, into, sf.Tag)
		}
	}
	return o.With(body.Interface().(Body))
}

func hasKey(t reflect.Type, key string) bool {
	_, ok := fieldByKey(t, key)
	return ok
}
