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
		for _, body := range Each[Circuit](d.Referring(party, KindCircuit)) {
			for _, e := range body.Ends {
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
	return d.exports(d.Inside(site, KindLAN, KindInnerRoute), segment)
}

// ExportsAt are those of [Design.ExportsIn] that one gateway of the site has: the LANs in
// which it stands, and what lies behind routers in these.
func (d *Design) ExportsAt(gateway *Object, segment ID) []netip.Prefix {
	var has []*Object
	var lans []netip.Prefix
	for _, lan := range d.Inside(gateway.Parent, KindLAN) {
		if d.StandsIn(gateway, lan) {
			has, lans = append(has, lan), append(lans, RangesOf(lan)...)
		}
	}
	for inner, body := range Each[InnerRoute](d.Inside(gateway.Parent, KindInnerRoute)) {
		via := body.Via
		if !via.IsValid() || slices.ContainsFunc(lans, func(p netip.Prefix) bool { return p.Contains(via) }) {
			has = append(has, inner)
		}
	}
	return d.exports(has, segment)
}

// exports are the ranges of places, the smaller ones within the larger left out. A
// default route swallows nothing: it is for what the others do not name.
func (d *Design) exports(places []*Object, segment ID) []netip.Prefix {
	var out, defaults []netip.Prefix
	for _, place := range places {
		if !Meets(d.SegmentOf(place.ID), segment) {
			continue
		}
		for _, r := range d.Ranges(place.ID) {
			if r.Bits() == 0 {
				defaults = append(defaults, r)
			} else {
				out = append(out, r)
			}
		}
	}
	return append(prefix.Minimal(out), prefix.Minimal(defaults)...)
}

// Meets reports whether what is in one segment may meet what is in another: in
// the same, or either in none.
func Meets(a, b ID) bool { return a == "" || b == "" || a == b }

// Published are the ranges of entries that a network has published to its hubs.
func (d *Design) Published(network ID) []netip.Prefix {
	var out []netip.Prefix
	for _, body := range Each[Table](d.Inside(network, KindTable)) {
		for _, e := range body.Routes {
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
		for far, body := range Each[Attachment](d.Inside(a.What, KindAttachment)) {
			if w := body.What; w != attachment.Parent && d.Get(w).Kind != KindHub {
				out = append(out, d.AttachmentExports(far)...)
			}
		}
	}
	if len(a.KeepOut) == 0 {
		return prefix.Minimal(out)
	}
	return prefix.Minimal(prefix.Free(out, a.KeepOut))
}
