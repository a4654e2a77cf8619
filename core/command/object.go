package command

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/defaults"
	"dravin/core/design"
	"dravin/core/prefix"
)

// object reads what begins with a kind: a thing with its values, and things inside
// it behind "with", "and" or a comma.
func (r *reader) object(k design.Kind, inside *design.Object) {
	var open []*being
	b := r.begin(k, inside)
	for b != nil && !r.failed() {
		if part := r.clauses(b, open); part == "" {
			break
		} else if open = append(open, b); !r.settle(b) {
			return
		} else {
			for !fits(part, open[len(open)-1].kind) {
				open = open[:len(open)-1]
			}
			b = r.begin(part, r.design.Get(open[len(open)-1].id))
		}
	}
	if b != nil && !r.failed() {
		r.settle(b)
	}
}

func fits(k, parent design.Kind) bool { return slices.Contains(design.KindsInside(parent), k) }

// begin reads the name of a thing and where it is. It is what is there already, if
// that has the name.
func (r *reader) begin(k design.Kind, inside *design.Object) *being {
	start := r.next
	top := fits(k, "")
	b := &being{kind: k, said: map[string]bool{}, spans: map[string][2]int{}}
	b.name = r.name(k)
	b.from, b.to = r.span(start, r.next)
	cloud := k == design.KindNetwork || k == design.KindHub
	switch {
	case inside != nil:
		b.parent = inside.ID
	case !top && r.takeWord("in"):
		at, ok := r.thing(parentsOf(k), r.it)
		if !ok {
			return nil
		}
		b.parent = at.ID
	case !top && r.placeBehind(k) != nil:
		at := r.placeBehind(k)
		b.parent = at.object.ID
		r.toks = slices.Delete(slices.Clone(r.toks), at.from, at.to)
	case !top:
		if b.parent = r.itsPlace(k); b.parent == "" {
			r.wrongHere(
				"where the "+Word(k)+" is, is not said",
				"write: in, and the name of a "+kindWords(parentsOf(k))+r.examples(parentsOf(k)),
			)
			return nil
		}
	}
	if b.name == "" {
		b.name = r.filler().Name(k, b.parent)
		r.fill("name", b.name, "nobody said one")
	}
	if there := r.filler().Books().Named(k, b.parent, b.name); len(there) > 0 {
		b.old, b.id, b.name = there[0], there[0].ID, there[0].Name
	} else {
		_, b.id = r.filler().Books().Beside(k, b.parent, b.name)
	}
	b.body = design.Values(b.old)
	if cloud && inside == nil && r.takeWord("in") {
		r.cloud(b)
	}
	return b
}

// placed is where a line says behind the values what a thing stands in.
type placed struct {
	object   *design.Object
	from, to int // tokens
}

// placeBehind finds "in PLACE" behind the values of a thing, before the next part; nil if there is none.
func (r *reader) placeBehind(k design.Kind) *placed {
	at := r.next
	defer func() { r.next = at }()
	for n := at; n < len(r.toks) && r.complete < 0 && !r.toks[n].mark() && !r.toks[n].is("with"); n++ {
		if !r.toks[n].is("in") {
			continue
		}
		r.next = n + 1
		found, words := r.refSpan(parentsOf(k))
		if len(found) > 1 {
			found = nearest(r.design, found, r.it)
		}
		if len(found) == 1 {
			return &placed{found[0], n, r.next + words}
		}
	}
	return nil
}

// itsPlace is what "it" is or stands in, where a kind can be inside.
func (r *reader) itsPlace(k design.Kind) design.ID {
	for o := r.design.Get(r.it); o != nil; o = r.design.Get(o.Parent) {
		if fits(k, o.Kind) {
			return o.ID
		}
	}
	return ""
}

func parentsOf(k design.Kind) []design.Kind {
	var out []design.Kind
	for _, parent := range design.Kinds() {
		if fits(k, parent) {
			out = append(out, parent)
		}
	}
	return out
}

// cloud reads the cloud of a network or hub, and perhaps its region.
func (r *reader) cloud(b *being) {
	for _, p := range r.design.Profiles() {
		r.offer(p.Name, "a cloud whose profile is known")
	}
	t, ok := r.take()
	if !ok {
		r.wrongHere("the cloud is missing", "name it, such as Tarn")
		return
	}
	b.body["cloud"], b.said["cloud"], b.short = t.text, true, true
	p := r.design.Profile(t.text)
	if p == nil {
		return
	}
	for _, known := range r.design.Profiles() {
		if design.Slug(known.Name) == design.Slug(t.text) {
			b.body["cloud"] = known.Name
		}
	}
	for _, region := range p.Regions {
		if r.takeWord(region.Name) {
			b.body["region"], b.said["region"] = region.Name, true
		}
	}
}

// clauses reads what is said of a thing, up to the end of the line or to a part,
// whose kind it returns.
func (r *reader) clauses(b *being, open []*being) (part design.Kind) {
	fields := design.Outline(b.kind)
	for !r.failed() {
		if r.takeWord(",") || r.takeWord("with") || r.takeWord("and") {
			if k := r.partAt(b, open); k != "" {
				return k
			}
		}
		if r.takeWord("no") {
			f, ok := r.fieldAt(fields)
			if !ok {
				r.wrongHere(r.nextShown()+" is no value of a "+Word(b.kind), "there are "+keysOf(fields))
				return ""
			}
			r.next++
			if f.Many && r.another(f, fields) { // just these
				b.taking = true
				r.field(b, f)
				b.taking = false
				continue
			}
			delete(b.body, f.Key)
			b.said[f.Key] = true
			continue
		}
		if f, ok := r.fieldAt(fields); ok {
			r.next++
			r.field(b, f)
			continue
		}
		if r.next < len(r.toks) && !r.toks[r.next].quoted {
			if f, ok := bareField(fields, r.toks[r.next].text); ok {
				r.field(b, f)
				continue
			}
			if t := r.toks[r.next]; (t.is("the") || t.is("next") || t.is("free")) && r.complete < 0 {
				if f, ok := bareField(fields, "/24"); ok {
					r.field(b, f)
					continue
				}
			}
		}
		return r.partAt(b, open)
	}
	return ""
}

// partAt takes a word for a kind that can stand in what is open.
func (r *reader) partAt(b *being, open []*being) design.Kind {
	var among []design.Kind
	for _, x := range append(slices.Clone(open), b) {
		for _, k := range design.KindsInside(x.kind) {
			if !slices.Contains(among, k) {
				among = append(among, k)
			}
		}
	}
	k, n := r.kindAt(among)
	r.next += n
	return k
}

// settle fills in what was not said, and makes or changes the thing.
func (r *reader) settle(b *being) bool {
	r.fillIn(b)
	if r.failed() {
		return false
	}
	body, err := decoded(b.kind, b.body)
	if err != nil {
		for _, p := range problemsOf(err) {
			at := [2]int{b.from, b.to}
			for key, span := range b.spans {
				if p.Field == key ||
					len(p.Field) > len(key) && p.Field[:len(key)] == key &&
						(p.Field[len(key)] == '[' || p.Field[len(key)] == '.') {
					at = span
				}
			}
			r.wrong(at[0], at[1], p.Field+" "+p.Why, p.Want)
		}
		return false
	}
	o := &design.Object{ID: b.id, Kind: b.kind, Parent: b.parent, Name: b.name, Body: body}
	r.current.touched = append(r.current.touched, touched{b.id, b.from, b.to})
	r.early = append(r.early, b.id)
	text := "New " + Word(b.kind) + " " + b.name
	if p := r.design.Party(b.parent); p != nil {
		text += " in " + r.design.Title(b.parent)
	}
	if b.old != nil {
		changed := design.Differences(b.old, o)
		if len(changed) == 0 {
			r.it = o.ID
			r.current.Does = append(
				r.current.Does, Deed{Text: r.design.Title(o.ID) + " is so already", Object: o.ID, Kind: o.Kind},
			)
			return true
		}
		text = fmt.Sprintf("Change %s: %s", r.design.Title(o.ID), strings.Join(changed, ", "))
		if !b.taking && !b.adding {
			r.tellLost(b, changed)
		}
	} else if v := valueWords(o); v != "" {
		text += ", " + v
	}
	r.do(text, o, b.old == nil, design.PutEdit(o))
	return true
}

// tellLost notes what a list of an existing thing held and no longer does.
func (r *reader) tellLost(b *being, changed []string) {
	before := design.Values(b.old)
	for _, key := range changed {
		old, was := before[key].([]any)
		now, _ := b.body[key].([]any)
		if !was {
			continue
		}
		var lost []string
		for _, x := range old {
			if !slices.ContainsFunc(now, func(y any) bool { return fmt.Sprint(x) == fmt.Sprint(y) }) {
				lost = append(lost, r.shown(x))
			}
		}
		if n := len(lost); n > 0 {
			r.current.Notes = append(
				r.current.Notes,
				fmt.Sprintf(
					"%s of %s no longer: %s; write give instead of set to keep what is there", key,
					r.design.Title(b.id),
					clipped(strings.Join(lost, ", "), 160),
				),
			)
		}
	}
}

// shown is a value of a list as people read it: what it names, or its parts.
func (r *reader) shown(x any) string {
	switch x := x.(type) {
	case string:
		if o := r.design.Get(design.ID(x)); o != nil {
			return r.design.Title(o.ID)
		}
		return x
	case map[string]any:
		var out []string
		for _, key := range slices.Sorted(maps.Keys(x)) {
			out = append(out, key+" "+r.shown(x[key]))
		}
		return "{ " + strings.Join(out, " ") + " }"
	}
	return fmt.Sprint(x)
}

func problemsOf(err error) design.Problems {
	if p, ok := err.(design.Problems); ok {
		return p
	}
	return design.Problems{{Why: err.Error()}}
}

// fillIn gives a new thing what it needs and nobody has said.
func (r *reader) fillIn(b *being) {
	if b.old != nil || r.declaring {
		return
	}
	set := func(key string, value any, what, shown, why string) {
		b.body[key] = value
		r.fill(what, shown, why)
	}
	has := func(key string) bool { _, ok := b.body[key]; return ok }
	for _, key := range []string{"prefixes", "blocks", "prefix"} {
		if f, ok := fieldOf(b.kind, key); ok && !f.Optional && !has(key) && b.kind != design.KindOutside {
			if p, part := r.aroundParts(b); p.IsValid() {
				set(key, []any{p.String()}, "range", p.String(), "around "+part+", which is inside it")
				continue
			}
			p, why, err := r.filler().Range(defaults.Wanted{Kind: b.kind, Parent: b.parent})
			if err != nil {
				r.wrong(b.from, b.to, err.Error(), "say which range it has")
				return
			}
			var v any = p.String()
			if f.Many {
				v = []any{v}
			}
			set(key, v, "range", p.String(), why)
		}
	}
	switch b.kind {
	case design.KindEndpoint:
		if !has("addresses") {
			a, why, err := r.filler().Host(b.parent)
			if err != nil {
				r.wrong(b.from, b.to, err.Error(), "say its address")
				return
			}
			set("addresses", []any{a.String()}, "address", a.String(), why)
		}
	case design.KindBox:
		if !has("addresses") {
			a, why, err := r.filler().BoxHost(b.parent)
			if err != nil {
				r.wrong(b.from, b.to, err.Error(), "say its address")
				return
			}
			set("addresses", []any{a.String()}, "address", a.String(), why)
		}
	case design.KindListener:
		if at, _ := b.body["at"].(string); !has("address") && at != "" {
			a, why, err := r.filler().ListenerHost(design.ID(at))
			if err != nil {
				r.wrong(b.from, b.to, err.Error(), "say the address that callers dial")
				return
			}
			set("address", a.String(), "address", a.String(), why)
		}
	case design.KindNetwork, design.KindHub:
		cloud, _ := b.body["cloud"].(string)
		if cloud == "" {
			r.wrong(b.from, b.to, "its cloud is not said", "write: in, and the cloud, such as in Tarn")
			return
		}
		if region, why := r.filler().Region(cloud); region != "" && !has("region") && b.short {
			set("region", region, "region", region, why)
		}
	case design.KindEdgeRouter:
		if !has("exchange") {
			set("exchange", b.name, "exchange", b.name, "as the router is called")
		}
	case design.KindSubnet:
		r.fillSubnet(b, has, set)
	}
}

// aroundParts is a range that holds what the rest of the line names inside a new thing: subnets of a
// network, hosts of a LAN or subnet. It is as large as is usual around, or as can be without meeting
// anybody; invalid where nothing is named.
func (r *reader) aroundParts(b *being) (netip.Prefix, string) {
	if b.kind != design.KindNetwork && b.kind != design.KindLAN && b.kind != design.KindSubnet {
		return netip.Prefix{}, ""
	}
	inner, text := r.named(b.kind)
	if len(inner) == 0 {
		return netip.Prefix{}, ""
	}
	bits := r.filler().Size(b.kind, b.parent)
	for ; bits <= inner[0].Bits(); bits++ {
		p := netip.PrefixFrom(inner[0].Addr(), bits).Masked()
		all := !slices.ContainsFunc(inner, func(x netip.Prefix) bool { return !prefix.Contains(p, x) })
		if free, ok := r.filler().Books().Holding().FirstFree(p, p); all && ok && free == p {
			return p, text
		}
	}
	return netip.Prefix{}, ""
}

// named are the ranges and addresses that the rest of a line gives to what is inside a new thing of a
// kind, up to the next one beside it, with the first as it is written.
func (r *reader) named(k design.Kind) (out []netip.Prefix, text string) {
	part := design.Kind("")
	for n := max(r.next-1, 0); n < len(r.toks); n++ { // the word for the first part is read already
		t := r.toks[n]
		at := r.next
		r.next = n
		if of, words := r.kindAt(design.Kinds()); words > 0 && !t.quoted {
			part = of
		}
		r.next = at
		if part == k || part != "" && !slices.Contains(design.KindsInside(k), part) && part != design.KindEndpoint {
			break
		}
		p, err := netip.ParsePrefix(t.text)
		if a, bad := netip.ParseAddr(t.text); bad == nil && part == design.KindEndpoint {
			p, err = prefix.Alone(a), nil
		}
		if err == nil && !t.quoted && (part == design.KindSubnet || part == design.KindEndpoint) {
			out = append(out, p.Masked())
			if text == "" {
				text = t.text
			}
		}
	}
	return out, text
}

// fillSubnet gives a subnet a zone and a table, and makes the first table.
func (r *reader) fillSubnet(b *being, has func(string) bool, set func(string, any, string, string, string)) {
	if has("table") { // whoever says so much has said all
		return
	}
	if zone, why := r.filler().Zone(b.parent); zone != "" && !has("zone") {
		set("zone", zone, "zone", zone, why)
	}
	tables := r.design.Inside(b.parent, design.KindTable)
	if len(tables) == 0 {
		t := r.beside(design.KindTable, b.parent, r.filler().Name(design.KindTable, b.parent), &design.Table{})
		r.apply([]design.Edit{design.PutEdit(t)})
		tables = append(tables, t)
	}
	set("table", string(tables[0].ID), "table", tables[0].Name, "the first of the network's")
}

// beside is a new object under a name that is free beside its siblings.
func (r *reader) beside(k design.Kind, parent design.ID, name string, body design.Body) *design.Object {
	free, id := r.filler().Books().Beside(k, parent, name)
	return &design.Object{ID: id, Kind: k, Parent: parent, Name: free, Body: body}
}

func fieldOf(k design.Kind, key string) (design.Field, bool) {
	for _, f := range design.Outline(k) {
		if f.Key == key {
			return f, true
		}
	}
	return design.Field{}, false
}

// changing is an existing thing of which more is said.
func (r *reader) changing(o *design.Object, from, to int) *being {
	return &being{
		kind: o.Kind, id: o.ID, parent: o.Parent, name: o.Name, old: o, body: maps.Clone(design.Values(o)),
		said: map[string]bool{}, spans: map[string][2]int{}, from: from, to: to,
	}
}
