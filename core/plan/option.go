package plan

import (
	"maps"
	"slices"
	"strings"

	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/ledger"
	"dravin/core/translate"
)

// The remedies of options that translate nothing, beside [translate.Leave].
const (
	Join  translate.Remedy = "join"  // what is not joined is joined
	Route translate.Remedy = "route" // what is joined carries it then
)

// option proves an attempt against everything that held before, and sums it up.
func (pl *planner) option(a attempt) Option {
	o := Option{
		Shape: a.joining.key, Way: a.joining.way, Joints: a.joining.joints, Suggestions: a.joining.suggestions,
		Left: a.joining.left, Additions: a.joining.next, AdditionWhy: a.joining.nextWhy,
		Unpriced: strings.Join(a.joining.unpriced, "; "), Costs: slices.Clone(a.joining.costs),
	}
	if a.remedy != nil {
		o.Option = *a.remedy
	} else {
		o.Left = slices.Concat(a.joining.left, a.joining.dropped)
		o.Option = translate.Option{
			Remedy: pl.remedyOf(a), Both: true, Tells: true, WhyMore: []string{}, Capacity: []ledger.Capacity{},
			Maps: []translate.Pair{}, Start: "Both sides can start; nothing is translated.", Next: a.joining.nextWhy,
			Boxes: []translate.Touched{}, Seen: []translate.Seen{},
		}
	}
	o.Title = pl.titleOf(a)
	o.Key = string(o.Remedy) + "-" + design.Slug(o.Title)
	o.Changes = ordered(slices.Concat(a.joining.changes, a.changes))
	o.Edits = pl.edits(a)
	pl.judge(&o, a)
	o.Boxes = pl.touched(&o, a.state.design())
	if added := a.joining.month; added > 0 {
		if o.Month > 0 {
			o.Costs = append(o.Costs, cost.Item{Text: "boxes and endpoints of the translation", Amount: o.Month})
		}
		o.Month += added
	}
	if o.Refused == "" {
		o.Survives, o.Weakest = pl.survives(pl.ctx, a.state)
	}
	for _, list := range []*[]draft.Suggestion{&o.Suggestions} {
		if *list == nil {
			*list = []draft.Suggestion{}
		}
	}
	if o.Joints == nil {
		o.Joints = []Joint{}
	}
	if o.Costs == nil {
		o.Costs = []cost.Item{}
	}
	if o.Left == nil {
		o.Left = []string{}
	}
	return o
}

// remedyOf is what an attempt that translates nothing does.
func (pl *planner) remedyOf(a attempt) translate.Remedy {
	switch {
	case a.joining.key != "":
		return Join
	case len(a.changes) > 0:
		return Route
	}
	return translate.Leave
}

// titleOf names an option: what is joined how, and what is done beside.
func (pl *planner) titleOf(a attempt) string {
	var parts []string
	if a.joining.key != "" {
		parts = append(parts, a.joining.title)
	}
	switch {
	case a.remedy != nil:
		parts = append(parts, a.remedy.Title)
	case a.joining.key == "" && len(a.changes) == 0:
		return "Leave it as it is"
	case a.joining.key == "" && len(a.changes) == 1:
		return strings.ToUpper(a.changes[0].Text[:1]) + a.changes[0].Text[1:] + " at " + a.changes[0].Where
	case a.joining.key == "":
		return "Enter the routes that are lacking"
	}
	for n := range parts[1:] {
		parts[n+1] = strings.ToLower(parts[n+1][:1]) + parts[n+1][1:]
	}
	return strings.Join(parts, "; ")
}

// edits are all that an attempt changes, without what stands in for intents; what somebody is asked
// about waits for the answer.
func (pl *planner) edits(a attempt) []design.Edit {
	out := []design.Edit{}
	out = append(out, pl.before.design().EditsTo(a.state.design())...)
	out = slices.DeleteFunc(out, func(e design.Edit) bool { return pl.scope.stands[e.ID] })
	for n, e := range out {
		switch was := a.joining.asked[e.ID]; {
		case was == nil:
		case was.Kind == design.KindRequest:
			out[n] = design.PutEdit(was)
		default:
			out[n] = design.PutEdit(e.Object.InState(design.StateOf(was)))
		}
	}
	return out
}

// judge holds an option against the intents: what held must hold. What is built stays as it is; what a change takes
// down on its way there is the runbook's to tell.
func (pl *planner) judge(o *Option, a attempt) {
	s, scope := a.state, pl.scope.intents
	if len(a.joining.excused) > 0 {
		scope = maps.Clone(scope)
		maps.DeleteFunc(scope, func(id design.ID, _ bool) bool { return a.joining.excused[id] })
	}
	o.Judge(pl.before.holds, scope, s.results)
}

// ordered are changes in the order to make them.
func ordered(list []translate.Change) []translate.Change {
	out := []translate.Change{}
	for _, c := range list {
		if !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	slices.SortStableFunc(out, func(a, b translate.Change) int { return int(a.Stage) - int(b.Stage) })
	return out
}

// touched sums the changes up by box, and refuses what changes a box that is not to be touched.
func (pl *planner) touched(o *Option, d *design.Design) []translate.Touched {
	out := []translate.Touched{}
	at := map[design.ID]int{}
	closed := map[design.ID]bool{}
	for _, b := range o.Boxes {
		closed[b.ID] = b.Closed
	}
	for _, c := range o.Changes {
		if c.Box == "" {
			continue
		}
		n, ok := at[c.Box]
		if !ok {
			n = len(out)
			at[c.Box] = n
			t := translate.Touched{ID: c.Box, Title: d.Title(c.Box), Party: c.Where}
			t.Closed = closed[c.Box] || slices.Contains(
				pl.question.Closed, c.Party,
			) && pl.before.design().Get(c.Box) != nil
			if owner := design.OwnerOf(d.Get(c.Party)); owner != "" {
				t.Owner = d.Title(owner)
			}
			out = append(out, t)
		}
		out[n].Changes++
	}
	for _, b := range out {
		if b.Closed && o.Refused == "" {
			o.Refused = "it changes " + b.Title + ", which is not to be touched"
		}
	}
	return out
}
