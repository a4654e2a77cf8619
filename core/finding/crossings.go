package finding

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/walk"
)

// crossing finds crossings that share what is not unique, and those that are nowhere.
func (c *collector) crossing(o *design.Object) {
	b := o.Body.(*design.Crossing)
	if len(route.CrossedAt(c.design, o.ID)) == 0 && b.Does != design.CrossingServices {
		c.add(
			"crossing-nowhere", Untidy, o.ID, nil,
			"%s has no effect: no gateway of one's own, edge router or hub carries both %s and %s", o.Name,
			c.design.Title(b.From), c.design.Title(b.To),
		)
	}
	if b.Does == design.CrossingServices {
		return
	}
	for _, p := range c.design.SegmentRanges(b.To) {
		for _, q := range c.design.SegmentRanges(b.From) {
			if p.Overlaps(q) {
				f := c.add(
					"crossing-collides", Risk, o.ID, nil, "%s would share %s of %s, and %s holds %s of it "+
						"itself", o.Name, p,
					c.design.Title(b.To), c.design.Title(b.From), q,
				)
				f.Evidence = append(f.Evidence, "who holds a range himself reaches only his own")
				return
			}
		}
	}
}

// crossedService finds published services that lead into another segment than they are dialled in.
func (c *collector) crossedService(o *design.Object) {
	l := o.Body.(*design.Listener)
	from, to := segmentWith(c.design, c.design.Party(l.At), l.Address), design.ID("")
	if c.design.Get(l.Target).Kind == design.KindEndpoint {
		to = c.design.SegmentOf(walk.HomeOf(c.design, l.Target))
	}
	if from == "" || to == "" || from == to || c.design.Crosses(from, to) != nil {
		return
	}
	id := design.IDFor(design.KindCrossing, string(from+to))
	put := design.PutEdit(&design.Object{
		ID: id, Kind: design.KindCrossing, Name: c.design.Title(from) + " to " + c.design.Title(to),
		Body: &design.Crossing{From: from, To: to, Does: design.CrossingServices},
	})
	c.add(
		"service-uncrossed", Risk, o.ID, []Fix{
			{Title: "Say so: a crossing for services only", Edits: []design.Edit{put}},
		},
		"%s leads from %s into %s, and no crossing says that this may be", o.Name, c.design.Title(
			from,
		), c.design.Title(to),
	)
}

// crossedMapping finds ranges that are mapped toward a link of another segment, into which no crossing lets them.
func (c *collector) crossedMapping(o *design.Object) {
	m := o.Body.(*design.Mapping)
	real, link := segmentWith(c.design, c.design.Party(m.Gateway), m.Real.Addr()), c.design.SegmentOf(m.Link)
	if real == "" || link == "" || c.design.MayMeet(real, link) || c.design.MayMeet(link, real) {
		return
	}
	crossing := &design.Object{
		ID: design.IDFor(design.KindCrossing, string(link+real)), Kind: design.KindCrossing,
		Name: c.design.Title(link) + " to " + c.design.Title(real),
		Body: &design.Crossing{From: link, To: real, Does: design.CrossingOneWay, At: []design.Ref{m.Gateway}},
	}
	if have := c.design.Crosses(real, link); have != nil {
		crossing = design.Edited(have, func(b *design.Crossing) {
			b.From, b.To, b.Does = link, real, design.CrossingOneWay
		})
	}
	f := c.add(
		"mapping-uncrossed", Risk, o.ID, []Fix{
			{Title: "Let callers in " + c.design.Title(link) + " start", Edits: []design.Edit{design.PutEdit(crossing)}},
		},
		"%s of %s is known as %s over %s, which is in %s, and no crossing lets anything pass between the two",
		m.Real, c.design.Title(real), m.Mapped, c.design.Title(m.Link), c.design.Title(link),
	)
	f.Subjects = append(f.Subjects, m.Link)
}

// segmentWith is the segment of the LAN or subnet of a party that holds an address.
func segmentWith(d *design.Design, party *design.Object, a netip.Addr) design.ID {
	if party == nil {
		return ""
	}
	places := d.Inside(party.ID, design.KindLAN, design.KindSubnet)
	n := slices.IndexFunc(places, func(o *design.Object) bool { return prefix.Has(design.RangesOf(o), a) })
	if n < 0 {
		return ""
	}
	return d.SegmentOf(places[n].ID)
}
