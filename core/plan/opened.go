package plan

import (
	"fmt"
	"slices"

	"dravin/core/design"
	"dravin/core/passes"
	"dravin/core/translate"
	"dravin/core/walk"
)

// Filters stand in the way of what a plan makes as of anything else. What they refuse is opened once everything else
// of an attempt is there, since only then is it known what is on the wire at each: a rule more at every filter of the
// way, at both ends. Nothing that a filter would stop is offered as an answer.

// byFilters are the stops of filters.
var byFilters = []walk.Code{walk.Filtered, walk.ReplyFiltered}

// opened lets what must talk pass the filters that are in its way.
func (pl *planner) opened(a attempt) attempt {
	for range 2 { // a rule of today's makes way for the new one, which may be what another intent lives by
		var refused []design.ID
		for _, id := range pl.failing(a) {
			if stop := a.state.built.Intent(id).Stop(); stop != nil && slices.Contains(byFilters, stop.Code) {
				refused = append(refused, id)
			}
		}
		if len(refused) == 0 {
			return a
		}
		p := passes.Of(a.state.built.Tables()).Opening(refused...)
		next, ok := a.with(pl.ctx, pl.unnamedIn(p.Edits), openings(a.state.design(), p))
		if !ok || pl.breaks(a.state, next.state) {
			return a
		}
		a = next
	}
	return a
}

// unnamedIn are edits of filters whose rules do not name what stands in for intents: these go again.
func (pl *planner) unnamedIn(edits []design.Edit) []design.Edit {
	out := slices.Clone(edits)
	for n, e := range out {
		out[n] = design.PutEdit(design.Edited(e.Object, func(f *design.PacketFilter) {
			f.Rules = slices.Clone(f.Rules)
			for i := range f.Rules {
				f.Rules[i].For = slices.DeleteFunc(
					slices.Clone(f.Rules[i].For), func(id design.ID) bool { return pl.scope.stands[id] },
				)
			}
		}))
	}
	return out
}

// openings tell what is opened where.
func openings(d *design.Design, p passes.Plan) (out []translate.Change) {
	for _, f := range p.Filters {
		b := d.Get(f.Filter).Body.(*design.PacketFilter)
		c := translate.Change{Box: b.At, Party: f.Party, Stage: translate.Lets}
		if p := d.Get(f.Party); p != nil {
			c.Where = p.Name
		}
		for _, r := range f.After {
			if !slices.ContainsFunc(f.Before, func(x design.FilterRule) bool { return passes.Same(x, r) }) {
				c.Text = fmt.Sprintf("the filter %s %s", f.Title, passes.RuleWords(d, r))
				out = append(out, c)
			}
		}
	}
	return out
}

// unfiltered is a state as if no filter stood anywhere: what translates is planned over it, since filters see what
// comes of that.
func (pl *planner) unfiltered(s state) state {
	var edits []design.Edit
	for _, o := range s.design().Of(design.KindFilter) {
		edits = append(edits, design.Edit{Op: design.Remove, ID: o.ID})
	}
	out, _, err := s.sketched(pl.ctx, edits)
	if err != nil {
		return s // the context has ended
	}
	return out
}
