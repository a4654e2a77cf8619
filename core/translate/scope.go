package translate

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/topology"
	"dravin/core/walk"
)

// need is one flow that must work.
type need struct {
	intent             design.ID
	from, to           design.ID // LANs, inner routes or subnets
	source             design.ID // the host that starts, if one was named
	target             design.ID // the host that answers, if one was named
	service            design.Service
	fromParty, toParty design.ID // the parties of both
	path               []hop     // the shortest way from a to b; nil if there is none
}

// hop is a step between parties.
type hop = topology.Leg

// scope is what a plan looks at: places whose ranges collide, and the flows that
// must work although they do.
type scope struct {
	design *design.Design
	places []design.ID // colliding, in canonical order
	needs  []need
	meets  map[[2]design.ID]bool // pairs of places that collide
	weight map[design.ID]int     // needs that end in a place
	// settled are places that are known as another range already.
	settled map[design.ID]bool
}

// mostNeeds bounds how many flows an intent between whole parties stands for here.
const mostNeeds = 20_000

// scopeOf gathers what concerns places: the intents that touch them, and what they
// collide with.
func scopeOf(d *design.Design, places []design.ID, intents []design.ID, near topology.Graph) *scope {
	s := &scope{design: d, meets: map[[2]design.ID]bool{}, weight: map[design.ID]int{}}
	s.collide(places)
	in := map[design.ID]bool{}
	for _, p := range s.places {
		in[p] = true
	}
	ways := map[design.ID]map[design.ID]hop{}
	for o, b := range design.Each[design.Intent](d.Of(design.KindIntent)) {
		if b.Never || len(intents) > 0 && !slices.Contains(intents, o.ID) {
			continue
		}
		for _, from := range d.StandsFor(b.From) {
			for _, to := range d.StandsFor(b.To) {
				n := need{intent: o.ID, from: walk.HomeOf(d, from), to: walk.HomeOf(d, to), service: b.Service}
				n.source, n.target = hostIn(d, from), hostIn(d, to)
				n.fromParty, n.toParty = d.Party(n.from).ID, d.Party(n.to).ID
				touched := in[n.from] || in[n.to] || in[n.fromParty] || in[n.toParty]
				if n.fromParty == n.toParty || !touched && len(intents) == 0 || len(s.needs) >= mostNeeds {
					continue
				}
				if ways[n.fromParty] == nil {
					ways[n.fromParty] = near.Ways(n.fromParty)
				}
				n.path = topology.Way(ways[n.fromParty], n.fromParty, n.toParty)
				s.needs = append(s.needs, n)
				s.weight[n.from]++
				s.weight[n.to]++
			}
		}
	}
	return s
}

// collide notes which of the places overlap places of other parties. A network
// counts by its blocks, as one place.
func (s *scope) collide(places []design.ID) {
	var ranges []netip.Prefix
	var of []design.ID
	for _, id := range places {
		for _, p := range s.design.Ranges(id) {
			ranges, of = append(ranges, p), append(of, id)
		}
	}
	found := map[design.ID]bool{}
	for x, y := range prefix.Pairs(ranges) {
		a, b := of[x], of[y]
		if s.design.Party(a) == s.design.Party(b) {
			continue
		}
		found[a], found[b] = true, true
		s.meets[[2]design.ID{a, b}], s.meets[[2]design.ID{b, a}] = true, true
	}
	for _, id := range places {
		if found[id] && !slices.Contains(s.places, id) {
			s.places = append(s.places, id)
		}
	}
}

// holder is the place of a need's end as conflicts count it: a network's subnet
// counts as the network.
func (s *scope) holder(place design.ID) design.ID {
	if slices.Contains(s.places, place) {
		return place
	}
	if p := s.design.Party(place); p != nil {
		return p.ID
	}
	return place
}

func hostIn(d *design.Design, id design.ID) design.ID {
	if o := d.Get(id); o != nil && o.Kind == design.KindEndpoint {
		return id
	}
	return ""
}
