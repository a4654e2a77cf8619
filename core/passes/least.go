package passes

import (
	"cmp"
	"math/bits"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/prefix"
)

// Rules as few as let pass exactly what is needed. A rule is for all of its sources with all of its destinations
// and all of its services: a box of three sides. What is needed is a set of points, and the rules are boxes that
// hold all of them and no other point. Few points are covered by as few boxes as there can be; many by boxes that
// are grown as far as they go, each one taken that holds most of what is left.

// atom is one thing that must pass, for some intents.
type atom struct {
	from, to netip.Prefix
	traffic  design.Traffic
	replies  bool
	family   bool // it is of IPv4
	intents  []design.ID
}

// exactly is up to how many atoms the fewest rules are looked for.
const exactly = 14

// Least are as few rules as let pass exactly what is needed of one direction of a filter. Direction is that of the
// rules, empty where a filter forwards.
func Least(needs []Need, direction string) []design.FilterRule {
	atoms := atomsOf(needs)
	var out []design.FilterRule
	for len(atoms) > 0 { // rules for answers are apart from others, and families from each other
		var some, rest []atom
		for _, a := range atoms {
			if a.replies == atoms[0].replies && a.family == atoms[0].family {
				some = append(some, a)
			} else {
				rest = append(rest, a)
			}
		}
		out, atoms = append(out, cover(some, direction)...), rest
	}
	return both(out)
}

// both brings rules of the two families together that are for the same otherwise: a rule takes ranges of both,
// since no packet is between them.
func both(rules []design.FilterRule) []design.FilterRule {
	var out []design.FilterRule
	for _, r := range rules {
		n := slices.IndexFunc(out, func(x design.FilterRule) bool {
			return x.Replies == r.Replies && slices.Equal(x.Services, r.Services) && slices.Equal(x.For, r.For) &&
				len(familiesOf(x)) == 1 && len(familiesOf(r)) == 1 && familiesOf(x)[0] != familiesOf(r)[0] &&
				(x.From == nil) == (r.From == nil) && (x.To == nil) == (r.To == nil)
		})
		if n < 0 {
			out = append(out, r)
			continue
		}
		out[n].From, out[n].To = append(out[n].From, r.From...), append(out[n].To, r.To...)
	}
	return out
}

// familiesOf are the families that the ranges of a rule are of.
func familiesOf(r design.FilterRule) (out []bool) {
	for _, p := range slices.Concat(r.From, r.To) {
		if four := p.Addr().Is4(); !slices.Contains(out, four) {
			out = append(out, four)
		}
	}
	return out
}

// atomsOf are needs without those that others hold, each with all intents that it is for.
func atomsOf(needs []Need) []atom {
	var out []atom
	for _, n := range needs {
		a := atom{
			from: n.From.Masked(), to: n.To.Masked(), traffic: n.Traffic, replies: n.Replies,
			family:  n.From.Addr().Is4(),
			intents: []design.ID{n.Intent},
		}
		if at := slices.IndexFunc(out, func(b atom) bool { return b.holds(a) && a.holds(b) }); at >= 0 {
			if !slices.Contains(out[at].intents, n.Intent) {
				out[at].intents = append(out[at].intents, n.Intent)
			}
			continue
		}
		out = append(out, a)
	}
	var kept []atom
	for n, a := range out {
		within := slices.IndexFunc(out, func(b atom) bool { return b.holds(a) && !a.holds(b) })
		if within < 0 {
			kept = append(kept, out[n])
		}
	}
	for _, a := range out { // who needs a part needs the whole that is there
		for n := range kept {
			if kept[n].holds(a) {
				for _, i := range a.intents {
					if !slices.Contains(kept[n].intents, i) {
						kept[n].intents = append(kept[n].intents, i)
					}
				}
			}
		}
	}
	return kept
}

// holds reports whether an atom lets pass all that another does.
func (a atom) holds(b atom) bool {
	return a.replies == b.replies && prefix.Contains(a.from, b.from) && prefix.Contains(a.to, b.to) &&
		trafficHolds(a.traffic, b.traffic)
}

func trafficHolds(a, b design.Traffic) bool {
	switch {
	case a.Proto != b.Proto:
		return false
	case a.Proto == "icmp":
		return a.Message == "" || a.Message == b.Message
	}
	return a.First == 0 || b.First != 0 && a.First <= b.First && b.Last <= a.Last
}

// boxed is a rule in the making: its sides, and which atoms it lets pass.
type boxed struct {
	from, to []netip.Prefix
	traffic  []design.Traffic
	atoms    set
}

// set are atoms by their places.
type set []uint64

func newSet(n int) set       { return make(set, (n+63)/64) }
func (s set) add(n int)      { s[n/64] |= 1 << (n % 64) }
func (s set) has(n int) bool { return s[n/64]&(1<<(n%64)) != 0 }
func (s set) clone() set     { return slices.Clone(s) }

func (s set) less(o set) {
	for n := range s {
		s[n] &^= o[n]
	}
}

func (s set) within(o set) bool {
	for n := range s {
		if s[n]&^o[n] != 0 {
			return false
		}
	}
	return true
}

func (s set) len() (n int) {
	for _, w := range s {
		n += bits.OnesCount64(w)
	}
	return n
}

// common counts the members that two sets have in common.
func (s set) common(o set) (n int) {
	for i := range s {
		n += bits.OnesCount64(s[i] & o[i])
	}
	return n
}

// cover covers atoms of one kind with rules.
func cover(atoms []atom, direction string) []design.FilterRule {
	points := pointsOf(atoms)
	chosen := fewest(points, maximal(points), len(atoms))
	var out []design.FilterRule
	for _, b := range chosen {
		r := design.FilterRule{
			Direction: direction, From: prefix.Minimal(b.from), To: prefix.Minimal(b.to), Replies: atoms[0].replies,
			Services: trafficOf(b.traffic),
		}
		switch { // one side says of which family the rule is; the other may say nothing
		case r.To[0].Bits() == 0:
			r.To = nil
		case r.From[0].Bits() == 0:
			r.From = nil
		}
		for n, a := range atoms {
			if b.atoms.has(n) {
				for _, i := range a.intents {
					if !slices.Contains(r.For, i) {
						r.For = append(r.For, i)
					}
				}
			}
		}
		slices.Sort(r.For)
		out = append(out, r)
	}
	return out
}

// points are atoms by the numbers of their sides.
type points struct {
	atoms    []atom
	from, to []netip.Prefix
	traffic  []design.Traffic
	at       map[[3]int]int // the atom of each point
	sides    [][3]int       // of each atom
}

func pointsOf(atoms []atom) *points {
	p := &points{atoms: atoms, at: map[[3]int]int{}}
	from, to, traffic := map[netip.Prefix]int{}, map[netip.Prefix]int{}, map[design.Traffic]int{}
	for n, a := range atoms {
		k := [3]int{
			numbered(from, a.from, &p.from), numbered(to, a.to, &p.to), numbered(traffic, a.traffic, &p.traffic),
		}
		p.at[k], p.sides = n, append(p.sides, k)
	}
	return p
}

func numbered[T comparable](by map[T]int, v T, list *[]T) int {
	n, ok := by[v]
	if !ok {
		n = len(*list)
		by[v], *list = n, append(*list, v)
	}
	return n
}

// maximal are boxes of needed points that can not be made larger: from every atom, grown along its sides in each
// of their orders.
func maximal(p *points) []boxed {
	var out []boxed
	seen := map[string]bool{}
	for n := range p.atoms {
		for _, order := range [6][3]int{{0, 1, 2}, {0, 2, 1}, {1, 0, 2}, {1, 2, 0}, {2, 0, 1}, {2, 1, 0}} {
			b, key := p.grown(n, order)
			if !seen[key] {
				seen[key] = true
				out = append(out, b)
			}
		}
	}
	return out
}

// grown is the box of an atom, made as large as it can be along its sides in an order.
func (p *points) grown(n int, order [3]int) (boxed, string) {
	sides := [3][]int{{p.sides[n][0]}, {p.sides[n][1]}, {p.sides[n][2]}}
	size := [3]int{len(p.from), len(p.to), len(p.traffic)}
	for _, axis := range order {
		for v := range size[axis] {
			if v != p.sides[n][axis] && p.all(sides, axis, v) {
				sides[axis] = append(sides[axis], v)
			}
		}
		slices.Sort(sides[axis])
	}
	return p.boxOf(sides)
}

// boxOf is the box of some sides, with a key of its own.
func (p *points) boxOf(sides [3][]int) (boxed, string) {
	b := boxed{atoms: newSet(len(p.atoms))}
	for _, v := range sides[0] {
		b.from = append(b.from, p.from[v])
	}
	for _, v := range sides[1] {
		b.to = append(b.to, p.to[v])
	}
	for _, v := range sides[2] {
		b.traffic = append(b.traffic, p.traffic[v])
	}
	for _, x := range sides[0] {
		for _, y := range sides[1] {
			for _, z := range sides[2] {
				b.atoms.add(p.at[[3]int{x, y, z}])
			}
		}
	}
	key := make([]byte, 0, len(b.atoms)*8)
	for _, w := range b.atoms {
		for n := range 8 {
			key = append(key, byte(w>>(8*n)))
		}
	}
	return b, string(key)
}

// all reports whether a box can take one more value along a side.
func (p *points) all(sides [3][]int, axis, v int) bool {
	sides[axis] = []int{v}
	for _, x := range sides[0] {
		for _, y := range sides[1] {
			for _, z := range sides[2] {
				if _, ok := p.at[[3]int{x, y, z}]; !ok {
					return false
				}
			}
		}
	}
	return true
}

// fewest picks boxes that hold all of n atoms: the fewest there are, up to so many atoms; else those that hold most
// of what is left, one after the other.
func fewest(p *points, boxes []boxed, n int) []boxed {
	slices.SortStableFunc(boxes, func(a, b boxed) int { return cmp.Compare(b.atoms.len(), a.atoms.len()) })
	greedy := greedily(boxes, n)
	if n > exactly || len(greedy) < 3 {
		return greedy // two are no better than what a search finds: one box was not enough
	}
	return searched(p.every(), n, greedy)
}

func greedily(boxes []boxed, n int) []boxed {
	var out []boxed
	left := newSet(n)
	for k := range n {
		left.add(k)
	}
	for left.len() > 0 {
		best, most := 0, 0
		for k, b := range boxes {
			if c := b.atoms.common(left); c > most {
				best, most = k, c
			}
		}
		out = append(out, boxes[best])
		left.less(boxes[best].atoms)
	}
	return out
}

// every are all boxes of needed points that no other holds: for each choice of atoms the box that they span, if all
// of it is needed.
func (p *points) every() []boxed {
	var out []boxed
	seen := map[string]bool{}
	var add func(sides [3][]int, next int)
	add = func(sides [3][]int, next int) {
		b, key := p.boxOf(sides)
		if seen[key] {
			return
		}
		seen[key] = true
		out = append(out, b)
		for n := next; n < len(p.atoms); n++ {
			if wider, ok := p.spanned(sides, n); ok {
				add(wider, 0)
			}
		}
	}
	for n := range p.atoms {
		k := p.sides[n]
		add([3][]int{{k[0]}, {k[1]}, {k[2]}}, 0)
	}
	return slices.DeleteFunc(out, func(b boxed) bool {
		return slices.ContainsFunc(
			out, func(o boxed) bool { return b.atoms.within(o.atoms) && !o.atoms.within(b.atoms) },
		)
	})
}

// spanned is a box with one atom more; ok is false if that lets something pass that is not needed.
func (p *points) spanned(sides [3][]int, n int) (wider [3][]int, ok bool) {
	for axis := range sides {
		wider[axis] = slices.Clone(sides[axis])
		if v := p.sides[n][axis]; !slices.Contains(wider[axis], v) {
			wider[axis] = append(wider[axis], v)
			slices.Sort(wider[axis])
		}
	}
	for _, x := range wider[0] {
		for _, y := range wider[1] {
			for _, z := range wider[2] {
				if _, has := p.at[[3]int{x, y, z}]; !has {
					return wider, false
				}
			}
		}
	}
	return wider, true
}

// searched looks for fewer boxes than are known, by which the first atom that is left is held by one after the other.
func searched(boxes []boxed, n int, known []boxed) []boxed {
	best := known
	var look func(left set, have []boxed)
	look = func(left set, have []boxed) {
		if left.len() == 0 {
			best = slices.Clone(have)
			return
		}
		if len(have)+1 >= len(best) {
			return
		}
		first := 0
		for !left.has(first) {
			first++
		}
		for _, b := range boxes {
			if b.atoms.has(first) {
				rest := left.clone()
				rest.less(b.atoms)
				look(rest, append(have, b))
			}
		}
	}
	all := newSet(n)
	for k := range n {
		all.add(k)
	}
	look(all, nil)
	return best
}

// trafficOf brings services in order, with ports beside each other as one range.
func trafficOf(list []design.Traffic) []design.Traffic {
	out := slices.Clone(list)
	slices.SortFunc(out, func(a, b design.Traffic) int {
		return cmp.Or(
			cmp.Compare(a.Proto, b.Proto), cmp.Compare(a.First, b.First), cmp.Compare(a.Last, b.Last),
			cmp.Compare(a.Message, b.Message),
		)
	})
	return slices.Compact(out)
}

func packetOf(n Need) filter.Packet {
	p := filter.Packet{
		Src: prefix.FirstHost(n.From), Dst: prefix.FirstHost(n.To), Proto: n.Traffic.Proto, Message: n.Traffic.Message,
		DPort: n.Traffic.First,
	}
	if n.Replies {
		p.SPort, p.DPort = n.Traffic.First, p.SPort
	}
	return p
}
