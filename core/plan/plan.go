// Package plan makes designs that work. Asked who or what must talk, it joins what is not joined,
// enters what tables lack and translates what collides, all in one, and proves every option before
// it offers it: what must talk does, nothing else breaks, and nothing reaches what it must never.
//
// An option is made in three steps, each on what the one before has made: a joining (nothing, or
// links, peerings, attachments and circuits that are drafted by the package draft), the routes and
// translations that the package translate works out over it, and mends for whatever still stops a
// flow (see [mends]). What holds afterwards is asked of the whole design as planned, when all is
// built, so that no step needs to be trusted.
package plan

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/proof"
	"dravin/core/provider"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/core/translate"
	"dravin/core/words"
)

// Question is what a plan is asked for. The zero value of a field asks for nothing in particular.
type Question struct {
	// Parties are who must talk: sites, networks, hubs, edge routers, or LANs, inner routes and
	// subnets of them. Where no intent says what they must, everything of each with everything of the
	// others stands in; of more than [MostEach], of the first with every other.
	Parties []design.ID
	Intents []design.ID // which must hold; empty: those between the parties
	// Places are whose ranges collide: LANs, inner routes, networks; empty: what collides with what the
	// intents concern.
	Places []design.ID
	Keep   []design.ID    // places or parties that keep their ranges
	Closed []design.ID    // parties whose boxes are not to be touched
	Pools  []netip.Prefix // where mapped ranges come from; empty: what is reserved for mapping
	By     []string       // what the keys of shapes may begin with, such as vpn or vpn-bgp; empty: any
	Wish   Wish           // what makes one option better than another; empty: [LeastToDo]
	Budget provider.Money // the most that an option may cost a month; 0: any sum
	GB     uint32         // what goes over a new joint in a month, both ways together

	NoBoxes    bool // no translating box may be added
	Untouched  bool // ranges stay as they are: nothing is translated
	Everything bool // everything of the parties must talk, whatever intents say; with Untouched all that can
	Star       bool // the first party with every other, and these not with each other
}

// MostEach is up to how many parties everything of each with everything of each other stands in for
// intents that nobody said.
const MostEach = 6

// Option is one complete change, proven.
type Option struct {
	translate.Option
	Way         string             `json:"way,omitempty" doc:"How it joins, in words."`
	Shape       string             `json:"shape,omitempty" doc:"The key of the way of joining; empty where nothing is joined."`
	Joints      []Joint            `json:"joints" doc:"What is joined by it."`
	Costs       []cost.Item        `json:"costs" doc:"What makes up what is added to the bill."`
	Unpriced    string             `json:"unpriced,omitempty" doc:"What else must be paid for, at a price that is not known."`
	Additions   int                `json:"additions" doc:"Steps for the next party or network of the kind."`
	AdditionWhy string             `json:"addition_why,omitempty"`
	Survives    bool               `json:"survives" doc:"All in scope work after any single failure on their way."`
	Weakest     string             `json:"weakest,omitempty" doc:"What must not fail, of the first that does not survive."`
	Suggestions []draft.Suggestion `json:"suggestions" doc:"Values that were filled in, with the reasons."`
	Left        []string           `json:"left" doc:"What is left out of the joining, and why."`
}

// Joint is something that an option drafts to join two parties.
type Joint struct {
	ID    design.ID    `json:"id"`
	Kind  design.Kind  `json:"kind"`
	Name  string       `json:"name"`
	Ends  [2]design.ID `json:"ends" doc:"The parties, or a hub and what is attached."`
	Reuse bool         `json:"reuse,omitempty" doc:"It is there already."`
}

// Plan is what is known of a question: the options, best first.
type Plan struct {
	Parties []design.ID     `json:"parties"`
	Places  []design.ID     `json:"places" doc:"Whose ranges collide."`
	Intents int             `json:"intents" doc:"How many are in scope."`
	Stands  string          `json:"stands,omitempty" doc:"What stands in for intents, where nobody said any."`
	Apart   [][2]design.ID  `json:"apart" doc:"Pairs of parties that must talk and that nothing joins yet."`
	Options []Option        `json:"options"`
	More    int             `json:"more,omitempty" doc:"How many options there are that are not listed."`
	Least   translate.Least `json:"least"`
	// Excluded says why ways of joining and remedies do not apply.
	Excluded []string `json:"excluded"`
	Wish     Wish     `json:"wish"`
}

// planner works on one question.
type planner struct {
	ctx      context.Context
	question Question
	before   state
	scope    scope
	plan     Plan
	tell     func(Progress)
	answers  int // options that are answers
}

// Progress is how far a plan has come.
type Progress struct {
	Doing   string `json:"doing"`   // in words
	Options int    `json:"options"` // worked out so far
	Answers int    `json:"answers"` // of these, what lets all in scope hold
}

// For plans a question over a design as planned. tell, if it is not nil, hears how far it has come. The error
// is that of the context, if it ends before, or says what of the question can not be used.
func For(ctx context.Context, built *proof.Proofs, q Question, tell func(Progress)) (Plan, error) {
	pl, err := begin(ctx, built, q, tell)
	if err != nil {
		return Plan{}, err
	}
	for j := range pl.joinings() {
		pl.options(j)
		if err := ctx.Err(); err != nil {
			return Plan{}, err
		}
	}
	pl.rank()
	return pl.plan, nil
}

func begin(ctx context.Context, built *proof.Proofs, q Question, tell func(Progress)) (*planner, error) {
	if q.Wish == "" {
		q.Wish = LeastToDo
	}
	pl := &planner{ctx: ctx, question: q, before: state{built: built}, tell: tell}
	if tell == nil {
		pl.tell = func(Progress) {}
	}
	pl.plan = Plan{
		Options: []Option{}, Excluded: []string{}, Apart: [][2]design.ID{}, Places: []design.ID{},
		Parties: []design.ID{}, Wish: q.Wish, Least: translate.Least{Why: []string{}},
	}
	if err := pl.before.hold(ctx); err != nil {
		return nil, err
	}
	return pl, pl.look()
}

func (pl *planner) progress(format string, args ...any) {
	pl.tell(Progress{Doing: fmt.Sprintf(format, args...), Options: len(pl.plan.Options), Answers: pl.answers})
}

func (pl *planner) exclude(why string) {
	if why != "" && !slices.Contains(pl.plan.Excluded, why) {
		pl.plan.Excluded = append(pl.plan.Excluded, why)
	}
}

// options works out what can be made of one joining, and keeps it.
func (pl *planner) options(j joining) {
	joined, whole, err := pl.before.sketched(pl.ctx, j.edits)
	if err != nil {
		return // the context has ended
	}
	if j.key == "" && len(pl.scope.order) == 0 && len(pl.plan.Apart) > 0 {
		return // nothing is walked, and what was asked for is that they are joined
	}
	pl.progress("%s", j.title)
	base := pl.opened(attempt{joining: j, state: joined})
	planned := len(pl.scope.order) == 0 && len(pl.question.Places) > 0 // for whatever may talk later
	if whole && pl.straight(base) && !planned || pl.question.Untouched {
		return
	}
	pl.translated(base)
}

// straight keeps what works without any translation, and tells whether anything does: the joining
// alone, else with the routes that are lacking, else with mends.
func (pl *planner) straight(base attempt) bool {
	if pl.serves(base) {
		return pl.keep(base)
	}
	routed, ok := pl.routed(base)
	if ok && pl.serves(routed) {
		return pl.keep(routed)
	}
	if ok && routed.state.count(pl.scope.intents) <= base.state.count(pl.scope.intents) {
		routed = base // what is entered for nothing is not entered
	}
	mended := pl.opened(pl.mended(routed))
	if pl.serves(mended) {
		return pl.keep(mended)
	}
	pl.refuse(mended)
	return false
}

// routed enters what tables lack along the shortest ways of all that does not work.
func (pl *planner) routed(a attempt) (attempt, bool) {
	edits, changes := translate.Carried(a.state.built, pl.flows(a.state, pl.failing(a)))
	next, ok := a.with(pl.ctx, edits, changes)
	return pl.opened(next), ok
}

// translated keeps the remedies for what collides, over what is joined then.
func (pl *planner) translated(base attempt) {
	places, beside := pl.colliding(base.state)
	if len(places) == 0 {
		return
	}
	for _, id := range places {
		if !slices.Contains(pl.plan.Places, id) && !slices.Contains(beside, id) {
			pl.plan.Places = append(pl.plan.Places, id)
		}
	}
	base = pl.unnamed(base, places, beside)
	plan, err := translate.For(pl.ctx, pl.unfiltered(base.state).built, translate.Question{
		Places: places, Beside: beside, Intents: pl.scope.list(), Keep: pl.question.Keep, Closed: pl.question.Closed,
		Pools: pl.question.Pools, NoBoxes: pl.question.NoBoxes,
	})
	if err != nil {
		return
	}
	if pl.plan.Least.Mapped == 0 || plan.Least.Mapped > 0 && plan.Least.Mapped < pl.plan.Least.Mapped {
		pl.plan.Least = plan.Least
	}
	if len(pl.scope.wanted) == 0 || base.joining.key != "" { // of what is not joined there is no more to say
		for _, why := range plan.Excluded {
			pl.exclude(why)
		}
	}
	for _, o := range plan.Options {
		if o.Remedy == translate.Leave {
			continue // what is joined alone was looked at
		}
		a := base
		a.remedy = &o
		a, ok := a.with(pl.ctx, o.Edits, o.Changes)
		if !ok {
			continue
		}
		a = pl.opened(a)
		if !pl.serves(a) && o.Refused != "" && len(o.Stays) > 0 && len(o.Breaks) == 0 {
			a = pl.opened(pl.mended(a))
		}
		if pl.serves(a) {
			pl.keep(a)
		} else {
			pl.refuse(a)
		}
	}
}

// unnamed is an attempt whose joints name nothing of what is to be known as other ranges, so that no table
// keeps an entry for it.
func (pl *planner) unnamed(base attempt, places, beside []design.ID) attempt {
	if base.joining.unnamed == nil || len(pl.scope.wanted) > manyPairs {
		return base
	}
	own := slices.DeleteFunc(slices.Clone(places), func(id design.ID) bool { return slices.Contains(beside, id) })
	j, ok := base.joining.unnamed(pl.toBeKnown(own))
	if !ok {
		return base
	}
	if s, _, err := pl.before.sketched(pl.ctx, j.edits); err == nil {
		return attempt{joining: j, state: s}
	}
	return base
}

// failing are the intents in scope that do not hold.
func (pl *planner) failing(a attempt) (out []design.ID) {
	for _, id := range pl.scope.order {
		if !a.state.holds[id] && !a.joining.excused[id] {
			out = append(out, id)
		}
	}
	return out
}

// serves reports whether all that must talk does.
func (pl *planner) serves(a attempt) bool { return len(pl.failing(a)) == 0 }

// flows are those between the places for which intents stand.
func (pl *planner) flows(s state, intents []design.ID) (out []translate.Flow) {
	d := s.design()
	for _, id := range intents {
		in := d.Get(id).Body.(*design.Intent)
		for _, from := range d.StandsFor(in.From) {
			for _, to := range d.StandsFor(in.To) {
				if d.Party(from) != nil && d.Party(to) != nil && d.Party(from) != d.Party(to) {
					out = append(out, translate.Flow{From: from, To: to})
				}
			}
		}
	}
	return out
}

// keep proves an attempt against all that is known and lists it as an option; false if it is refused.
func (pl *planner) keep(a attempt) bool {
	o := pl.option(a)
	pl.plan.Options = append(pl.plan.Options, o)
	if o.Refused == "" {
		pl.answers++
	}
	pl.progress("%s", o.Title)
	return o.Refused == ""
}

// mostRefused bounds how many options are listed that are no answer: they tell what was looked at.
const mostRefused = 12

func (pl *planner) refuse(a attempt) {
	n := 0
	for _, o := range pl.plan.Options {
		if o.Refused != "" {
			n++
		}
	}
	if n < mostRefused {
		pl.keep(a)
	}
}

// apartFrom are the pairs of parties in scope that nothing joins, in the order of the intents.
func apartFrom(d *design.Design, pairs [][2]design.ID) (out [][2]design.ID) {
	near := topology.Parties(d, status.Exists)
	reach := map[design.ID]map[design.ID]bool{}
	for _, p := range pairs {
		if reach[p[0]] == nil {
			reach[p[0]] = near.Reach(p[0])
		}
		known := slices.Contains(out, p) || slices.Contains(out, [2]design.ID{p[1], p[0]})
		if p[0] != p[1] && !reach[p[0]][p[1]] && !known {
			out = append(out, p)
		}
	}
	return out
}

// titles names parties in a sentence; of many the first and how many more.
func titles(d *design.Design, ids []design.ID) string {
	var out []string
	for _, id := range ids {
		out = append(out, d.Title(id))
	}
	if len(out) > 4 {
		return fmt.Sprintf("%s and %d more", strings.Join(out[:3], ", "), len(out)-3)
	}
	return words.List(out)
}

// Shortened is the plan with at most so many options: the best, with one at least of every remedy, and
// a few that are refused.
func (p Plan) Shortened(most int) Plan {
	if len(p.Options) <= most {
		return p
	}
	seen := map[translate.Remedy]bool{}
	kept := make([]bool, len(p.Options))
	n := 0
	for k, o := range p.Options { // the first of every remedy
		if !seen[o.Remedy] && n < most {
			seen[o.Remedy], kept[k] = true, true
			n++
		}
	}
	for k := range p.Options {
		if !kept[k] && n < most {
			kept[k] = true
			n++
		}
	}
	all := p.Options
	p.Options = []Option{}
	for k, o := range all {
		if kept[k] {
			p.Options = append(p.Options, o)
		}
	}
	p.More = len(all) - len(p.Options)
	return p
}
