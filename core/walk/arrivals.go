package walk

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/topology"
)

// Where an address leads from somewhere is asked of a packet to it, which passes the very steps
// that every packet passes, in the routing domain of who looks. Asking differs from walking in
// what a walker with asks set does otherwise: the packet may come from any address of those who
// look, and is of any service; what is down and meant all the same counts as up, and selectors
// that are wrong at the far end let it pass, because neither changes anybody's name; and the
// question is answered where a box takes the address for another one, or has it itself. Where a
// step took something for more than it is, the packet may go elsewhere in truth, perhaps to the
// same host: then it is asked again, strictly.

// asking is what a walker knows that only asks.
type asking struct {
	views []netip.Prefix // where the packet may come from; nil once its source was translated
	found arrival

	strict bool // what is down is down, and the packet comes from one host
	bent   bool // a step took something for more than it is
}

// arrival is where an address leads: to a LAN or subnet, or to a box that maps it.
type arrival struct {
	place   design.ID
	mapping design.ID
	box     design.ID // it ends at a gateway, box or published service itself
}

// leads tells whether somebody who dials a name comes to what has it.
func (a arrival) leads(d *design.Design, n Name) bool {
	if n.Listener == "" {
		return a.mapping == n.Mapping
	}
	return a.box == n.Listener || a.box != "" && a.box == d.Get(n.Listener).Body.(*design.Listener).At
}

// arrivals are where an address leads from a party, LAN or subnet, by each view that its hosts
// have: the same address may lead elsewhere from another.
func arrivals(t *route.Tables, viewer design.ID, a netip.Addr) []arrival {
	var out []arrival
	add := func(at arrival) {
		if !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	for _, v := range viewsOf(t.Design, viewer, a) {
		asked := arrives(t, v.places, a, false)
		add(asked.found)
		for n := range v.places {
			if asked.bent {
				add(arrives(t, v.places[n:n+1], a, true).found)
			}
		}
	}
	return out
}

// view is where hosts look from that have a router and a segment in common, and either all have
// the address on-link or none.
type view struct {
	router, segment design.ID
	onLink          bool
	places          []design.ID
}

// viewsOf are the views that the hosts of a party, LAN or subnet have of an address.
func viewsOf(d *design.Design, viewer design.ID, a netip.Addr) []view {
	places := []*design.Object{d.Get(viewer)}
	if !slices.Contains(design.HostPlaces, places[0].Kind) {
		places = d.Inside(viewer, design.HostPlaces...)
	}
	var out []view
	for _, o := range places {
		own := view{topology.Router(d, o), d.SegmentOf(o.ID), prefix.Has(d.Ranges(o.ID), a), nil}
		n := slices.IndexFunc(out, func(v view) bool {
			return v.router == own.router && v.segment == own.segment && v.onLink == own.onLink
		})
		if n < 0 {
			n, out = len(out), append(out, own)
		}
		out[n].places = append(out[n].places, o.ID)
	}
	return out
}

// leadTo reports whether somebody who dials a name comes to what has it, from anywhere
// in a party, LAN or subnet.
func leadTo(t *route.Tables, viewer design.ID, n Name) bool {
	return slices.ContainsFunc(arrivals(t, viewer, n.Address), func(a arrival) bool { return a.leads(t.Design, n) })
}

// leadsHome reports whether a place is reached under a real address.
func leadsHome(t *route.Tables, viewer, place design.ID, a netip.Addr) bool {
	return slices.ContainsFunc(arrivals(t, viewer, a), func(at arrival) bool { return at.place == place })
}

// arrives asks where an address leads from places that have a view in common; it finds the zero
// arrival if nowhere.
func arrives(t *route.Tables, places []design.ID, a netip.Addr, strict bool) asking {
	for _, place := range places {
		h, err := HostOf(t.Design, place, prefix.FamilyOf(a))
		if err != nil {
			continue
		}
		asks := &asking{strict: strict}
		for _, p := range places {
			if !strict {
				asks.views = append(asks.views, t.Design.Ranges(p)...)
			}
		}
		w := walker{
			tables: t, design: t.Design, way: "forward", header: Header{Src: h.Address, Dst: a},
			known: connections{}, fabric: map[Header]fabricated{}, turns: &turns{}, asks: asks,
		}
		w.run(w.from(h))
		return *asks
	}
	return asking{}
}

// bends reports whether a step may take something for more than it is, and notes that it does.
func (w *walker) bends() bool {
	if w.asks == nil || w.asks.strict {
		return false
	}
	w.asks.bent = true
	return true
}

// mapped notes that a box takes the address for another one.
func (w *walker) mapped(of design.ID) {
	if w.asks != nil && w.asks.found.mapping == "" {
		w.asks.found.mapping = of
	}
}

// hasIt notes a box that has the address, in a place or by itself.
func (w *walker) hasIt(box, place design.ID) {
	if w.asks != nil && w.asks.found.mapping == "" && w.asks.found.box == "" {
		w.asks.found.box, w.asks.found.place = box, place
	}
}

// holdsIt notes the place in which the address is.
func (w *walker) holdsIt(place design.ID) {
	if w.asks != nil && w.asks.found == (arrival{}) {
		w.asks.found.place = place
	}
}

// answered reports whether it is known where the address leads.
func (w *walker) answered() bool { return w.asks != nil && w.asks.found.mapping != "" }

// comesFrom reports whether the packet comes from one of some ranges, or may.
func (w *walker) comesFrom(ps []netip.Prefix) bool {
	has := prefix.Has(ps, w.header.Src)
	if w.asks == nil || w.asks.views == nil {
		return has
	}
	some, all := has, has
	for _, v := range w.asks.views {
		some = some || slices.ContainsFunc(ps, v.Overlaps)
		all = all && slices.ContainsFunc(ps, func(p netip.Prefix) bool { return prefix.Contains(p, v) })
	}
	if some == all {
		return some
	}
	return w.bends()
}

// statusOf is how something stands for the packet.
func (w *walker) statusOf(id design.ID) status.Verdict { return w.counted(w.tables.Status.Of(id)) }

// counted is a status as it counts for the packet.
func (w *walker) counted(v status.Verdict) status.Verdict {
	if !v.Up && meant(w.design, &v) && w.bends() {
		return status.Up
	}
	return v
}

// chosen is the route that a point takes for the packet; of one that asks the longest that is
// meant.
func (w *walker) chosen(p *route.Point) route.Choice {
	c := p.Lookup(w.header.Dst)
	if w.asks == nil || w.asks.strict {
		return w.pick(c)
	}
	for n := range c.Losers {
		l := &c.Losers[n]
		longer := c.Winner == nil || l.Prefix.Bits() > c.Winner.Prefix.Bits()
		if longer && l.Down != nil && meant(w.design, l.Down) && w.bends() {
			c.Winner = l
		}
	}
	return c
}

// meant reports whether something that is down is part of the plan all the same. What was
// refused or is gone was never meant.
func meant(d *design.Design, v *status.Verdict) bool {
	o := d.Get(v.Subject)
	refused := v.Cause == status.NotAccepted || v.Cause == status.RefusedForOverlap
	return !refused && (o == nil || status.Exists(o))
}
