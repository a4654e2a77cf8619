package design

import (
	"maps"
	"slices"
)

// Side names one of the designs that an estate is kept as.
type Side string

// The sides. An empty one in an [Edit] is Planned.
const (
	Planned Side = "planned" // what is to be
	Built   Side = "built"   // what is there
	Both    Side = "both"    // of an edit alone: it changes either alike
)

// Word is when a side holds, as people say it.
func (s Side) Word() string {
	if s == Built {
		return "today"
	}
	return "when built"
}

// shared are the kinds that are of the estate and of neither side: what is wanted, whose it is, what clouds allow and
// what is kept free. The design as built has those of them of which everything that they name is there, see
// [Design.Aside].
var shared = []Kind{KindOwner, KindProfile, KindIntent, KindReservation}

// Shared reports whether objects of a kind are of the estate and of neither side.
func Shared(k Kind) bool { return slices.Contains(shared, k) }

// Side is which of the two designs of an estate this one is.
func (d *Design) Side() Side {
	if d.side == Built {
		return Built
	}
	return Planned
}

// Built is the design as built that belongs to a design as planned, and shares with it what is equal; that of a design
// as built is itself. It must not be changed through its plan's view.
func (d *Design) Built() *Design {
	switch {
	case d.side == Built:
		return d
	case d.built == nil: // the zero Design
		return &Design{Name: d.Name, side: Built, paths: &paths{}}
	case d.reads != nil:
		return d.built.Watched(d.reads)
	}
	return d.built
}

// On is the design of a side.
func (d *Design) On(s Side) *Design {
	if s == Built {
		return d.Built()
	}
	return d
}

// Called is the same design under another name.
func (d *Design) Called(name string) *Design {
	out, there := *d, *d.Built()
	out.Name, there.Name = name, name
	if out.side != Built {
		out.built = &there
	}
	return &out
}

// Aside are the objects of the estate that a design as built has not got, since something that they name is not there:
// an intent between hosts of which one is planned, say. None of a design as planned.
func (d *Design) Aside() []*Object { return d.aside }

// asBuilt is the same design, taken for what is there.
func (d *Design) asBuilt() *Design {
	c := *d
	c.side, c.built, c.aside = Built, nil, nil
	return &c
}

// WithBuilt is a design as planned to which another belongs as built: what is there, whatever is planned. What is of
// the estate and of neither side is taken from the plan.
func (d *Design) WithBuilt(there *Design) *Design {
	out := *d.numberedBeside(there)
	out.built = there.asBuilt()
	out.built.Name = d.Name
	given := out.built
	for _, o := range out.all { // those that were given theirs just now
		if d.objects[o.ID] != o {
			out.renumbered = append(out.renumbered, o.ID)
		}
	}
	given = given.Sketch(out.givenTo(given, &out))
	out.renumbered = nil
	out.built = given.sharing(&out, nil)
	return &out
}

// numberedBeside is the design with the numbers written down that the order of names tells, at boxes at which something
// else is there than planned: the two sides would count otherwise. What is there keeps its own.
func (d *Design) numberedBeside(there *Design) *Design {
	var edits []Edit
	for _, k := range []Kind{KindLink, KindTunnel, KindCircuit, KindSegment} {
		for _, o := range d.byKind[k] {
			if there.objects[o.ID] == nil {
				edits = append(edits, Edit{ID: o.ID})
			}
		}
		for _, o := range there.byKind[k] {
			if d.objects[o.ID] == nil {
				edits = append(edits, Edit{ID: o.ID})
			}
		}
	}
	return d.Sketch(d.numbering(there, edits))
}

// sharing is a design as built that has of the shared kinds what belongs to it: of all that its plan has, or, if given,
// of those with these IDs alone.
func (b *Design) sharing(plan *Design, ids []ID) *Design {
	var list []*Object
	if ids == nil {
		for _, k := range shared {
			for _, o := range slices.Concat(plan.byKind[k], b.byKind[k]) {
				ids = append(ids, o.ID)
			}
		}
	}
	ids = slices.Compact(slices.Sorted(slices.Values(ids)))
	for _, id := range ids {
		if o := plan.objects[id]; o != nil && Shared(o.Kind) {
			list = append(list, o)
		}
	}
	var edits []Edit
	aside := slices.DeleteFunc(slices.Clone(b.aside), func(o *Object) bool { return slices.Contains(ids, o.ID) })
	slices.SortStableFunc(list, func(x, y *Object) int { return canonical(x, y) }) // owners come before what names them
	owners := map[ID]bool{}
	for _, o := range list {
		owners[o.ID] = o.Kind == KindOwner
	}
	for _, o := range list {
		missing := slices.ContainsFunc(RefsOf(o), func(to ID) bool { return b.objects[to] == nil && !owners[to] })
		switch {
		case missing:
			aside = append(aside, o)
			if b.objects[o.ID] != nil {
				edits = append(edits, Edit{Op: Remove, ID: o.ID})
			}
		case b.objects[o.ID] != o:
			edits = append(edits, PutEdit(o))
		}
	}
	for _, id := range ids {
		// What is still there may name what the plan has no more.
		if plan.objects[id] == nil && b.objects[id] != nil && Shared(b.objects[id].Kind) && len(b.referring[id]) == 0 {
			edits = append(edits, Edit{Op: Remove, ID: id})
		}
	}
	if len(edits) == 0 && len(aside) == len(b.aside) && slices.Equal(aside, b.aside) {
		return b
	}
	next := b.Sketch(edits)
	next.aside = InOrder(aside)
	return next
}

// parted are edits by the side that they change, each as an edit of that side's design.
func parted(edits []Edit) (planned, built []Edit) {
	for _, e := range edits {
		bare := e
		bare.Side = ""
		if e.Side != Built {
			planned = append(planned, bare)
		}
		if e.Side == Built || e.Side == Both {
			built = append(built, bare)
		}
	}
	return planned, built
}

// applyBuilt is the design as built after a change from d to next as planned, and edits of its own.
func (d *Design) applyBuilt(next *Design, planned, built []Edit) (*Design, Problems) {
	b := d.Built()
	var touched []ID
	for _, e := range planned {
		for _, o := range []*Object{d.objects[e.ID], next.objects[e.ID]} {
			if o != nil && Shared(o.Kind) {
				touched = append(touched, e.ID)
			}
		}
	}
	given := d.givenTo(b, next)
	if len(built)+len(touched)+len(given) == 0 {
		return b, nil
	}
	for n, e := range built {
		if o := next.objects[e.ID]; o != nil && e.Op == Put && sameUnnumbered(o, e.Object) {
			built[n].Object = o // with its numbers
		}
	}
	for n := range built { // shared kinds follow their plan
		if o := cmpFirst(next.objects[built[n].ID], b.objects[built[n].ID]); o != nil && Shared(o.Kind) {
			touched = append(touched, built[n].ID)
		}
	}
	for _, id := range touched { // what names nothing is there before what names it
		if o := next.objects[id]; o != nil && (o.Kind == KindOwner || o.Kind == KindProfile) {
			given = append(given, PutEdit(o))
		}
	}
	built = slices.DeleteFunc(built, func(e Edit) bool { return slices.Contains(touched, e.ID) })
	out, problems := b.apart(built).after(append(given, built...), false)
	if len(problems) > 0 {
		return nil, problems
	}
	if len(built) > 0 {
		touched = nil // what is there now decides for all
	}
	return out.sharing(next, touched), nil
}

// apart is a design as built without what of the estate names something that edits take away; it comes in again as far
// as what it names is there.
func (b *Design) apart(built []Edit) *Design {
	var edits []Edit
	for _, e := range built {
		if e.Op != Remove {
			continue
		}
		for _, o := range b.referring[e.ID] {
			if Shared(o.Kind) && b.objects[o.ID] != nil {
				edits = append(edits, Edit{Op: Remove, ID: o.ID})
			}
		}
	}
	if len(edits) == 0 {
		return b
	}
	return b.Sketch(edits)
}

func cmpFirst(a, b *Object) *Object {
	if a != nil {
		return a
	}
	return b
}

// givenTo are the numbers that a change has written down in the plan and that stand nowhere in the design as built:
// what runs has them, too.
func (d *Design) givenTo(b, next *Design) (out []Edit) {
	for _, id := range next.renumbered {
		o, there := next.objects[id], b.objects[id]
		if there == nil || o == nil {
			continue
		}
		now := there
		for end := range 2 {
			if n := givenNumber(o, end); n != 0 && givenNumber(there, end) == 0 {
				now = withNumber(now, end, n)
			}
			if o.Kind == KindSegment {
				break
			}
		}
		switch {
		case same(now, o):
			out = append(out, PutEdit(o))
		case now != there:
			out = append(out, PutEdit(now))
		}
	}
	return out
}

// sameUnnumbered reports whether an object is another but for the numbers that it was given.
func sameUnnumbered(numbered, o *Object) bool {
	switch numbered.Kind {
	case KindTunnel, KindCircuit, KindSegment:
	default:
		return numbered == o || same(numbered, o)
	}
	return same(unnumbered(numbered), unnumbered(o))
}

func unnumbered(o *Object) *Object {
	switch o.Body.(type) {
	case *Tunnel:
		return Edited(o, func(b *Tunnel) { b.Numbers = nil })
	case *Circuit:
		return Edited(o, func(b *Circuit) {
			for n := range b.Ends {
				b.Ends[n].Number = 0
			}
		})
	case *Segment:
		return Edited(o, func(b *Segment) { b.Number = 0 })
	}
	return o
}

// bothSides joins the edits of the two sides: what is alike in both is one edit.
func bothSides(planned, built []Edit) []Edit {
	at := map[ID]int{}
	for n, e := range planned {
		at[e.ID] = n
	}
	out := slices.Clone(planned)
	var alone []Edit
	for _, e := range built {
		n, ok := at[e.ID]
		if ok && out[n].Op == e.Op && (e.Object == out[n].Object || e.Object != nil && same(e.Object, out[n].Object)) {
			out[n].Side = Both
			continue
		}
		e.Side = Built
		alone = append(alone, e)
	}
	return append(out, alone...)
}

// Said turns edits as people make them into edits of both designs. What is said of the plan changes the plan. What is
// said of what is there changes the design as built, and the plan as far as it does not differ there: field by field,
// what the plan had as it was built it has as it is now. How far something has come is a fact about what is there, and
// never planned.
func (d *Design) Said(edits []Edit) []Edit {
	if d.side == Built { // its plan is not at hand: who has it says it again
		out := append([]Edit{}, edits...)
		for n := range out {
			if out[n].Side == "" {
				out[n].Side = Built
			}
		}
		return out
	}
	b := d.Built()
	planned, built := map[ID]*Object{}, map[ID]*Object{} // as the edits before have left it
	now := func(in map[ID]*Object, of *Design, id ID) *Object {
		if o, ok := in[id]; ok {
			return o
		}
		return of.objects[id]
	}
	out := []Edit{}
	for _, e := range edits {
		if e.Side != Built {
			if e.Object != nil {
				planned[e.ID] = e.Object
			} else {
				planned[e.ID] = nil
			}
			out = append(out, e)
			continue
		}
		was, plan := now(built, b, e.ID), now(planned, d, e.ID)
		built[e.ID] = e.Object
		out = append(out, e)
		follows := plan
		switch {
		case e.Op == Remove && plan != nil && was != nil && same(asPlanned(was), asPlanned(plan)):
			follows = nil
		case e.Op == Put && e.Object != nil && plan == nil && was == nil:
			follows = asPlanned(e.Object)
		case e.Op == Put && e.Object != nil && plan != nil:
			follows = following(plan, was, e.Object)
		}
		switch {
		case follows == plan || same(follows, plan):
		case follows == nil:
			out = append(out, Edit{Side: Planned, Op: Remove, ID: e.ID})
		default:
			out = append(out, Edit{Side: Planned, Op: Put, ID: follows.ID, Object: follows})
		}
		planned[e.ID] = follows
	}
	return out
}

// There are the edits that say of objects of the plan that they are there as planned, with all that stands in them and
// what they can not be there without. What can have been asked for alone is not taken along: an attachment in a hub,
// say, has a making of its own.
func (d *Design) There(ids ...ID) []Edit {
	b := d.Built()
	taken := map[ID]bool{}
	var order []*Object
	var take func(o *Object)
	take = func(o *Object) {
		if o == nil || taken[o.ID] || Shared(o.Kind) {
			return
		}
		taken[o.ID] = true
		if b.objects[o.Parent] == nil {
			take(d.objects[o.Parent])
		}
		for _, to := range RefsOf(o) {
			if b.objects[to] == nil {
				take(d.objects[to])
			}
		}
		order = append(order, o)
		for _, in := range d.inside[o.ID] {
			if _, apart := in.Body.(made); !apart {
				take(in)
			}
		}
	}
	for _, id := range ids {
		take(d.objects[id])
	}
	out := []Edit{}
	for _, o := range order {
		if was := b.objects[o.ID]; was == nil || was != o && !same(was, o) {
			out = append(out, Edit{Side: Built, Op: Put, ID: o.ID, Object: o})
		}
	}
	return out
}

// SaidThere are edits as edits of what is there, with what the plan has that they can not be there without.
func (d *Design) SaidThere(edits []Edit) []Edit {
	b := d.Built()
	brought := map[ID]bool{}
	for _, e := range edits {
		brought[e.ID] = true
	}
	var needs []ID
	for _, e := range edits {
		if e.Object == nil {
			continue
		}
		for _, to := range append(RefsOf(e.Object), e.Object.Parent) {
			if o := d.objects[to]; o != nil && b.objects[to] == nil && !brought[to] && !Shared(o.Kind) {
				needs = append(needs, to)
			}
		}
	}
	out := d.There(needs...)
	for _, e := range edits {
		switch {
		case e.Object != nil && Shared(e.Object.Kind) || e.Object == nil && b.objects[e.ID] == nil:
			e.Side = Planned
		default:
			e.Side = Built
		}
		out = append(out, e)
	}
	return d.Said(out)
}

// Only is the plan of which the work is some edits of what is built and nothing else. What of the estate names what is
// not there by then is not in it. Errors: [Problems].
func (d *Design) Only(edits []Edit) (*Design, error) {
	there, _, err := d.Built().Apply(edits)
	if err != nil {
		return nil, err
	}
	out := *there.Sharing(d)
	out.side, out.aside, out.built = Planned, nil, d.Built()
	return &out, nil
}

// Stored is the design of an estate that was kept as two lists of objects. What belongs to the estate is in the first
// alone or in both.
func Stored(name string, planned, built []*Object) *Design {
	d := New(name, planned)
	d.built = New(name, built).asBuilt().sharing(d, nil)
	return d
}

// Divided is an estate out of a design in which things have states and nothing else tells what is there: what is ready
// or has no state is built, what is drafted is not.
func Divided(d *Design) *Design {
	var absent []ID
	var gone []Edit
	for _, o := range d.all {
		if !begun(o) {
			absent, gone = append(absent, o.ID), append(gone, Edit{ID: o.ID})
		}
	}
	d = d.Sketch(d.numbering(d, gone)) // the numbers that boxes have count what is drafted, too
	facts, plans := []Edit{}, []Edit{}
	for _, o := range d.all {
		if !begun(o) {
			continue
		}
		if fact := asFact(o); fact != o {
			facts = append(facts, PutEdit(fact))
		}
	}
	for _, o := range d.all {
		plan := asPlanned(o)
		if st := StateOf(o); (st == Waiting || st == Refused) && o.Kind != KindPeering && d.accepted(o.ID) {
			plan = o.InState("")
		}
		if plan != o {
			plans = append(plans, PutEdit(plan))
		}
	}
	there := d.Sketch(facts)
	there = there.Sketch(there.Removal(absent...).Edits)
	return d.Sketch(plans).WithBuilt(there)
}

// accepted reports whether the last answer to requests for something was yes.
func (d *Design) accepted(of ID) (yes bool) {
	for _, r := range Each[Request](d.referring[of]) {
		if r.For == of && r.Answer != "" {
			yes = r.Answer == "accepted"
		}
	}
	return yes
}

// Done reports whether what is planned is built, and nothing else is.
func (d *Design) Done() bool {
	b := d.Built()
	if len(d.objects) != len(b.objects) {
		return false
	}
	for id, o := range d.objects {
		if x := b.objects[id]; x != o && !same(o, x) {
			return false
		}
	}
	return true
}

// Unlike are the objects of which the plan and what is there are not the same, by ID.
func (d *Design) Unlike() []ID {
	b := d.Built()
	out := map[ID]bool{}
	for id, o := range d.objects {
		if x := b.objects[id]; x != o && !Shared(o.Kind) && !same(o, x) {
			out[id] = true
		}
	}
	for id, o := range b.objects {
		if d.objects[id] == nil && !Shared(o.Kind) {
			out[id] = true
		}
	}
	return slices.Sorted(maps.Keys(out))
}
