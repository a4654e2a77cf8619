package bgp

import (
	"maps"
	"net/netip"
	"reflect"
	"slices"

	"dravin/core/prefix"
)

// difference is what may be otherwise in the next network: prefixes that are originated
// otherwise, and sets of speakers of which a session came up or went down.
type difference struct {
	originated map[netip.Prefix]bool
	parts      map[int32]bool
}

// difference holds the next network against this one. ok is false where more
// than births and the status of sessions differs.
func (r *Result) difference(n *Network) (d difference, ok bool) {
	d = difference{map[netip.Prefix]bool{}, map[int32]bool{}}
	if len(n.Speakers) != len(r.compiled.Speakers) || len(n.Sessions) != len(r.compiled.Sessions) || r.compiled.kept ||
		len(r.down) > 0 {
		return d, false
	}
	for k, s := range n.Sessions {
		old := r.compiled.Sessions[k]
		if s == old {
			continue
		}
		if s.Key != old.Key || !reflect.DeepEqual(s.Ends, old.Ends) {
			return d, false
		}
		for e := int32(2 * k); e < int32(2*k+2); e++ {
			for _, x := range append(slices.Clip(r.compiled.into[e]), r.compiled.speaks[e]) {
				if x >= 0 {
					d.parts[r.compiled.part[x]] = true
				}
			}
		}
	}
	for k, s := range n.Speakers {
		old := r.compiled.Speakers[k]
		if s == old {
			continue
		}
		if s.Key != old.Key || s.RouterID != old.RouterID || s.Multipath != old.Multipath ||
			!slices.Equal(s.Summaries, old.Summaries) || !slices.Equal(s.Connected, old.Connected) {
			return d, false
		}
		have := make(map[Originated]bool, len(old.Own))
		for _, o := range old.Own {
			have[o] = true
		}
		for _, o := range s.Own {
			if have[o] {
				delete(have, o)
			} else {
				d.originated[o.Prefix] = true
			}
		}
		for o := range have {
			d.originated[o.Prefix] = true
		}
	}
	return d, true
}

// touched are the prefixes that must be solved again.
func (r *Result) touched(d difference, n *Network) map[netip.Prefix]bool {
	out := maps.Clone(d.originated)
	if len(d.parts) == 0 {
		return out
	}
	seen := map[*class]bool{} // each class once, however many speakers have it
	for k := range r.compiled.Speakers {
		if d.parts[r.compiled.part[k]] {
			for _, list := range [2][]*class{r.has[k], r.more[int32(k)]} {
				for _, c := range list {
					if seen[c] {
						continue
					}
					seen[c] = true
					for _, p := range c.prefixes {
						out[p] = true
					}
				}
			}
			for _, o := range n.Speakers[k].Own {
				out[o.Prefix] = true
			}
		}
	}
	return out
}

// with is the compiled form of a network that differs in births and in which
// sessions are up.
func (c *compiled) with(n *Network) *compiled {
	out := *c
	out.Network = n
	out.ends = make([]*End, len(c.ends))
	for k, s := range n.Sessions {
		out.ends[2*k], out.ends[2*k+1] = &s.Ends[0], &s.Ends[1]
	}
	return &out
}

// patch solves some prefixes anew; nil where that is so much that all had better
// be, or where a session drops for a limit.
func (r *Result) patch(n *Network, news map[netip.Prefix]bool) *Result {
	if len(news)+len(r.over) > 64+len(r.classes)/2 {
		return nil
	}
	next := &Result{
		compiled: r.compiled.with(n), classes: r.classes, over: maps.Clone(r.over), has: r.has,
		more: make(map[int32][]*class, len(r.more)), down: r.down,
	}
	if next.over == nil {
		next.over = map[netip.Prefix]*class{}
	}
	for k, list := range r.more {
		next.more[k] = slices.Clip(list)
	}
	for _, s := range next.compiled.summaries() { // what they are made of may be new
		for p := range news {
			if prefix.Contains(s, p) {
				return nil
			}
		}
	}
	originated := map[netip.Prefix][]origination{}
	for k, s := range n.Speakers {
		for _, o := range s.Own {
			if news[o.Prefix] {
				originated[o.Prefix] = append(
					originated[o.Prefix], origination{speaker: int32(k), quiet: o.Quiet, only: onlyOf(o)},
				)
			}
		}
	}
	for p := range news {
		next.over[p] = nil
	}
	met := map[int32]bool{} // ends that took something
	s := newSolver(next.compiled, unreached)
	for _, k := range next.compiled.group(originated, func(netip.Prefix) bool { return true }) {
		s.class(k)
		for _, p := range k.prefixes {
			next.over[p] = k
		}
		for _, h := range k.has {
			next.more[h.speaker] = append(next.more[h.speaker], k)
		}
		for _, t := range k.taken {
			met[t.end] = true
		}
	}
	if next.overLimit(met) {
		return nil
	}
	return next
}

// overLimit reports whether one of some ends takes more than it may.
func (r *Result) overLimit(ends map[int32]bool) bool {
	for e := range ends {
		if r.compiled.ends[e].Limit == [2]uint32{} {
			continue
		}
		var count [2]uint32
		n := r.compiled.into[e][0]
		for _, list := range [2][]*class{r.has[n], r.more[n]} {
			for _, k := range list {
				if !slices.ContainsFunc(k.taken, func(t taking) bool { return t.end == e }) {
					continue
				}
				for _, p := range k.prefixes {
					if len(r.over) == 0 || r.of(p) == k {
						count[prefix.FamilyOf(p.Addr())]++
					}
				}
			}
		}
		for f, most := range r.compiled.ends[e].Limit {
			if most > 0 && count[f] > most {
				return true
			}
		}
	}
	return false
}

// differs lists the speakers whose routes are not those of another result: of
// some prefixes, or of all where none are given.
func (r *Result) differs(old *Result, only map[netip.Prefix]bool) []string {
	found := map[string]bool{}
	compared := map[[2]*class]bool{}
	compare := func(p netip.Prefix) {
		a, b := old.of(p), r.of(p)
		if a == b || compared[[2]*class{a, b}] {
			return
		}
		compared[[2]*class{a, b}] = true
		for _, key := range differingClasses(old.compiled, r.compiled, a, b) {
			found[key] = true
		}
	}
	if only != nil {
		for p := range only {
			compare(p)
		}
	} else {
		for _, p := range old.prefixes() {
			compare(p)
		}
		for _, p := range r.prefixes() {
			if old.of(p) == nil {
				compare(p)
			}
		}
		for key := range old.compiled.speaker {
			if _, ok := r.compiled.speaker[key]; !ok {
				found[key] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(found))
}

func differingClasses(oc, nc *compiled, a, b *class) []string {
	x, y := map[string]*holding{}, map[string]*holding{}
	if a != nil {
		for n := range a.has {
			x[oc.Speakers[a.has[n].speaker].Key] = &a.has[n]
		}
	}
	if b != nil {
		for n := range b.has {
			y[nc.Speakers[b.has[n].speaker].Key] = &b.has[n]
		}
	}
	var out []string
	for key, h := range x {
		if o := y[key]; o == nil || !h.same(o) {
			out = append(out, key)
		}
	}
	for key := range y {
		if x[key] == nil {
			out = append(out, key)
		}
	}
	return out
}

// differing lists the speakers whose routes differ between two outcomes.
func differing(c *compiled, a, b []holding) []string {
	out := differingClasses(c, c, &class{has: a}, &class{has: b})
	slices.Sort(out)
	return out
}

func (h *holding) same(o *holding) bool {
	return h.by == o.by && h.chance == o.chance && h.rivals == o.rivals &&
		slices.EqualFunc(h.routes, o.routes, (*Route).same) && slices.EqualFunc(h.lost, o.lost, (*Route).same)
}

// same compares two routes with the way that they came.
func (r *Route) same(o *Route) bool {
	for {
		if r == o {
			return true
		}
		if r == nil || o == nil || !r.alike(o) {
			return false
		}
		r, o = r.Parent, o.Parent
	}
}

func (r *Route) alike(o *Route) bool {
	return r.Own() == o.Own() && (r.Own() || r.Session.Key == o.Session.Key && r.End == o.End) &&
		slices.Equal(r.Path, o.Path) && r.Origin == o.Origin && r.LocalPref == o.LocalPref && r.MED == o.MED &&
		slices.Equal(
			r.Communities,
			o.Communities,
		) && r.NextHop == o.NextHop && r.Originator == o.Originator && slices.Equal(r.Clusters, o.Clusters) &&
		r.Summary == o.Summary && r.Quiet == o.Quiet && slices.Equal(r.Only, o.Only) &&
		r.Weight == o.Weight && r.Away == o.Away && r.Internal == o.Internal && r.At == o.At
}
