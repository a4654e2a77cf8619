// Package change parts the work of an estate between named changes. The work is the difference between what is built
// and what is planned, and the journal tells who planned which of it: every edit of the plan belongs to a change, and a
// field of an object to the change that touched it last. A change can be looked at alone, taken back whole, set aside
// and taken up again.
package change

import (
	"cmp"
	"slices"

	"dravin/core/design"
)

// ID names a change.
type ID string

// Rest is what no change tells of: what a design file planned, or what was said not to be there.
const Rest ID = "rest"

// Act is what a row of the journal does with a change.
type Act string

// The acts.
const (
	Do    Act = "do"    // it plans something of it
	Back  Act = "back"  // it takes the change back
	Aside Act = "aside" // it sets the change aside
	Up    Act = "up"    // it takes the change up again
)

// Part is what a change does to one object.
type Part struct {
	ID design.ID `json:"id"`
	// Fields are keys as in a design file; none of an object that comes or goes as a whole.
	Fields []string `json:"fields,omitempty"`
}

// Row is a row of the journal, as far as changes go by it. Only what is in force counts.
type Row struct {
	Position int64  `json:"-"`
	Changes  []ID   `json:"changes"` // one, but where those that need each other are taken out together
	Act      Act    `json:"act"`
	Parts    []Part `json:"parts"`
}

// claim is that a change has planned a field, with the row that did it first.
type claim struct {
	change ID
	at     int64
}

// whole is the key of an object that comes or goes.
const whole = ""

// Ledger tells which change planned what.
type Ledger struct {
	claims map[design.ID]map[string][]claim // the last on top
	acts   map[ID]Row                       // the last row of each that does not plan
	aside  map[ID][]held                    // what those claim that are out of the plan
}

// held is a claim of a change that is set aside.
type held struct {
	object design.ID
	field  string
	claim
}

// Told is the ledger that the rows of a journal tell, in its order.
func Told(rows []Row) *Ledger {
	l := &Ledger{map[design.ID]map[string][]claim{}, map[ID]Row{}, map[ID][]held{}}
	for _, r := range rows {
		for _, id := range r.Changes {
			switch r.Act {
			case Back, Aside:
				l.drop(id)
				l.acts[id] = r
			case Up:
				for _, h := range l.aside[id] {
					l.add(h.object, h.field, h.claim)
				}
				delete(l.acts, id)
			default:
				for _, p := range r.Parts {
					for _, key := range keysOf(p) {
						l.add(p.ID, key, claim{id, r.Position})
					}
				}
				delete(l.acts, id)
			}
		}
	}
	return l
}

// drop takes all claims of a change out, and keeps them for when it is taken up again.
func (l *Ledger) drop(id ID) {
	l.aside[id] = nil
	for object, fields := range l.claims {
		for key, list := range fields {
			fields[key] = slices.DeleteFunc(list, func(c claim) bool {
				if c.change == id {
					l.aside[id] = append(l.aside[id], held{object, key, c})
				}
				return c.change == id
			})
		}
	}
}

func (l *Ledger) add(object design.ID, field string, c claim) {
	fields := l.claims[object]
	if fields == nil {
		fields = map[string][]claim{}
		l.claims[object] = fields
	}
	list := fields[field]
	if n := len(list); n == 0 || list[n-1].change != c.change {
		fields[field] = append(list, c)
	}
}

func keysOf(p Part) []string {
	if len(p.Fields) == 0 {
		return []string{whole}
	}
	return p.Fields
}

// Last is what was done last with a change as a whole: the row that takes it [Back] or sets it [Aside]; ok is false
// where none does.
func (l *Ledger) Last(id ID) (r Row, ok bool) {
	r, ok = l.acts[id]
	return r, ok
}

// Of is the change to which a field of an object belongs. What comes or goes belongs whole to the change that brings or
// takes it, whoever edits it meanwhile.
func (l *Ledger) Of(id design.ID, field string) ID {
	return cmp.Or(l.top(id, field).change, Rest)
}

func (l *Ledger) top(id design.ID, field string) claim {
	fields := l.claims[id]
	list := fields[field]
	if len(list) == 0 {
		list = fields[whole]
	}
	if len(list) == 0 {
		return claim{}
	}
	return list[len(list)-1]
}

// Parts are what edits that lead from one plan to the next plan of the work: what is not there alike by then, and
// belongs to a side.
func Parts(before, next *design.Design, edits []design.Edit) (out []Part) {
	there := next.Built()
	for _, e := range edits {
		a, b, now := before.Get(e.ID), next.Get(e.ID), there.Get(e.ID)
		o := cmpObject(b, a)
		if e.Side == design.Built || o == nil || design.Shared(o.Kind) {
			continue
		}
		p := Part{ID: e.ID}
		switch {
		case a != nil && b != nil:
			for _, f := range design.FieldsUnlike(a, b) {
				if now == nil || slices.Contains(design.FieldsUnlike(now, b), f) {
					p.Fields = append(p.Fields, f)
				}
			}
			if len(p.Fields) == 0 {
				continue
			}
		case b == nil && now == nil, b != nil && now != nil && design.Equal(b, now):
			continue
		}
		out = append(out, p)
	}
	return out
}

func cmpObject(a, b *design.Object) *design.Object {
	if a != nil {
		return a
	}
	return b
}

// Making is the change of which edits with some parts are part without anybody saying so: that which plans the same, or
// which brings what they name, the latest of them; empty: none.
func (l *Ledger) Making(before, next *design.Design, parts []Part) ID {
	var last claim
	look := func(c claim) {
		if c.change != "" && c.at >= last.at {
			last = c
		}
	}
	for _, p := range parts {
		o := cmpObject(next.Get(p.ID), before.Get(p.ID))
		if before.Get(p.ID) != nil && before.Built().Get(p.ID) != nil {
			for _, f := range keysOf(p) {
				if planned(before, p.ID, f) {
					look(l.top(p.ID, f))
				}
			}
			continue
		}
		for _, id := range append(names(o), p.ID) {
			if before.Built().Get(id) == nil {
				look(l.top(id, whole))
			}
		}
	}
	return last.change
}

// planned reports whether a field of something that is there is planned otherwise.
func planned(d *design.Design, id design.ID, field string) bool {
	was, plan := d.Built().Get(id), d.Get(id)
	return field != whole && slices.Contains(design.FieldsUnlike(was, plan), field)
}
