package passes

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/prefix"
	"dravin/core/walk"
)

// Standing is how a rule stands to the intents.
type Standing string

// The standings.
const (
	Needed      Standing = "needed"       // intents live by it
	Unneeded    Standing = "unneeded"     // no intent needs it
	NeverFits   Standing = "never"        // no packet that comes by fits it
	Shadowed    Standing = "shadowed"     // a rule before it decides all that it is for
	Contradicts Standing = "contradicted" // a rule before it does the contrary for all that it is for
	Waits       Standing = "waits"        // its intents do not work for another reason, so nobody can tell
	Guards      Standing = "guards"       // it refuses, and no intent is refused by it
	ForBox      Standing = "for-the-box"  // it is for what is for the box itself, of which intents say nothing
)

// Standings are all standings.
var Standings = []Standing{Needed, Unneeded, NeverFits, Shadowed, Contradicts, Waits, Guards, ForBox}

// idle are the standings of rules that could be taken out.
var idle = []Standing{Unneeded, NeverFits, Shadowed, Contradicts}

// Rule is one rule with how it stands.
type Rule struct {
	N        int         `json:"n"` // its place, from 0
	Text     string      `json:"text"`
	Standing Standing    `json:"standing"`
	Idle     bool        `json:"idle,omitempty"` // it could be taken out: nothing needs it, or it does nothing
	By       int         `json:"by,omitempty"`   // the rule before it, from 1, that shadows or contradicts it
	Intents  []design.ID `json:"intents"`        // those that live by it
	For      []design.ID `json:"for"`            // those for which it was written
	Refuses  bool        `json:"refuses,omitempty"`
	From     []Range     `json:"from"` // as they are on the wire; empty: anywhere
	To       []Range     `json:"to"`
	Services []string    `json:"services"` // empty: everything
	Note     string      `json:"note,omitempty"`
	Live     []Need      `json:"-"` // what lives by it
}

// Range is a range of a rule, with whose it is where one alone has it.
type Range struct {
	Range string `json:"range"`
	Whose string `json:"whose,omitempty"`
}

// Missing is something that must pass and does not.
type Missing struct {
	Text    string      `json:"text"`
	Intents []design.ID `json:"intents"`
	Rule    int         `json:"rule"` // that refuses it, from 0; -1: by default
	From    string      `json:"from"`
	To      string      `json:"to"`
	Service string      `json:"service"`
	Need    Need        `json:"-"`
}

// Side is one direction of a filter.
type Side struct {
	Direction string    `json:"direction"` // in, out or forwarded
	Default   string    `json:"default"`
	Rules     []Rule    `json:"rules"`
	Missing   []Missing `json:"missing"`
}

// Held is a filter held against the intents.
type Held struct {
	Filter    design.ID `json:"filter"`
	Name      string    `json:"name"`
	At        design.ID `json:"at"`
	AtTitle   string    `json:"at_title"`
	Party     design.ID `json:"party,omitempty"`
	Stateless bool      `json:"stateless,omitempty"`
	Any       bool      `json:"any,omitempty"` // all rules that fit are asked, and not the first alone
	Most      int       `json:"most,omitempty"`
	Sides     []Side    `json:"sides"`
}

// Filter holds one filter against the intents.
func (n *Needs) Filter(id design.ID) Held {
	all, _ := n.All()
	return n.held(id, byFilter(all)[id])
}

// Filters holds all of some filters against the intents.
func (n *Needs) Filters(ids []design.ID) []Held {
	if len(ids) == 0 {
		return []Held{} // and no intent need be walked for it
	}
	all, _ := n.All()
	by := byFilter(all)
	out := []Held{}
	for _, id := range ids {
		out = append(out, n.held(id, by[id]))
	}
	return out
}

func (n *Needs) held(id design.ID, needs []Need) Held {
	d := n.tables.Design
	b := d.Get(id).Body.(*design.PacketFilter)
	f := n.tables.Filter(id)
	out := Held{
		Filter: id, Name: f.Name, At: b.At, AtTitle: d.Title(b.At), Stateless: f.Manner.Stateless, Any: f.Manner.Any,
		Most: f.Manner.Most, Sides: []Side{},
	}
	if p := d.FilterPlace(b); p != nil {
		out.Party = p.ID
	}
	directions := []string{design.Forwarded}
	if f.Manner.Directed {
		directions = []string{design.Incoming, design.Outgoing}
	}
	for _, direction := range directions {
		s := Side{Direction: direction, Default: f.Default(direction), Rules: []Rule{}, Missing: []Missing{}}
		for _, r := range f.Rules(direction) {
			s.Rules = append(s.Rules, n.rule(b, f, direction, r, needs))
		}
		for _, x := range needs {
			if x.Direction == direction && !x.Passes {
				s.Missing = missing(s.Missing, x)
			}
		}
		out.Sides = append(out.Sides, s)
	}
	return out
}

func missing(list []Missing, x Need) []Missing {
	for i := range list {
		m := &list[i]
		if m.Need.From == x.From && m.Need.To == x.To && m.Need.Traffic == x.Traffic && m.Need.Replies == x.Replies {
			if !slices.Contains(m.Intents, x.Intent) {
				m.Intents = append(m.Intents, x.Intent)
			}
			return list
		}
	}
	service := filter.Words([]design.Traffic{x.Traffic}, x.Replies)
	return append(list, Missing{
		Text: fmt.Sprintf("%s from %s to %s", service, words(x.From), words(x.To)), Intents: []design.ID{x.Intent},
		Rule: x.Rule, From: words(x.From), To: words(x.To), Service: service, Need: x,
	})
}

func words(p netip.Prefix) string {
	switch {
	case p.IsSingleIP():
		return p.Addr().String()
	case p.Bits() == 0:
		return "anywhere"
	}
	return p.String()
}

func (n *Needs) rule(b *design.PacketFilter, f *filter.Filter, direction string, r filter.Rule, needs []Need) Rule {
	d := n.tables.Design
	body := b.Rules[r.N]
	out := Rule{
		N: r.N, Text: walk.RuleWords(d, body), Refuses: r.Refuses, Intents: []design.ID{}, For: append(
			[]design.ID{}, body.For...,
		),
		From: n.ranges(r.From), To: n.ranges(r.To), Services: []string{}, Note: body.Note, Standing: Unneeded,
	}
	for _, s := range r.Services {
		text := s.String()
		if r.Replies {
			text = "answers of " + text
		}
		out.Services = append(out.Services, text)
	}
	for _, x := range needs {
		if x.Direction != direction || x.Rule != r.N {
			continue
		}
		out.Live = append(out.Live, x)
		if !slices.Contains(out.Intents, x.Intent) {
			out.Intents = append(out.Intents, x.Intent)
		}
	}
	switch before, contrary := shadow(f, direction, r); {
	case empty(r.From) || empty(r.To) || !n.comesBy(b, direction, r):
		out.Standing = NeverFits
	case before >= 0 && contrary:
		out.Standing, out.By = Contradicts, before+1
	case before >= 0:
		out.Standing, out.By = Shadowed, before+1
	case len(out.Intents) > 0 && !r.Refuses:
		out.Standing = Needed
	case r.Refuses:
		out.Standing = Guards
	case slices.ContainsFunc(body.For, func(i design.ID) bool { return !n.of(i).works }):
		out.Standing = Waits
	case b.Covers == design.Itself:
		out.Standing = ForBox
	}
	out.Idle = slices.Contains(idle, out.Standing)
	return out
}

// ranges are those of one side of a rule with whose they are.
func (n *Needs) ranges(ps []netip.Prefix) []Range {
	out := []Range{}
	for _, p := range ps {
		out = append(out, Range{words(p), n.whose(p)})
	}
	return out
}

// whose is the place that alone holds a range, or the host that has an address there; empty where none or several
// do, since the range alone does not say then.
func (n *Needs) whose(p netip.Prefix) string {
	d := n.tables.Design
	holders := n.tables.Holders(p.Addr())
	if len(holders) == 0 {
		return ""
	}
	if party := d.Party(holders[0]); len(holders) > 0 && slices.Contains(design.RangesOf(party), p) {
		return party.Name
	}
	if len(holders) > 1 {
		return ""
	}
	if p.IsSingleIP() {
		for e, b := range design.Each[design.Endpoint](d.Inside(holders[0], design.KindEndpoint)) {
			if slices.Contains(b.Addresses, p.Addr()) {
				return d.Title(holders[0]) + " " + e.Name
			}
		}
	}
	if slices.Contains(d.Ranges(holders[0]), p) {
		return d.Title(holders[0])
	}
	return ""
}

// empty reports whether a side names something that has no range at all.
func empty(side []netip.Prefix) bool { return side != nil && len(side) == 0 }

// comesBy reports whether packets that fit a rule can come by its place: at a host, subnet or network one side is
// there.
func (n *Needs) comesBy(b *design.PacketFilter, direction string, r filter.Rule) bool {
	side := r.To
	if direction == design.Outgoing {
		side = r.From
	}
	own := n.guarded(b.At)
	if direction == design.Forwarded || len(own) == 0 || side == nil {
		return true
	}
	return slices.ContainsFunc(side, func(p netip.Prefix) bool { return slices.ContainsFunc(own, p.Overlaps) })
}

// guarded are the ranges of what a filter at hosts guards; none for anything else.
func (n *Needs) guarded(at design.ID) (out []netip.Prefix) {
	d := n.tables.Design
	switch b := d.Get(at).Body.(type) {
	case *design.Endpoint:
		for _, a := range b.Addresses {
			out = append(out, prefix.Alone(a))
		}
	case *design.Group:
		for _, m := range b.Members {
			out = append(out, n.guarded(m)...)
		}
	case *design.Gateway, *design.Box, *design.Hub, *design.EdgeRouter, *design.Crossing:
	default:
		out = d.Ranges(at)
	}
	return out
}

// shadow is a rule before this one that decides all that it is for, -1 if there is none; contrary says that it does
// the contrary.
func shadow(f *filter.Filter, direction string, r filter.Rule) (before int, contrary bool) {
	for _, x := range f.Rules(direction) {
		if x.N == r.N {
			break
		}
		if f.Manner.Any && !x.Refuses || !covers(x, r) {
			continue
		}
		return x.N, x.Refuses != r.Refuses
	}
	if f.Manner.Any && !r.Refuses { // the order says nothing: one that refuses all of it does, wherever it stands
		for _, x := range f.Rules(direction) {
			if x.Refuses && covers(x, r) {
				return x.N, true
			}
		}
	}
	return -1, false
}

// covers reports whether a rule is for all that another is for.
func covers(a, b filter.Rule) bool {
	side := func(a, b []netip.Prefix) bool {
		return a == nil || b != nil && !slices.ContainsFunc(b, func(p netip.Prefix) bool {
			return !slices.ContainsFunc(a, func(q netip.Prefix) bool { return prefix.Contains(q, p) })
		})
	}
	services := len(a.Services) == 0 || len(b.Services) > 0 && a.Replies == b.Replies &&
		!slices.ContainsFunc(b.Services, func(t design.Traffic) bool {
			return !slices.ContainsFunc(a.Services, func(u design.Traffic) bool { return trafficHolds(u, t) })
		})
	return (a.Family == "" || a.Family == b.Family) && side(a.From, b.From) && side(a.To, b.To) && services
}

// Concerning are the filters that what comes to and goes from an object may meet at its own party: at it, in it, at a
// group with anything of it, at a crossing of its segment; of nothing all there are.
func Concerning(d *design.Design, id design.ID) []design.ID {
	out := []design.ID{}
	for o, b := range design.Each[design.PacketFilter](d.Of(design.KindFilter)) {
		if id == "" || b.At == id || concerns(d, b.At, id) {
			out = append(out, o.ID)
		}
	}
	return out
}

func concerns(d *design.Design, at, id design.ID) bool {
	within := func(x, of design.ID) bool {
		for o := d.Get(x); o != nil; o = d.Get(o.Parent) {
			if o.ID == of {
				return true
			}
		}
		return false
	}
	switch b := d.Get(at).Body.(type) {
	case *design.Group:
		return slices.ContainsFunc(b.Members, func(m design.ID) bool { return within(m, id) || within(id, m) })
	case *design.Crossing:
		segments := d.SegmentsOf(id)
		return b.From == id || b.To == id || slices.Contains(segments, b.From) || slices.Contains(segments, b.To)
	}
	if within(at, id) {
		return true
	}
	p, q := d.Party(at), d.Party(id)
	return p != nil && p == q && (within(id, at) || d.Get(at).Kind != design.KindEndpoint && d.Get(id).Kind != p.Kind)
}
