package change

import (
	"slices"

	"dravin/core/design"
)

// Before tells how an object was before a row of the journal; nil: it was not there.
type Before func(position int64, id design.ID) *design.Object

// Without are the edits of the plan that take changes out of it: a field is again as another change has planned it
// before, else as it is built; what was to come does not, with what can not be without it, and what was to go stays.
// gone are objects that go along although they belong to none of the changes, such as intents that name them.
func (l *Ledger) Without(d *design.Design, left map[ID][]Work, before Before, ids ...ID) (
	edits []design.Edit, gone []design.ID,
) {
	var come []design.ID
	mine := map[design.ID]bool{}
	for _, id := range ids {
		for _, w := range left[id] {
			was, plan := d.Built().Get(w.ID), d.Get(w.ID)
			k := slices.IndexFunc(edits, func(x design.Edit) bool { return x.ID == w.ID })
			switch {
			case was == nil:
				come = append(come, w.ID)
			case plan == nil:
				edits = append(edits, design.PutEdit(was))
			case k >= 0:
				edits[k] = design.PutEdit(l.reset(edits[k].Object, was, w.Fields, before, ids))
			default:
				edits = append(edits, design.PutEdit(l.reset(plan, was, w.Fields, before, ids)))
			}
			mine[w.ID] = true
		}
	}
	for _, e := range d.Removal(come...).Edits {
		switch k := slices.IndexFunc(edits, func(x design.Edit) bool { return x.ID == e.ID }); {
		case k < 0:
			edits = append(edits, e)
		case e.Op == design.Remove:
			edits[k] = e
		}
		if e.Op == design.Remove && !mine[e.ID] {
			gone = append(gone, e.ID)
		}
	}
	return edits, gone
}

// reset is an object as planned without what changes have done to some fields.
func (l *Ledger) reset(plan, was *design.Object, fields []string, before Before, ids []ID) *design.Object {
	out := plan
	for _, f := range fields {
		value := was
		list := l.claims[plan.ID][f]
		for n := len(list) - 1; n > 0 && slices.Contains(ids, list[n].change); n-- {
			if slices.Contains(ids, list[n-1].change) {
				continue
			}
			if o := before(list[n].at, plan.ID); o != nil {
				value = o
			}
			break
		}
		out = design.WithFields(out, value, []string{f})
	}
	return out
}

// Again are the edits of the plan that take a change up again which was set aside by a row: what that took out comes
// back. Errors: [design.Problems], where another has planned something of it meanwhile.
func (l *Ledger) Again(d *design.Design, aside Row, before Before, called func(ID) string) ([]design.Edit, error) {
	var edits []design.Edit
	var problems design.Problems
	for _, p := range aside.Parts {
		o, now := before(aside.Position, p.ID), d.Get(p.ID)
		switch {
		case o == nil && now != nil:
			edits = append(edits, design.Edit{Op: design.Remove, ID: p.ID})
		case o == nil:
		case now == nil || len(p.Fields) == 0:
			edits = append(edits, design.PutEdit(o))
		default:
			for _, f := range p.Fields {
				if c := l.top(p.ID, f); c.at > aside.Position {
					problems = append(problems, design.Problem{
						Object: p.ID, Field: d.Path(p.ID) + "/" + f, Why: called(c.change) + " plans it otherwise since",
						Want: "set that aside first, or change it by hand",
					})
				}
			}
			edits = append(edits, design.PutEdit(design.WithFields(now, o, p.Fields)))
		}
	}
	if len(problems) > 0 {
		return nil, problems
	}
	return edits, nil
}

// Taken are the parts of edits that take changes out of a plan, each whole as it must come back: all that they do,
// intents that go along included.
func Taken(before, next *design.Design, edits []design.Edit) (out []Part) {
	for _, e := range edits {
		a, b := before.Get(e.ID), next.Get(e.ID)
		switch {
		case a == nil && b == nil || design.Equal(a, b):
		case a == nil || b == nil:
			out = append(out, Part{ID: e.ID})
		default:
			out = append(out, Part{e.ID, design.FieldsUnlike(a, b)})
		}
	}
	return out
}
