package passes

import (
	"fmt"
	"slices"

	"dravin/core/design"
	"dravin/core/route"
)

// Guard is a new filter at something that has none, which lets pass exactly what intents need there: the edits that
// make it, and how many rules it has. ok is false where no filter can be.
func Guard(t *route.Tables, at design.ID) (edits []design.Edit, rules int, ok bool) {
	d := t.Design
	o := d.Get(at)
	if o == nil || len(d.FiltersAt(at, false)) > 0 {
		return nil, 0, false
	}
	made := design.IDFor(design.KindFilter, "at "+string(at))
	put := []design.Edit{design.PutEdit(&design.Object{
		ID: made, Kind: design.KindFilter, Name: guardName(d, o), Body: &design.PacketFilter{At: at},
	})}
	next, _, err := d.Apply(put)
	if err != nil {
		return nil, 0, false
	}
	worked := Of(t.After(next, d.ChangedBy(put, next))).FromIntents(Wish{Filters: []design.ID{made}})
	for _, f := range worked.Filters {
		rules = len(f.After)
	}
	if len(worked.Edits) > 0 {
		return worked.Edits, rules, true
	}
	return put, rules, true
}

// guardName is a name for a filter at a place that no other has.
func guardName(d *design.Design, o *design.Object) string {
	taken := func(name string) bool {
		return slices.ContainsFunc(
			d.Of(design.KindFilter), func(f *design.Object) bool { return design.Named(f.Name, design.Slug(name)) },
		)
	}
	name := "at " + d.Title(o.ID)
	if r := []rune(name); len(r) > 70 {
		name = string(r[:70])
	}
	for n := 2; taken(name); n++ {
		name = fmt.Sprintf("at %s %d", d.Title(o.ID), n)
	}
	return name
}
