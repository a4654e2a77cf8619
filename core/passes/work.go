package passes

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/walk"
)

// Wish is what is to be worked out.
type Wish struct {
	// Filters are those whose rules are worked out; empty: all.
	Filters []design.ID
	// Keep leaves the rules as they are that name no intent.
	Keep bool
}

// Worked are the rules of one filter as they would be.
type Worked struct {
	Filter design.ID           `json:"filter"`
	Title  string              `json:"title"`
	Party  design.ID           `json:"party,omitempty"` // whose it is
	Owner  design.ID           `json:"owner,omitempty"`
	Before []design.FilterRule `json:"before"`
	After  []design.FilterRule `json:"after"`
	Added  int                 `json:"added"`
	Gone   int                 `json:"gone"`
	// Closes says that what no rule is for is refused now, and was not before.
	Closes bool `json:"closes,omitempty"`
	// Over says that there are more rules than the platform takes, as a sentence; empty if there are not.
	Over string `json:"over,omitempty"`
}

// Plan is what was worked out: edits that change the filters named, and no other thing.
type Plan struct {
	Filters []Worked      `json:"filters"`
	Unmet   []Unmet       `json:"unmet"`
	Edits   []design.Edit `json:"edits"`
}

// FromIntents works out the rules of filters from the intents: the fewest that let pass exactly what these need, by
// what is on the wire at each. What no rule is for is refused, where the platform leaves that to its owner.
func (n *Needs) FromIntents(w Wish) Plan {
	needs, unmet := n.All()
	out := Plan{Filters: []Worked{}, Unmet: append([]Unmet{}, unmet...), Edits: []design.Edit{}}
	by := byFilter(needs)
	for o, b := range design.Each[design.PacketFilter](n.tables.Design.Of(design.KindFilter)) {
		if len(w.Filters) > 0 && !slices.Contains(w.Filters, o.ID) || b.Covers == design.Itself {
			continue // who may manage a box is in no intent
		}
		now := *b
		now.Rules = rulesFor(n.tables, o, b, by[o.ID], w.Keep)
		closes := closed(n.tables, o, &now)
		if closes != "" {
			out.Unmet = append(out.Unmet, Unmet{"", o.ID, closes})
		}
		if x := worked(n.tables, o, b, &now); x.Added+x.Gone > 0 || x.Closes {
			out.Filters = append(out.Filters, x)
			out.Edits = append(out.Edits, design.PutEdit(o.With(&now)))
		}
	}
	return out
}

func byFilter(needs []Need) map[design.ID][]Need {
	out := map[design.ID][]Need{}
	for _, x := range needs {
		out[x.Filter] = append(out[x.Filter], x)
	}
	return out
}

// rulesFor are the rules of a filter that let pass what is needed.
func rulesFor(
	t *route.Tables, o *design.Object, b *design.PacketFilter, needs []Need, keep bool,
) (out []design.FilterRule) {
	if keep {
		for _, r := range b.Rules {
			if len(r.For) == 0 {
				out = append(out, r)
			}
		}
	}
	f := t.Filter(o.ID)
	directions := []string{""}
	if f.Manner.Directed {
		directions = []string{design.Incoming, design.Outgoing}
	}
	for _, direction := range directions {
		if direction == design.Outgoing && f.Manner.Out == design.Allow {
			continue // what is sent is its owner's affair, as long as he leaves it open: who is asked decides
		}
		var some []Need
		for _, x := range needs {
			if x.Direction == cmp.Or(direction, design.Forwarded) {
				some = append(some, x)
			}
		}
		written := direction
		if written == design.Incoming {
			written = "" // as it is left out in files
		}
		out = append(out, Least(narrowed(t.Design, b, some), written)...)
	}
	return out
}

// narrowed leaves out of needs what the place of a filter says already: at a host with one address that address.
func narrowed(d *design.Design, b *design.PacketFilter, needs []Need) []Need {
	if e, ok := d.Get(b.At).Body.(*design.Endpoint); !ok || len(e.Addresses) != 1 {
		return needs
	}
	out := slices.Clone(needs)
	for n := range out {
		switch {
		case out[n].Direction == design.Outgoing:
			out[n].From = everything(out[n].From)
		default:
			out[n].To = everything(out[n].To)
		}
	}
	return out
}

// closed refuses what no rule is for, where the owner can choose that; it says why not where nobody can.
func closed(t *route.Tables, o *design.Object, b *design.PacketFilter) string {
	m := t.Filter(o.ID).Manner
	switch {
	case m.In == design.Refuse:
	case m.Chosen:
		b.Default = design.Refuse
	case !m.OnlyAllow && !m.Any:
		b.Rules = append(b.Rules, design.FilterRule{Does: design.Refuse, Note: "Everything else."})
	default:
		return fmt.Sprintf("%s lets everything in that no rule is for, and its owner can not choose otherwise", o.Name)
	}
	return ""
}

// worked tells what becomes of a filter.
func worked(t *route.Tables, o *design.Object, before, now *design.PacketFilter) Worked {
	d := t.Design
	out := Worked{
		Filter: o.ID, Title: o.Name, Before: slices.Clone(before.Rules), After: slices.Clone(now.Rules),
		Closes: before.Default != now.Default,
	}
	if p := d.FilterPlace(before); p != nil {
		out.Party, out.Owner = p.ID, design.OwnerOf(p)
	}
	for _, r := range now.Rules {
		if !slices.ContainsFunc(before.Rules, func(x design.FilterRule) bool { return Same(x, r) }) {
			out.Added++
		}
	}
	for _, r := range before.Rules {
		if !slices.ContainsFunc(now.Rules, func(x design.FilterRule) bool { return Same(x, r) }) {
			out.Gone++
		}
	}
	if most := t.Filter(o.ID).Manner.Most; most > 0 && len(now.Rules) > most {
		out.Over = fmt.Sprintf("%s would have %d rules, and the platform takes %d", o.Name, len(now.Rules), most)
	}
	if out.Before == nil {
		out.Before = []design.FilterRule{}
	}
	if out.After == nil {
		out.After = []design.FilterRule{}
	}
	return out
}

// Same reports whether two rules do the same, whatever is noted at them.
func Same(a, b design.FilterRule) bool {
	return a.Goes() == b.Goes() && a.Refuses() == b.Refuses() && a.Family == b.Family && a.Replies == b.Replies &&
		slices.Equal(a.From, b.From) && slices.Equal(a.To, b.To) && slices.Equal(a.FromOf, b.FromOf) &&
		slices.Equal(a.ToOf, b.ToOf) && slices.Equal(a.Services, b.Services)
}

// Opening are the edits that let some intents pass at every filter of their ways, and change nothing else: rules are
// added to those that refuse them, before the rule that does. What no rule can help is told.
func (n *Needs) Opening(intents ...design.ID) Plan {
	var needs []Need
	out := Plan{Filters: []Worked{}, Unmet: []Unmet{}, Edits: []design.Edit{}}
	for _, id := range intents {
		x := n.of(id)
		needs, out.Unmet = append(needs, x.needs...), append(out.Unmet, x.unmet...)
	}
	by := byFilter(needs)
	for o, b := range design.Each[design.PacketFilter](n.tables.Design.Of(design.KindFilter)) {
		refused := slices.DeleteFunc(by[o.ID], func(x Need) bool { return x.Passes })
		if len(refused) == 0 {
			continue
		}
		now := *b
		var unmet []Unmet
		now.Rules, unmet = opened(n.tables, o, b, stale(b.Rules, intents, by[o.ID]), refused)
		out.Unmet = append(out.Unmet, unmet...)
		if x := worked(n.tables, o, b, &now); x.Added > 0 {
			out.Filters = append(out.Filters, x)
			out.Edits = append(out.Edits, design.PutEdit(o.With(&now)))
		}
	}
	return out
}

// stale are rules that are there for some intents alone, by which nothing passes that they need: they are from before
// something changed.
func stale(rules []design.FilterRule, intents []design.ID, needs []Need) (out []int) {
	for n, r := range rules {
		others := func(i design.ID) bool { return !slices.Contains(intents, i) }
		lives := slices.ContainsFunc(needs, func(x Need) bool { return x.Passes && x.Rule == n })
		if len(r.For) > 0 && !slices.ContainsFunc(r.For, others) && !lives && !r.Refuses() {
			out = append(out, n)
		}
	}
	return out
}

// opened are the rules of a filter with those that let pass what it refuses, in place of stale ones.
func opened(
	t *route.Tables, o *design.Object, b *design.PacketFilter, stale []int, refused []Need,
) (rules []design.FilterRule, unmet []Unmet) {
	f := t.Filter(o.ID)
	first := len(b.Rules)
	for _, x := range refused {
		if x.Rule >= 0 && f.Manner.Any {
			unmet = append(unmet, Unmet{
				x.Intent, o.ID,
				fmt.Sprintf(
					"rule %d of %s refuses it, whatever others allow: take it away or narrow it", x.Rule+1, o.Name,
				),
			})
			continue
		}
		if x.Rule >= 0 {
			first = min(first, x.Rule)
		}
	}
	var added []design.FilterRule
	for _, direction := range []string{design.Forwarded, design.Incoming, design.Outgoing} {
		var some []Need
		for _, x := range refused {
			if x.Direction == direction {
				some = append(some, x)
			}
		}
		written := map[string]string{design.Outgoing: design.Outgoing}[direction]
		added = append(added, Least(narrowed(t.Design, b, some), written)...)
	}
	for n, r := range b.Rules {
		if n == first {
			rules = append(rules, added...)
		}
		if !slices.Contains(stale, n) {
			rules = append(rules, r)
		}
	}
	if first == len(b.Rules) {
		rules = append(rules, added...)
	}
	return rules, unmet
}

// Everything reports whether a rule lets everything pass from anywhere to anywhere.
func Everything(r design.FilterRule) bool {
	all := func(ps []netip.Prefix) bool {
		return len(ps) == 0 || slices.ContainsFunc(ps, func(p netip.Prefix) bool { return p.Bits() == 0 })
	}
	return !r.Refuses() && len(r.Services) == 0 && len(r.FromOf) == 0 && len(r.ToOf) == 0 && all(r.From) && all(r.To)
}

// RuleWords are a rule as a person reads it, with its direction where it has one.
func RuleWords(d *design.Design, r design.FilterRule) string {
	if r.Direction != "" {
		return r.Direction + ": " + walk.RuleWords(d, r)
	}
	return walk.RuleWords(d, r)
}
