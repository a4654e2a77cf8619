package translate

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/topology"
	"dravin/core/walk"
)

// Change is one edit of an option, in words and at its place.
type Change struct {
	Party design.ID `json:"party"` // whose administrator makes it
	Where string    `json:"where"` // the party's name
	Text  string    `json:"text"`
	Box   design.ID `json:"box,omitempty"` // the gateway, box, table, attachment, ... that is touched
	Stage Phase     `json:"stage"`
}

// Phase says when a change is made: what others rest on first.
type Phase int

// The stages, in their order.
const (
	Places Phase = iota // boxes and subnets that must be there
	Routes              // routes, announcements, filters and entries
	Agreed              // selectors, at both ends at once
	Rules               // translations
	Opened              // published services
	Lets                // filters, which see what all the others have made
	Names               // what is dialled from now on
)

// editor collects the changes of an option over a design.
type editor struct {
	design  *design.Design
	now     map[design.ID]*design.Object // what is changed or new
	order   []design.ID
	changes []Change
	why     []string
	maps    []Pair
	spent   []netip.Prefix // what is taken for it
	inside  []netip.Prefix // of new tunnels
	pool    *pool
	near    topology.Graph // of parties
	taken   map[amid]map[string]bool
	wanted  []entryWish
	only    map[design.ID]design.ID // of a network: the one table that needs entries
	boxed   map[design.ID]*boxed    // networks that are translated by a box of their own
}

// entryWish is an entry that a table should have, until all are known and can be
// summarised.
type entryWish struct {
	table  *design.Object
	prefix netip.Prefix
	via    design.ID
}

func newEditor(d *design.Design, p *pool) *editor {
	return &editor{design: d, now: map[design.ID]*design.Object{}, pool: p}
}

func (e *editor) get(id design.ID) *design.Object {
	if o := e.now[id]; o != nil {
		return o
	}
	return e.design.Get(id)
}

// put notes an object as it shall be; a text says what that is for its party.
func (e *editor) put(o *design.Object, stage Phase, party, box design.ID, text string, args ...any) {
	if e.now[o.ID] == nil {
		e.order = append(e.order, o.ID)
	}
	e.now[o.ID] = o
	e.say(stage, party, box, text, args...)
}

func (e *editor) say(stage Phase, party, box design.ID, text string, args ...any) {
	c := Change{Party: party, Where: e.title(party), Text: fmt.Sprintf(text, args...), Box: box, Stage: stage}
	if !slices.Contains(e.changes, c) {
		e.changes = append(e.changes, c)
	}
}

func (e *editor) title(id design.ID) string {
	if o := e.design.Get(id); o != nil {
		return e.design.Title(id)
	}
	if o := e.now[id]; o != nil {
		return o.Name
	}
	return ""
}

// add makes a new object with a name that nothing beside it has.
func (e *editor) add(
	k design.Kind,
	parent design.ID,
	name string,
	b design.Body,
	stage Phase,
	party design.ID,
	text string,
	args ...any,
) *design.Object {
	taken := e.names(k, parent)
	const longest = 72 // of 80, so that a number fits behind it
	if text := []rune(name); len(text) > longest {
		name = string(text[:longest])
	}
	unique := name
	for n := 2; taken[design.Slug(unique)]; n++ {
		unique = fmt.Sprintf("%s %d", name, n)
	}
	taken[design.Slug(unique)] = true
	o := &design.Object{ID: design.IDFor(k, string(parent)+"/"+unique), Kind: k, Parent: parent, Name: unique, Body: b}
	e.put(o, stage, party, o.ID, text, args...)
	return o
}

// amid is where names must differ: in one place, at the top among those of one kind.
type amid struct {
	parent design.ID
	kind   design.Kind // of the top level
}

// names are those that are taken beside a new object, as they stand in paths.
func (e *editor) names(k design.Kind, parent design.ID) map[string]bool {
	at := amid{parent: parent}
	if parent == "" {
		at.kind = k
	}
	if out := e.taken[at]; out != nil {
		return out
	}
	out := map[string]bool{}
	for _, o := range e.design.Inside(parent) {
		if parent != "" || o.Kind == k {
			out[design.Slug(o.Name)] = true
		}
	}
	if e.taken == nil {
		e.taken = map[amid]map[string]bool{}
	}
	e.taken[at] = out
	return out
}

// edits sums the changes up: one edit for each object, new places before what
// stands in them.
func (e *editor) edits() []design.Edit {
	e.entries()
	out := make([]design.Edit, 0, len(e.order))
	for _, id := range e.order {
		out = append(out, design.PutEdit(e.now[id]))
	}
	slices.SortStableFunc(e.changes, func(a, b Change) int { return cmp.Compare(a.Stage, b.Stage) })
	return out
}

// party is the party of something that is there or new.
func (e *editor) party(id design.ID) design.ID {
	for o := e.get(id); o != nil; o = e.get(o.Parent) {
		if slices.Contains(design.Parties, o.Kind) {
			return o.ID
		}
	}
	return ""
}

// wish asks for an entry in every table of a network that does not learn it.
func (e *editor) wish(table *design.Object, p netip.Prefix, via design.ID) {
	w := entryWish{table, p, via}
	if !slices.Contains(e.wanted, w) {
		e.wanted = append(e.wanted, w)
	}
}

// leads reports whether a table has an entry by a way, or will have one.
func (e *editor) leads(table *design.Object, via design.ID) bool {
	return slices.ContainsFunc(table.Body.(*design.Table).Routes, func(r design.Entry) bool { return r.Via == via }) ||
		slices.ContainsFunc(e.wanted, func(w entryWish) bool { return w.table.ID == table.ID && w.via == via })
}

// mostAlone is how many ranges of one pool get an entry each; more are summarised.
const mostAlone = 3

// entries adds what was wished for. Many ranges of the plan's pool by one way
// become one entry for the whole pool.
func (e *editor) entries() {
	type way struct{ table, via design.ID }
	count := map[way]int{}
	for _, w := range e.wanted {
		if e.pool.holds(w.prefix) {
			count[way{w.table.ID, w.via}]++
		}
	}
	for _, w := range e.wanted {
		p := w.prefix
		if e.pool.holds(p) && count[way{w.table.ID, w.via}] > mostAlone {
			p = e.pool.block
		}
		e.entry(w.table, p, w.via)
	}
	e.wanted = nil
}

func (e *editor) entry(table *design.Object, p netip.Prefix, via design.ID) {
	o := e.get(table.ID)
	body := *o.Body.(*design.Table)
	if slices.ContainsFunc(
		body.Routes, func(r design.Entry) bool { return prefix.Contains(r.Prefix, p) && r.Via == via },
	) {
		return
	}
	if e.get(via).Kind == design.KindBox { // it takes what something else took before
		body.Routes = slices.DeleteFunc(slices.Clone(body.Routes), func(r design.Entry) bool { return r.Prefix == p })
	}
	body.Routes = append(slices.Clone(body.Routes), design.Entry{Prefix: p, Via: via})
	e.put(o.With(&body), Routes, o.Parent, o.ID, "in %s add %s via %s", o.Name, p, design.WayWords(e.get, via))
}

// addMissing adds to a list what no prefix in it contains, and returns that.
func addMissing(list *[]netip.Prefix, add []netip.Prefix) []netip.Prefix {
	var added []netip.Prefix
	out := slices.Clone(*list)
	for _, p := range add {
		if !slices.ContainsFunc(out, func(have netip.Prefix) bool { return prefix.Contains(have, p) }) {
			out, added = append(out, p), append(added, p)
		}
	}
	*list = out
	return added
}

// translateIn replaces the parts of the real range in a list by the same parts
// of the mapped one and tells whether there were any.
func translateIn(list *[]netip.Prefix, real, mapped netip.Prefix) bool {
	found := false
	out := slices.Clone(*list)
	for n, p := range out {
		if t := prefix.TranslatePrefix(p, real, mapped); t.IsValid() {
			out[n], found = t, true
		}
	}
	*list = out
	return found
}

// seen tells of every new translation in a few words, at its party.
func (e *editor) seen(next *design.Design) []Seen {
	out := []Seen{}
	add := func(id design.ID, text string, args ...any) {
		if p := next.Party(id); p != nil {
			if s := (Seen{p.ID, fmt.Sprintf(text, args...)}); !slices.Contains(out, s) {
				out = append(out, s)
			}
		}
	}
	for _, id := range e.order {
		switch b := e.now[id].Body.(type) {
		case *design.Mapping:
			add(b.Gateway, "%s as %s", b.Real, b.Mapped)
		case *design.Listener:
			at := b.At
			if host := walk.TargetOf(next, b); e.design.Party(at) == nil && host != nil &&
				e.design.Get(next.Party(at).ID) == nil {
				at = host.ID // a new party is in no picture yet
			}
			add(at, "%s %s leads to %s", b.Address, b.Service, next.Title(b.Target))
		case *design.Attachment:
			if b.Pool != "" {
				add(b.What, "hidden behind %s", texts(next.Ranges(b.Pool))[0])
			}
		case *design.LAN:
			add(id, "renumbered to %s", texts(b.Prefixes)[0])
		}
		for _, r := range newRules(e.design.Get(id), e.now[id]) {
			switch r.Does {
			case design.FromPool:
				add(id, "hidden behind %s", r.Into)
			case design.OwnAddress:
				add(id, "hidden behind its own address")
			case design.OneToOne:
				add(id, "%s as %s", r.Real, r.Into)
			}
		}
	}
	return out
}

// newRules are those that a gateway or box has now and had not.
func newRules(before, now *design.Object) []design.Rule {
	n := 0
	if before != nil {
		n = len(design.RulesOf(before))
	}
	if list := design.RulesOf(now); len(list) > n {
		return list[n:]
	}
	return nil
}
