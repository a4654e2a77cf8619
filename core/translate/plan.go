// Package translate plans address translation for ranges that collide. A [Plan]
// holds every remedy that applies as an [Option], worked out to the last change at
// every party and proven: all intents are walked before and after it.
package translate

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/ledger"
	"dravin/core/overlap"
	"dravin/core/prefix"
	"dravin/core/proof"
	"dravin/core/provider"
	"dravin/core/route"
	"dravin/core/topology"
	"dravin/core/walk"
	"dravin/core/words"
)

// Question is what a plan is asked for. The zero value of a field asks for
// nothing in particular.
type Question struct {
	Places  []design.ID    // whose ranges collide: LANs, inner routes, networks; or parties with all of theirs
	Beside  []design.ID    // of these, whose ranges are in the way and stay as they are
	Intents []design.ID    // which must hold; empty: all that touch the places
	Keep    []design.ID    // places or parties that keep their ranges
	Closed  []design.ID    // parties whose boxes are not to be touched
	Pools   []netip.Prefix // where mapped ranges come from; empty: what is reserved for mapping
	NoBoxes bool           // no translating box may be added
}

// Remedy names a kind of remedy.
type Remedy string

// The remedies.
const (
	Leave     Remedy = "leave"
	KeepOut   Remedy = "keep-out"
	Map       Remedy = "map"
	Hide      Remedy = "hide"
	Publish   Remedy = "publish"
	Relay     Remedy = "relay"
	Endpoint  Remedy = "private-endpoint"
	TwoStages Remedy = "two-stages"
	Renumber  Remedy = "renumber"
)

// Pair is one range and what it becomes.
type Pair struct {
	Place  design.ID    `json:"place"`
	Title  string       `json:"title"`
	Real   netip.Prefix `json:"real"`
	Mapped netip.Prefix `json:"mapped"`
}

// Option is one remedy, ready to apply.
type Option struct {
	Key     string        `json:"key"` // names it among the options of one plan
	Remedy  Remedy        `json:"remedy"`
	Title   string        `json:"title"`
	Why     string        `json:"why"`   // why this pool
	Start   string        `json:"start"` // who can start a conversation
	Maps    []Pair        `json:"maps"`
	Changes []Change      `json:"changes"` // in the order to make them
	Edits   []design.Edit `json:"edits"`
	// Intents are those in scope, and others that change, before and after; the
	// first [mostShown] of them, what changes first.
	Intents []Held `json:"intents"`
	// Walk is that of the intent that fails, where one does.
	Walk *walk.Proof `json:"walk,omitempty"`
	// Seen is who is seen as what, in a few words for each party.
	Seen []Seen `json:"seen"`
	// Holding and Total count the intents that hold afterwards.
	Holding int `json:"holding"`
	Total   int `json:"total"`
	// Held counts the intents that hold before, and Holds are those that do afterwards;
	// the walks themselves are not kept.
	Held  int                `json:"-"`
	Holds map[design.ID]bool `json:"-"`
	// Refused says why it is no answer: an intent in scope does not hold, another
	// breaks, or something reaches what it must never. Empty if it is one.
	Refused string `json:"refused,omitempty"`
	// Failing is the intent whose walk shows that.
	Failing design.ID `json:"failing,omitempty"`
	Stays   []string  `json:"stays"`  // intents in scope that do not hold
	Breaks  []string  `json:"breaks"` // intents that held before
	// WhyMore says of each that is mapped why it can not keep its range.
	WhyMore []string `json:"why_more"`

	Both      bool              `json:"both"`        // either side can start
	Tells     bool              `json:"tells"`       // the far end can tell callers apart
	Addresses uint64            `json:"addresses"`   // of IPv4, spent
	Ranges6   int               `json:"ranges6"`     // of IPv6, spent: their addresses are beyond counting
	PerHost   int               `json:"per_host"`    // entries for one more host
	PerServe  int               `json:"per_service"` // entries for one more service
	Boxes     []Touched         `json:"boxes"`
	Month     provider.Money    `json:"month"` // what is added to the bill
	Capacity  []ledger.Capacity `json:"capacity"`
	Next      string            `json:"next"` // when one more with the same range comes
	First     string            `json:"first,omitempty"`
}

// Seen is as what a party, or something of it, is seen by others.
type Seen struct {
	Party design.ID `json:"party"`
	Text  string    `json:"text"`
}

// Held is an intent before and after.
type Held struct {
	Intent design.ID `json:"intent"`
	Name   string    `json:"name"`
	Never  bool      `json:"never,omitempty"`
	Before bool      `json:"before"`
	After  bool      `json:"after"`
	Why    string    `json:"why,omitempty"`   // it does not hold afterwards
	Dials  string    `json:"dials,omitempty"` // what the caller dials afterwards
}

// mostShown bounds how many intents an option lists.
const mostShown = 60

// Touched is what is changed at one gateway, box, table, joint or place.
type Touched struct {
	ID      design.ID `json:"id"`
	Title   string    `json:"title"`
	Party   string    `json:"party"`
	Owner   string    `json:"owner,omitempty"`
	Changes int       `json:"changes"`
	Closed  bool      `json:"closed,omitempty"`
}

// Plan is what is known of a question: the options, best first.
type Plan struct {
	Places  []design.ID `json:"places"`
	Intents int         `json:"intents"` // in scope
	Options []Option    `json:"options"`
	Least   Least       `json:"least"`
	// Excluded says why remedies do not apply.
	Excluded []string `json:"excluded"`
}

// planner works on one question.
type planner struct {
	ctx         context.Context
	proofs      *proof.Proofs
	tables      *route.Tables
	design      *design.Design
	question    Question
	scope       *scope
	constraints *constraints
	pool        *pool
	before      []proof.Result
	held        map[design.ID]bool
	names       map[[2]design.ID][]netip.Prefix
	near        topology.Graph // of parties
	boxed       map[design.ID]*boxed
	plan        Plan
}

// For plans a question. The error is that of the context, if it ends before.
func For(ctx context.Context, p *proof.Proofs, q Question) (Plan, error) {
	pl, err := begin(ctx, p, q)
	if err != nil {
		return Plan{}, err
	}
	for o := range pl.options() {
		pl.plan.Options = append(pl.plan.Options, o)
	}
	if err := ctx.Err(); err != nil {
		return Plan{}, err
	}
	rank(pl.plan.Options)
	if len(pl.plan.Options) > 0 && pl.plan.Intents == 0 {
		pl.plan.Options[0].First = "No intent is touched: it breaks as soon as these talk, and this would be ready for it."
	}
	return pl.plan, nil
}

// OfGroup is the question of a group of overlapping ranges.
func OfGroup(g overlap.Group) Question {
	q := Question{}
	for _, c := range g.Claims {
		if (c.Kind == design.KindLAN || c.Kind == design.KindInnerRoute || c.Kind == design.KindNetwork) &&
			!slices.Contains(q.Places, c.Owner) {
			q.Places = append(q.Places, c.Owner)
		}
	}
	return q
}

// ForGroup plans for a group of overlapping ranges: the options alone.
func ForGroup(ctx context.Context, p *proof.Proofs, g overlap.Group) ([]Option, error) {
	plan, err := For(ctx, p, OfGroup(g))
	return plan.Options, err
}

// Each works the options of a group out one by one, until the context ends.
func Each(ctx context.Context, p *proof.Proofs, g overlap.Group) iter.Seq[Option] {
	pl, err := begin(ctx, p, OfGroup(g))
	if err != nil {
		return func(func(Option) bool) {}
	}
	return pl.options()
}

func begin(ctx context.Context, p *proof.Proofs, q Question) (*planner, error) {
	t := p.Tables()
	before, err := p.Within(ctx)
	if err != nil {
		return nil, err
	}
	pl := &planner{
		ctx: ctx, proofs: p, tables: t, design: t.Design, question: q, pool: newPool(t.Design, q.Pools), before: before,
		held: map[design.ID]bool{}, names: map[[2]design.ID][]netip.Prefix{}, near: topology.Drawn(p.Tables().Design),
	}
	for _, r := range pl.before {
		pl.held[r.Intent] = r.Holds
	}
	pl.scope = scopeOf(pl.design, pl.placesOf(q.Places), q.Intents, pl.near)
	pl.scope.settled = pl.settled(pl.scope.places)
	pl.boxed = boxedAlready(pl.design)
	pl.constraints = pl.scope.constrain()
	intents := map[design.ID]bool{}
	for _, n := range pl.scope.needs {
		intents[n.intent] = true
	}
	pl.plan = Plan{Places: pl.scope.places, Intents: len(intents), Options: []Option{}, Excluded: []string{}}
	pl.plan.Least.Bound, pl.plan.Least.Why = pl.constraints.bound()
	return pl, nil
}

// placesOf are the places that parties stand for, or that were named.
func (pl *planner) placesOf(ids []design.ID) []design.ID {
	var out []design.ID
	for _, id := range ids {
		o := pl.design.Get(id)
		switch {
		case o == nil:
		case o.Kind == design.KindSite:
			for _, place := range pl.design.Inside(id, design.KindLAN, design.KindInnerRoute) {
				out = append(out, place.ID)
			}
		default:
			out = append(out, id)
		}
	}
	return out
}

// settled are the places that are known as other ranges already: they hold what they
// hold, and stay as they are.
func (pl *planner) settled(places []design.ID) map[design.ID]bool {
	out := map[design.ID]bool{}
	for _, id := range places {
		out[id] = slices.Contains(pl.question.Beside, id) || pl.mappedAlready(pl.design.Get(id))
	}
	return out
}

// mappedAlready reports whether a place is known as another range already, at a
// gateway or a box.
func (pl *planner) mappedAlready(place *design.Object) bool {
	for _, box := range pl.design.Forwarders(pl.design.Party(place.ID).ID) {
		for _, x := range route.Translations(pl.design, box.ID) {
			if x.Hook == design.Prerouting && x.Does == design.OneToOne &&
				slices.ContainsFunc(design.RangesOf(place), x.Real.Overlaps) {
				return true
			}
		}
	}
	return false
}

// keeps reports whether a place's range is to stay as it is.
func (pl *planner) keeps(place design.ID) bool {
	party := pl.design.Party(place).ID
	return slices.Contains(pl.question.Keep, place) || slices.Contains(pl.question.Keep, party) ||
		slices.Contains(pl.question.Closed, party)
}

// known are the ranges by which a place is known to a party, unless an option says
// otherwise.
func (pl *planner) known(place, to design.ID) []netip.Prefix {
	key := [2]design.ID{place, to}
	if out, ok := pl.names[key]; ok {
		return out
	}
	owner := pl.design.Party(place)
	out, mapped := pl.seenAs(place, to)
	if owner.Kind == design.KindNetwork { // by its blocks, while none of its subnets is known as something else
		out = nil
		for _, s := range pl.design.Inside(owner.ID, design.KindSubnet) {
			seen, as := pl.seenAs(s.ID, to)
			out, mapped = append(out, seen...), mapped || as
		}
		if !mapped {
			out = pl.design.Ranges(owner.ID)
		}
	}
	pl.names[key] = out
	return out
}

// seenAs are the ranges of a place as a party knows them, and whether any is another
// than its own.
func (pl *planner) seenAs(place, to design.ID) (out []netip.Prefix, mapped bool) {
	out = slices.Clone(pl.design.Ranges(place))
	for n, p := range out {
		if seen := walk.RangeSeenAs(pl.tables, to, place, p); seen.IsValid() {
			out[n], mapped = seen, true
		}
	}
	return out, mapped
}

// mapped are the ranges that an option gives to places.
type mapped map[design.ID][]netip.Prefix

// open makes every flow in scope that a choice touches, or that fails, known all
// along its way, both ways. seen says as what a place is seen.
func (pl *planner) open(e *editor, m mapped, skip func(need) bool) {
	done := map[[2]design.ID]bool{}
	seen := func(place, to design.ID) []netip.Prefix {
		if r, ok := m[pl.scope.holder(place)]; ok {
			return r
		}
		return pl.known(place, to)
	}
	for _, n := range pl.scope.needs {
		key := [2]design.ID{n.from, n.to}
		_, a := m[pl.scope.holder(n.from)]
		_, b := m[pl.scope.holder(n.to)]
		if done[key] || n.path == nil || !a && !b && pl.held[n.intent] || skip != nil && skip(n) {
			continue
		}
		done[key] = true
		ours, theirs := seen(n.from, n.toParty), seen(n.to, n.fromParty)
		for _, f := range prefix.Families {
			x, y := prefix.OfFamily(ours, f), prefix.OfFamily(theirs, f)
			if len(x) > 0 && len(y) > 0 ||
				f == prefix.IPv4 &&
					(a && len(ours) == 0 || b && len(theirs) == 0) { // whoever hides behind an inside address is known there
				e.carry(n.path, x, y)
			}
		}
	}
}

// try works an option out and proves it; nil if it can not be made, with the
// reason noted.
func (pl *planner) try(remedy Remedy, title string, build func(e *editor, o *Option) error) *Option {
	if pl.ctx.Err() != nil {
		return nil
	}
	e := newEditor(pl.design, pl.pool.fresh())
	e.near, e.boxed = pl.near, maps.Clone(pl.boxed)
	o := &Option{
		Remedy: remedy, Title: title, Total: len(pl.before), Stays: []string{}, Breaks: []string{}, WhyMore: []string{},
		Boxes: []Touched{}, Capacity: []ledger.Capacity{}, Maps: []Pair{}, Changes: []Change{},
	}
	if err := build(e, o); err != nil {
		pl.exclude(title + ": " + err.Error())
		return nil
	}
	o.Edits = e.edits()
	next, _, err := pl.design.Apply(o.Edits)
	if err != nil {
		pl.exclude(title + ": " + err.Error())
		return nil
	}
	o.Changes, o.Why, o.Key = append(o.Changes, e.changes...),
		strings.Join(unique(e.why), " "), string(remedy)+"-"+design.Slug(o.Title)
	o.Maps = append(o.Maps, e.maps...)
	changes := pl.design.ChangedBy(o.Edits, next)
	tables := pl.tables.After(next, changes)
	after, err := pl.proofs.After(tables, tables.Changes()).Within(pl.ctx)
	if err != nil {
		return nil
	}
	o.Judge(pl.held, pl.inScope(), after)
	pl.measure(e, next, o)
	return o
}

func (pl *planner) exclude(why string) {
	if !slices.Contains(pl.plan.Excluded, why) {
		pl.plan.Excluded = append(pl.plan.Excluded, why)
	}
}

func unique(list []string) []string {
	var out []string
	for _, s := range list {
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// inScope are the intents that an option must make hold.
func (pl *planner) inScope() map[design.ID]bool {
	out := map[design.ID]bool{}
	for _, n := range pl.scope.needs {
		out[n.intent] = true
	}
	return out
}

// Judge says whether an option is an answer, by which intents held before it and what became of all
// after it: those in scope must hold, and no other may break.
func (o *Option) Judge(held, inScope map[design.ID]bool, after []proof.Result) {
	o.Held, o.Holding, o.Holds = 0, proof.Holding(after), map[design.ID]bool{}
	o.Total, o.Stays, o.Breaks = len(after), []string{}, []string{}
	o.Refused, o.Failing, o.Walk = "", "", nil
	for _, holds := range held {
		if holds {
			o.Held++
		}
	}
	refuse := func(r proof.Result, why string) {
		if o.Refused == "" {
			o.Refused, o.Failing, o.Walk = why, r.Intent, &r.Proof
		}
	}
	o.Intents = []Held{}
	for _, r := range after {
		o.Holds[r.Intent] = r.Holds
		if inScope[r.Intent] || r.Holds != held[r.Intent] {
			o.Intents = append(o.Intents, heldAs(r, held[r.Intent]))
		}
		switch {
		case r.Holds:
		case r.Never && held[r.Intent]:
			o.Breaks = append(o.Breaks, r.Name)
			refuse(r, fmt.Sprintf("%q must never work, and would", r.Name))
		case held[r.Intent]:
			o.Breaks = append(o.Breaks, r.Name)
			refuse(r, fmt.Sprintf("%q works today and would not: %s", r.Name, whyNot(r)))
		case inScope[r.Intent]:
			o.Stays = append(o.Stays, r.Name)
			refuse(r, fmt.Sprintf("%q still does not work: %s", r.Name, whyNot(r)))
		}
	}
	slices.SortStableFunc(
		o.Intents, func(a, b Held) int { return cmp.Compare(no(a.Before != a.After), no(b.Before != b.After)) },
	)
	if len(o.Intents) > mostShown {
		o.Intents = o.Intents[:mostShown]
	}
}

func heldAs(r proof.Result, before bool) Held {
	h := Held{Intent: r.Intent, Name: r.Name, Never: r.Never, Before: before, After: r.Holds}
	if !r.Holds {
		h.Why = whyNot(r)
	} else if !r.Never && r.Proof.Dialled.IsValid() {
		h.Dials = r.Proof.Dialled.String() + " " + r.Proof.Service
	}
	return h
}

func whyNot(r proof.Result) string {
	if stop := r.Stop(); stop != nil {
		return stop.Why
	}
	return r.Error + r.Slow
}

// measure fills in what options are compared by.
func (pl *planner) measure(e *editor, next *design.Design, o *Option) {
	for _, p := range e.spent {
		if p.Addr().Is6() {
			o.Ranges6++
			continue
		}
		o.Addresses += 1 << (32 - p.Bits())
	}
	o.Seen = e.seen(next)
	at := map[design.ID]int{}
	for _, c := range o.Changes {
		if c.Box == "" {
			continue
		}
		n, ok := at[c.Box]
		if !ok {
			n = len(o.Boxes)
			at[c.Box] = n
			t := Touched{ID: c.Box, Title: next.Title(c.Box), Party: c.Where, Closed: pl.closed(e, c)}
			if owner := design.OwnerOf(next.Get(c.Party)); owner != "" {
				t.Owner = next.Title(owner)
			}
			o.Boxes = append(o.Boxes, t)
		}
		o.Boxes[n].Changes++
	}
	for _, b := range o.Boxes {
		if b.Closed && o.Refused == "" {
			o.Refused = fmt.Sprintf("it changes %s, which is not to be touched", b.Title)
		}
		if told, takes := route.RulesTaken(next, b.ID); takes > 0 && told > takes && o.Refused == "" {
			o.Refused = fmt.Sprintf("%s would have %d rules and mappings, and its cloud takes %d", b.Title, told, takes)
		}
	}
	for _, id := range e.order {
		if pl.design.Get(id) != nil {
			continue
		}
		switch b := e.now[id].Body.(type) {
		case *design.Box:
			if profile := next.ProfileOf(id); profile != nil {
				o.Month += cost.Monthly(profile.Prices.BoxHour)
			}
		case *design.Listener:
			if profile := next.ProfileOf(b.At); profile != nil && next.Get(b.At).Kind == design.KindNetwork {
				o.Month += cost.Monthly(profile.Prices.EndpointHour)
			}
		}
	}
}

// closed reports whether a change is made at a box that is not to be touched: one that
// is there. A new one in a closed party's place is none of its boxes.
func (pl *planner) closed(e *editor, c Change) bool {
	there := func(box design.ID) bool {
		p := pl.design.Party(box)
		return p != nil && slices.Contains(pl.question.Closed, p.ID)
	}
	if pl.design.Get(c.Box) != nil {
		return slices.Contains(pl.question.Closed, c.Party)
	}
	switch b := e.now[c.Box].Body.(type) {
	case *design.Listener:
		return there(b.At)
	case *design.Mapping:
		return there(b.Gateway)
	}
	j, ok := design.JointOf(e.now[c.Box])
	return ok && (there(j.Ends[0]) || there(j.Ends[1]))
}

// rank puts options in order: answers first; then who lets both sides start and
// callers be told apart, needs least for one more service, touches least and
// spends least. The first is told why it is.
func rank(options []Option) {
	grade := func(o Option) []int {
		refused := 0
		if o.Refused != "" {
			refused = 1 + len(o.Breaks)*100 + len(o.Stays)
		}
		return []int{
			refused, no(o.Both), no(o.Tells), no(o.Remedy != Renumber), o.PerServe, len(o.Boxes), int(o.Addresses),
			o.Ranges6, len(o.Changes),
		}
	}
	slices.SortStableFunc(options, func(a, b Option) int { return slices.Compare(grade(a), grade(b)) })
	if len(options) == 0 || options[0].Refused != "" {
		return
	}
	o := &options[0]
	virtues := []string{}
	if o.Both {
		virtues = append(virtues, "either side can start")
	}
	if o.Tells {
		virtues = append(virtues, "the far end can tell callers apart")
	}
	if o.PerServe == 0 {
		virtues = append(virtues, "nothing is entered for one more service")
	}
	touched := fmt.Sprintf(
		"%s touched and %s", words.Count(len(o.Boxes), "box or table is", "boxes and tables are"), o.spent(),
	)
	o.First = "First, since everything in scope works and nothing else breaks; " + words.List(
		append(virtues, touched),
	) + "."
}

// spent is what is taken for an option, in words.
func (o *Option) spent() string {
	four := words.Count(int(o.Addresses), "address is spent", "addresses are spent")
	six := words.Count(o.Ranges6, "range of IPv6 is spent", "ranges of IPv6 are spent")
	switch {
	case o.Addresses == 0 && o.Ranges6 == 0:
		return "no address is spent"
	case o.Ranges6 == 0:
		return four
	case o.Addresses == 0:
		return six
	}
	return four + ", and " + six
}

func no(b bool) int {
	if b {
		return 0
	}
	return 1
}

// titles names places in a sentence; of many the first and how many more.
func (pl *planner) titles(places []design.ID) string {
	var out []string
	for _, id := range places {
		out = append(out, pl.design.Title(id))
	}
	if len(out) > 4 {
		return fmt.Sprintf("%s and %d more", out[0], len(out)-1)
	}
	return words.List(out)
}

// Concerned are the places that collide with what some intents concern, or with
// some parties or places: those of the groups of overlapping ranges in which one of
// their ends or ranges is.
func Concerned(groups []overlap.Group, intents, places []design.ID) []design.ID {
	var out []design.ID
	for _, g := range groups {
		touched := slices.ContainsFunc(g.Intents, func(id design.ID) bool { return slices.Contains(intents, id) }) ||
			slices.ContainsFunc(g.Claims, func(c overlap.Claim) bool {
				return slices.Contains(places, c.Party) || slices.Contains(places, c.Owner)
			})
		for _, id := range OfGroup(g).Places {
			if touched && !slices.Contains(out, id) {
				out = append(out, id)
			}
		}
	}
	return out
}
