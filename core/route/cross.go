package route

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
)

// CrossedAt are the boxes at which a crossing is: those that it names, or that carry both of its segments, and
// the hubs that have tables of both. None for anything else.
func CrossedAt(d *design.Design, crossing design.ID) []design.ID {
	o := d.Get(crossing)
	if o == nil || o.Kind != design.KindCrossing {
		return nil
	}
	c := o.Body.(*design.Crossing)
	if len(c.At) > 0 {
		return c.At
	}
	var out []design.ID
	for _, k := range []design.Kind{design.KindGateway, design.KindEdgeRouter} {
		for _, x := range d.Of(k) {
			if in := Instances(d, x); slices.Contains(in, c.From) && slices.Contains(in, c.To) {
				out = append(out, x.ID)
			}
		}
	}
	for _, h := range d.Of(design.KindHub) {
		has := func(segment design.ID) bool {
			return slices.ContainsFunc(
				d.Inside(h.ID, design.KindHubTable),
				func(t *design.Object) bool { return d.SegmentOf(t.ID) == segment },
			)
		}
		if has(c.From) && has(c.To) {
			out = append(out, h.ID)
		}
	}
	return out
}

// crossed gives a box's table of a segment what crossings share with it: the routes of the other segment's table
// to ranges of that segment, and nothing that came into that table by a crossing itself, so that crossings do not
// chain. What the table has itself goes before.
func (s *solver) crossed(p *Point, o *design.Object) {
	if p.Segment == "" {
		return // everything meets there
	}
	in := Instances(s.design, o)
	for _, c := range s.design.CrossingsFrom(p.Segment, o.ID) {
		if !slices.Contains(in, c.To) {
			continue
		}
		ranges := s.design.SegmentRanges(c.To)
		within := func(r Route) bool {
			return slices.ContainsFunc(ranges, func(x netip.Prefix) bool { return prefix.Contains(x, r.Prefix) })
		}
		own := slices.Clone(p.Routes)
		for _, r := range s.uncrossed(o, c.To).Routes {
			has := slices.ContainsFunc(own, func(x Route) bool { return x.Prefix == r.Prefix && x.Unusable == "" })
			if r.Source != Implied && r.Expected == "" && !has && within(r) {
				r.Crossing, r.Hides = c.Crossing.ID, c.Hides
				p.add(r)
			}
		}
	}
}

// feeds tells whether an attachment of a hub brings its ranges into a table: since it says so, or by an open
// crossing between the table's segment and that of one that it feeds.
func (s *solver) feeds(a *design.Object, body *design.Attachment, table *design.Object) (crossing design.ID, ok bool) {
	own := s.design.SegmentOf(table.ID)
	if slices.Contains(body.Feeds, table.ID) {
		return "", s.meetsTable(own, a)
	}
	for _, c := range s.design.CrossingsFrom(own, table.Parent) {
		if c.Hides {
			continue // a hub translates nothing
		}
		for _, t := range body.Feeds {
			if s.design.SegmentOf(t) == c.To && s.meetsTable(c.To, a) {
				return c.Crossing.ID, true
			}
		}
	}
	return "", false
}

func (s *solver) meetsTable(segment design.ID, a *design.Object) bool {
	return design.Meets(segment, s.design.SegmentOf(a.ID)) && design.Meets(segment, s.attachedSegment(a))
}

// sharedOwn are the ranges of a site that crossings let a box tell in another of its segments.
func sharedOwn(d *design.Design, k Key, o *design.Object) (out []netip.Prefix) {
	if k.Segment == "" {
		return nil
	}
	for _, c := range d.CrossingsFrom(k.Segment, o.ID) {
		if slices.Contains(Instances(d, o), c.To) {
			for _, r := range d.ExportsAt(o, c.To) {
				if !slices.Contains(out, r) {
					out = append(out, r)
				}
			}
		}
	}
	return out
}
