package finding

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/topology"
	"dravin/core/words"
)

// hostTables finds entries that some of the tables that a network's hosts use have and
// others lack, the one of six that was not edited; and what a gateway of the network
// knows and none of them leads to.
func (c *collector) hostTables(network *design.Object) {
	tables := slices.DeleteFunc(
		c.design.Inside(network.ID, design.KindTable), func(t *design.Object) bool { return !c.hostsUse(t) },
	)
	var all []design.Entry
	for _, t := range tables {
		for _, e := range t.Body.(*design.Table).Routes {
			if e.Publish == "" && !slices.Contains(all, e) { // what is published is for others
				all = append(all, e)
			}
		}
	}
	for _, t := range tables {
		body := *t.Body.(*design.Table)
		var lacking []string
		for _, e := range all {
			if !slices.ContainsFunc(body.Routes, func(have design.Entry) bool { return have.Prefix == e.Prefix }) &&
				!c.fed(t.ID, e.Prefix) {
				lacking = append(lacking, e.Prefix.String())
				body.Routes = append(slices.Clone(body.Routes), e)
			}
		}
		if len(lacking) == 0 {
			continue
		}
		f := c.add(
			"table-lacks-route",
			Risk,
			t.ID,
			[]Fix{
				{
					Title: "Add what is missing to " + c.design.Title(t.ID),
					Edits: []design.Edit{design.PutEdit(t.With(&body))},
				},
			},
			"%s lacks %d of the routes that the network's other tables have",
			c.design.Title(t.ID),
			len(lacking),
		)
		f.Evidence = lacking
	}
	for _, t := range tables {
		c.unfed(t, tables)
	}
	for _, g := range c.design.Inside(network.ID, design.KindGateway) {
		c.unled(network, g, tables)
	}
}

// unfed finds a table that is not fed with what others of its network and segment learn from gateways and hubs.
func (c *collector) unfed(t *design.Object, tables []*design.Object) {
	var lacking []netip.Prefix
	for _, other := range tables {
		if other.ID == t.ID || c.design.SegmentOf(other.ID) != c.design.SegmentOf(t.ID) {
			continue
		}
		for _, r := range c.tables.Point(other.ID).Routes {
			learned := (r.Hop.Kind == route.Gateway || r.Hop.Kind == route.Attached) && r.Source != route.Static &&
				r.Source != route.Inside
			if learned && r.Unusable == "" && r.Prefix.Bits() > 0 && !slices.Contains(lacking, r.Prefix) &&
				!c.fed(t.ID, r.Prefix) {
				lacking = append(lacking, r.Prefix)
			}
		}
	}
	if len(lacking) == 0 {
		return
	}
	severity := Risk
	if t.Body.(*design.Table).Learns == "no" {
		severity = Untidy // somebody has said so
	}
	learning := design.Edited(t, func(b *design.Table) { b.Learns = "yes" })
	f := c.add(
		"table-lacks-route", severity, t.ID,
		[]Fix{{Title: "Let " + c.design.Title(t.ID) + " learn, too", Edits: []design.Edit{design.PutEdit(learning)}}},
		"%s learns nothing of %s, and other tables of its network do",
		c.design.Title(t.ID), words.List(texts(lacking)),
	)
	f.Line, f.Evidence = "learns", texts(lacking)
}

// hostsUse reports whether a table is that of hosts: a subnet has it that is no box's,
// gateway's or pool's alone. What enters a network, and what leaves a box, has a table of
// its own on purpose.
func (c *collector) hostsUse(table *design.Object) bool {
	for s, body := range design.Each[design.Subnet](c.design.Inside(table.Parent, design.KindSubnet)) {
		if body.Table != table.ID {
			continue
		}
		forwards := func(e topology.Edge) bool { return c.design.Get(e.To).Kind != design.KindListener }
		alone := c.design.IsSourcePool(s.ID) || slices.ContainsFunc(topology.Standing(c.design, s), forwards)
		if len(c.design.Inside(s.ID, design.KindEndpoint)) > 0 || !alone {
			return true
		}
	}
	return false
}

// unled finds what a gateway knows over links and circuits and no table of its network's
// hosts leads to: somebody takes the trouble to send it there, and nobody can answer.
func (c *collector) unled(network, g *design.Object, tables []*design.Object) {
	if len(tables) == 0 {
		return
	}
	var missing []netip.Prefix
	for _, r := range c.tables.Point(g.ID).Routes {
		known := r.Unusable == "" && r.Hop.Leaves() && r.Source != route.Inside && r.Prefix.Bits() > 0
		if known && !slices.Contains(missing, r.Prefix) &&
			!slices.ContainsFunc(tables, func(t *design.Object) bool { return c.fed(t.ID, r.Prefix) }) {
			missing = append(missing, r.Prefix)
		}
	}
	if len(missing) == 0 {
		return
	}
	var edits []design.Edit
	for _, t := range tables {
		edited := design.Edited(t, func(body *design.Table) {
			for _, p := range missing {
				body.Routes = append(body.Routes, design.Entry{Prefix: p, Via: g.ID})
			}
		})
		edits = append(edits, design.PutEdit(edited))
	}
	f := c.add(
		"table-lacks-route",
		Untidy,
		network.ID,
		[]Fix{{Title: "Enter it in " + words.Count(len(tables), "table", "tables"), Edits: edits}},
		"%s knows %s, and no table of %s leads there",
		c.design.Title(g.ID),
		words.List(texts(missing)),
		network.Name,
	)
	f.Subjects, f.Evidence = append(f.Subjects, g.ID), texts(missing)
}

// fed reports whether a table has a range without an entry.
func (c *collector) fed(table design.ID, p netip.Prefix) bool {
	choice := c.tables.Point(table).Lookup(prefix.FirstHost(p))
	return choice.Winner != nil && prefix.Contains(choice.Winner.Prefix, p)
}
