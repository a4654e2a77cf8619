package translate

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/status"
)

// between publishes services over a network of its own between two that a peering
// would be refused: two boxes in a row, one toward either, each the other's only
// neighbour. Each hides who calls behind its own address, so that every answer comes
// back by the box that it went through.
func (pl *planner) between(give func(*Option) bool) bool {
	var fit []offer
	for _, s := range pl.offers() {
		for _, n := range s.needs {
			if why := pl.noneBetween(n); why == "" {
				fit = append(fit, offer{s.target, s.service, []need{n}})
			} else if why != other {
				pl.exclude("Two boxes in a network between: " + why)
			}
		}
	}
	if len(fit) == 0 {
		return true
	}
	return give(
		pl.try(
			TwoStages,
			"Publish "+pl.serviceWords(fit)+" over two boxes in a network between",
			func(e *editor, o *Option) error {
				for _, s := range fit {
					if err := pl.publishBetween(e, s, s.needs[0]); err != nil {
						return err
					}
				}
				o.Start, o.PerServe = "Only callers can start.", 2
				o.Next = "One more network with the same range is peered with the network between, and has a box of its own there."
				o.WhyMore = append(
					o.WhyMore,
					"A peering is refused while the blocks overlap, and carries nothing but the two networks' own ranges: what "+
						"is dialled, and who is seen calling, must both be addresses of a third network.",
				)
				return nil
			},
		),
	)
}

// other is why a need is no matter for a network between.
const other = "other"

// noneBetween says why a network between two is no answer to a need; empty if it is.
func (pl *planner) noneBetween(n need) string {
	a, ok := pl.design.Get(n.fromParty).Body.(*design.Network)
	b, also := pl.design.Get(n.toParty).Body.(*design.Network)
	switch {
	case !ok || !also || a.Cloud != b.Cloud ||
		!pl.scope.meets[[2]design.ID{pl.scope.holder(n.from), pl.scope.holder(n.to)}]:
		return other
	}
	profile := pl.design.ProfileOf(n.fromParty)
	switch {
	case pl.noBox(pl.design.Get(n.fromParty)) != "":
		return pl.noBox(pl.design.Get(n.fromParty))
	case profile.Peering == nil:
		return "the cloud has no peerings"
	case profile.Peering.AutomaticRoutes:
		return "peerings bring the far blocks into every table there, so that no table could tell the two apart"
	case a.Region != b.Region && !profile.Peering.BetweenRegions:
		return "the two are in different regions, between which the cloud has no peerings"
	}
	return ""
}

func (pl *planner) publishBetween(e *editor, s offer, n need) error {
	middle, err := pl.middleNetwork(e, n.fromParty, n.toParty)
	if err != nil {
		return err
	}
	callers := ipv4(pl.design.Ranges(n.from))
	near, err := pl.leg(e, middle, n.fromParty, callers)
	if err != nil {
		return err
	}
	far, err := pl.leg(e, middle, n.toParty, ipv4(pl.design.Ranges(n.to)))
	if err != nil {
		return err
	}
	second, err := pl.listenAt(e, far, s.target, s.service, s.target, nil)
	if err != nil {
		return err
	}
	_, err = pl.listenAt(e, near, s.target, s.service, second.ID, callers)
	return err
}

// listenAt publishes a service at a box, which rewrites what comes and hides who
// calls.
func (pl *planner) listenAt(
	e *editor,
	box *design.Object,
	host design.ID,
	s design.Service,
	target design.ID,
	callers []netip.Prefix,
) (*design.Object, error) {
	for _, o := range e.fresh("", design.KindListener) { // one stage serves whoever comes by the same box
		if l := o.Body.(*design.Listener); l.At == box.ID && l.Target == target && l.Service == s {
			c := *l
			c.Callers = prefix.Minimal(slices.Concat(l.Callers, callers))
			if next := o.With(&c); !design.Same(o, next) {
				e.put(next, Opened, box.Parent, box.ID, "at %s let %s call %s, too", box.Name, list(callers), o.Name)
			}
			return o, nil
		}
	}
	a, err := pl.freeHost(e, pl.subnetOfBox(e, box))
	if err != nil {
		return nil, err
	}
	l := &design.Listener{
		At: box.ID, Address: a, Service: s, Target: target, Does: design.Rewriting, Hides: true, Callers: callers,
	}
	return e.add(
		design.KindListener, "", pl.design.Get(host).Name+" at "+box.Name, l, Opened, box.Parent,
		"at %s publish %s: %s leads to %s, and callers are hidden", box.Name, s, a, e.get(target).Name,
	), nil
}

// middleNetwork is a network peered with two, which holds nothing that either does:
// one that is there, or a new one.
func (pl *planner) middleNetwork(e *editor, a, b design.ID) (*design.Object, error) {
	for _, o := range append(pl.design.Of(design.KindNetwork), e.fresh("", design.KindNetwork)...) {
		if o.ID != a && o.ID != b && pl.peeringOf(e, o.ID, a) != nil && pl.peeringOf(e, o.ID, b) != nil {
			return o, nil
		}
	}
	r, err := e.pool.take(prefix.IPv4, 26)
	if err != nil {
		return nil, err
	}
	e.spent = append(e.spent, r)
	like := pl.design.Get(a).Body.(*design.Network)
	o := e.add(
		design.KindNetwork,
		"",
		"between "+pl.design.Get(a).Name+" and "+pl.design.Get(b).Name,
		&design.Network{Cloud: like.Cloud, Region: like.Region, Owner: like.Owner, Blocks: []netip.Prefix{r}},
		Places,
		a,
		"make a network %s for the boxes between",
		r,
	)
	for _, side := range []design.ID{a, b} {
		p := &design.Peering{Halves: []design.Half{{Network: side, Made: true}, {Network: o.ID, Made: true}}}
		e.add(
			design.KindPeering, "", pl.design.Get(side).Name+" with the boxes between", p, Places, side,
			"peer %s with that network, both halves", pl.design.Get(side).Name,
		)
	}
	return o, nil
}

// peeringOf is the peering of two networks, there or new, or nil.
func (pl *planner) peeringOf(e *editor, a, b design.ID) *design.Object {
	for _, o := range append(pl.design.Of(design.KindPeering), e.fresh("", design.KindPeering)...) {
		h := o.Body.(*design.Peering).Halves
		if status.Exists(o) && (h[0].Network == a && h[1].Network == b || h[0].Network == b && h[1].Network == a) {
			return o
		}
	}
	return nil
}

// leg is the box in a network between that stands toward one side, in a subnet of
// its own whose table leads to that side alone.
func (pl *planner) leg(
	e *editor,
	middle *design.Object,
	side design.ID,
	ranges []netip.Prefix,
) (*design.Object, error) {
	name := pl.design.Get(side).Name
	peering := pl.peeringOf(e, middle.ID, side)
	var box *design.Object
	var used []netip.Prefix
	for _, s := range append(pl.design.Inside(middle.ID, design.KindSubnet), e.fresh(middle.ID, design.KindSubnet)...) {
		used = append(used, design.RangesOf(s)...)
		table := e.get(s.Body.(*design.Subnet).Table)
		if !e.leads(table, peering.ID) {
			continue
		}
		for _, b := range append(pl.design.Inside(middle.ID, design.KindBox), e.fresh(middle.ID, design.KindBox)...) {
			if prefix.Has(design.RangesOf(s), b.Body.(*design.Box).Addresses[0]) {
				box = b
			}
		}
	}
	if box == nil {
		r, ok := prefix.Carve(ipv4(e.get(middle.ID).Body.(*design.Network).Blocks), used, 28)
		if !ok {
			return nil, fmt.Errorf("no /28 is free in the blocks of %s for a box", middle.Name)
		}
		table := e.add(
			design.KindTable, middle.ID, "table toward "+name, &design.Table{}, Places, middle.ID,
			"make the table toward %s", name,
		)
		e.add(
			design.KindSubnet, middle.ID, "toward "+name,
			&design.Subnet{Zone: pl.zoneOf(e.get(middle.ID), side), Prefixes: []netip.Prefix{r}, Table: table.ID},
			Places, middle.ID, "make the subnet toward %s %s with that table", name, r,
		)
		box = e.add(
			design.KindBox, middle.ID, "box toward "+name,
			&design.Box{Addresses: []netip.Addr{prefix.FirstHost(r).Next()}}, Places, middle.ID, "put a box at %s",
			prefix.FirstHost(r).Next(),
		)
	}
	at := pl.subnetOfBox(e, box)
	for _, p := range ranges {
		e.wish(e.get(at.Body.(*design.Subnet).Table), p, peering.ID)
	}
	e.enter(side, peering.ID, design.RangesOf(at))
	return box, nil
}

// zoneOf is the zone of a side's first subnet, for one in a network between; none if
// the two are in different regions, which have no zone in common.
func (pl *planner) zoneOf(middle *design.Object, side design.ID) string {
	if middle.Body.(*design.Network).Region != pl.design.Get(side).Body.(*design.Network).Region {
		return ""
	}
	for _, body := range design.Each[design.Subnet](pl.design.Inside(side, design.KindSubnet)) {
		return body.Zone
	}
	return ""
}
