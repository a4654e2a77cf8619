package bgp

import (
	"net/netip"
	"slices"

	"dravin/core/prefix"
)

// solver carries one class to its fixed point. It is used for one class after
// another, by one goroutine.
type solver struct {
	compiled *compiled
	look     lookup
	stamp    []int32 // by range: the class that lies in it
	turn     int32
	slots    [][]*Route // by speaker, by slot
	own      []*Route   // by speaker
	best     []*Route   // by speaker
	queued   []bool
	met      []bool
	meets    []int32 // the speakers that were met
	queue    []int32
	ranges   []int32 // that the class lies in
	family   prefix.Family
	cand     []*Route
	of       *class
	pinned   int32          // a speaker that must choose pin; -1: none
	pin      *Route         // what it must choose, as long as it has it
	moved    map[int32]bool // where given: the speakers that chose anew
}

// lookup finds out by what a speaker reaches a next hop that it was told of: the longest
// range that holds it. ok is false if there is none.
type lookup func(speaker int32, hop netip.Addr) (by netip.Prefix, ok bool)

func newSolver(c *compiled, look lookup) *solver {
	s := &solver{
		compiled: c, look: look, stamp: make([]int32, len(c.ranges.id)), slots: make([][]*Route, len(c.Speakers)),
		own: make([]*Route, len(c.Speakers)), best: make([]*Route, len(c.Speakers)),
		queued: make([]bool, len(c.Speakers)), met: make([]bool, len(c.Speakers)), pinned: -1,
	}
	return s
}

// begin clears what the class before left, and puts the births in.
func (s *solver) begin(k *class) {
	for _, n := range s.meets {
		clear(s.slots[n])
		s.own[n], s.best[n], s.queued[n], s.met[n] = nil, nil, false, false
	}
	s.meets, s.queue = s.meets[:0], s.queue[:0]
	s.turn++
	s.of, s.pinned = k, -1
	for _, r := range k.ranges {
		s.stamp[r] = s.turn
	}
	p := k.prefixes[0]
	s.family, s.ranges = prefix.FamilyOf(p.Addr()), k.ranges
	for _, b := range k.originated {
		s.meet(b.speaker)
		s.own[b.speaker] = &Route{
			Origin: max(IGP, b.origin), LocalPref: usualLocalPref, Summary: b.summary, Quiet: b.quiet, Only: b.only,
			At: s.compiled.Speakers[b.speaker].Key, session: -1,
		}
		s.put(b.speaker)
	}
}

// usualLocalPref is what a route has that nobody gave any.
const usualLocalPref = 100

func (s *solver) meet(n int32) {
	if s.met[n] {
		return
	}
	s.met[n] = true
	s.meets = append(s.meets, n)
	if s.slots[n] == nil {
		s.slots[n] = make([]*Route, len(s.compiled.slots[n]))
	}
}

func (s *solver) put(n int32) {
	if !s.queued[n] {
		s.queued[n] = true
		s.queue = append(s.queue, n)
	}
}

// order is which of the speakers that have heard something goes next: the place in the
// queue, of so many, with so many steps left.
type order func(queue []int32, left int) int

// inTurn is the order in which they heard.
func inTurn([]int32, int) int { return 0 }

// lastFirst lets the last to hear go first.
func lastFirst(queue []int32, _ int) int { return len(queue) - 1 }

// anyhow is an order like any other, the same each time.
func anyhow(seed uint32) order {
	return func(queue []int32, left int) int {
		return int(uint32(left) * seed * 2654435761 >> 7 % uint32(len(queue)))
	}
}

// lets has one speaker go first whenever it can, or last.
func lets(n int32, first bool) order {
	return func(queue []int32, _ int) int {
		at := slices.IndexFunc(queue, func(x int32) bool { return (x == n) == first })
		return max(at, 0)
	}
}

// run lets speakers choose and tell until nothing changes, in some order. It reports
// whether it came to an end.
func (s *solver) run(next order) bool {
	for left := 2000 + 60*len(s.compiled.Sessions); len(s.queue) > 0; left-- {
		if left == 0 {
			return false
		}
		at := next(s.queue, left)
		n := s.queue[at]
		s.queue = slices.Delete(s.queue, at, at+1)
		s.queued[n] = false
		s.activate(n)
	}
	return true
}

func (s *solver) activate(n int32) {
	all := s.candidates(n)
	var best *Route
	switch {
	case n == s.pinned && slices.Contains(all, s.pin):
		best = s.pin
	case len(all) > 0:
		best = choose(all)
	}
	if best == s.best[n] {
		return
	}
	if s.moved != nil {
		s.moved[n] = true
	}
	s.best[n] = best
	for _, e := range s.compiled.outs[n] {
		s.advertise(e, best)
	}
}

// candidates are the routes of a speaker whose next hop it can reach.
func (s *solver) candidates(n int32) []*Route {
	s.cand = s.cand[:0]
	if s.own[n] != nil {
		s.cand = append(s.cand, s.own[n])
	}
	for _, r := range s.slots[n] {
		if r != nil && s.reaches(n, r) {
			s.cand = append(s.cand, r)
		}
	}
	return s.cand
}

// reaches reports whether a speaker can use a next hop: the neighbour's own by
// the session itself, another by the longest range that it has for it, which must not be
// what the next hop is for (RFC 4271 section 9.1.2.1).
func (s *solver) reaches(n int32, r *Route) bool {
	if r.direct() {
		return true
	}
	by, ok := s.look(n, r.NextHop)
	return ok && !slices.Contains(s.of.prefixes, by)
}

// direct reports whether a route is one's own, or leads to the neighbour that told of it.
func (r *Route) direct() bool { return r.Own() || r.NextHop == r.peer() }

// peer is the address of the neighbour that a route was learned from.
func (r *Route) peer() netip.Addr {
	if r.Session == nil {
		return netip.Addr{}
	}
	return r.Session.Ends[1-r.End].Address
}

// id is who gave birth to the route inside the own AS, or told of it.
func (r *Route) id() netip.Addr {
	if r.Originator.IsValid() {
		return r.Originator
	}
	return r.peerID
}

// advertise announces or withdraws what an end's speaker has to the other end.
func (s *solver) advertise(e int32, best *Route) {
	far := e ^ 1
	var got *Route
	if best != nil {
		got, _, _ = s.pass(e, best)
	}
	for k, n := range s.compiled.into[far] {
		slot := s.compiled.slotAt[far][k]
		if !s.met[n] {
			if got == nil {
				continue
			}
			s.meet(n)
		}
		if s.slots[n][slot] == nil && got == nil {
			continue
		}
		if key := s.compiled.Speakers[n].Key; got != nil && (key != got.At || s.compiled.away[far][k] > 0) {
			other := *got
			other.At, other.Away = key, s.compiled.away[far][k]
			got = &other
		}
		s.slots[n][slot] = got
		s.put(n)
	}
}
