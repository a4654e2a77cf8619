package plan

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/prefix"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/core/walk"
	"dravin/core/words"
)

// scope is what a plan looks at: the intents that must hold, and who has to be joined for them.
type scope struct {
	intents map[design.ID]bool
	order   []design.ID
	stands  map[design.ID]bool // intents that stand in for what nobody said
	pairs   [][2]design.ID     // of parties that must talk, once each
	wanted  [][2]design.ID     // of those, and of parties and hubs, what nothing joins
	asked   [][2]design.ID     // parties that were asked for together, where no intent says more
	known   map[[2]design.ID]bool
}

func (s scope) list() []design.ID { return slices.Clone(s.order) }

func (s *scope) add(d *design.Design, id design.ID) {
	if s.intents == nil {
		s.intents, s.known = map[design.ID]bool{}, map[[2]design.ID]bool{}
	}
	if s.intents[id] {
		return
	}
	s.intents[id] = true
	s.order = append(s.order, id)
	in := d.Get(id).Body.(*design.Intent)
	for _, a := range partiesOf(d, in.From) {
		for _, b := range partiesOf(d, in.To) {
			if pair := [2]design.ID{min(a, b), max(a, b)}; a != b && !s.known[pair] {
				s.known[pair] = true
				s.pairs = append(s.pairs, [2]design.ID{a, b})
			}
		}
	}
}

// partiesOf are the parties of what an end of an intent stands for.
func partiesOf(d *design.Design, end design.ID) []design.ID {
	out := map[design.ID]bool{}
	for _, id := range d.StandsFor(end) {
		if p := d.Party(id); p != nil {
			out[p.ID] = true
		}
	}
	return slices.Sorted(maps.Keys(out))
}

// mostParties bounds of how many one plan is asked.
const mostParties = 2000

// look finds out what is in scope, and stands in for intents where there are none.
func (pl *planner) look() error {
	d := pl.before.design()
	q := pl.question
	if n := len(q.Parties); n > mostParties {
		return fmt.Errorf("a plan is asked of %d parties; ask for at most %d", n, mostParties)
	}
	for _, id := range slices.Concat(q.Parties, q.Intents, q.Places) {
		if d.Get(id) == nil {
			return errors.New("what is asked for is not there now; it may have been removed or undone")
		}
	}
	if !q.Everything {
		pl.intents()
	}
	if len(pl.scope.order) == 0 && len(q.Parties) == 0 && len(q.Places) > 0 && len(q.Intents) == 0 {
		pl.question.Parties = pl.twoOf(q.Places)
	}
	if len(pl.scope.order) == 0 && len(pl.question.Parties) > 0 {
		if err := pl.standIn(); err != nil {
			return err
		}
		d = pl.before.design()
	}
	pl.plan.Parties, pl.plan.Intents = pl.parties(), len(pl.scope.order)
	pl.want(d)
	pl.plan.Apart = slices.Clone(pl.scope.wanted)
	if pl.plan.Apart == nil {
		pl.plan.Apart = [][2]design.ID{}
	}
	return nil
}

// twoOf are the parties of places that collide, where they are two: it is they who would talk.
func (pl *planner) twoOf(places []design.ID) []design.ID {
	d := pl.before.design()
	var out []design.ID
	for _, id := range places {
		if p := d.Party(id); p != nil && !slices.Contains(out, p.ID) && p.Kind != design.KindOutside {
			out = append(out, p.ID)
		}
	}
	if len(out) != 2 {
		return nil
	}
	return out
}

// intents puts those in scope that were named, or that lie between the parties, or at the places.
func (pl *planner) intents() {
	d := pl.before.design()
	q := pl.question
	chosen := func(o *design.Object, in *design.Intent) bool {
		switch {
		case in.Never:
			return false
		case len(q.Intents) > 0:
			return slices.Contains(q.Intents, o.ID)
		case len(q.Parties) > 0:
			return pl.between(in)
		}
		return slices.ContainsFunc(q.Places, func(id design.ID) bool {
			return d.Concerns(in.From, id) || d.Concerns(in.To, id)
		})
	}
	for o, in := range design.Each[design.Intent](d.Of(design.KindIntent)) {
		if chosen(o, in) {
			pl.scope.add(d, o.ID)
		}
	}
}

// between reports whether an intent lies between two of the parties asked for, or at the only one.
func (pl *planner) between(in *design.Intent) bool {
	d := pl.before.design()
	at := func(end design.ID) (out []design.ID) {
		for _, id := range pl.question.Parties {
			for _, m := range pl.members(id) {
				if d.Concerns(end, m) && !slices.Contains(out, id) {
					out = append(out, id)
				}
			}
		}
		return out
	}
	from, to := at(in.From), at(in.To)
	if len(pl.question.Parties) == 1 {
		return len(from)+len(to) > 0
	}
	return slices.ContainsFunc(from, func(a design.ID) bool {
		return slices.ContainsFunc(to, func(b design.ID) bool { return a != b })
	})
}

// members are who hosts for something: a party itself, what is attached to a hub or has a circuit to
// an edge router.
func (pl *planner) members(id design.ID) []design.ID {
	d := pl.before.design()
	if k := d.Get(id).Kind; k != design.KindHub && k != design.KindEdgeRouter {
		return []design.ID{id}
	}
	var out []design.ID
	for _, l := range topology.Drawn(d).Near(id) {
		if k := d.Get(l.To).Kind; !slices.Contains(out, l.To) && (k == design.KindSite || k == design.KindNetwork) {
			out = append(out, l.To)
		}
	}
	return out
}

// parties are those that were asked for, or those of the intents.
func (pl *planner) parties() []design.ID {
	d := pl.before.design()
	out := []design.ID{}
	add := func(id design.ID) {
		if p := d.Party(id); p != nil && !slices.Contains(out, p.ID) {
			out = append(out, p.ID)
		}
	}
	for _, id := range pl.question.Parties {
		add(id)
	}
	if len(out) == 0 {
		for _, pair := range pl.scope.pairs {
			add(pair[0])
			add(pair[1])
		}
	}
	return out
}

// mostStands bounds how many intents stand in for what nobody said.
const mostStands = 4000

// standIn lets everything of each party talk with everything of the others, both ways: with what is
// in the same segment, or in none.
func (pl *planner) standIn() error {
	d := pl.before.design()
	q := pl.question
	var pairs [][2]design.ID
	star := q.Star || len(q.Parties) > MostEach
	switch n := len(q.Parties); {
	case n == 1:
		return fmt.Errorf(
			"no intent says whom %s must reach; name one more party, or say an intent", d.Title(q.Parties[0]),
		)
	case !star:
		for i, a := range q.Parties {
			for _, b := range q.Parties[i+1:] {
				pairs = append(pairs, [2]design.ID{a, b})
			}
		}
	default:
		for _, b := range q.Parties[1:] {
			pairs = append(pairs, [2]design.ID{q.Parties[0], b})
		}
	}
	pl.scope.stands, pl.scope.asked = map[design.ID]bool{}, pairs
	books := allocation.NewBooks(d)
	var edits []design.Edit
	for _, p := range pairs {
		for _, a := range pl.members(p[0]) {
			for _, b := range pl.members(p[1]) {
				if a != b {
					edits = append(edits, pl.standing(books, a, b)...)
				}
			}
		}
	}
	if len(edits) > mostStands {
		edits = edits[:mostStands]
	}
	next, err := pl.before.next(pl.ctx, edits)
	if err != nil {
		return err
	}
	pl.before = next
	for _, e := range edits {
		pl.scope.stands[e.ID] = true
		pl.scope.add(next.design(), e.ID)
	}
	switch {
	case len(edits) == 0:
		pl.plan.Stands = "No intent says what must talk, and none of these has hosts that may meet any of the " +
			"others: they " +
			"are in different segments, or have no ranges yet. What is joined is told, and nothing is walked."
	case star && len(q.Parties) > 2:
		pl.plan.Stands = fmt.Sprintf(
			"No intent says what must talk, so everything of %s with everything of %s stands in for them, both ways.",
			d.Title(q.Parties[0]), words.Count(len(q.Parties)-1, "other", "others"),
		)
	default:
		pl.plan.Stands = fmt.Sprintf(
			"No intent says what must talk, so everything of each of %s with everything of the others stands in "+
				"for them, "+
				"both ways.", titles(d, q.Parties),
		)
	}
	return nil
}

// standing are the intents that let everything of one party talk with everything of another.
func (pl *planner) standing(books *allocation.Books, a, b design.ID) (out []design.Edit) {
	d := pl.before.design()
	for _, from := range pl.told(a, b) {
		for _, to := range pl.told(b, a) {
			if !d.MayMeet(d.SegmentOf(from), d.SegmentOf(to)) || !sharesFamily(d, from, to) {
				continue
			}
			for _, way := range [2][2]design.ID{{from, to}, {to, from}} {
				name, id := books.Take(
					design.KindIntent, "", clipped(d.Title(way[0]))+" reaches "+clipped(d.Title(way[1])),
				)
				out = append(out, design.PutEdit(&design.Object{
					ID: id, Kind: design.KindIntent, Name: name,
					Body: &design.Intent{From: way[0], To: way[1], Service: serviceAt(d, way[1])},
				}))
			}
		}
	}
	return out
}

// clipped fits a title into a name.
func clipped(title string) string {
	if r := []rune(title); len(r) > 28 {
		return string(r[:27]) + "…"
	}
	return title
}

// places are those of a party that hold hosts, or the place that was asked for.
func (pl *planner) places(id design.ID) (out []design.ID) {
	d := pl.before.design()
	for _, place := range d.StandsFor(id) {
		o := d.Get(place)
		if len(d.Ranges(place)) > 0 && !d.IsSourcePool(place) && !onlyBoxes(d, o) {
			out = append(out, place)
		}
	}
	return out
}

// told are the places of a party that another is to reach; where nothing is translated, those of whose
// ranges it can be told.
func (pl *planner) told(of, to design.ID) []design.ID {
	places := pl.places(of)
	if !pl.question.Untouched {
		return places
	}
	d := pl.before.design()
	offered := draft.Offered(d, d.Party(of).ID, d.Party(to).ID)
	return slices.DeleteFunc(places, func(place design.ID) bool {
		return len(prefix.Free(d.Ranges(place), offered)) > 0
	})
}

// onlyBoxes reports whether a subnet is one in which boxes or a gateway stand and no hosts are named.
func onlyBoxes(d *design.Design, o *design.Object) bool {
	if o.Kind != design.KindSubnet || len(d.Inside(o.ID, design.KindEndpoint)) > 0 {
		return false
	}
	return slices.ContainsFunc(d.Forwarders(o.Parent), func(f *design.Object) bool { return d.StandsIn(f, o) })
}

func sharesFamily(d *design.Design, a, b design.ID) bool {
	for _, f := range prefix.Families {
		if len(prefix.OfFamily(d.Ranges(a), f)) > 0 && len(prefix.OfFamily(d.Ranges(b), f)) > 0 {
			return true
		}
	}
	return false
}

// serviceAt is what the host answers that stands for a place, or an echo.
func serviceAt(d *design.Design, place design.ID) design.Service {
	for _, f := range prefix.Families {
		if h, err := walk.HostOf(d, place, f); err == nil && h.Endpoint != "" {
			if list := d.Get(h.Endpoint).Body.(*design.Endpoint).Answers; len(list) > 0 {
				return list[0]
			}
		}
	}
	return design.Service{Proto: "icmp"}
}

// want finds the pairs that have to be joined: parties that must talk, and parties that were asked for
// together with a hub or an edge router at which they are not.
func (pl *planner) want(d *design.Design) {
	pairs := pl.scope.pairs
	for _, p := range pl.scope.asked { // what has no hosts yet is joined, too
		if a, b := d.Party(p[0]), d.Party(p[1]); a != nil && b != nil {
			pairs = append(slices.Clip(pairs), [2]design.ID{a.ID, b.ID})
		}
	}
	var meeting [][2]design.ID
	for _, id := range pl.question.Parties {
		if k := d.Get(id).Kind; k != design.KindHub && k != design.KindEdgeRouter {
			continue
		}
		members := pl.members(id)
		pairs = slices.DeleteFunc(slices.Clone(pairs), func(p [2]design.ID) bool { // they are joined by it
			return p[0] == id || p[1] == id || slices.Contains(members, p[0]) || slices.Contains(members, p[1])
		})
		for _, other := range pl.question.Parties {
			if p := d.Party(other); p != nil && p.ID != id && !slices.Contains(members, p.ID) {
				meeting = append(meeting, [2]design.ID{p.ID, id})
			}
		}
	}
	if len(pl.question.By) > 0 { // whoever says by what wants it, although they meet somewhere
		pl.scope.wanted = unjoined(d, slices.Concat(pairs, meeting), func(*design.Object) bool { return false })
		return
	}
	pl.scope.wanted = append(apartFrom(d, pairs), unjoined(d, meeting, status.Exists)...)
}

// unjoined are the pairs that no joint joins directly that counts, once each.
func unjoined(d *design.Design, pairs [][2]design.ID, counts func(*design.Object) bool) (out [][2]design.ID) {
	near := topology.Parties(d, counts)
	for _, p := range pairs {
		direct := slices.ContainsFunc(near.Near(p[0]), func(l topology.Leg) bool { return l.To == p[1] })
		known := slices.Contains(out, p) || slices.Contains(out, [2]design.ID{p[1], p[0]})
		if p[0] != p[1] && !direct && !known {
			out = append(out, p)
		}
	}
	return out
}

// closer are the pairs of parties that must talk, do not over what is there, and have no joint of their
// own.
func (pl *planner) closer() [][2]design.ID {
	d := pl.before.design()
	var pairs [][2]design.ID
	for _, id := range pl.failing(attempt{state: pl.before}) {
		in := d.Get(id).Body.(*design.Intent)
		for _, a := range partiesOf(d, in.From) {
			for _, b := range partiesOf(d, in.To) {
				pairs = append(pairs, [2]design.ID{a, b})
			}
		}
	}
	return unjoined(d, pairs, status.Exists)
}

// colliding are the places whose ranges collide with what the intents in scope concern, among those
// of the parties on the way and of whom these are joined to: the ends' own first.
func (pl *planner) colliding(s state) (places, beside []design.ID) {
	if len(pl.question.Places) > 0 {
		return pl.question.Places, nil
	}
	d := s.design()
	near := topology.Parties(d, status.Exists)
	var ends, others []design.ID
	seen := map[design.ID]bool{}
	note := func(list *[]design.ID, id design.ID) {
		if o := d.Get(id); o.Kind == design.KindSubnet {
			id = o.Parent
		}
		if !seen[id] {
			seen[id] = true
			*list = append(*list, id)
		}
	}
	flows := pl.flows(s, pl.scope.list())
	for _, f := range flows {
		note(&ends, walk.HomeOf(d, f.From))
		note(&ends, walk.HomeOf(d, f.To))
	}
	ways, passed := map[design.ID]map[design.ID]topology.Leg{}, map[design.ID]bool{}
	for _, p := range pl.scope.pairs {
		if ways[p[0]] == nil {
			ways[p[0]] = near.Ways(p[0])
		}
		passed[p[0]], passed[p[1]] = true, true
		for _, leg := range topology.Way(ways[p[0]], p[0], p[1]) {
			passed[leg.To] = true
		}
	}
	onWay := maps.Clone(passed)
	for id := range onWay { // whoever is beside is known there, too
		for _, leg := range near.Near(id) {
			passed[leg.To] = true
		}
	}
	for _, id := range slices.Sorted(maps.Keys(passed)) {
		switch d.Get(id).Kind {
		case design.KindSite:
			for _, place := range d.Inside(id, design.KindLAN, design.KindInnerRoute) {
				note(&others, place.ID)
			}
		case design.KindNetwork:
			note(&others, id)
		}
	}
	places = collidingOf(d, ends, others)
	for _, id := range places {
		if !onWay[d.Party(id).ID] {
			beside = append(beside, id)
		}
	}
	return places, beside
}

// collidingOf are the places of a list, and of others, that overlap one of the list at another party.
func collidingOf(d *design.Design, ends, others []design.ID) (out []design.ID) {
	var ranges []netip.Prefix
	var of []design.ID
	for _, id := range slices.Concat(ends, others) {
		for _, r := range d.Ranges(id) {
			if r.Bits() > 0 { // a default route holds nothing
				ranges, of = append(ranges, r), append(of, id)
			}
		}
	}
	isEnd, found := map[design.ID]bool{}, map[design.ID]bool{}
	for _, id := range ends {
		isEnd[id] = true
	}
	for x, y := range prefix.Pairs(ranges) {
		a, b := of[x], of[y]
		if d.Party(a) != d.Party(b) && (isEnd[a] || isEnd[b]) {
			found[a], found[b] = true, true
		}
	}
	for _, id := range slices.Concat(ends, others) {
		if found[id] {
			out = append(out, id)
		}
	}
	return out
}
