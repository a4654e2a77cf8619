package design

import (
	"fmt"
	"strings"
)

// Comparison is in what one design differs from another.
type Comparison struct {
	Here    []Difference `json:"here" doc:"What only the first has."`
	There   []Difference `json:"there" doc:"What only the other has."`
	Changed []Difference `json:"changed" doc:"What both have, and not alike."`
	Same    int          `json:"same" doc:"How many objects are alike."`
}

// Difference is one object that is not the same in both.
type Difference struct {
	Kind   Kind              `json:"kind"`
	Path   string            `json:"path"`
	ID     ID                `json:"id" doc:"In the first, or in the other where only that has it."`
	Text   string            `json:"text" doc:"What differs, in words."`
	Fields []FieldDifference `json:"fields" doc:"By field, as in a design file; of what only one has, all that it says."`
}

// FieldDifference is one field that is not the same in both, as it is written in a design file.
type FieldDifference struct {
	Key string `json:"key"`
	Old string `json:"old,omitempty" doc:"In the first; empty where it says nothing."`
	New string `json:"new,omitempty" doc:"In the other; empty where it says nothing."`
}

// CompareSides holds what is built against what is planned. What belongs to the estate is on either side.
func CompareSides(d *Design) Comparison {
	out := Comparison{Here: []Difference{}, There: []Difference{}, Changed: []Difference{}}
	there := d.Built()
	for _, e := range d.Work() {
		x, ok := DifferenceOf(there, d, e.ID)
		switch {
		case !ok:
		case there.objects[e.ID] == nil:
			out.There = append(out.There, x)
		case d.objects[e.ID] == nil:
			out.Here = append(out.Here, x)
		default:
			out.Changed = append(out.Changed, x)
		}
	}
	out.Same = len(d.objects) - len(out.There) - len(out.Changed)
	return out
}

// DifferenceOf is what differs in an object between two designs that share its ID; ok is false if nothing does.
func DifferenceOf(a, b *Design, id ID) (out Difference, ok bool) {
	x, y := a.objects[id], b.objects[id]
	if x == nil && y == nil || same(x, y) {
		return out, false
	}
	switch {
	case x == nil:
		out = Difference{y.Kind, b.Path(id), id, "new", fieldsOf(b, nil, y)}
	case y == nil:
		out = Difference{x.Kind, a.Path(id), id, "taken away", fieldsOf(a, x, nil)}
	default:
		out = Difference{Kind: y.Kind, Path: b.Path(id), ID: id, Fields: fieldsBetween(a, b, x, y)}
		var texts []string
		for _, f := range out.Fields {
			texts = append(texts, f.text("becomes"))
		}
		out.Text = strings.Join(texts, "; ")
	}
	return out, true
}

// fieldsOf are all fields of an object that only one design has.
func fieldsOf(d *Design, x, y *Object) []FieldDifference {
	out := []FieldDifference{}
	o := cmpFirst(x, y)
	written := d.writtenBody(o)
	add := func(key, value string) {
		f := FieldDifference{Key: key, Old: value}
		if x == nil {
			f = FieldDifference{Key: key, New: value}
		}
		out = append(out, f)
	}
	add("name", o.Name)
	for _, f := range Outline(o.Kind) {
		if text := written[f.Key]; text != "" {
			add(f.Key, text)
		}
	}
	return out
}

// fieldsBetween are the fields in which an object differs.
func fieldsBetween(a, b *Design, x, y *Object) []FieldDifference {
	out := []FieldDifference{}
	if x.Name != y.Name {
		out = append(out, FieldDifference{"name", x.Name, y.Name})
	}
	here, there := a.writtenBody(x), b.writtenBody(y)
	for _, f := range Outline(y.Kind) {
		if p, q := here[f.Key], there[f.Key]; p != q {
			out = append(out, FieldDifference{f.Key, p, q})
		}
	}
	return out
}

// text says what differs: both values where these are short.
func (f FieldDifference) text(word string) string {
	const most = 60
	switch {
	case len(f.Old)+len(f.New) > most:
		return f.Key + " differs"
	case f.Old == "":
		return fmt.Sprintf("%s: none, %s %s", f.Key, word, f.New)
	case f.New == "":
		return fmt.Sprintf("%s: %s, %s none", f.Key, f.Old, word)
	}
	return fmt.Sprintf("%s: %s, %s %s", f.Key, f.Old, word, f.New)
}

// Compare holds two designs against each other. What has the same kind and path
// is the same object, whatever its ID.
func Compare(a, b *Design) Comparison {
	out := Comparison{Here: []Difference{}, There: []Difference{}, Changed: []Difference{}}
	theirs := map[string]*Object{}
	for _, o := range b.All() {
		theirs[placeKey(b, o)] = o
	}
	for _, o := range a.All() {
		key := placeKey(a, o)
		far := theirs[key]
		delete(theirs, key)
		d := Difference{Kind: o.Kind, Path: a.Path(o.ID), ID: o.ID}
		if far == nil {
			d.Text, d.Fields = "only here", fieldsOf(a, o, nil)
			out.Here = append(out.Here, d)
			continue
		}
		d.Fields = fieldsBetween(a, b, o, far)
		if d.Text = inWords(d.Fields); d.Text == "" {
			out.Same++
			continue
		}
		out.Changed = append(out.Changed, d)
	}
	for _, o := range b.All() {
		if theirs[placeKey(b, o)] != nil {
			out.There = append(out.There, Difference{o.Kind, b.Path(o.ID), o.ID, "only there", fieldsOf(b, nil, o)})
		}
	}
	return out
}

func placeKey(d *Design, o *Object) string { return string(o.Kind) + " " + d.Path(o.ID) }

// inWords says which fields differ.
func inWords(fields []FieldDifference) string {
	var out []string
	for _, f := range fields {
		out = append(out, f.text("there"))
	}
	return strings.Join(out, "; ")
}
