// Package design is the model of an estate: what there is (sites, gateways,
// LANs, cloud networks, links, mappings), what is wanted of it (intents), and
// how it may change (edits).
//
// A [Design] is a set of [Object]s. Every object has a kind, a name, perhaps a
// parent, and a body whose Go type is the one source of its YAML form, its
// JSON form and its documentation. A Design never changes: [Design.Apply]
// turns it and some edits into the next one, or into [Problems] that say where
// and why not.
package design

import (
	"cmp"
	"iter"
	"reflect"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// ID names an object for as long as it lives, through renamings. It is opaque
// and not shown to people. The empty ID names nothing.
type ID string

// Ref is the ID of another object, held in a body. In a design file it is
// written as that object's path. The empty Ref refers to nothing.
type Ref = ID

// Object is one thing in a design. Objects are shared between designs and must
// not be changed once they are in one.
type Object struct {
	ID     ID     `json:"id"`
	Kind   Kind   `json:"kind"`
	Parent ID     `json:"parent,omitempty"` // empty for top-level kinds
	Name   string `json:"name"`
	Body   Body   `json:"body"`
}

// Design is an estate at one moment, as planned or as built; the plan has what is built with it, see [Design.Built].
// The zero Design is empty, unnamed and ready to use.
type Design struct {
	Name string

	objects   map[ID]*Object
	inside    map[ID][]*Object // by parent, in canonical order; "" holds the top level
	all       []*Object        // parents before what is inside them, in canonical order
	byKind    map[Kind][]*Object
	referring map[ID][]*Object // whose bodies refer to it, by ID

	side  Side      // Built, or empty: planned
	built *Design   // what is there, of a design as planned
	aside []*Object // see [Design.Aside]

	// renumbered are what the change that made it has given numbers to.
	renumbered []ID

	paths *paths // made when first asked for
	reads *Reads // where it is noted what is looked at; nil: nowhere
}

type paths struct {
	once sync.Once
	by   map[ID]string
}

// New returns a design that holds the given objects, all of them planned and built. They are not validated.
func New(name string, objects []*Object) *Design {
	d := &Design{
		Name: name, objects: make(map[ID]*Object, len(objects)), inside: map[ID][]*Object{},
		referring: map[ID][]*Object{}, paths: &paths{},
	}
	for _, o := range objects {
		d.objects[o.ID] = o
	}
	for _, o := range d.objects {
		d.inside[o.Parent] = append(d.inside[o.Parent], o)
		for _, to := range RefsOf(o) {
			d.referring[to] = append(d.referring[to], o)
		}
	}
	for to, list := range d.referring {
		slices.SortFunc(list, func(a, b *Object) int { return cmp.Compare(a.ID, b.ID) })
		d.referring[to] = slices.Compact(list)
	}
	for _, list := range d.inside {
		slices.SortFunc(list, canonical)
	}
	d.list()
	d.built = d.asBuilt()
	return d
}

// list sets all and byKind from what stands inside what.
func (d *Design) list() {
	d.all, d.byKind = make([]*Object, 0, len(d.objects)), map[Kind][]*Object{}
	var walk func(parent ID)
	walk = func(parent ID) {
		for _, o := range d.inside[parent] {
			d.all = append(d.all, o)
			d.byKind[o.Kind] = append(d.byKind[o.Kind], o)
			walk(o.ID)
		}
	}
	walk("")
}

// canonical is the order of siblings: by kind as in the list of kinds, then by
// name, numbers in names by value.
func canonical(a, b *Object) int {
	if c := cmp.Compare(specOf(a.Kind).order, specOf(b.Kind).order); c != 0 {
		return c
	}
	if c := compareNatural(strings.ToLower(a.Name), strings.ToLower(b.Name)); c != 0 {
		return c
	}
	return cmp.Compare(a.ID, b.ID)
}

func compareNatural(a, b string) int {
	for a != "" && b != "" {
		na, nb := digits(a), digits(b)
		if na > 0 && nb > 0 {
			x, y := strings.TrimLeft(a[:na], "0"), strings.TrimLeft(b[:nb], "0")
			if c := cmp.Or(cmp.Compare(len(x), len(y)), cmp.Compare(x, y)); c != 0 {
				return c
			}
			a, b = a[na:], b[nb:]
			continue
		}
		if a[0] != b[0] {
			return cmp.Compare(a[0], b[0])
		}
		a, b = a[1:], b[1:]
	}
	return cmp.Compare(len(a), len(b))
}

func digits(s string) int {
	n := 0
	for n < len(s) && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	return n
}

// Len is the number of objects.
func (d *Design) Len() int {
	d.reads.note(wholeRead, "")
	return len(d.objects)
}

// Get returns the object with that ID, or nil.
func (d *Design) Get(id ID) *Object {
	d.reads.note(objectRead, id)
	return d.objects[id]
}

// Inside returns the objects whose parent is id (the top level for ""), of the
// given kinds or of all, in canonical order.
func (d *Design) Inside(id ID, kinds ...Kind) []*Object {
	d.reads.note(insideRead, id)
	list := d.inside[id]
	if len(kinds) == 0 {
		return append([]*Object{}, list...)
	}
	out := []*Object{}
	for _, o := range list {
		if slices.Contains(kinds, o.Kind) {
			out = append(out, o)
		}
	}
	return out
}

// Referring returns the objects whose bodies refer to id, of the given kinds or
// of all, in the order of their IDs.
func (d *Design) Referring(id ID, kinds ...Kind) []*Object {
	d.reads.note(referringRead, id)
	var out []*Object
	for _, o := range d.referring[id] {
		if len(kinds) == 0 || slices.Contains(kinds, o.Kind) {
			out = append(out, o)
		}
	}
	return out
}

// All returns every object, parents before what is inside them, in canonical
// order. The slice is shared and must not be changed.
func (d *Design) All() []*Object {
	d.reads.note(wholeRead, "")
	return d.all
}

// Of returns all objects of one kind in canonical order. The slice is shared
// and must not be changed.
func (d *Design) Of(kind Kind) []*Object {
	d.reads.note(kindRead, ID(kind))
	return d.byKind[kind]
}

// Parties are the kinds that stand for themselves: those that hold ranges, and
// the hubs and edge routers between them.
var Parties = []Kind{KindSite, KindNetwork, KindHub, KindEdgeRouter, KindOutside}

// Party returns the site, cloud network, hub, edge router or outside party that an object belongs
// to, the object itself if it is one, or nil for what belongs to none (links,
// intents).
func (d *Design) Party(id ID) *Object {
	for o := d.Get(id); o != nil; o = d.Get(o.Parent) {
		if slices.Contains(Parties, o.Kind) {
			return o
		}
	}
	return nil
}

// References lists what an object's body refers to.
func (d *Design) References(id ID) []ID {
	if o := d.Get(id); o != nil {
		return RefsOf(o)
	}
	return nil
}

// RefsOf lists what an object's body refers to.
func RefsOf(o *Object) []ID {
	var out []ID
	if o.Body == nil {
		return nil
	}
	eachRef(reflect.ValueOf(o.Body).Elem(), "", func(_ string, to Ref, _ string, _ bool) {
		if to != "" {
			out = append(out, to)
		}
	})
	return out
}

// Path is the readable path of an object, such as
// peatside-nursery/glasshouse. It is what references look like in a design
// file. An unknown ID gives "".
func (d *Design) Path(id ID) string {
	if d.reads != nil { // only its own ancestors decide, and only they are noted
		return d.pathUp(id)
	}
	if d.paths == nil {
		return ""
	}
	d.paths.once.Do(func() {
		d.paths.by = make(map[ID]string, len(d.objects))
		for _, o := range d.all { // parents come first
			path := Slug(o.Name)
			if parent := d.paths.by[o.Parent]; parent != "" {
				path = parent + "/" + path
			}
			d.paths.by[o.ID] = path
		}
	})
	path, ok := d.paths.by[id]
	if o := d.objects[id]; !ok && o != nil { // it stands in nothing, as problems must tell
		return Slug(o.Name)
	}
	return path
}

func (d *Design) pathUp(id ID) string {
	o := d.Get(id)
	if o == nil {
		return ""
	}
	if parent := d.pathUp(o.Parent); parent != "" {
		return parent + "/" + Slug(o.Name)
	}
	return Slug(o.Name)
}

// Title is how an object is called in a sentence: its party's name and its
// own, such as "Peatside Nursery glasshouse".
func (d *Design) Title(id ID) string {
	o := d.Get(id)
	if o == nil {
		return "something unknown"
	}
	if p := d.Party(id); p != nil && p != o {
		return p.Name + " " + o.Name
	}
	return o.Name
}

// Find returns the object that a person means by text: a path, the last part
// of a path, or a name. If several fit, all are returned.
func (d *Design) Find(text string, kinds ...Kind) []*Object {
	want := strings.Trim(strings.ToLower(strings.TrimSpace(text)), "/")
	slug := Slug(want)
	var exact, loose []*Object
	for _, o := range d.All() {
		if len(kinds) > 0 && !slices.Contains(kinds, o.Kind) {
			continue
		}
		path := d.Path(o.ID)
		switch {
		case path == want:
			exact = append(exact, o)
		case slug != "" && (path[strings.LastIndexByte(path, '/')+1:] == slug || strings.HasSuffix(path, "/"+want)):
			loose = append(loose, o)
		}
	}
	if len(exact) > 0 {
		return exact
	}
	return loose
}

// Slug turns a name into its form in a path: lower case, letters and digits
// kept, everything else a single hyphen.
func Slug(name string) string {
	var b strings.Builder
	gap := false
	for _, r := range strings.ToLower(name) {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			if gap && b.Len() > 0 {
				b.WriteByte('-')
			}
			b.WriteRune(r)
			gap = false
			continue
		}
		gap = true
	}
	return b.String()
}

// Named reports whether a name has a slug, as [Slug] forms it.
func Named(name, slug string) bool {
	gap, begun := false, false
	for _, r := range name {
		r = unicode.ToLower(r)
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			gap = true
			continue
		}
		if gap && begun {
			if slug == "" || slug[0] != '-' {
				return false
			}
			slug = slug[1:]
		}
		at, n := utf8.DecodeRuneInString(slug)
		if n == 0 || at != r {
			return false
		}
		slug, gap, begun = slug[n:], false, true
	}
	return slug == ""
}

// InOrder sorts siblings of one kind as the design lists them.
func InOrder(list []*Object) []*Object {
	slices.SortFunc(list, canonical)
	return list
}

// Each streams the objects of a list that are of one kind, each with its body: those of
// [Design.Of], [Design.Inside] or [Design.Referring], say.
func Each[T any](list []*Object) iter.Seq2[*Object, *T] {
	return func(yield func(*Object, *T) bool) {
		for _, o := range list {
			if b, ok := any(o.Body).(*T); ok && !yield(o, b) {
				return
			}
		}
	}
}
