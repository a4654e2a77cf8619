// Package overlap finds which parties hold the same addresses. Its unit is the
// [Group]: everything that hangs together by overlapping. Pairs are streamed
// from a group when somebody asks for them, since five hundred branches with
// one range make one group and a hundred thousand pairs.
package overlap

import (
	"cmp"
	"fmt"
	"iter"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/status"
	"dravin/core/topology"
)

// Weight tells how bad a group is.
type Weight string

// The weights, worst first.
const (
	Breaks   Weight = "breaks"   // an intent is touched, and nothing answers it
	Joined   Weight = "joined"   // parties could meet in one routing domain today: it breaks as soon as they talk
	Planned  Weight = "planned"  // as joined, once what is drafted is built
	Apart    Weight = "apart"    // no link joins the parties: it would break when one does
	Divided  Weight = "divided"  // segments keep the parties apart, linked or not: only untidy
	Within   Weight = "within"   // only one party holds the ranges
	Answered Weight = "answered" // parties could meet, and every such pair has a mapping between
)

// Weights are all weights, worst first.
var Weights = []Weight{Breaks, Joined, Planned, Within, Apart, Divided, Answered}

// Group is a component of overlapping claims.
type Group struct {
	Key      string       `json:"key"` // stable while the widest range and its owner stay
	Span     netip.Prefix `json:"span"`
	Weight   Weight       `json:"weight"`
	Claims   []Claim      `json:"claims"` // the containing ones first
	Parties  int          `json:"parties"`
	Fixed    bool         `json:"fixed"`    // someone in it can not renumber
	Intents  []design.ID  `json:"intents"`  // intents with an end in one of the ranges
	Sentence string       `json:"sentence"` // the worst of it, to be read aloud
}

// Find returns the groups of a design, worst first.
func Find(d *design.Design) []Group {
	claims := Claims(d)
	ranges := make([]netip.Prefix, len(claims))
	for n, c := range claims {
		ranges[n] = c.Prefix
	}
	ends := intentEnds(d)
	now, later := estateOf(d.Built()), estateOf(d)
	out := []Group{}
	for _, component := range prefix.Components(ranges) {
		g := Group{Span: ranges[component[0]], Intents: []design.ID{}}
		for _, n := range component {
			c := claims[n]
			g.Claims = append(g.Claims, c)
			g.Fixed = g.Fixed || c.Fixed
			for _, intent := range ends[c.Owner] {
				if !slices.Contains(g.Intents, intent) {
					g.Intents = append(g.Intents, intent)
				}
			}
		}
		g.Key = string(g.Claims[0].Owner) + "-" + g.Span.String()
		g.weigh(now)
		if g.Weight == Apart || g.Weight == Answered {
			if g.weigh(later); g.Weight == Breaks || g.Weight == Joined {
				g.Weight = Planned
			}
		}
		out = append(out, g)
	}
	slices.SortStableFunc(out, func(a, b Group) int {
		return cmp.Or(
			cmp.Compare(slices.Index(Weights, a.Weight), slices.Index(Weights, b.Weight)),
			cmp.Compare(len(b.Intents), len(a.Intents)),
			cmp.Compare(b.Parties, a.Parties),
			prefix.Compare(a.Span, b.Span))
	})
	return out
}

// intentEnds lists for each holder of a range the intents that end in it.
func intentEnds(d *design.Design) map[design.ID][]design.ID {
	out := map[design.ID][]design.ID{}
	for o, in := range design.Each[design.Intent](d.Of(design.KindIntent)) {
		for _, end := range []design.ID{in.From, in.To} {
			for _, id := range d.StandsFor(end) {
				for at := d.Get(id); at != nil; at = d.Get(at.Parent) {
					if !slices.Contains(out[at.ID], o.ID) {
						out[at.ID] = append(out[at.ID], o.ID)
					}
				}
			}
		}
	}
	return out
}

// estate is what joins which parties on one side.
type estate struct {
	graph   topology.Graph
	domains map[design.ID]int // by party which component it is in, from 1; what nothing reaches is in none, 0
}

func estateOf(d *design.Design) estate {
	g := topology.Of(d, status.Condition{}).Meant()
	out, numbers := estate{g, map[design.ID]int{}}, map[design.ID]int{}
	for party, first := range g.Components() {
		if numbers[first] == 0 {
			numbers[first] = len(numbers) + 1
		}
		out.domains[party] = numbers[first]
	}
	return out
}

// weigh sets weight, sentence and number of parties in one sweep over the
// claims, whatever the number of pairs. The claims come containing ones first,
// so those that contain the present one form a stack.
func (g *Group) weigh(e estate) {
	s := sweep{estate: e, all: tally{}, bare: tally{}, parties: map[design.ID]bool{}, worst: -1}
	for _, c := range g.Claims {
		s.step(c)
	}
	g.Parties = len(s.parties)
	switch {
	case s.unanswered && len(g.Intents) > 0:
		g.Weight = Breaks
	case s.unanswered:
		g.Weight = Joined
	case s.meet:
		g.Weight = Answered
	case s.could:
		g.Weight = Apart
	case g.Parties > 1:
		g.Weight = Divided
	default:
		g.Weight = Within
	}
	g.Sentence = Sentence(s.first, s.second) + g.others()
}

// sweep is the state of going through a group's claims.
type sweep struct {
	estate
	open             []Claim // those that contain the present place
	all, bare        tally   // of open: all, and those without a mapping
	parties          map[design.ID]bool
	meet, unanswered bool  // some pair could meet; some such pair has no mapping between
	could            bool  // some pair could meet if a link joined its parties
	first, second    Claim // the pair to speak of
	worst            int
}

func (s *sweep) step(c Claim) {
	for len(s.open) > 0 && !prefix.Contains(s.open[len(s.open)-1].Prefix, c.Prefix) {
		s.count(s.open[len(s.open)-1], -1)
		s.open = s.open[:len(s.open)-1]
	}
	s.parties[c.Party] = true
	d := s.domains[c.Party]
	meets := s.all.meets(c, d)
	s.meet = s.meet || meets
	s.could = s.could || s.all.meets(c, anyDomain)
	s.unanswered = s.unanswered || len(c.Mapped) == 0 && s.bare.meets(c, d) || meets && s.pastMappings(c)
	s.speakOf(c)
	s.count(c, 1)
	s.open = append(s.open, c)
}

// pastMappings tells whether a claim and an open one, of which one is mapped or
// both are, meet by a way on which no mapping is.
func (s *sweep) pastMappings(c Claim) bool {
	return slices.ContainsFunc(s.open, func(o Claim) bool {
		if len(c.Mapped)+len(o.Mapped) == 0 || o.Party == c.Party ||
			o.Segment != c.Segment && o.Segment != "" && c.Segment != "" {
			return false
		}
		return s.graph.Reach(c.Party, c.toward...)[o.Party] && s.graph.Reach(o.Party, o.toward...)[c.Party]
	})
}

func (s *sweep) count(c Claim, n int) {
	d := s.domains[c.Party]
	s.all.add(c, d, n)
	if len(c.Mapped) == 0 {
		s.bare.add(c, d, n)
	}
}

// far is how many containing claims are looked at for one of another party.
const far = 32

// speakOf remembers the pair that says most: one that could meet, of different
// parties, with someone who can not renumber.
func (s *sweep) speakOf(c Claim) {
	for n := len(s.open) - 1; n >= max(0, len(s.open)-far); n-- {
		o := s.open[n]
		rank := 0
		if o.Party != c.Party {
			rank += 2
			if d := s.domains[c.Party]; d != 0 && d == s.domains[o.Party] &&
				(o.Segment == c.Segment || o.Segment == "" || c.Segment == "") {
				rank += 4
			}
		}
		if o.Fixed || c.Fixed {
			rank++
		}
		if rank > s.worst {
			s.first, s.second, s.worst = o, c, rank
		}
	}
}

// tally counts open claims by what decides whether they can meet another.
type tally map[tallyKey]int

type tallyKey struct {
	domain  int
	party   design.ID // everyone: all parties together
	segment design.ID // every: all segments together
}

// No domain has these numbers, and no ID looks like these.
const (
	anyDomain = -1 // all domains together
	nobody    = -2 // what is kept free of everybody

	everyone design.ID = "*"
	every    design.ID = "*"
)

func (t tally) add(c Claim, domain, n int) {
	if c.Party == "" { // kept free of everybody
		t[tallyKey{nobody, "", ""}] += n
		return
	}
	for _, party := range []design.ID{everyone, c.Party} {
		t[tallyKey{domain, party, c.Segment}] += n
		t[tallyKey{domain, party, every}] += n
		t[tallyKey{anyDomain, party, c.Segment}] += n
		t[tallyKey{anyDomain, party, every}] += n
	}
}

// meets reports whether an open claim of another party could meet c in one
// routing domain: the parties are linked, and no two segments divide them. What
// is kept for the whole estate meets everything.
func (t tally) meets(c Claim, domain int) bool {
	if c.Party == "" {
		return t[tallyKey{anyDomain, everyone, every}] > 0
	}
	if t[tallyKey{nobody, "", ""}] > 0 {
		return true
	}
	if domain == 0 {
		return false
	}
	count := func(party design.ID) int {
		if c.Segment == "" {
			return t[tallyKey{domain, party, every}]
		}
		return t[tallyKey{domain, party, c.Segment}] + t[tallyKey{domain, party, ""}]
	}
	return count(everyone) > count(c.Party)
}

func (g *Group) others() string {
	switch n := len(g.Claims) - 2; {
	case n == 1:
		return "; one more range is in the same group"
	case n > 1:
		return fmt.Sprintf("; %d more ranges are in the same group", n)
	}
	return ""
}

// Pair is two overlapping claims, with the relation of A to B.
type Pair struct {
	A, B     Claim
	Relation prefix.Relation
	Shared   netip.Prefix // the smaller of the two
}

// Pairs streams every overlapping pair of claims once; those of one party only
// if within.
func Pairs(claims []Claim, within bool) iter.Seq[Pair] {
	ranges := make([]netip.Prefix, len(claims))
	for n, c := range claims {
		ranges[n] = c.Prefix
	}
	return func(yield func(Pair) bool) {
		for i, j := range prefix.Pairs(ranges) {
			a, b := claims[i], claims[j]
			if !within && a.Party == b.Party {
				continue
			}
			if !yield(Pair{A: a, B: b, Relation: prefix.Relate(a.Prefix, b.Prefix), Shared: b.Prefix}) {
				return
			}
		}
	}
}

// Sentence says how two overlapping claims lie to each other.
func Sentence(a, b Claim) string {
	if b.Fixed && !a.Fixed || prefix.Relate(a.Prefix, b.Prefix) == prefix.Holds {
		a, b = b, a
	}
	verb := map[prefix.Relation]string{
		prefix.Equal:  "is the same range as",
		prefix.Within: "lies inside",
		prefix.Holds:  "contains",
	}[prefix.Relate(a.Prefix, b.Prefix)]
	return fmt.Sprintf("%s %s %s %s %s", a.Title, a.Prefix, verb, b.Title, b.Prefix)
}
