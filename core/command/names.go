package command

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"dravin/core/design"
)

// names finds objects by what people call them: a path or its end, a name, a name
// behind its party's or behind all that it stands in.
type names struct {
	by    map[string][]*design.Object
	paths map[design.ID]string
	// list holds every object with its path, for completion.
	list []named
}

type named struct {
	object *design.Object
	path   string
}

func namesOf(d *design.Design) *names {
	n := &names{by: map[string][]*design.Object{}, paths: map[design.ID]string{}}
	for _, o := range d.All() {
		n.add(o, d.Get)
	}
	return n
}

// with is a copy that also knows objects that are not there yet.
func (n *names) with(also []*design.Object) *names {
	out := &names{by: maps.Clone(n.by), paths: maps.Clone(n.paths), list: slices.Clip(n.list)}
	for key, list := range out.by {
		out.by[key] = slices.Clip(list) // what is added here is not written into the other's
	}
	byID := map[design.ID]*design.Object{}
	for _, o := range also {
		byID[o.ID] = o
	}
	for _, x := range n.list {
		byID[x.object.ID] = x.object
	}
	for _, o := range also {
		out.add(o, func(id design.ID) *design.Object { return byID[id] })
	}
	return out
}

func (n *names) add(o *design.Object, get func(design.ID) *design.Object) {
	var parts []string
	for at := o; at != nil; at = get(at.Parent) {
		parts = append([]string{design.Slug(at.Name)}, parts...)
	}
	keys := map[string]bool{}
	for k := range parts {
		keys[strings.Join(parts[k:], "/")] = true
		keys[strings.Join(parts[k:], "-")] = true
	}
	if len(parts) > 2 {
		keys[parts[0]+"-"+parts[len(parts)-1]] = true
	}
	for key := range keys {
		if !slices.ContainsFunc(n.by[key], func(x *design.Object) bool { return x.ID == o.ID }) {
			n.by[key] = append(n.by[key], o)
		}
	}
	path := strings.Join(parts, "/")
	if n.paths[o.ID] != path {
		n.paths[o.ID] = path
		n.list = append(n.list, named{o, path})
	}
}

// find lists the objects of some kinds that a text can mean, those whose whole
// path it is first.
func (n *names) find(text string, kinds []design.Kind) []*design.Object {
	key := strings.ToLower(text)
	if !strings.Contains(key, "/") {
		key = design.Slug(text)
	}
	var out []*design.Object
	for _, o := range n.by[key] {
		if len(kinds) == 0 || slices.Contains(kinds, o.Kind) {
			out = append(out, o)
		}
	}
	if whole := slices.DeleteFunc(
		slices.Clone(out), func(o *design.Object) bool { return n.paths[o.ID] != key },
	); len(whole) > 0 {
		return whole
	}
	return out
}

// mostWords is how many words a name may have in a saying.
const mostWords = 14

// refSpan reads the longest run of tokens that names something, from the next
// one. It reports nothing.
func (r *reader) refSpan(kinds []design.Kind) (found []*design.Object, words int) {
	if r.next >= len(r.toks) || r.toks[r.next].mark() {
		return nil, 0
	}
	if r.toks[r.next].is("it") && r.it != "" {
		if o := r.design.Get(r.it); o != nil {
			return []*design.Object{o}, 1
		}
	}
	if r.toks[r.next].is("the") && r.next+1 < len(r.toks) && len(r.names.by["the"]) == 0 {
		r.next++
	}
	most := 1
	for !r.toks[r.next].quoted && r.next+most < len(r.toks) && most < mostWords && !r.toks[r.next+most].mark() &&
		!r.toks[r.next+most].quoted {
		most++
	}
	for k := most; k > 0; k-- {
		var texts []string
		for _, t := range r.toks[r.next : r.next+k] {
			texts = append(texts, t.text)
		}
		if found = r.present(r.names.find(strings.Join(texts, " "), kinds)); len(found) > 0 {
			return found, k
		}
	}
	return nil, 0
}

// present are objects as the lines before have left them: without what was removed,
// and with what was changed.
func (r *reader) present(list []*design.Object) []*design.Object {
	out := make([]*design.Object, 0, len(list))
	for _, o := range list {
		if r.gone[o.ID] {
			continue
		}
		if now := r.design.Get(o.ID); now != nil {
			o = now
		}
		out = append(out, o)
	}
	return out
}

// ref reads a reference to an object of some kinds; near is where it is looked
// for first. ok is false if there is none, which is then told.
func (r *reader) ref(kinds []design.Kind, near design.ID) (o *design.Object, ok bool) {
	r.offerNames(kinds)
	found, k := r.refSpan(kinds)
	if of, n := r.kindAt(orAll(kinds)); n > 0 { // the kind may stand before the name
		r.next += n
		if again, words := r.refSpan([]design.Kind{of}); len(again) > 0 && (len(found) != 1 || n+words > k) {
			found, k = again, words
		} else {
			r.next -= n
		}
	}
	if len(found) > 1 {
		if beside := nearest(r.design, found, near); len(beside) == 1 {
			found = beside
		}
	}
	switch {
	case len(found) == 1:
		r.next += k
		return found[0], true
	case len(found) > 1:
		from, to := r.span(r.next, r.next+k)
		r.wrong(from, to, fmt.Sprintf("%d things are called that", len(found)), "say which: "+r.pathsOf(found))
		r.next += k
		return nil, false
	}
	if r.next >= len(r.toks) {
		r.wrongHere("a name is missing", "name a "+kindWords(kinds)+r.examples(kinds))
		return nil, false
	}
	start := r.next
	for r.next < len(r.toks) && !r.toks[r.next].mark() && !r.stops(r.toks[r.next]) {
		r.next++
	}
	r.next = max(r.next, start+1)
	if r.declaring { // it may be made by a line that follows
		return &design.Object{}, true
	}
	from, to := r.span(start, r.next)
	r.wrong(from, to, "no "+kindWords(kinds)+" is called that", strings.TrimPrefix(r.examples(kinds), ", such as "))
	return nil, false
}

func orAll(kinds []design.Kind) []design.Kind {
	if len(kinds) == 0 {
		return design.Kinds()
	}
	return kinds
}

// thing is as [reader.ref], for what must be there already.
func (r *reader) thing(kinds []design.Kind, near design.ID) (*design.Object, bool) {
	o, ok := r.ref(kinds, near)
	return o, ok && o.ID != ""
}

// nearest are those in the same party as near, or inside it.
func nearest(d *design.Design, list []*design.Object, near design.ID) []*design.Object {
	party := d.Party(near)
	if party == nil {
		return nil
	}
	var out []*design.Object
	for _, o := range list {
		if p := d.Party(o.ID); p != nil && p.ID == party.ID {
			out = append(out, o)
		}
	}
	return out
}

func (r *reader) pathsOf(list []*design.Object) string {
	var out []string
	for _, o := range list[:min(len(list), 6)] {
		out = append(out, r.names.paths[o.ID])
	}
	return strings.Join(out, ", ")
}

func (r *reader) examples(kinds []design.Kind) string {
	var out []string
	for _, x := range r.names.list {
		if slices.Contains(kinds, x.object.Kind) && len(out) < 5 {
			out = append(out, x.object.Name)
		}
	}
	if len(out) == 0 {
		return ""
	}
	return ", such as " + strings.Join(out, ", ")
}

// stops reports whether a word ends a name that nobody knows.
func (r *reader) stops(t token) bool {
	return !t.quoted &&
		(slices.Contains([]string{"must", "and", "with", "by", "to", "into", "on", "as", "of", "in"},
			strings.ToLower(t.text)) || isLiteral(t.text))
}

func kindWords(kinds []design.Kind) string {
	if len(kinds) == 0 {
		return "thing"
	}
	var out []string
	for _, k := range kinds {
		out = append(out, Word(k))
	}
	return strings.Join(out, " or ")
}
