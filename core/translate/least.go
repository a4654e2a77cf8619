package translate

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"dravin/core/design"
	"dravin/core/proof"
)

// Least tells how few parties have to be mapped, and how that is known.
type Least struct {
	Mapped int  `json:"mapped"` // parties
	Bound  int  `json:"bound"`  // fewer is impossible
	Exact  bool `json:"exact"`  // every smaller choice was looked at
	Tried  int  `json:"tried"`  // choices that were proven
	// Why are the reasons for the bound: pairs of which one must be mapped, and
	// those that must be.
	Why []string `json:"why"`
}

// constraints are what follows from collisions for who must be mapped.
type constraints struct {
	scope  *scope
	must   map[design.ID]string               // why a place can not keep its range
	either map[design.ID]map[design.ID]string // of two, one at least
	quick  []design.ID                        // see greedy; nil until it is asked for
}

// constrain works out who can not keep the range: where two talk of which one, or
// what lies between, holds the other's range itself; and of two that one point
// must tell apart, one.
func (s *scope) constrain() *constraints {
	c := &constraints{scope: s, must: map[design.ID]string{}, either: map[design.ID]map[design.ID]string{}}
	carried := map[design.ID][]design.ID{}
	for _, n := range s.needs {
		for _, end := range []struct{ place, far design.ID }{
			{s.holder(n.from), n.toParty}, {s.holder(n.to), n.fromParty},
		} {
			if !slices.Contains(s.places, end.place) || s.settled[end.place] {
				continue
			}
			own := s.design.Party(end.place).ID
			for _, at := range passed(n) {
				if at == own {
					continue
				}
				for _, other := range s.places {
					if s.design.Party(other).ID == at && s.meets[[2]design.ID{end.place, other}] {
						c.must[end.place] = fmt.Sprintf(
							"%s must know %s and holds %s itself", s.design.Title(at), s.design.Title(end.place),
							s.design.Title(other),
						)
					}
				}
				if !slices.Contains(carried[at], end.place) {
					carried[at] = append(carried[at], end.place)
				}
			}
		}
	}
	for at, list := range carried {
		for i, a := range list {
			for _, b := range list[i+1:] {
				if s.meets[[2]design.ID{a, b}] {
					c.pair(
						a, b,
						fmt.Sprintf(
							"%s must tell %s from %s", s.design.Title(at), s.design.Title(a), s.design.Title(b),
						),
					)
				}
			}
		}
	}
	return c
}

// passed are the parties that a flow meets.
func passed(n need) []design.ID {
	out := []design.ID{n.fromParty}
	for _, h := range n.path {
		out = append(out, h.To)
	}
	return out
}

func (c *constraints) pair(a, b design.ID, why string) {
	for _, x := range [][2]design.ID{{a, b}, {b, a}} {
		if c.either[x[0]] == nil {
			c.either[x[0]] = map[design.ID]string{}
		}
		if old := c.either[x[0]][x[1]]; old == "" || why < old {
			c.either[x[0]][x[1]] = why
		}
	}
}

// choosable are the places that the choice is about, those most depended on last:
// they are the ones that keep their range where somebody may.
func (c *constraints) choosable() []design.ID {
	out := slices.DeleteFunc(slices.Clone(c.scope.places), func(id design.ID) bool { return c.scope.settled[id] })
	slices.SortStableFunc(out, func(a, b design.ID) int { return cmp.Compare(c.scope.weight[a], c.scope.weight[b]) })
	return out
}

// covers reports whether a choice satisfies everything that is known to follow
// from the collisions.
func (c *constraints) covers(chosen map[design.ID]bool) bool {
	for id := range c.must {
		if !chosen[id] {
			return false
		}
	}
	for a, others := range c.either {
		if chosen[a] {
			continue
		}
		for b := range others {
			if !chosen[b] {
				return false
			}
		}
	}
	return true
}

// parties counts the parties of a choice.
func (c *constraints) parties(chosen []design.ID) int {
	seen := map[design.ID]bool{}
	for _, id := range chosen {
		seen[c.scope.design.Party(id).ID] = true
	}
	return len(seen)
}

// bound is how many parties have to be mapped at least: those that must, and one
// fewer than all of each component of others that can not be told apart. The components
// have nobody in common.
func (c *constraints) bound() (int, []string) {
	seen := map[design.ID]bool{} // parties
	why := []string{}
	n := 0
	for _, id := range c.choosable() {
		if w := c.must[id]; w != "" && !seen[c.scope.design.Party(id).ID] {
			seen[c.scope.design.Party(id).ID] = true
			why = append(why, w)
			n++
		}
	}
	for _, id := range c.choosable() {
		own := c.scope.design.Party(id).ID
		if seen[own] {
			continue
		}
		component := []design.ID{id}
		in := map[design.ID]bool{own: true}
		for _, other := range c.choosable() {
			p := c.scope.design.Party(other).ID
			if seen[p] || in[p] || !slices.ContainsFunc(component, func(x design.ID) bool { return x != other }) {
				continue
			}
			if all(component, func(x design.ID) bool { return c.either[x][other] != "" }) {
				component, in[p] = append(component, other), true
			}
		}
		if len(component) < 2 {
			continue
		}
		for p := range in {
			seen[p] = true
		}
		n += len(component) - 1
		reason := c.either[component[0]][component[1]]
		if len(component) > 2 {
			reason = fmt.Sprintf("%s; so with all %d of them, of which one can keep its range", reason, len(component))
		}
		why = append(why, reason)
	}
	return n, why
}

func all[T any](list []T, f func(T) bool) bool {
	return !slices.ContainsFunc(list, func(x T) bool { return !f(x) })
}

// greedy is a choice that covers, found quickly: whoever must, then the one with
// the most unsettled pairs and the fewest flows, until nothing is left; and then
// nobody whom it does without.
func (c *constraints) greedy() []design.ID {
	if c.quick != nil {
		return c.quick
	}
	chosen, unsettled := map[design.ID]bool{}, map[design.ID]int{} // of each, pairs whose other is not chosen
	for id, others := range c.either {
		unsettled[id] = len(others)
	}
	choose := func(id design.ID, is bool) {
		chosen[id] = is
		by := map[bool]int{true: -1, false: 1}[is]
		for other := range c.either[id] {
			unsettled[other] += by
		}
	}
	for id := range c.must {
		choose(id, true)
	}
	order := c.choosable()
	for {
		best, most := design.ID(""), 0
		for _, id := range order {
			if n := unsettled[id]; !chosen[id] && n > most {
				best, most = id, n
			}
		}
		if best == "" {
			break
		}
		choose(best, true)
	}
	for _, id := range slices.Backward(order) {
		if chosen[id] && c.must[id] == "" && unsettled[id] == 0 {
			choose(id, false)
		}
	}
	c.quick = slices.DeleteFunc(slices.Clone(c.scope.places), func(id design.ID) bool { return !chosen[id] })
	return c.quick
}

// mostExact is up to how many places every choice is looked at.
const mostExact = 10

// choices streams the sets of places by number of parties, then of places, those
// less depended on first: all that cover, or all if the constraints are not asked.
func (c *constraints) choices(covering bool) [][]design.ID {
	order := c.choosable()
	var out [][]design.ID
	for bits := range 1 << len(order) {
		var set []design.ID
		chosen := map[design.ID]bool{}
		for n, id := range order {
			if bits&(1<<n) != 0 {
				set, chosen[id] = append(set, id), true
			}
		}
		if len(set) > 0 && (!covering || c.covers(chosen)) {
			out = append(out, set)
		}
	}
	slices.SortStableFunc(out, func(a, b []design.ID) int {
		return cmp.Or(cmp.Compare(c.parties(a), c.parties(b)), cmp.Compare(len(a), len(b)))
	})
	return out
}

// Search looks at every choice of places to map, the smallest number of parties
// first, and proves each: the number of parties of the first that satisfies
// everything, and how many were proven. 0: none does. It is how [Least] is checked,
// and takes time that doubles with every place. The error is that of the context.
func Search(ctx context.Context, p *proof.Proofs, q Question) (parties, tried int, err error) {
	pl, err := begin(ctx, p, q)
	if err != nil {
		return 0, 0, err
	}
	for _, places := range pl.constraints.choices(false) {
		tried++
		if o := pl.mapping(places); o != nil && o.Refused == "" {
			return pl.constraints.parties(places), tried, nil
		}
	}
	return 0, tried, ctx.Err()
}
