package bgp

import (
	"slices"
)

// A class has one outcome, whoever is heard first, as long as every speaker takes the
// shortest path. Where something else has a say, it may have several (RFC 4264) or none
// (RFC 3345). Both are looked for: from nothing, with speakers heard in other orders,
// where few are concerned; where many are, from the outcome that was found, by letting
// one speaker after another choose otherwise for a while. Either finds outcomes that
// last; neither says that there are no more.

// fewSpeakers is how many may be concerned for all to be heard in other orders.
const fewSpeakers = 24

// orders are those in which speakers are heard beside their turn.
var orders = []order{lastFirst, anyhow(2), anyhow(3), anyhow(5), anyhow(7), anyhow(11), anyhow(13)}

// class solves one class and notes what came of it. Real speakers are not heard in turn
// for ever: an outcome that lasts in any order is one.
func (s *solver) class(k *class) {
	settled := s.settle(k)
	k.unstable = !settled
	s.note(k)
	if settled && s.swayed() && slices.ContainsFunc(k.has, func(h holding) bool { return h.rivals > 0 }) {
		s.several(k)
	}
}

// swayed reports whether something other than the shortest path may have a say at a speaker
// that has met the class. What had none in the outcome that was found counts, too: a rule
// that nothing came to may speak in another.
func (s *solver) swayed() bool {
	c := s.compiled
	for _, n := range s.meets {
		for _, e := range c.outs[n] {
			near, far := c.ends[e], c.ends[e^1]
			if !c.Sessions[e/2].Down && (far.Weight != 0 || near.Client && near.ASN == far.ASN ||
				s.sways(c.policy[2*e+1]) || s.sways(c.policy[2*(e^1)])) {
				return true
			}
		}
	}
	return false
}

// sways reports whether a policy has such a rule for the class.
func (s *solver) sways(p policy) bool {
	here := func(id int32) bool { return s.stamp[id] == s.turn }
	return p.swayAll || slices.ContainsFunc(p.sways, here)
}

// sways reports whether a rule sets what a choice goes by before or beside the length of the
// path. That is lengthened wherever a route leaves an AS, and so leads nobody in a circle.
func (x *Rule) sways() bool {
	return x.Action != Refuse && (x.LocalPref != 0 || x.MED != 0 || x.Origin != Unset)
}

// settle solves a class in turn, or in the first order in which it comes to an end.
func (s *solver) settle(k *class) bool {
	s.begin(k)
	settled := s.run(inTurn)
	for n := 0; !settled && n < len(orders); n++ {
		s.begin(k)
		settled = s.run(orders[n])
	}
	return settled
}

// several looks for other outcomes, and notes the speakers whose choice depends on which
// comes about.
func (s *solver) several(k *class) {
	if len(k.has) > fewSpeakers {
		s.perturb(k)
		return
	}
	tried := slices.Clone(orders)
	for _, h := range k.has {
		tried = append(tried, lets(h.speaker, true), lets(h.speaker, false))
	}
	for _, order := range tried {
		other := class{prefixes: k.prefixes, originated: k.originated, ranges: k.ranges}
		s.begin(&other)
		if s.run(order) {
			s.note(&other)
			k.depends(differing(s.compiled, k.has, other.has))
		}
	}
	slices.Sort(k.several)
}

// perturb lets every speaker that has a choice choose otherwise, and then choose again by
// itself: where the others have adapted so that it stays, both last.
func (s *solver) perturb(k *class) {
	s.of = k
	before := map[int32]*Route{}
	for _, n := range s.meets {
		before[n] = s.best[n]
	}
	for _, h := range k.has {
		for _, r := range h.lost {
			if !s.matters(h.speaker, r) {
				continue
			}
			s.moved = map[int32]bool{}
			s.pinned, s.pin = h.speaker, r
			s.put(h.speaker)
			settled := s.run(inTurn)
			s.pinned = -1
			s.put(h.speaker)
			settled = s.run(inTurn) && settled
			changed := s.others(before)
			s.moved = nil
			if len(changed) == 0 && settled {
				continue
			}
			k.depends(changed)
			return // one more outcome is enough to tell of
		}
	}
}

// matters reports whether a speaker that chose another route would tell anybody anything
// else than it does.
func (s *solver) matters(n int32, r *Route) bool {
	if !slices.Contains(s.slots[n], r) {
		return false // a try before has replaced it
	}
	for _, e := range s.compiled.outs[n] {
		if _, stop, _ := s.pass(e, r); stop == Passed {
			return true
		}
		if s.best[n] != nil {
			if _, stop, _ := s.pass(e, s.best[n]); stop == Passed {
				return true
			}
		}
	}
	return false
}

// others are the speakers of those that chose anew that hold something else than before.
func (s *solver) others(before map[int32]*Route) []string {
	var out []string
	for n := range s.moved {
		a, b := before[n], s.best[n]
		if (a == nil) != (b == nil) || a != nil && !a.same(b) {
			out = append(out, s.compiled.Speakers[n].Key)
		}
	}
	slices.Sort(out)
	return out
}

// depends notes speakers whose choice depends on who came first.
func (k *class) depends(on []string) {
	for _, key := range on {
		if !slices.Contains(k.several, key) {
			k.several = append(k.several, key)
		}
	}
	slices.Sort(k.several)
}
