package draft

import (
	"fmt"
	"slices"

	"dravin/core/allocation"
	"dravin/core/cost"
	"dravin/core/design"
	"dravin/core/status"
)

// peeringShape joins two networks directly.
func peeringShape(books *allocation.Books, a, b side, q Options) Shape {
	s := newShape("peering", "Peering")
	f := draft(books, &s, q)
	if !a.is(design.KindNetwork) || !b.is(design.KindNetwork) {
		f.out("a peering joins two cloud networks")
		return s
	}
	if design.Slug(a.cloud) != design.Slug(b.cloud) {
		f.out("a peering stays within one cloud, and these are in %s and %s", a.cloud, b.cloud)
		return s
	}
	if a.profile == nil || a.profile.Peering == nil {
		f.out("%s", a.without("peering"))
		return s
	}
	rule := a.profile.Peering
	apartRegions := a.region != b.region
	if apartRegions && !rule.BetweenRegions {
		f.out("%s has no peering between regions, and these are in %s and %s", a.cloud, a.region, b.region)
	}
	if c := clashes(a, b); c != "" {
		f.out("a peering is refused where blocks overlap: %s", c)
	}
	f.peeringsThere(a, b)
	if len(s.Out) > 0 {
		return s
	}
	price, where := a.profile.Prices.PeeringGB, "in one region"
	if apartRegions {
		price, where = a.profile.Prices.PeeringFarGB, "between regions"
	}
	f.costs(fmt.Sprintf("%d GB over a peering %s, charged at both ends", q.GB, where), cost.Volume(price, 2*q.GB))
	f.peering(a, b, rule.AutomaticRoutes)
	return s
}

// peeringsThere says why the peerings that there are allow no other.
func (f *drafter) peeringsThere(a, b side) {
	of := func(x side) []*design.Object {
		return slices.DeleteFunc(
			slices.Clone(f.design.Referring(x.party.ID, design.KindPeering)),
			func(o *design.Object) bool { return !status.Exists(o) },
		)
	}
	for _, o := range of(a) {
		if slices.Contains(of(b), o) {
			f.out("%s joins them already", o.Name)
		}
	}
	for _, x := range []side{a, b} {
		if most, have := a.profile.Limits.Peerings, len(of(x)); most > 0 && have >= int(most) {
			f.out("%s has %d peerings, which is the most that %s allows", x.party.Name, have, x.cloud)
		}
	}
}

// peering drafts it with what must be entered, and says what it is worth.
func (f *drafter) peering(a, b side, automatic bool) {
	o := f.put(
		design.KindPeering, "", a.party.Name+" with "+b.party.Name,
		&design.Peering{Halves: []design.Half{{Network: a.party.ID, Made: true}, {Network: b.party.ID, Made: true}}},
	)
	f.builds("A peering with two halves", o, false)
	for _, x := range [2][2]side{{a, b}, {b, a}} {
		f.step(x[0].party.Name, "Make its half toward %s", x[1].party.Name)
		f.enter(x[0], x[1].exports, o, "peering")
	}
	f.shape.Survives = "any single failure of yours: there is no box in between"
	f.shape.Next = f.nextPeering(a, b, automatic)
	f.shape.NextWhy = "peering is not transitive: the next network needs two halves with each of the two, and entries " +
		"for each in every table"
	if automatic {
		f.shape.NextWhy = "peering is not transitive: the next network needs two halves with each of the two"
	}
	f.suggest(
		"Options",
		"none",
		"only the two networks' own ranges pass; lend a gateway, or take what is passed on, only if a third party must "+
			"get through",
	)
	f.done(o, a, b)
}

func (f *drafter) nextPeering(a, b side, automatic bool) uint32 {
	steps := 4
	if !automatic {
		steps += 2*max(len(a.tables), len(b.tables)) + len(a.tables) + len(b.tables)
	}
	return uint32(steps)
}

func peeringFacts(f *Facts, d *design.Design, o *design.Object) {
	b := o.Body.(*design.Peering)
	f.between(d, b.Halves[0].Network, b.Halves[1].Network)
	f.Shape, f.Tunnels, f.Survives = "peering", 1, "any single failure of yours"
	if d.StateOf(o.ID) == design.Waiting {
		f.Tunnels, f.Survives = 0, "nothing yet: one half is missing"
	}
}
