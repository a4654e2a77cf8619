package runbook

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
)

// task is something that is to be done, in parts that are each somebody's.
type task struct {
	joint design.Joint // what is made, changed or taken away at its ends; none of all else
	parts []part
	after []done // what came of trying it
	order int    // in the order of making
	id    string // of its last step
	gives string // the step that brings the addresses to which boxes that follow are set
	name  string // what that is about
}

// done is a part that was tried: its edits, and the estate after them.
type done struct {
	edits []design.Edit
	then  *estate
}

// part is what one party does of a task.
type part struct {
	key   string    // of its step, with what it is about
	at    design.ID // where it is done; empty: nowhere
	end   int       // 1 or 2, 0 of what has none
	does  string    // what is done beside entering what the instructions say; empty: nothing
	needs string
	enter string    // what is entered, where no instruction says it
	about design.ID // of what it is called, where it has no edits
	anew  []string  // that all of it is entered, and not just what is otherwise, as sentences
	last  bool      // it is done once all boxes have followed the others
	// edits are those of the part over the estate by then; nil if it can not be done.
	edits func(w *writer, d *design.Design) []design.Edit
}

// The order of making: a place goes before what stands in it, what joins before what routes by it, and what is taken
// away comes last. Within one, tasks keep the order of the design.
const (
	called   = iota // names alone: segments, groups
	places          // sites, networks
	boxes           // gateways, boxes, hubs, edge routers
	joints          //
	entries         // tables
	passing         // filters, crossings, names
	takeaway        //
)

// pending are the tasks that are left: all of the difference between the estate by now and the plan.
func (w *writer) pending() (out []*task) {
	cur := w.now.design()
	left := cur.Toward(w.plan)
	at, of := map[string]*task{}, map[string][]design.Edit{}
	for _, e := range left {
		o := w.either(e.ID)
		if j := w.jointOf(o); j.Object != nil {
			key := string(j.ID)
			if at[key] == nil {
				at[key] = &task{joint: j, order: joints}
			}
			continue
		}
		where := w.placeOf(o)
		if at[where.key] == nil {
			at[where.key] = &task{order: where.order, parts: []part{{key: "at", at: where.at, edits: w.fitting(where.key)}}}
		}
		if of[where.key] = append(of[where.key], e); e.Op == design.Remove {
			at[where.key].order = max(at[where.key].order, where.order)
		}
	}
	for _, o := range inOrder(w, left) {
		key := w.keyOf(o)
		x := at[key]
		if x == nil {
			continue
		}
		delete(at, key)
		if x.joint.Object != nil {
			if x.parts = w.jointParts(x.joint); len(x.parts) == 0 {
				continue
			}
			for n := range x.parts {
				x.parts[n].edits = w.atOnce(x.parts[n])
			}
			if w.plan.Get(x.joint.ID) == nil {
				x.order = takeaway
			}
		}
		if len(remadeBy(cur, of[key])) > 0 { // as far as it can be done by now
			x.parts = around(x.parts[0], remadeBy(cur, x.parts[0].edits(w, cur))...)
		}
		out = append(out, x)
	}
	slices.SortStableFunc(out, func(a, b *task) int { return a.order - b.order })
	return out
}

// inOrder are what edits are about, in the order of the plan, what it has no more last and from within.
func inOrder(w *writer, left []design.Edit) (out []*design.Object) {
	named := map[design.ID]bool{}
	for _, e := range left {
		named[e.ID] = true
	}
	for _, o := range w.plan.All() {
		if named[o.ID] {
			out = append(out, o)
		}
	}
	cur := w.now.design().All()
	for n := range cur {
		if o := cur[len(cur)-1-n]; named[o.ID] && w.plan.Get(o.ID) == nil {
			out = append(out, o)
		}
	}
	return out
}

// either is an object as planned, or as it is where the plan has it no more.
func (w *writer) either(id design.ID) *design.Object {
	if o := w.plan.Get(id); o != nil {
		return o
	}
	return w.now.design().Get(id)
}

// of is the design that has an object: the plan, or the estate by now.
func (w *writer) of(id design.ID) *design.Design {
	if w.plan.Get(id) != nil {
		return w.plan
	}
	return w.now.design()
}

// jointOf is the joint that an object is, carries, runs over or asks for; none of all else.
func (w *writer) jointOf(o *design.Object) (none design.Joint) {
	d := w.of(o.ID)
	switch b := o.Body.(type) {
	case *design.Request:
		o = d.Get(b.For)
	case *design.Tunnel, *design.Session:
		for o != nil && (o.Kind == design.KindTunnel || o.Kind == design.KindSession) {
			o = d.Get(o.Parent)
		}
	}
	if j, ok := design.JointOf(o); ok {
		return j
	}
	return none
}

// place is where something is done that is no joint.
type place struct {
	key   string    // names it
	at    design.ID // the party, box, hub or table; empty: nowhere
	order int
}

func (w *writer) keyOf(o *design.Object) string {
	if j := w.jointOf(o); j.Object != nil {
		return string(j.ID)
	}
	return w.placeOf(o).key
}

// placeOf is where an object stands or is entered.
func (w *writer) placeOf(o *design.Object) place {
	d := w.of(o.ID)
	fresh, gone := w.now.design().Get(o.ID) == nil, w.plan.Get(o.ID) == nil
	at := func(kind string, id design.ID, order int) place {
		if gone {
			kind, order = kind+" away", takeaway
		}
		return place{kind + " " + string(id), id, order}
	}
	switch b := o.Body.(type) {
	case *design.Gateway, *design.Box, *design.EdgeRouter, *design.Hub:
		return at("box", o.ID, boxes)
	case *design.HubTable:
		return at("box", o.Parent, boxes)
	case *design.Mapping:
		return at("box", b.Gateway, entries)
	case *design.Listener:
		return at("box", b.At, entries)
	case *design.Table:
		if !fresh && !gone {
			return at("table", o.ID, entries)
		}
	case *design.PacketFilter:
		return at("passing", w.standing(d, b.At), passing)
	case *design.Crossing:
		for _, id := range route.CrossedAt(d, o.ID) {
			return at("passing", id, passing)
		}
		return at("called", "", called)
	case *design.Names:
		return at("names", d.Party(b.For[0]).ID, passing)
	}
	if p := d.Party(o.ID); p != nil && p.Kind != design.KindOutside {
		return at("place", p.ID, places)
	}
	return at("called", "", called)
}

// standing is where a filter is entered: at the box or hub that it stands at, else at the party.
func (w *writer) standing(d *design.Design, id design.ID) design.ID {
	o := d.Get(id)
	if o == nil {
		return ""
	}
	switch o.Kind {
	case design.KindGateway, design.KindBox, design.KindHub, design.KindEdgeRouter:
		return id
	case design.KindCrossing:
		for _, at := range route.CrossedAt(d, id) {
			return at
		}
		return ""
	case design.KindGroup:
		for _, m := range d.MembersOf(id) {
			return d.Party(m).ID
		}
		return ""
	}
	if p := d.Party(id); p != nil {
		return p.ID
	}
	return ""
}

// fitting gives the edits of a place: as many of those that are left there as can be done now.
func (w *writer) fitting(key string) func(*writer, *design.Design) []design.Edit {
	return func(w *writer, cur *design.Design) []design.Edit {
		var puts, removes []design.Edit
		for _, e := range cur.Toward(w.plan) {
			o := w.either(e.ID)
			if w.keyOf(o) != key && !(e.Op == design.Put && w.silent(o)) {
				continue
			}
			if e.Op == design.Put {
				puts = append(puts, e)
			} else {
				removes = append(removes, e)
			}
		}
		puts = w.needed(key, w.fit(cur, puts), cur)
		for _, try := range [][]design.Edit{slices.Concat(puts, removes), puts, removes} {
			if len(try) == 0 {
				continue
			}
			if _, _, err := cur.Apply(try); err == nil {
				return try
			}
		}
		for _, e := range slices.Concat(puts, removes) {
			if _, _, err := cur.Apply([]design.Edit{e}); err == nil && w.keyOf(w.either(e.ID)) == key {
				return []design.Edit{e}
			}
		}
		return nil
	}
}

// atOnce are the edits of a part with what else is to be done at the same box by then: it is gone to once.
func (w *writer) atOnce(p part) func(*writer, *design.Design) []design.Edit {
	if o := w.plan.Get(p.at); o == nil || o.Kind == design.KindNetwork || o.Kind == design.KindHub || p.does != "" {
		return p.edits
	}
	return func(w *writer, cur *design.Design) []design.Edit {
		edits := p.edits(w, cur)
		if len(edits) == 0 {
			return edits
		}
		all := slices.Clone(edits)
		for _, e := range w.fitting("box "+string(p.at))(w, cur.Sketch(edits)) {
			if !slices.ContainsFunc(edits, func(x design.Edit) bool { return x.ID == e.ID }) {
				all = append(all, e)
			}
		}
		if len(remadeBy(cur, all)) > 0 {
			return edits
		}
		if _, _, err := cur.Apply(all); err != nil {
			return edits
		}
		return all
	}
}

// silent reports whether nobody does anything for an object alone: it has a name that others use.
func (w *writer) silent(o *design.Object) bool {
	return w.jointOf(o).Object == nil && w.placeOf(o).order == called
}

// fit are as many edits as can be made, each with as many of its fields as name what is there then.
func (w *writer) fit(cur *design.Design, puts []design.Edit) (out []design.Edit) {
	batch := map[design.ID]bool{}
	for _, e := range puts {
		batch[e.ID] = true
	}
	there := func(id design.ID) bool {
		return batch[id] || cur.Get(id) != nil || w.plan.Get(id) != nil && design.Shared(w.plan.Get(id).Kind)
	}
	for again := true; again; { // what falls away may be what another needs
		again, out = false, nil
		for _, e := range puts {
			if !batch[e.ID] {
				continue
			}
			was := cur.Get(e.ID)
			o := design.Fitting(e.Object, was, there)
			if o == nil || was != nil && design.Same(o, was) && o.Parent == was.Parent {
				delete(batch, e.ID)
				again = true
				continue
			}
			out = append(out, design.PutEdit(o))
		}
	}
	return out
}

// needed are edits without what only others need that are not among them.
func (w *writer) needed(key string, puts []design.Edit, cur *design.Design) []design.Edit {
	need := map[design.ID]bool{}
	var mark func(o *design.Object)
	mark = func(o *design.Object) {
		for _, to := range append(design.RefsOf(o), o.Parent) {
			for _, e := range puts {
				if e.ID == to && !need[to] {
					need[to] = true
					mark(e.Object)
				}
			}
		}
	}
	for _, e := range puts {
		if w.keyOf(w.either(e.ID)) == key {
			need[e.ID] = true
			mark(e.Object)
		}
	}
	return slices.DeleteFunc(puts, func(e design.Edit) bool { return !need[e.ID] })
}

// rest is all that is left as one task: what can only be done at one go.
func (w *writer) rest() *task {
	left := w.now.design().Toward(w.plan)
	at := design.ID("")
	for _, e := range left {
		o := w.either(e.ID)
		if j := w.jointOf(o); j.Object != nil {
			at = w.of(j.ID).Party(j.Ends[0]).ID
		} else if p := w.placeOf(o); p.at != "" {
			at = p.at
		}
		if at != "" && w.plan.Get(at) != nil {
			break
		}
	}
	all := func(w *writer, cur *design.Design) []design.Edit { return cur.Toward(w.plan) }
	return &task{parts: []part{{key: "rest", at: at, does: "do at one go what each needs of the other", edits: all}}}
}

// mark is a short name for edits: what they are about, and which fields.
func mark(d, then *design.Design, edits []design.Edit) string {
	var parts []string
	for _, e := range edits {
		a, b := d.Get(e.ID), then.Get(e.ID)
		if a == nil && b == nil {
			continue
		}
		parts = append(parts, string(e.ID)+":"+strings.Join(design.FieldsUnlike(a, b), ","))
	}
	slices.Sort(parts)
	sum := sha256.Sum256([]byte(strings.Join(parts, ";")))
	return hex.EncodeToString(sum[:4])
}

// exists reports whether a design has an object that was neither refused nor is gone.
func exists(d *design.Design, id design.ID) bool {
	o := d.Get(id)
	return o != nil && status.Exists(o)
}
