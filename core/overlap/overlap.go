// Package overlap finds which parties hold the same addresses. Its unit is the
// [Group]: everything that hangs together by overlapping.
package overlap

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
)

// Claim is one party's hold on a range.
type Claim struct {
	Party  design.ID    `json:"party"`  // the site or network; empty for a reservation
	Owner  design.ID    `json:"owner"`  // the LAN, network, mapping or reservation
	Title  string       `json:"title"`  // owner in words
	Prefix netip.Prefix `json:"prefix"` // the range
	Fixed  bool         `json:"fixed,omitempty"`
	Kind   design.Kind  `json:"kind"` // of the owner
	// Mapped is what the range is known as elsewhere, if it is mapped.
	Mapped []netip.Prefix `json:"mapped,omitempty"`
}

// Claims lists every hold on a range in the design, in canonical order.
func Claims(d *design.Design) []Claim {
	var out []Claim
	for _, o := range d.All() {
		c := Claim{Owner: o.ID, Title: d.Title(o.ID), Kind: o.Kind}
		if p := d.Party(o.ID); p != nil {
			c.Party = p.ID
		}
		var ranges []netip.Prefix
		switch b := o.Body.(type) {
		case *design.LAN:
			ranges, c.Fixed = b.Prefixes, b.Fixed
		case *design.Network:
			ranges = b.Blocks
		case *design.Reservation:
			if b.Use != design.UseMapping { // mapped ranges belong there
				ranges = []netip.Prefix{b.Prefix}
			}
		case *design.Mapping:
			ranges, c.Party = []netip.Prefix{b.Mapped}, d.Party(b.Gateway).ID
			c.Title = d.Title(c.Party) + " mapped range " + o.Name
		}
		for _, p := range ranges {
			c.Prefix = p
			out = append(out, c)
		}
	}
	return withMapped(d, onePerMapped(out))
}

// onePerMapped drops repeated mapped ranges: one range may be mapped toward
// several links of one party.
func onePerMapped(claims []Claim) []Claim {
	type hold struct {
		party  design.ID
		prefix netip.Prefix
	}
	seen := map[hold]bool{}
	return slices.DeleteFunc(claims, func(c Claim) bool {
		if c.Kind != design.KindMapping {
			return false
		}
		h := hold{c.Party, c.Prefix}
		defer func() { seen[h] = true }()
		return seen[h]
	})
}

func withMapped(d *design.Design, claims []Claim) []Claim {
	for _, o := range d.Of(design.KindMapping) {
		m := o.Body.(*design.Mapping)
		party := d.Party(m.Gateway).ID
		for n := range claims {
			c := &claims[n]
			if c.Kind == design.KindMapping || c.Party != party {
				continue
			}
			if p := prefix.TranslatePrefix(c.Prefix, m.Real, m.Mapped); p.IsValid() && !slices.Contains(c.Mapped, p) {
				c.Mapped = append(c.Mapped, p)
			}
		}
	}
	return claims
}

// Weight tells how bad a group is.
type Weight string

// The weights, worst first.
const (
	Breaks   Weight = "breaks"   // an intent is touched, and nothing answers it
	Joined   Weight = "joined"   // the parties are linked: it breaks as soon as they talk
	Apart    Weight = "apart"    // nothing links the parties yet
	Answered Weight = "answered" // linked, and every pair has a mapping between
)

var weights = []Weight{Breaks, Joined, Apart, Answered}

// Group is a clump of overlapping claims of different parties.
type Group struct {
	Key      string       `json:"key"` // stable while the widest range and its owner stay
	Span     netip.Prefix `json:"span"`
	Weight   Weight       `json:"weight"`
	Claims   []Claim      `json:"claims"`
	Intents  []design.ID  `json:"intents"`  // intents with an end in one of the ranges
	Sentence string       `json:"sentence"` // the worst of it, to be read aloud
}

// Find returns the groups of a design, worst first. Claims that overlap only
// within one party are no group here.
func Find(d *design.Design) []Group {
	claims := Claims(d)
	ranges := make([]netip.Prefix, len(claims))
	for n, c := range claims {
		ranges[n] = c.Prefix
	}
	reach := linked(d)
	out := []Group{}
	for _, clump := range prefix.Clumps(ranges) {
		g := Group{Span: ranges[clump[0]], Intents: []design.ID{}}
		parties := map[design.ID]bool{}
		for _, n := range clump {
			g.Claims = append(g.Claims, claims[n])
			parties[claims[n].Party] = true
		}
		if len(parties) < 2 {
			continue
		}
		g.Key = string(g.Claims[0].Owner) + "-" + g.Span.String()
		g.Intents = touched(d, g.Claims)
		g.weigh(reach)
		g.Sentence = g.sentence()
		out = append(out, g)
	}
	slices.SortStableFunc(out, func(a, b Group) int {
		return cmp.Or(
			cmp.Compare(slices.Index(weights, a.Weight), slices.Index(weights, b.Weight)),
			cmp.Compare(len(b.Intents), len(a.Intents)),
			cmp.Compare(len(b.Claims), len(a.Claims)),
			prefix.Compare(a.Span, b.Span))
	})
	return out
}

// linked tells for every party which clump of linked parties it is in.
func linked(d *design.Design) map[design.ID]int {
	of := map[design.ID]int{}
	next := 0
	for _, o := range d.Of(design.KindLink) {
		ends := o.Body.(*design.Link).Ends
		a, b := d.Party(ends[0].Gateway).ID, d.Party(ends[1].Gateway).ID
		switch ca, cb := of[a], of[b]; {
		case ca == 0 && cb == 0:
			next++
			of[a], of[b] = next, next
		case ca == 0:
			of[a] = cb
		case cb == 0:
			of[b] = ca
		default:
			for p, c := range of {
				if c == cb {
					of[p] = ca
				}
			}
		}
	}
	return of
}

func touched(d *design.Design, claims []Claim) []design.ID {
	out := []design.ID{}
	for _, o := range d.Of(design.KindIntent) {
		in := o.Body.(*design.Intent)
		if slices.ContainsFunc(claims, func(c Claim) bool { return holds(d, c, in.From) || holds(d, c, in.To) }) {
			out = append(out, o.ID)
		}
	}
	return out
}

// holds reports whether the object is, or lies in, what claims the range.
func holds(d *design.Design, c Claim, id design.ID) bool {
	for o := d.Get(id); o != nil; o = d.Get(o.Parent) {
		if o.ID == c.Owner {
			return true
		}
	}
	return false
}

func (g *Group) weigh(linked map[design.ID]int) {
	g.Weight = Apart
	for i, a := range g.Claims {
		for _, b := range g.Claims[i+1:] {
			if a.Party == b.Party || linked[a.Party] == 0 || linked[a.Party] != linked[b.Party] {
				continue
			}
			if g.Weight == Apart {
				g.Weight = Answered
			}
			if len(a.Mapped) == 0 && len(b.Mapped) == 0 && prefix.Relate(a.Prefix, b.Prefix) != prefix.Disjoint {
				g.Weight = Joined
			}
		}
	}
	if g.Weight == Joined && len(g.Intents) > 0 {
		g.Weight = Breaks
	}
}

// sentence says the first pair of different parties in words, those that can
// not renumber first.
func (g *Group) sentence() string {
	for i, a := range g.Claims {
		for _, b := range g.Claims[i+1:] {
			if a.Party != b.Party && prefix.Relate(a.Prefix, b.Prefix) != prefix.Disjoint {
				return Sentence(a, b) + g.others()
			}
		}
	}
	return ""
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
