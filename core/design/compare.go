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
	Kind Kind   `json:"kind"`
	Path string `json:"path"`
	ID   ID     `json:"id" doc:"In the first, or in the other where only that has it."`
	Text string `json:"text" doc:"What differs, in words."`
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
			d.Text = "only here"
			out.Here = append(out.Here, d)
			continue
		}
		if d.Text = differing(a, b, o, far); d.Text == "" {
			out.Same++
			continue
		}
		out.Changed = append(out.Changed, d)
	}
	for _, o := range b.All() {
		if theirs[placeKey(b, o)] != nil {
			out.There = append(out.There, Difference{o.Kind, b.Path(o.ID), o.ID, "only there"})
		}
	}
	return out
}

func placeKey(d *Design, o *Object) string { return string(o.Kind) + " " + d.Path(o.ID) }

// differing says which fields differ, with both values where these are short.
func differing(a, b *Design, x, y *Object) string {
	const most = 60
	here, there := a.writtenBody(x), b.writtenBody(y)
	var out []string
	if x.Name != y.Name {
		out = append(out, fmt.Sprintf("name: %s, there %s", x.Name, y.Name))
	}
	for _, f := range Outline(x.Kind) {
		p, q := here[f.Key], there[f.Key]
		switch {
		case p == q:
		case len(p)+len(q) > most:
			out = append(out, f.Key+" differs")
		case p == "":
			out = append(out, fmt.Sprintf("%s: none, there %s", f.Key, q))
		case q == "":
			out = append(out, fmt.Sprintf("%s: %s, there none", f.Key, p))
		default:
			out = append(out, fmt.Sprintf("%s: %s, there %s", f.Key, p, q))
		}
	}
	return strings.Join(out, "; ")
}
