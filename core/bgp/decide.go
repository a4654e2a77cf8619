package bgp

import (
	"cmp"
	"slices"
)

// before compares two routes by what is decided before MED: negative if a goes
// before b. The rule is the one that decides.
func before(a, b *Route) (int, Why) {
	if a.Own() != b.Own() {
		return first(a.Own()), OwnFirst
	}
	if c := cmp.Compare(b.Weight, a.Weight); c != 0 {
		return c, Weighted
	}
	if c := cmp.Compare(a.Away, b.Away); c != 0 {
		return c, Nearer
	}
	if c := cmp.Compare(b.LocalPref, a.LocalPref); c != 0 {
		return c, HigherLocalPref
	}
	if c := cmp.Compare(len(a.Path), len(b.Path)); c != 0 {
		return c, ShorterPath
	}
	return cmp.Compare(a.Origin, b.Origin), BetterOrigin
}

// after compares by what is decided after MED.
func after(a, b *Route) (int, Why) {
	if a.Internal != b.Internal {
		return first(!a.Internal), ExternalFirst
	}
	if c := a.id().Compare(b.id()); c != 0 {
		return c, LowerRouterID
	}
	if c := cmp.Compare(len(a.Clusters), len(b.Clusters)); c != 0 {
		return c, FewerClusters
	}
	return a.peer().Compare(b.peer()), LowerAddress
}

func first(a bool) int {
	if a {
		return -1
	}
	return 1
}

// neighbour is the AS that a route came from; 0 for one of the own AS.
func (r *Route) neighbour() uint32 {
	if len(r.Path) == 0 {
		return 0
	}
	return r.Path[0]
}

// compare orders two routes of which both are candidates. MED counts between
// routes of one neighbour AS only, so that among more than two the order is that
// of [sorted].
func compare(a, b *Route) (int, Why) {
	if c, why := before(a, b); c != 0 {
		return c, why
	}
	if a.neighbour() == b.neighbour() && a.MED != b.MED {
		return cmp.Compare(a.MED, b.MED), LowerMED
	}
	return after(a, b)
}

// choose finds the best of some routes. The order of arrival does not count.
func choose(routes []*Route) (best *Route) {
	for _, r := range routes {
		if best == nil || wins(routes, r, best) {
			best = r
		}
	}
	return best
}

// wins tells whether a goes before b among all routes: what a lower MED of the
// same neighbour beats is out, unless the other is out too.
func wins(all []*Route, a, b *Route) bool {
	if c, _ := before(a, b); c != 0 {
		return c < 0
	}
	if a.neighbour() == b.neighbour() {
		c, _ := compare(a, b)
		return c < 0
	}
	if x, y := beaten(all, a), beaten(all, b); x != y {
		return y
	}
	c, _ := after(a, b)
	return c < 0
}

// beaten reports whether a route of the same neighbour has a lower MED, all else
// before being equal.
func beaten(all []*Route, r *Route) bool {
	return slices.ContainsFunc(all, func(x *Route) bool {
		if x.neighbour() != r.neighbour() || x.MED >= r.MED {
			return false
		}
		c, _ := before(x, r)
		return c == 0
	})
}

// shares reports whether a route is as good as the best down to the metric, so
// that both carry traffic.
func shares(best, r *Route) bool {
	if c, _ := before(best, r); c != 0 || best.Own() {
		return false
	}
	return best.Internal == r.Internal && (best.neighbour() != r.neighbour() || best.MED == r.MED)
}
