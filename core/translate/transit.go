package translate

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/topology"
)

// transit lets a cloud's network pass on what comes in by one joint and is for ranges
// behind another: a table for what enters leads there, and what is told of its own
// ranges is told of these, too.
func (e *editor) transit(from, to hop, theirs []netip.Prefix) {
	network := e.get(from.To)
	profile := e.design.ProfileOf(network.ID)
	if len(theirs) == 0 || profile == nil || !profile.Networks.EnteringTables {
		return
	}
	via := to.By
	if gateway, ok := e.gatewayAt(to.By, network.ID); ok {
		via = gateway
	}
	switch b := e.get(from.By).Body.(type) {
	case *design.Attachment:
		if b.Enters != "" {
			e.lead(b.Enters, theirs, via, "")
			return
		}
		if tables := e.design.Inside(network.ID, design.KindTable); len(tables) > 0 {
			e.lead(tables[0].ID, theirs, via, design.Published)
		}
	case *design.Peering:
		e.enterByPeering(network, from.By, theirs, via)
	default:
		gateway, ok := e.gatewayAt(from.By, network.ID)
		if !ok {
			return
		}
		e.lead(e.entersBy(network, gateway, e.get(from.By).Name), theirs, via, "")
		if e.get(to.By).Kind == design.KindAttachment {
			e.tellHubRoutes(network, gateway, from, theirs)
		}
	}
	if p, ok := e.get(to.By).Body.(*design.Peering); ok && profile.Peering != nil && profile.Peering.AcceptForwarded {
		e.halfOf(
			e.get(to.By), p, to.To, func(h *design.Half) { h.AcceptForwarded = true }, "let %s take what %s passes on",
		)
	}
}

// gatewayAt is the gateway of a network at which a link or circuit ends.
func (e *editor) gatewayAt(joint, network design.ID) (design.ID, bool) {
	j, ok := design.JointOf(e.get(joint))
	if !ok || !topology.BetweenBoxes(j.Kind) {
		return "", false
	}
	return j.Ends[e.endAt(joint, network)], true
}

// entersBy is the table that routes what enters by a gateway: the one that it has, or a
// new one.
func (e *editor) entersBy(network *design.Object, gateway design.ID, joint string) design.ID {
	o := e.get(gateway)
	g := *o.Body.(*design.Gateway)
	if g.Enters == "" {
		t := e.add(
			design.KindTable, network.ID, "from "+joint, &design.Table{}, Places, network.ID,
			"make a table for what enters from %s", joint,
		)
		g.Enters = t.ID
		e.put(o.With(&g), Routes, network.ID, gateway, "route what enters by %s in that table", o.Name)
	}
	return g.Enters
}

// lead adds entries to a table for what enters, published or not.
func (e *editor) lead(table design.ID, ranges []netip.Prefix, via design.ID, publish string) {
	o := e.get(table)
	body := *o.Body.(*design.Table)
	body.Routes = slices.Clone(body.Routes)
	for _, p := range ranges {
		k := slices.IndexFunc(body.Routes, func(r design.Entry) bool { return r.Prefix == p && r.Via == via })
		if k < 0 {
			k = len(body.Routes)
			body.Routes = append(body.Routes, design.Entry{Prefix: p, Via: via})
		}
		if body.Routes[k].Publish == "" {
			body.Routes[k].Publish = publish
		}
	}
	next := o.With(&body)
	if design.Same(o, next) {
		return
	}
	what := ""
	if publish != "" {
		what = ", and publish it"
	}
	e.put(
		next, Routes, o.Parent, o.ID, "in %s lead %s to %s%s", o.Name, list(ranges), design.WayWords(e.get, via), what,
	)
}

// enterByPeering routes what comes in over a peering in a table of the network.
func (e *editor) enterByPeering(network *design.Object, peering design.ID, theirs []netip.Prefix, via design.ID) {
	o := e.get(peering)
	b := o.Body.(*design.Peering)
	for _, h := range b.Halves {
		if h.Network != network.ID {
			continue
		}
		table := h.Enters
		if table == "" {
			table = e.add(
				design.KindTable, network.ID, "from "+o.Name, &design.Table{}, Places, network.ID,
				"make a table for what enters by the peering %s", o.Name,
			).ID
			e.halfOf(
				o, b, network.ID, func(h *design.Half) { h.Enters = table },
				"route what %s lets in by %s in that table",
			)
		}
		e.lead(table, theirs, via, "")
	}
}

// halfOf changes one network's half of a peering.
func (e *editor) halfOf(o *design.Object, b *design.Peering, network design.ID, do func(*design.Half), text string) {
	c := *b
	c.Halves = slices.Clone(b.Halves)
	other := ""
	for n := range c.Halves {
		if c.Halves[n].Network == network {
			do(&c.Halves[n])
			other = e.title(c.Halves[1-n].Network)
		}
	}
	if next := o.With(&c); !design.Same(o, next) {
		e.put(next, Routes, network, o.ID, text, e.title(network), other)
	}
}

// tellHubRoutes lets a gateway know what the network's hubs know, and tell of it.
func (e *editor) tellHubRoutes(network *design.Object, gateway design.ID, from hop, theirs []netip.Prefix) {
	n := e.endAt(from.By, network.ID)
	var sessions []*design.Object
	for _, c := range append([]*design.Object{e.get(from.By)}, e.design.Inside(from.By, design.KindTunnel)...) {
		sessions = append(sessions, e.design.Inside(c.ID, design.KindSession)...)
	}
	if len(sessions) == 0 {
		return
	}
	o := e.get(gateway)
	g := *o.Body.(*design.Gateway)
	if !g.HubRoutes {
		g.HubRoutes = true
		e.put(o.With(&g), Routes, network.ID, gateway, "let %s know what the hubs know", o.Name)
	}
	for _, s := range sessions {
		e.announceAlso(s.ID, n, from, theirs)
	}
}
