package design

import (
	"net/netip"
	"slices"

	"dravin/core/prefix"
)

// Exports are the ranges that a party would let others know of: a site's LANs
// and inner routes, a network's blocks, what is attached to a hub, what an edge
// router's circuits lead to.
func (d *Design) Exports(party ID) []netip.Prefix {
	var out []netip.Prefix
	switch o := d.Get(party); o.Kind {
	case KindHub:
		for _, a := range d.Inside(party, KindAttachment) {
			out = append(out, d.AttachmentExports(a)...)
		}
	case KindEdgeRouter:
		for _, c := range d.Referring(party, KindCircuit) {
			for _, e := range c.Body.(*Circuit).Ends {
				if e.At == party {
					out = append(out, e.Routes...)
				}
			}
		}
	case KindNetwork:
		out = slices.Clone(o.Body.(*Network).Blocks)
	default:
		return d.ExportsIn(party, "")
	}
	return prefix.Minimal(out)
}

// ExportsIn are the ranges of a site's LANs and inner routes that are in a
// segment or in none; in all, for the empty segment.
func (d *Design) ExportsIn(site, segment ID) []netip.Prefix {
	var out []netip.Prefix
	for _, place := range d.Inside(site, KindLAN, KindInnerRoute) {
		if Meets(d.SegmentOf(place.ID), segment) {
			out = append(out, d.Ranges(place.ID)...)
		}
	}
	return prefix.Minimal(out)
}

// Meets reports whether what is in one segment may meet what is in another: in
// the same, or either in none.
func Meets(a, b ID) bool { return a == "" || b == "" || a == b }

// Published are the ranges of entries that a network has published to its hubs.
func (d *Design) Published(network ID) []netip.Prefix {
	var out []netip.Prefix
	for _, t := range d.Inside(network, KindTable) {
		for _, e := range t.Body.(*Table).Routes {
			if e.Publish == Published {
				out = append(out, e.Prefix)
			}
		}
	}
	return out
}

// AttachmentExports are the ranges that an attachment offers its hub, less what
// it keeps out. What lies beyond another hub is offered only where the profile
// joins hubs by BGP; elsewhere it must be entered by hand.
func (d *Design) AttachmentExports(attachment *Object) []netip.Prefix {
	a := attachment.Body.(*Attachment)
	var out []netip.Prefix
	switch b := d.Get(a.What).Body.(type) {
	case *Network:
		out = slices.Concat(b.Blocks, d.Published(a.What))
	case *Link:
		for _, e := range b.Ends {
			if p := d.Party(e.Gateway); p != nil && p.ID == attachment.Parent {
				out = slices.Concat(e.Routes, e.Remote)
			}
		}
	case *Circuit:
		for _, e := range b.Ends {
			if p := d.Party(e.At); p != nil && p.ID == attachment.Parent {
				out = e.Routes
			}
		}
	case *Hub:
		if p := d.ProfileOf(attachment.Parent); p != nil && p.Hub != nil && p.Hub.ToHub == RoutingStatic {
			return nil
		}
		for _, far := range d.Inside(a.What, KindAttachment) {
			if w := far.Body.(*Attachment).What; w != attachment.Parent && d.Get(w).Kind != KindHub {
				out = append(out, d.AttachmentExports(far)...)
			}
		}
	}
	if len(a.KeepOut) == 0 {
		return prefix.Minimal(out)
	}
	return prefix.Minimal(prefix.Free(out, a.KeepOut))
}
