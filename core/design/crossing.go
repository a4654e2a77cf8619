package design

import (
	"net/netip"
	"slices"
)

// Crossing is what may pass between two segments. Without one nothing does.
type Crossing struct {
	// The segment from which it may be started.
	From Ref `yaml:"from" json:"from" ref:"segment"`
	// The segment to which.
	To Ref `yaml:"to" json:"to" ref:"segment"`
	// open: both know the other's ranges, which must be unique; one-way: from knows those of to, and its sources are
	// hidden, so that to can start nothing; services: no ranges, only what is published to the other.
	Does string `yaml:"does" json:"does" enum:"open,one-way,services"`
	// The gateways of one's own, edge routers and hubs at which it is; left out: wherever one carries both.
	At []Ref `yaml:"at,omitempty" json:"at,omitempty" ref:"gateway,edge-router,hub"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// What a crossing lets pass.
const (
	CrossingOpen     = "open"
	CrossingOneWay   = "one-way"
	CrossingServices = "services"
)

func (*Crossing) kind() Kind { return KindCrossing }

// CrossingsFrom are the crossings by which what is in a segment may start something in another, at a box: those
// that say so, and open ones that name it as their target. to is the other segment.
func (d *Design) CrossingsFrom(segment, box ID) []Crossed {
	if segment == "" {
		return nil
	}
	var out []Crossed
	for o, c := range Each[Crossing](InOrder(d.Referring(segment, KindCrossing))) {
		if len(c.At) > 0 && !slices.Contains(c.At, box) {
			continue
		}
		switch {
		case c.Does == CrossingServices:
		case c.From == segment:
			out = append(out, Crossed{o, c.To, c.Does == CrossingOneWay})
		case c.Does == CrossingOpen:
			out = append(out, Crossed{o, c.From, false})
		}
	}
	return out
}

// Crossed is a way from one segment into another.
type Crossed struct {
	Crossing *Object
	To       ID   // the segment into which it leads
	Hides    bool // sources are hidden behind the box's own address
}

// Crosses is the crossing between two segments, in either order; nil if there is none.
func (d *Design) Crosses(a, b ID) *Object {
	for o, c := range Each[Crossing](InOrder(d.Referring(a, KindCrossing))) {
		if c.From == a && c.To == b || c.From == b && c.To == a {
			return o
		}
	}
	return nil
}

// MayMeet reports whether what is in one segment may start anything in another: they meet, or a crossing says so.
func (d *Design) MayMeet(from, to ID) bool {
	if Meets(from, to) {
		return true
	}
	o := d.Crosses(from, to)
	if o == nil {
		return false
	}
	c := o.Body.(*Crossing)
	return c.Does == CrossingOpen || c.Does == CrossingOneWay && c.From == from
}

// SegmentRanges are the ranges of the LANs, inner routes, networks and outside parties of a segment.
func (d *Design) SegmentRanges(segment ID) []netip.Prefix {
	var out []netip.Prefix
	for _, k := range []Kind{KindLAN, KindInnerRoute, KindNetwork, KindOutside} {
		for _, o := range d.Referring(segment, k) {
			out = append(out, RangesOf(o)...)
		}
	}
	return out
}

// SegmentsOf are the segments that anything of a party is in.
func (d *Design) SegmentsOf(party ID) (out []ID) {
	for _, o := range append(d.Inside(party, HostPlaces...), d.Get(party)) {
		if s := d.SegmentOf(o.ID); s != "" && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// Outsiders are the parties that are not one of ours: outside parties, and those whose owner is outside.
func (d *Design) Outsiders() (out []*Object) {
	for _, o := range d.Inside("", Parties...) {
		owner, _ := d.Get(OwnerOf(o)).body().(*Owner)
		if o.Kind == KindOutside || owner != nil && owner.Outside {
			out = append(out, o)
		}
	}
	return out
}

func (o *Object) body() Body {
	if o == nil {
		return nil
	}
	return o.Body
}

func (v *validator) crossing(o *Object, c *Crossing) {
	if c.From == c.To {
		v.add(o, "to", "is the same segment", "name two segments; within one everything routes")
	}
	for _, other := range v.design.Referring(c.From, KindCrossing) {
		b := other.Body.(*Crossing)
		if other.ID != o.ID && (b.From == c.From && b.To == c.To || b.From == c.To && b.To == c.From) {
			v.add(o, "from", "the crossing "+other.Name+" is between these two already", "change that one")
		}
	}
}
