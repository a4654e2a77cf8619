package topology

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/status"
)

// An attachment joins a network, a link, a circuit or another hub to a hub. What comes in by it
// is routed by the hub table that it is bound to.
var attachment = Kind{
	Kind: design.KindAttachment, Judge: judgeAttachment,
	Edge: func(d *design.Design, o *design.Object, end int) Edge {
		b := o.Body.(*design.Attachment)
		if end == 1 { // from what is attached into the hub
			return Edge{Enters: BoundTable(d, o)}
		}
		if far := d.Get(b.What); far.Kind == design.KindHub {
			if back := d.AttachmentOf(far.ID, o.Parent); back != nil {
				return Edge{Enters: BoundTable(d, back)}
			}
			return Edge{}
		}
		return Edge{Enters: b.Enters}
	},
	Admits: func(s *status.Status, e Edge, p Packet) ([]*design.Object, *Denial) {
		d := s.Design()
		a := d.Get(e.Joint)
		if !slices.ContainsFunc(
			d.Inside(e.From, design.KindSubnet), func(x *design.Object) bool { return !ServesZone(d, a, x) },
		) {
			return nil, nil // it serves every zone that there is
		}
		for _, subnet := range d.Inside(e.From, design.KindSubnet) {
			if prefix.Has(d.Ranges(subnet.ID), p.from()) {
				if !ServesZone(d, a, subnet) {
					return nil, CutOff(d, a, subnet)
				}
				break
			}
		}
		return nil, nil
	},
}

// ServesZone reports whether an attachment has a subnet in the zone of another. One that names
// no subnets serves every zone.
func ServesZone(d *design.Design, attachment, subnet *design.Object) bool {
	list := attachment.Body.(*design.Attachment).Subnets
	zone := subnet.Body.(*design.Subnet).Zone
	return len(list) == 0 || slices.ContainsFunc(list, func(id design.ID) bool {
		return d.Get(id).Body.(*design.Subnet).Zone == zone
	})
}

// CutOff is why an attachment does not serve a subnet.
func CutOff(d *design.Design, attachment, subnet *design.Object) *Denial {
	zone, hub := subnet.Body.(*design.Subnet).Zone, d.Title(attachment.Parent)
	return &Denial{
		ZoneCutOff,
		fmt.Sprintf("the attachment to %s has no subnet in %s, so %s is cut off", hub, zone, subnet.Name),
		"add a subnet of " + zone + " to the attachment",
	}
}

// judgeAttachment is up if its hub is there and takes it, and what is attached is up.
func judgeAttachment(s *status.Status, o *design.Object) status.Held {
	return status.Held{Verdict: attachmentVerdict(s, o, o.Body.(*design.Attachment))}
}

func attachmentVerdict(s *status.Status, o *design.Object, a *design.Attachment) status.Verdict {
	if v := s.Of(o.Parent); !v.Up {
		return v
	}
	if v := s.Made(o); !v.Up {
		return v
	}
	what := s.Design().Get(a.What)
	stands := s.Party(what.ID)
	if KindOf(what) != nil || what.Kind == design.KindHub {
		stands = s.Of(what.ID)
	}
	if !stands.Up {
		return stands
	}
	if what.Kind == design.KindHub {
		if v := otherHub(s, o, what); !v.Up {
			return v
		}
	}
	return Refusal(s, o)
}

// otherHub wants the far hub to be attached to this one, too.
func otherHub(s *status.Status, o, far *design.Object) status.Verdict {
	for back, body := range design.Each[design.Attachment](s.Design().Inside(far.ID, design.KindAttachment)) {
		if body.What == o.Parent {
			if v := s.Taken(back); !v.Up {
				return v
			}
			return s.Made(back)
		}
	}
	return status.Down(
		status.HalfMade, o.ID, "", "%s is attached to %s and not the other way round", far.Name,
		s.Design().Title(o.Parent),
	)
}

// Refusal tells whether the hub refuses an attachment for what it overlaps: what
// was there first stands. It is told of what is not made yet, too.
func Refusal(s *status.Status, o *design.Object) status.Verdict {
	p := s.Design().ProfileOf(o.Parent)
	if p == nil || p.Hub == nil || !p.Hub.RefusesOverlaps {
		return status.Up
	}
	own := s.Design().AttachmentExports(o)
	for _, other := range s.Design().Inside(o.Parent, design.KindAttachment) {
		if other.ID == o.ID || !before(s, other, o) || !s.Made(other).Up ||
			s.Of(other.ID).Cause == status.RefusedForOverlap {
			continue
		}
		if a, b, clash := Clash(own, s.Design().AttachmentExports(other)); clash {
			return status.Down(
				status.RefusedForOverlap, o.ID, "keep-out", "%s refuses %s: %s overlaps %s of %s",
				s.Design().Title(o.Parent), o.Name, a, b, other.Name,
			)
		}
	}
	return status.Up
}

// before tells whether one attachment was there before another: what is ready
// came before what is not; else the order of the design decides.
func before(s *status.Status, a, b *design.Object) bool {
	x, y := s.Design().StateOf(a.ID) == design.Ready, s.Design().StateOf(b.ID) == design.Ready
	if x != y {
		return x
	}
	for _, o := range s.Design().Inside(a.Parent, design.KindAttachment) {
		if o.ID == a.ID || o.ID == b.ID {
			return o.ID == a.ID
		}
	}
	return false
}

// Clash is the first pair of overlapping ranges of two lists.
func Clash(a, b []netip.Prefix) (x, y netip.Prefix, found bool) {
	for _, p := range a {
		for _, q := range b {
			if p.Overlaps(q) {
				return p, q, true
			}
		}
	}
	return x, y, false
}
