package change

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"dravin/core/design"
)

// Work is what a change still has to do to one object.
type Work struct {
	Part
	Edit design.Edit // over what is built
}

// Left is what each change still has to do, in the order of the design.
func (l *Ledger) Left(d *design.Design) map[ID][]Work {
	out := map[ID][]Work{}
	for _, e := range d.Work() {
		was, plan := d.Built().Get(e.ID), d.Get(e.ID)
		if was == nil || plan == nil {
			of := l.Of(e.ID, whole)
			out[of] = append(out[of], Work{Part{ID: e.ID}, e})
			continue
		}
		by := map[ID][]string{}
		for _, f := range design.FieldsUnlike(was, plan) {
			of := l.Of(e.ID, f)
			by[of] = append(by[of], f)
		}
		for _, of := range slices.Sorted(maps.Keys(by)) {
			out[of] = append(out[of], Work{Part{e.ID, by[of]}, design.PutEdit(design.WithFields(was, plan, by[of]))})
		}
	}
	return out
}

// Begun is of how many objects a change has planned something, done or not.
func (l *Ledger) Begun(d *design.Design, id ID) (n int) {
	for object, fields := range l.claims {
		if d.Get(object) == nil && d.Built().Get(object) == nil {
			continue
		}
		for key := range fields {
			if l.Of(object, key) == id {
				n++
				break
			}
		}
	}
	return n
}

// Needs are the changes without which each can not be done, itself not among them: it names what they make, or takes
// away what they must let go of first.
func Needs(d *design.Design, left map[ID][]Work) map[ID][]ID {
	makes, lets := map[design.ID]ID{}, map[design.ID][]ID{}
	built := d.Built()
	for _, of := range slices.Sorted(maps.Keys(left)) {
		for _, w := range left[of] {
			if built.Get(w.ID) == nil {
				makes[w.ID] = of
			}
			if was := built.Get(w.ID); was != nil { // what it names no more
				now := names(w.Edit.Object)
				for _, to := range names(was) {
					if !slices.Contains(now, to) {
						lets[to] = append(lets[to], of)
					}
				}
			}
		}
	}
	out := map[ID][]ID{}
	for _, of := range slices.Sorted(maps.Keys(left)) {
		list := left[of]
		needs := map[ID]bool{}
		for _, w := range list {
			if w.Edit.Object == nil {
				for _, by := range lets[w.ID] {
					needs[by] = true
				}
			}
			for _, to := range names(w.Edit.Object) {
				if by, ok := makes[to]; ok {
					needs[by] = true
				}
			}
		}
		delete(needs, of)
		out[of] = slices.Sorted(maps.Keys(needs))
	}
	for _, of := range slices.Sorted(maps.Keys(left)) {
		out[of] = append(out[of], unnamed(d, left, out, of)...)
	}
	return out
}

// unnamed are more changes without which one can not be done although it names nothing of them: the LAN in which an
// address of it stands is another's, say. They are found by trying.
func unnamed(d *design.Design, left map[ID][]Work, needs map[ID][]ID, of ID) (out []ID) {
	stands := func(ids []ID) bool {
		_, _, err := d.Built().Apply(Only(d, left, ids...))
		return err == nil
	}
	have := With(needs, of)
	if stands(have) {
		return nil
	}
	var more []ID
	for _, id := range slices.Sorted(maps.Keys(left)) {
		if !slices.Contains(have, id) {
			more = append(more, id)
		}
	}
	if !stands(slices.Concat(have, more)) {
		return nil // it can not be done alone at all, and whoever asks is told why
	}
	for n := 0; n < len(more); { // as few as it takes
		if fewer := slices.Delete(slices.Clone(more), n, n+1); stands(With(needs, slices.Concat(have, fewer)...)) {
			more = fewer
		} else {
			n++
		}
	}
	return more
}

// names is what an object names, what it stands in included; nothing of none.
func names(o *design.Object) []design.ID {
	if o == nil {
		return nil
	}
	out := design.RefsOf(o)
	if o.Parent != "" {
		out = append(out, o.Parent)
	}
	return out
}

// With are changes with all that they lead to, by what each leads to, the given ones first.
func With(leads map[ID][]ID, ids ...ID) []ID {
	out := slices.Clone(ids)
	for n := 0; n < len(out); n++ {
		for _, to := range leads[out[n]] {
			if !slices.Contains(out, to) {
				out = append(out, to)
			}
		}
	}
	return out
}

// Needed is which changes need each, from [Needs].
func Needed(needs map[ID][]ID) map[ID][]ID {
	out := map[ID][]ID{}
	for _, of := range slices.Sorted(maps.Keys(needs)) {
		for _, to := range needs[of] {
			out[to] = append(out[to], of)
		}
	}
	return out
}

// Only are the edits over what is built that do some changes and no other.
func Only(d *design.Design, left map[ID][]Work, ids ...ID) []design.Edit {
	objects := map[design.ID]*design.Object{}
	var order []design.ID
	var out []design.Edit
	for _, id := range ids {
		for _, w := range left[id] {
			switch was := d.Built().Get(w.ID); {
			case w.Edit.Object == nil:
				out = append(out, w.Edit)
			case objects[w.ID] == nil:
				order = append(order, w.ID)
				objects[w.ID] = w.Edit.Object
			case was != nil:
				objects[w.ID] = design.WithFields(objects[w.ID], w.Edit.Object, w.Fields)
			}
		}
	}
	for _, id := range order {
		out = append(out, design.PutEdit(objects[id]))
	}
	return out
}

// Does says in words what a change still does, the first things of each sort by name.
func Does(d *design.Design, list []Work) string {
	const most = 3
	verbs := [...]string{"makes", "changes", "takes away"}
	var by [len(verbs)][]string
	for _, w := range list {
		n, of := 1, d
		switch {
		case w.Edit.Object == nil:
			n, of = 2, d.Built()
		case d.Built().Get(w.ID) == nil:
			n = 0
		}
		within := func(x Work) bool { return x.ID == of.Get(w.ID).Parent && x.Fields == nil }
		if n != 0 || !slices.ContainsFunc(list, within) {
			by[n] = append(by[n], of.Title(w.ID))
		}
	}
	var out []string
	for n, titles := range by {
		switch {
		case len(titles) > most:
			first := strings.Join(titles[:most-1], ", ")
			out = append(out, fmt.Sprintf("%s %s and %d more", verbs[n], first, len(titles)-most+1))
		case len(titles) > 0:
			out = append(out, verbs[n]+" "+strings.Join(titles, ", "))
		}
	}
	return strings.Join(out, "; ")
}

// Tells are the changes to which a difference between what is built and what is planned belongs, or a step towards it.
func (l *Ledger) Tells(d *design.Design, x design.Difference) (out []ID) {
	if d.Built().Get(x.ID) == nil || d.Get(x.ID) == nil {
		return []ID{l.Of(x.ID, whole)}
	}
	for _, f := range x.Fields {
		if of := l.Of(x.ID, f.Key); !slices.Contains(out, of) {
			out = append(out, of)
		}
	}
	return out
}
