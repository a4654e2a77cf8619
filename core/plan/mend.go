package plan

import (
	"cmp"
	"slices"

	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/core/translate"
	"dravin/core/walk"
)

// A mend is one change that may let a flow come further: an entry, a half, an answer, a setting. None
// is trusted; what a mend is worth is told by the walk after it.
type mend struct {
	change translate.Change
	edits  []design.Edit
}

// mostMends bounds how many mends are made one after the other, mostTrials how many are tried for
// each, and mostMended of how many intents at once.
const (
	mostMends  = 8
	mostTrials = 160
	mostMended = 3
)

// mended adds mends to an attempt for as long as they let more of what must talk do so, or come
// further: of all that may help the one that helps most. What breaks anything is not taken.
func (pl *planner) mended(a attempt) attempt {
	for range mostMends {
		failing := pl.mendable(a)
		if len(failing) == 0 || pl.ctx.Err() != nil {
			return a
		}
		best, most, trials := a, pl.progressOf(a.state, failing), 0
		for _, id := range failing[:min(len(failing), mostMended)] {
			for _, m := range pl.mends(a.state, id) {
				if trials++; trials > mostTrials || pl.ctx.Err() != nil {
					break
				}
				next, ok := a.with(pl.ctx, m.edits, []translate.Change{m.change})
				if !ok || pl.breaks(a.state, next.state) {
					continue
				}
				if p := pl.progressOf(next.state, failing); slices.Compare(p, most) > 0 {
					best, most = next, p
				}
			}
		}
		if len(best.changes) == len(a.changes) {
			return a
		}
		a = best
	}
	return a
}

// mostFailing is up to how many flows are mended one by one: where more fail, it is not for a setting.
const mostFailing = 12

// mendable are the intents in scope that do not hold, where all of them stop at what a change of one
// setting may help: a range that is held elsewhere, too, takes a translation.
func (pl *planner) mendable(a attempt) []design.ID {
	failing := pl.failing(a)
	if len(failing) > mostFailing {
		return nil
	}
	for _, id := range failing {
		r := a.state.built.Intent(id)
		stop := r.Stop()
		if stop == nil || len(pl.plan.Places) > 0 && slices.Contains(collisions, stop.Code) {
			return nil
		}
	}
	return failing
}

// collisions are the stops of what is known in two places.
var collisions = []walk.Code{walk.OnLinkElsewhere, walk.ReplyOnLinkElsewhere, walk.OwnSource, walk.NoNeighbour}

// progressOf is how far flows come: how many work, and how far the others do.
func (pl *planner) progressOf(s state, intents []design.ID) []int {
	works, far := 0, 0
	for _, r := range s.results {
		if !slices.Contains(intents, r.Intent) {
			continue
		}
		if r.Holds {
			works++
		}
		far += reach(r)
	}
	return []int{works, far}
}

// reach is how many stages a flow has behind it; what is only kept from surviving has all of its own
// and those of the walk without what fails.
func reach(r proof.Result) int {
	const whole, back = 1_000_000, 10_000
	switch {
	case r.Holds:
		return 2 * whole
	case r.Error != "":
		return 0
	case r.Slow != "":
		return whole
	}
	p, from := r.Proof, 0
	if r.Failed != nil {
		p, from = *r.Failed, whole
	}
	if p.Stop != nil && p.Stop.Way == "reply" {
		return from + back + len(p.Reply)
	}
	return from + len(p.Forward)
}

// breaks reports whether anything that held does no longer.
func (pl *planner) breaks(before, after state) bool {
	return slices.ContainsFunc(after.results, func(r proof.Result) bool { return !r.Holds && before.holds[r.Intent] })
}

// around is what lies about the way of a flow that stops: where mends are looked for.
type around struct {
	state   state
	result  proof.Result
	intent  *design.Intent
	flow    []translate.Flow
	parties []design.ID      // that the packet meets or should, in order
	joints  []*design.Object // between them and at them
	objects []*design.Object // gateways, boxes and tables of these parties
}

func (pl *planner) mends(s state, intent design.ID) []mend {
	x := pl.around(s, intent)
	var out []mend
	for _, of := range []func(around) []mend{
		routeMends, standingMends, faultMends, filterMends, tableMends, hubMends, peeringMends, callMends, hidingMends,
		crossingMends, linkMends,
	} {
		out = append(out, of(x)...)
	}
	return out
}

func (pl *planner) around(s state, intent design.ID) around {
	d := s.design()
	x := around{state: s, result: s.built.Intent(intent), intent: d.Get(intent).Body.(*design.Intent)}
	x.flow = pl.flows(s, []design.ID{intent})
	add := func(id design.ID) {
		if p := d.Party(id); p != nil && !slices.Contains(x.parties, p.ID) {
			x.parties = append(x.parties, p.ID)
		}
	}
	p := x.result.Proof
	if x.result.Failed != nil {
		p = *x.result.Failed
	}
	for _, stage := range slices.Concat(p.Forward, p.Reply) {
		add(stage.At.ID)
	}
	if stop := x.result.Stop(); stop != nil {
		add(stop.At.ID)
		add(stop.Subject)
	}
	near := topology.Parties(d, func(*design.Object) bool { return true })
	for _, f := range x.flow[:min(len(x.flow), 4)] {
		a, b := d.Party(f.From).ID, d.Party(f.To).ID
		add(a)
		for _, leg := range topology.Way(near.Ways(a), a, b) {
			add(leg.To)
		}
		add(b)
	}
	for _, id := range x.parties {
		for _, l := range near.Near(id) {
			if o := d.Get(l.By); slices.Contains(x.parties, l.To) && !slices.Contains(x.joints, o) {
				x.joints = append(x.joints, o)
			}
		}
		for _, a := range d.Inside(id, design.KindAttachment) {
			if what := d.Party(a.Body.(*design.Attachment).What); what == nil || slices.Contains(x.parties, what.ID) {
				if !slices.Contains(x.joints, a) {
					x.joints = append(x.joints, a)
				}
			}
		}
		x.objects = append(
			x.objects, d.Inside(id, design.KindGateway, design.KindBox, design.KindTable, design.KindHubTable)...,
		)
		x.objects = append(x.objects, d.Get(id))
	}
	return x
}

// at makes a mend of edits at something.
func (x around) at(o *design.Object, text string, edits ...design.Edit) mend {
	d := x.state.design()
	c := translate.Change{Text: text, Box: o.ID, Stage: translate.Routes}
	if p := d.Party(o.ID); p != nil {
		c.Party, c.Where = p.ID, p.Name
	} else if j, ok := design.JointOf(jointOver(d, o)); ok {
		if a, _ := d.PartiesOf(j); a != "" {
			c.Party, c.Where = a, d.Title(a)
		}
	}
	return mend{c, edits}
}

// jointOver is the joint that something is or runs over.
func jointOver(d *design.Design, o *design.Object) *design.Object {
	for o != nil && topology.KindOf(o) == nil {
		o = d.Get(o.Parent)
	}
	return o
}

// routeMends make the flow known along its shortest way, and along others without a joint of it.
func routeMends(x around) (out []mend) {
	d := x.state.design()
	add := func(avoid ...design.ID) {
		edits, changes := translate.Carried(x.state.built, x.flow, avoid...)
		if len(edits) == 0 {
			return
		}
		m := x.at(d.Get(x.parties[0]), "", edits...)
		m.change = changes[0]
		out = append(out, m)
	}
	if len(x.parties) == 0 {
		return nil
	}
	add()
	for _, o := range x.joints {
		if status.Exists(o) {
			add(o.ID)
		}
	}
	return out
}

// ranges are those by which the two ends of the flow may be known anywhere: their own, and what they
// are mapped to.
func (x around) ranges() (out [][2]design.ID) {
	for _, f := range x.flow {
		out = append(out, [2]design.ID{f.From, f.To})
	}
	slices.SortFunc(
		out, func(a, b [2]design.ID) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) },
	)
	return slices.Compact(out)
}
