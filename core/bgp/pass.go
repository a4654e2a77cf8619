package bgp

import (
	"net/netip"
	"slices"

	"dravin/core/negotiate"
)

var (
	noExport    = wellKnown("no-export")
	noAdvertise = wellKnown("no-advertise")
	noSubConfed = wellKnown("no-export-subconfed")
)

func wellKnown(name string) negotiate.Community {
	c, err := negotiate.ParseCommunity(name)
	if err != nil {
		panic(err) // the names are fixed
	}
	return c
}

// pass takes a route from end e to the other. It returns it as the other has it,
// or what stopped it and, of a filter, by which rule: -1 if none matched.
func (s *solver) pass(e int32, r *Route) (*Route, Stop, int) {
	near, far := s.compiled.ends[e], s.compiled.ends[e^1]
	internal := near.ASN == far.ASN
	if stop := s.mayAdvertise(e, r, internal); stop != Passed {
		return nil, stop, 0
	}
	out := *r
	out.Parent, out.Hops, out.At, out.Only, out.Quiet = r, r.Hops+1, far.Speaker, nil, false
	if !internal {
		out.MED = 0 // what was learned is told inside only (RFC 4271 section 5.1.4)
	}
	if len(near.Out) > 0 {
		if rule, ok := s.filter(s.compiled.policy[2*e+1], &out, near.ASN); !ok {
			return nil, OutFilter, rule
		}
	} else if !near.Join && (!r.Own() || r.Quiet) {
		return nil, Unannounced, 0
	}
	if internal {
		s.reflect(e, r, &out)
	} else {
		out.Path = slices.Concat([]uint32{near.ASN}, out.Path)
		out.LocalPref, out.Originator, out.Clusters = usualLocalPref, netip.Addr{}, nil
	}
	if r.Own() || !near.KeepNextHop {
		out.NextHop = near.Address
	}
	return s.take(e^1, &out, internal)
}

// mayAdvertise asks what a speaker tells at all, before its filter.
func (s *solver) mayAdvertise(e int32, r *Route, internal bool) Stop {
	near, far := s.compiled.ends[e], s.compiled.ends[e^1]
	f := s.family
	switch _, gone := s.compiled.down[e/2]; {
	case s.compiled.Sessions[e/2].Down:
		return NotUp
	case gone:
		return OverLimit
	case !near.Families[f] || !far.Families[f]:
		return OtherFamily
	case r.session == e/2:
		return BackToSender
	case len(r.Only) > 0 && !slices.Contains(r.Only, near.Group):
		return ElsewhereOnly
	case slices.Contains(r.Communities, noAdvertise), !internal &&
		(slices.Contains(r.Communities, noExport) || slices.Contains(r.Communities, noSubConfed)):
		return NoExport
	case internal && r.Internal && !near.Client && !r.Client:
		return SplitHorizon
	}
	if n := s.compiled.speaks[e]; n >= 0 { // a part is hidden even if another made it a summary
		for _, x := range s.compiled.Speakers[n].Summaries {
			if x.Hide && s.stamp[s.compiled.ranges.id[x.parts()]] == s.turn {
				return HiddenPart
			}
		}
	}
	return Passed
}

// reflect marks what is told inside an AS and was learned inside it (RFC 4456
// section 8).
func (s *solver) reflect(e int32, r, out *Route) {
	if !r.Internal {
		out.Originator, out.Clusters = netip.Addr{}, nil
		return
	}
	out.Originator = r.id()
	out.Clusters = slices.Concat([]netip.Addr{s.compiled.Speakers[s.compiled.speaks[e]].RouterID}, r.Clusters)
}

// take lets an end judge what the other told it.
func (s *solver) take(e int32, out *Route, internal bool) (*Route, Stop, int) {
	end := s.compiled.ends[e]
	met := uint32(0)
	for _, a := range out.Path {
		if a == end.ASN {
			met++
		}
	}
	if met > end.AllowOwn {
		return nil, LoopCheck, 0
	}
	if n := s.compiled.speaks[e]; n >= 0 && internal {
		if own := s.compiled.Speakers[n].RouterID; own == out.Originator || slices.Contains(out.Clusters, own) {
			return nil, ReflectedLoop, 0
		}
	}
	out.Away, out.Weight, out.Internal, out.Client = 0, end.Weight, internal, end.Client
	out.session, out.Session, out.End = e/2, s.compiled.Sessions[e/2], int(e%2)
	if n := s.compiled.speaks[e^1]; n >= 0 {
		out.peerID = s.compiled.Speakers[n].RouterID
	}
	if len(end.In) > 0 {
		if rule, ok := s.filter(s.compiled.policy[2*e], out, end.ASN); !ok {
			return nil, InFilter, rule
		}
	}
	return out, Passed, 0
}

// filter applies the first rule that decides, and what those before it that go
// on set. rule is the one that refused, -1 if none matched.
func (s *solver) filter(p policy, r *Route, asn uint32) (rule int, ok bool) {
	for _, n := range s.inRange(p) {
		x := &p.rules[n]
		if !x.fits(r) {
			continue
		}
		switch x.Action {
		case Refuse:
			return int(n), false
		case Accept:
			x.set(r, asn)
			return int(n), true
		case GoOn:
			x.set(r, asn)
		}
	}
	return -1, false
}

// inRange are the rules that have no range or one that the class lies in, in
// order.
func (s *solver) inRange(p policy) []int32 {
	if len(p.byRange) == 0 {
		return p.any
	}
	out := p.any
	for _, id := range s.ranges {
		if list := p.byRange[id]; list != nil {
			out = slices.Concat(out, list)
		}
	}
	slices.Sort(out)
	return out
}

// fits asks a rule's conditions, its range apart.
func (x *Rule) fits(r *Route) bool {
	switch {
	case x.Neighbour != 0 && r.neighbour() != x.Neighbour,
		x.OriginAS != 0 && (len(r.Path) == 0 || r.Path[len(r.Path)-1] != x.OriginAS),
		x.Through != 0 && !slices.Contains(r.Path, x.Through),
		x.Longest != 0 && len(r.Path) > int(x.Longest):
		return false
	}
	return len(x.Has) == 0 ||
		slices.ContainsFunc(x.Has, func(c negotiate.Community) bool { return slices.Contains(r.Communities, c) })
}

// set does what a rule says to a route.
func (x *Rule) set(r *Route, asn uint32) {
	if x.LocalPref != 0 {
		r.LocalPref = x.LocalPref
	}
	if x.MED != 0 {
		r.MED = x.MED
	}
	if x.Origin != Unset {
		r.Origin = x.Origin
	}
	if x.Prepend > 0 {
		r.Path = slices.Concat(slices.Repeat([]uint32{asn}, int(x.Prepend)), r.Path)
	}
	if len(x.Take)+len(x.Add) == 0 {
		return
	}
	list := slices.DeleteFunc(
		slices.Clone(r.Communities), func(c negotiate.Community) bool { return slices.Contains(x.Take, c) },
	)
	for _, c := range x.Add {
		if !slices.Contains(list, c) {
			list = append(list, c)
		}
	}
	slices.SortFunc(list, negotiate.Community.Compare)
	r.Communities = list
}
