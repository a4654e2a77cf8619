package plan

import (
	"cmp"
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/allocation"
	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/lifecycle"
	"dravin/core/provider"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/core/translate"
)

// joining is one way of joining all that must talk and that nothing joins.
type joining struct {
	key         string // of the shapes, empty where nothing is joined
	title       string
	way         string
	edits       []design.Edit
	joints      []Joint
	changes     []translate.Change
	costs       []cost.Item
	unpriced    []string
	month       provider.Money
	next        int
	nextWhy     string
	suggestions []draft.Suggestion
	left        []string // parties that are not joined, and what must be granted
	dropped     []string // ranges that are told to nobody as they are
	// asked are the requests that are drafted, and what they are for, as they are before the answer.
	asked map[design.ID]*design.Object
	// excused are the intents in scope of whom it leaves out.
	excused map[design.ID]bool
	// unnamed drafts it anew without naming what is to be known as other ranges; nil where nothing is
	// drafted.
	unnamed func(map[design.ID][]netip.Prefix) (joining, bool)
}

// families are the ways of joining, by what the keys of their shapes begin with, in the order in which
// they are tried.
var families = []struct{ key, title string }{
	{"vpn-bgp", "VPN with BGP"}, {"vpn-static", "VPN with static routes"}, {"vpn-selectors", "VPN with policy selectors"},
	{"peering", "peering"}, {"hub", "a hub"}, {"circuit", "circuits"},
}

// joinings streams the ways of joining what is apart: nothing more where nothing is; each pair by one
// kind of joint; and, where pairs make rings, only as many as it takes for all to hang together.
func (pl *planner) joinings() iter.Seq[joining] {
	return func(yield func(joining) bool) {
		if len(pl.scope.wanted) == 0 || len(pl.question.By) == 0 && len(pl.plan.Apart) <= MostEach {
			if !yield(joining{title: "What is there"}) {
				return
			}
		}
		if len(pl.scope.wanted) == 0 && pl.answers == 0 && len(pl.question.By) == 0 {
			if near := pl.closer(); len(near) <= MostEach {
				pl.scope.wanted = near
			}
		}
		seen := map[string]bool{}
		give := func(j joining, ok bool) bool {
			text := fmt.Sprint(idsOf(j.edits))
			if !ok || seen[text] || pl.ctx.Err() != nil {
				return pl.ctx.Err() == nil
			}
			seen[text] = true
			return yield(j)
		}
		for _, f := range pl.families() {
			if len(pl.scope.wanted) == 0 {
				break
			}
			if pl.answers > 0 && len(pl.scope.wanted) > manyPairs {
				pl.exclude("Joining so many by " + f.title + " was not worked out, since what was found before it serves; ask " +
					"for it by name to see it")
				continue
			}
			for _, sparing := range []bool{false, true} {
				if !give(pl.joinEach(f.key, f.title, sparing, pl.upfront())) {
					return
				}
			}
		}
		pl.seconds(give)
	}
}

func idsOf(edits []design.Edit) (out []design.ID) {
	for _, e := range edits {
		out = append(out, e.ID)
	}
	slices.Sort(out)
	return out
}

// manyPairs is from how many pairs on the ways of joining are not all worked out.
const manyPairs = 50

// families are those that were asked for, or all; of many pairs what has fewest settings first.
func (pl *planner) families() []struct{ key, title string } {
	if len(pl.question.By) == 0 {
		if len(pl.scope.wanted) <= manyPairs {
			return families
		}
		return slices.Concat(families[1:2], families[:1], families[2:])
	}
	var out []struct{ key, title string }
	for _, by := range pl.question.By {
		for _, f := range families {
			switch {
			case strings.HasPrefix(by, f.key): // it says more
				out = append(out, struct{ key, title string }{by, f.title})
			case strings.HasPrefix(f.key, by):
				out = append(out, f)
			}
		}
	}
	return out
}

// joinEach drafts a joint for every pair that is apart, by shapes whose keys begin so; sparing leaves
// out what hangs together by those before. ok is false, and the reason noted, if a pair can not be
// joined so.
func (pl *planner) joinEach(
	key, title string, sparing bool, unnamed map[design.ID][]netip.Prefix,
) (j joining, ok bool) {
	w := &work{planner: pl, scratch: pl.before.design().Scratch(), unnamed: unnamed}
	w.books = allocation.NewBooks(w.scratch.Design())
	pairs := pl.scope.wanted
	if sparing {
		if pairs = pl.bySize(); len(pairs) < 2 {
			return j, false
		}
	}
	w.joining = joining{key: key, title: "Join " + pl.pairsTitle(pairs) + " by " + title}
	if sparing {
		w.joining.title = "Join all by way of " + pl.before.design().Title(pairs[0][0]) + ", by " + title
	}
	spared, met := false, map[[2]design.ID]bool{} // already before
	if sparing || meetsBetween(key) {
		near := topology.Drawn(pl.before.design())
		for _, p := range pairs {
			met[p] = near.Reach(p[0])[p[1]]
		}
	}
	for n, p := range pairs {
		if pl.ctx.Err() != nil {
			return j, false
		}
		if sparing || meetsBetween(key) && n > 0 {
			if meets := topology.Drawn(w.scratch.Design()).Reach(p[0])[p[1]]; meets && !met[p] {
				spared = true
				continue
			}
		}
		if w.join(p, key, len(pairs) > 1) {
			continue
		}
		if !pl.question.Star {
			return j, false
		}
		d := w.scratch.Design()
		w.joining.left = append(w.joining.left, fmt.Sprintf("%s is not joined: %s", d.Title(p[1]), w.why))
		w.gone = append(w.gone, p[1])
	}
	if len(w.gone) == len(pairs) {
		return j, false
	}
	if sparing && (!spared || meetsBetween(key)) {
		return j, false // it is the same as joining each
	}
	w.joining.edits, w.joining.excused = pl.before.design().EditsTo(w.scratch.Design()), pl.excused(w.gone)
	w.joining.unnamed = func(unnamed map[design.ID][]netip.Prefix) (joining, bool) {
		return pl.joinEach(key, title, sparing, unnamed)
	}
	return w.joining, true
}

// upfront are the ranges of parties that are not to be named from the beginning: of so many that joining
// them as they are is not worth a try.
func (pl *planner) upfront() map[design.ID][]netip.Prefix {
	if len(pl.scope.wanted) <= manyPairs || pl.question.Untouched {
		return nil
	}
	places, _ := pl.colliding(pl.before)
	return pl.toBeKnown(places)
}

// toBeKnown are the ranges of places, by party.
func (pl *planner) toBeKnown(places []design.ID) map[design.ID][]netip.Prefix {
	d := pl.before.design()
	out := map[design.ID][]netip.Prefix{}
	for _, id := range places {
		if p := d.Party(id); p != nil {
			out[p.ID] = append(out[p.ID], d.Ranges(id)...)
		}
	}
	return out
}

// excused are the intents in scope with an end at one of some parties.
func (pl *planner) excused(gone []design.ID) map[design.ID]bool {
	out := map[design.ID]bool{}
	d := pl.before.design()
	for _, id := range pl.scope.order {
		in := d.Get(id).Body.(*design.Intent)
		for _, p := range slices.Concat(partiesOf(d, in.From), partiesOf(d, in.To)) {
			if slices.Contains(gone, p) {
				out[id] = true
			}
		}
	}
	return out
}

// meetsBetween reports whether joints of a kind come to something between, by which all meet that have
// one.
func meetsBetween(key string) bool {
	return strings.HasPrefix(key, "hub") || strings.HasPrefix(key, "circuit")
}

// bySize are the pairs that are apart, those of the party with most of them first, and that party
// first in them.
func (pl *planner) bySize() [][2]design.ID {
	count := map[design.ID]int{}
	for _, p := range pl.scope.wanted {
		count[p[0]]++
		count[p[1]]++
	}
	out := slices.Clone(pl.scope.wanted)
	for n, p := range out {
		if count[p[1]] > count[p[0]] {
			out[n] = [2]design.ID{p[1], p[0]}
		}
	}
	slices.SortStableFunc(out, func(a, b [2]design.ID) int { return cmp.Compare(count[b[0]], count[a[0]]) })
	return out
}

func (pl *planner) pairsTitle(pairs [][2]design.ID) string {
	d := pl.before.design()
	if len(pairs) == 1 {
		return d.Title(pairs[0][0]) + " and " + d.Title(pairs[0][1])
	}
	var ids []design.ID
	for _, p := range pairs {
		for _, id := range p {
			if !slices.Contains(ids, id) {
				ids = append(ids, id)
			}
		}
	}
	return titles(d, ids)
}

// work is a joining that is being drafted, one joint after the other.
type work struct {
	*planner
	joining joining
	scratch *design.Scratch
	books   *allocation.Books
	unnamed map[design.ID][]netip.Prefix
	why     string      // the last pair could not be joined
	gone    []design.ID // of a star, the parties that were left out
}

// join drafts one pair by the first shape that can be and whose key begins so. Where many are joined,
// one for which there is none takes any other.
func (w *work) join(p [2]design.ID, key string, many bool) bool {
	d := w.scratch.Design()
	fit := func(by string) (draft.Shape, bool) {
		shapes, err := draft.Shapes(w.books, draft.Options{
			A: p[0], B: p[1], GB: w.question.GB, Translated: !w.question.Untouched, By: by, Unnamed: w.unnamed,
		})
		if err != nil {
			w.why = err.Error()
			w.exclude(w.why)
			return draft.Shape{}, false
		}
		for _, s := range shapes {
			if len(s.Out) == 0 {
				return s, true
			}
		}
		w.why = "it can not be joined so"
		for _, s := range shapes {
			w.why = s.Out[0]
			w.exclude(fmt.Sprintf("%s between %s and %s: %s", s.Title, d.Title(p[0]), d.Title(p[1]), s.Out[0]))
		}
		return draft.Shape{}, false
	}
	s, ok := fit(key)
	if !ok && many && len(w.question.By) == 0 {
		s, ok = fit("")
	}
	if ok {
		if w.joining.way == "" {
			w.joining.way = s.Title
		}
		w.take(s)
	}
	return ok
}

// take puts a shape into the joining.
func (w *work) take(s draft.Shape) {
	names, fresh := map[string]design.ID{}, map[design.ID]bool{}
	for _, e := range s.Edits {
		fresh[e.ID] = w.scratch.Design().Get(e.ID) == nil
	}
	w.books.Sketch(w.scratch, s.Edits)
	j := &w.joining
	d := w.scratch.Design()
	for _, e := range s.Edits {
		if o := d.Get(e.ID); fresh[e.ID] && o != nil && o.Kind == design.KindRequest {
			w.grant(o)
		}
	}
	for _, o := range d.Inside("", design.Parties...) {
		names[o.Name] = o.ID
	}
	for _, p := range s.Parties {
		for _, text := range p.Steps {
			j.changes = append(j.changes, translate.Change{
				Party: names[p.Party], Where: p.Party, Text: text, Box: w.touchedAt(
					s, names[p.Party],
				), Stage: translate.Places,
			})
		}
	}
	for _, e := range s.Edits {
		if e.Op != design.Put || !fresh[e.ID] {
			continue
		}
		if x, joins := design.JointOf(e.Object); joins &&
			(e.Object.Kind != design.KindAttachment || isParty(d, x.Ends[1])) {
			a, b := d.PartiesOf(x)
			j.joints = append(
				j.joints, Joint{ID: e.ID, Kind: e.Object.Kind, Name: e.Object.Name, Ends: [2]design.ID{a, b}},
			)
		}
	}
	j.costs = append(j.costs, s.Costs...)
	j.month += s.Monthly
	if s.Unpriced != "" {
		j.unpriced = append(j.unpriced, s.Unpriced)
	}
	if int(s.Next) > j.next {
		j.next, j.nextWhy = int(s.Next), s.NextWhy
	}
	for _, x := range s.Suggestions {
		if x.What == draft.LeftOut {
			j.dropped = append(j.dropped, x.Value+" is left out: "+x.Why)
		} else if len(j.suggestions) < mostSuggestions && !slices.Contains(j.suggestions, x) {
			j.suggestions = append(j.suggestions, x)
		}
	}
}

// grant answers a request that is drafted, for the proof alone: what is handed over still asks.
func (w *work) grant(request *design.Object) {
	d := w.scratch.Design()
	edits, err := lifecycle.Answer(d, request, true, "as if it were granted")
	if err != nil {
		return
	}
	j := &w.joining
	if j.asked == nil {
		j.asked = map[design.ID]*design.Object{}
	}
	for _, e := range edits {
		if j.asked[e.ID] == nil {
			j.asked[e.ID] = d.Get(e.ID)
		}
	}
	to := request.Body.(*design.Request).To
	says := "All that is told here holds once " + d.Title(to) + " has accepted what is asked for."
	if !slices.Contains(j.left, says) {
		j.left = append(j.left, says)
	}
	w.books.Sketch(w.scratch, edits)
}

// mostSuggestions bounds how many values that were filled in are listed.
const mostSuggestions = 40

func isParty(d *design.Design, id design.ID) bool {
	o := d.Get(id)
	return o != nil && slices.Contains(design.Parties, o.Kind)
}

// touchedAt is the gateway, hub or joint at which a party's steps are done.
func (w *work) touchedAt(s draft.Shape, party design.ID) design.ID {
	d := w.scratch.Design()
	for _, e := range s.Edits {
		if e.Object == nil {
			continue
		}
		if j, joins := design.JointOf(e.Object); joins {
			for _, end := range j.Ends {
				if p := d.Party(end); p != nil && p.ID == party {
					return end
				}
			}
		}
	}
	return party
}

// seconds are joinings that stand beside what is there: a second joint where one alone joins two that
// must talk and that is asked to survive.
func (pl *planner) seconds(give func(joining, bool) bool) {
	d := pl.before.design()
	if len(pl.question.By) > 0 || !pl.survival() {
		return
	}
	near := topology.Parties(d, status.Exists)
	for _, pair := range pl.scope.pairs {
		way := topology.Way(near.Ways(pair[0]), pair[0], pair[1])
		for _, leg := range way {
			for _, s := range draft.Second(allocation.NewBooks(d), leg.By) {
				if !give(pl.second(s)) {
					return
				}
			}
		}
	}
	if len(pl.scope.wanted) > 0 || len(pl.scope.pairs) > MostEach {
		return
	}
	pl.scope.wanted = slices.Clone(pl.scope.pairs) // another way beside the one that there is
	for _, f := range families {
		if !give(pl.joinEach(f.key, f.title, false, nil)) {
			return
		}
	}
}

// second is a joining by one shape beside what is there.
func (pl *planner) second(s draft.Shape) (joining, bool) {
	d := pl.before.design()
	w := &work{planner: pl, scratch: d.Scratch()}
	w.books = allocation.NewBooks(w.scratch.Design())
	w.joining = joining{key: s.Key, title: s.Title, way: s.Title}
	w.take(s)
	w.joining.edits = d.EditsTo(w.scratch.Design())
	return w.joining, len(s.Out) == 0
}

// survival reports whether any in scope must survive a failure, or all are wished to.
func (pl *planner) survival() bool {
	d := pl.before.design()
	return pl.question.Wish == Surviving || slices.ContainsFunc(pl.scope.order, func(id design.ID) bool {
		return d.Get(id).Body.(*design.Intent).Survives
	})
}
