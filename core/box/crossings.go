package box

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/route"
)

// Crossing is a way from one of a box's routing instances into another.
type Crossing struct {
	ID       design.ID
	Name     string
	From, To int  // the instances, by their place in the box's list
	Hides    bool // sources are hidden behind the box's own address
	// Ranges are those of the segment into which it leads: nothing else is shared.
	Ranges  []netip.Prefix
	Filters []Filter
}

func crossings(t *route.Tables, b *Box) []Crossing {
	at := func(segment design.ID) int {
		return slices.IndexFunc(b.Instances, func(i Instance) bool { return i.Segment == segment })
	}
	var out []Crossing
	for n, i := range b.Instances {
		if i.Segment == "" {
			continue
		}
		for _, c := range t.Design.CrossingsFrom(i.Segment, b.ID) {
			if to := at(c.To); to > 0 {
				out = append(out, Crossing{
					ID: c.Crossing.ID, Name: c.Crossing.Name, From: n, To: to, Hides: c.Hides,
					Ranges: t.Design.SegmentRanges(c.To), Filters: filtersAt(t, c.Crossing.ID),
				})
			}
		}
	}
	return out
}
