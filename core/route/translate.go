package route

import (
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/topology"
)

// Translation is a rule of a box with what it comes from.
type Translation struct {
	design.Rule
	Of design.ID `json:"of"` // the mapping, the published service, or the gateway or box that lists it
	// Neutral says that a one-to-one rule of IPv6 is checksum-neutral (RFC 6296).
	Neutral bool `json:"neutral,omitempty"`
	// Dialled is the address that the first packet came to the box for, where only
	// such conversations are meant.
	Dialled netip.Addr `json:"dialled,omitzero"`
	// Near says that it hides toward the box's own ranges, too.
	Near bool `json:"near,omitempty"`
}

// Mapped carries an address over, out of the real range or back into it, as a
// one-to-one rule does.
func (x Translation) Mapped(a netip.Addr, back bool) netip.Addr {
	from, to := x.Real, x.Into
	if back {
		from, to = to, from
	}
	if x.Neutral && a.Is6() {
		return prefix.TranslateNeutral(a, from, to)
	}
	return prefix.Translate(a, from, to)
}

// Translations are the rules of a gateway or box in their order: its mappings, its
// published services that rewrite, then what it lists. A cloud's gateway does what
// its profile offers; nothing else, such as an edge router, translates.
func Translations(d *design.Design, box design.ID) []Translation {
	o := d.Get(box)
	var out []Translation
	if o == nil || o.Kind != design.KindGateway && o.Kind != design.KindBox {
		return out
	}
	for _, m := range design.InOrder(d.Referring(box, design.KindMapping)) {
		out = append(out, mapping(m)...)
	}
	for l, _ := range d.ListenersAt(box) {
		out = append(out, rewriting(d, l)...)
	}
	for _, r := range design.RulesOf(o) {
		out = append(out, Translation{Rule: r, Of: box})
	}
	if d.Get(o.Parent).Kind == design.KindSite || o.Kind == design.KindBox {
		return out
	}
	profile := d.ProfileOf(box)
	out = slices.DeleteFunc(
		out, func(x Translation) bool { return NotOffered(d, box, x.Does) != "" && !x.Dialled.IsValid() },
	)
	for n := range out {
		out[n].Neutral = profile != nil && profile.Translation.Neutral
		if x := out[n]; x.Does == design.ToTarget && profile.Translation.FilterHides {
			out = append(out, hiding(x))
		}
	}
	return out
}

// hiding is what a cloud's filter does beside leading to a target: it hides the
// source.
func hiding(x Translation) Translation {
	services := slices.Clone(x.Services)
	for n := range services {
		if x.Port != 0 && services[n].Port != 0 {
			services[n].Port = x.Port
		}
	}
	return Translation{
		Rule: design.Rule{
			Hook: design.Postrouting, Does: design.OwnAddress, Destination: []netip.Prefix{prefix.Alone(x.Target)},
			Services: services,
		},
		Of: x.Of, Near: true,
	}
}

// NotOffered says why a gateway or box does not do a kind of translation; empty if it
// does.
func NotOffered(d *design.Design, box design.ID, does string) (why string) {
	o := d.Get(box)
	if d.Get(o.Parent).Kind == design.KindSite || o.Kind == design.KindBox {
		return ""
	}
	profile := d.ProfileOf(box)
	switch {
	case profile != nil && does == design.ToTarget && profile.Translation.Filter:
		return ""
	case profile != nil && (does == design.Nothing && len(profile.Translation.Gateway) > 0 ||
		slices.Contains(profile.Translation.Gateway, does)):
		return ""
	case profile != nil && len(profile.Translation.Gateway) > 0:
		return "its cloud's gateways translate otherwise only"
	}
	return "its cloud's gateways translate nothing"
}

// RulesTaken is how many rules and mappings a gateway is told, and how many its cloud
// takes; 0 for any number.
func RulesTaken(d *design.Design, gateway design.ID) (told, takes int) {
	if p := d.ProfileOf(gateway); p != nil && d.Get(gateway).Kind == design.KindGateway {
		takes = int(p.Translation.Rules)
	}
	return len(design.RulesOf(d.Get(gateway))) + len(d.Referring(gateway, design.KindMapping)), takes
}

func mapping(o *design.Object) []Translation {
	m := o.Body.(*design.Mapping)
	one := design.Rule{Does: design.OneToOne, Real: m.Real, Into: m.Mapped}
	arriving, leaving := one, one
	arriving.Hook, arriving.From, arriving.Destination = design.Prerouting, m.Link, []netip.Prefix{m.Mapped}
	leaving.Hook, leaving.Toward, leaving.Source = design.Postrouting, m.Link, []netip.Prefix{m.Real}
	return []Translation{{Rule: arriving, Of: o.ID}, {Rule: leaving, Of: o.ID}}
}

// rewriting are the rules of a published service that rewrites.
func rewriting(d *design.Design, o *design.Object) []Translation {
	l := o.Body.(*design.Listener)
	to, port := d.DialOf(l)
	if l.Proxies() || !to.IsValid() || to.Is4() != l.Address.Is4() {
		return nil
	}
	in := design.Rule{
		Hook: design.Prerouting, Does: design.ToTarget, Source: l.Callers,
		Destination: []netip.Prefix{prefix.Alone(l.Address)}, Services: []design.Service{l.Service}, Target: to,
	}
	if port != l.Service.Port {
		in.Port = port
	}
	out := []Translation{{Rule: in, Of: o.ID}}
	if l.Hides {
		hide := design.Rule{
			Hook: design.Postrouting, Does: design.OwnAddress, Destination: []netip.Prefix{prefix.Alone(to)},
			Services: []design.Service{{Proto: l.Service.Proto, Port: port}},
		}
		out = append(out, Translation{Rule: hide, Of: o.ID, Dialled: l.Address})
	}
	return out
}

// selfOf are the ranges in which packets end at a gateway or box itself: its own
// addresses, those it listens on, and the pools and mapped ranges that it answers
// for beside hosts.
func selfOf(d *design.Design, o *design.Object) []netip.Prefix {
	var out []netip.Prefix
	for _, a := range standsAt(d, o) {
		out = append(out, prefix.Alone(a))
	}
	if g, ok := o.Body.(*design.Gateway); ok {
		for _, a := range g.Addresses {
			if !a.IsUnspecified() {
				out = append(out, prefix.Alone(a))
			}
		}
	}
	for _, body := range d.ListenersAt(o.ID) {
		out = append(out, prefix.Alone(body.Address))
	}
	for _, x := range insides(d, o.ID) {
		out = append(out, prefix.Alone(x.own))
	}
	for _, a := range counterparts(d, o) {
		out = append(out, prefix.Alone(a))
	}
	return append(out, Among(d, o)...)
}

// counterparts are the addresses that one's own box has in its mapped ranges: the files give it there the counterpart
// of its first address in each real range, of IPv4.
func counterparts(d *design.Design, o *design.Object) (out []netip.Addr) {
	if p := d.Get(o.Parent); o.Kind == design.KindGateway && (p == nil || p.Kind != design.KindSite) {
		return nil // a cloud's
	}
	for _, x := range Translations(d, o.ID) {
		if x.Does != design.OneToOne || !x.Into.Addr().Is4() {
			continue
		}
		for _, a := range design.StandsAt(o) {
			if x.Real.Contains(a) {
				out = append(out, x.Mapped(a, false))
				break
			}
		}
	}
	return out
}

// standsAt are the addresses that a gateway or box has beside hosts; a cloud's
// gateway has the first of the subnet of its own.
func standsAt(d *design.Design, o *design.Object) []netip.Addr {
	out := slices.Clone(design.StandsAt(o))
	if g, ok := o.Body.(*design.Gateway); ok && g.Subnet != "" {
		for _, r := range d.Ranges(g.Subnet) {
			out = append(out, prefix.FirstHost(r))
		}
	}
	return out
}

// Among are the pools and mapped ranges of a gateway or box that lie among the
// addresses of a LAN or subnet in which it stands: it answers for them there. Of IPv6
// it does so for single addresses, and no more than 256 of a range.
func Among(d *design.Design, o *design.Object) []netip.Prefix {
	var out []netip.Prefix
	for _, x := range Translations(d, o.ID) {
		if !x.Into.IsValid() || slices.Contains(out, x.Into) || !answered(x.Into) {
			continue
		}
		for _, e := range topology.Places(d, o) {
			holds := func(r netip.Prefix) bool { return prefix.Contains(r, x.Into) }
			if slices.ContainsFunc(d.Ranges(e.To), holds) {
				out = append(out, x.Into)
				break
			}
		}
	}
	return out
}

// mostAnsweredBits is how large a range of IPv6 may be that a box answers for among
// hosts: each is an entry of its own there (RFC 4389).
const mostAnsweredBits = 8

func answered(r netip.Prefix) bool { return r.Addr().Is4() || 128-r.Bits() <= mostAnsweredBits }

// InsideOf are the addresses that a gateway has on its joints.
func InsideOf(d *design.Design, gateway design.ID) []netip.Addr {
	var out []netip.Addr
	for _, x := range insides(d, gateway) {
		out = append(out, x.own)
	}
	return out
}

// inside is an address that a gateway has on a joint.
type inside struct {
	own    netip.Addr
	around netip.Prefix
	joint  *design.Object
	tunnel design.ID
}

// insides are the addresses that a gateway has on its joints.
func insides(d *design.Design, gateway design.ID) []inside {
	var out []inside
	for _, o := range topology.At(d, gateway) {
		k := topology.KindOf(o)
		j, ok := design.JointOf(o)
		_, end, at := j.Far(gateway)
		if !ok || !at || k.Inside == nil {
			continue
		}
		for _, in := range k.Inside(d, o, end) {
			out = append(out, inside{in.Own.Addr(), in.Own.Masked(), o, in.Tunnel})
		}
	}
	return out
}

// Bearer is who answers for an address among the hosts of a LAN or subnet without
// being one: a gateway or box that stands there and has the address, listens on it
// or has it in a pool or mapped range; or a published service that the cloud itself
// has there. Empty if nobody does.
func (t *Tables) Bearer(place design.ID, a netip.Addr) design.ID {
	d := t.Design
	o := d.Get(place)
	if o == nil || o.Kind != design.KindLAN && o.Kind != design.KindSubnet {
		return ""
	}
	for _, e := range topology.Standing(d, o) {
		if bears(d, d.Get(e.To), a) {
			return e.To
		}
	}
	return ""
}

// bears reports whether a gateway, a box or a cloud's own listener answers for an address.
func bears(d *design.Design, f *design.Object, a netip.Addr) bool {
	if l, ok := f.Body.(*design.Listener); ok {
		return l.Address == a
	}
	if slices.Contains(standsAt(d, f), a) {
		return true
	}
	for _, body := range d.ListenersAt(f.ID) {
		if body.Address == a {
			return true
		}
	}
	return slices.ContainsFunc(
		Translations(d, f.ID),
		func(x Translation) bool { return x.Into.IsValid() && x.Into.Contains(a) && answered(x.Into) },
	)
}

// elsewhere reports whether an address of a network, or a hub, is in another region: of a network that spans regions
// the subnet with the address tells by its zone.
func elsewhere(d *design.Design, o *design.Object, a netip.Addr, region string) bool {
	if o == nil {
		return false
	}
	switch b := o.Body.(type) {
	case *design.Network:
		p := d.ProfileOf(o.ID)
		if p == nil || !p.Networks.SpanRegions {
			return b.Region != region
		}
		for s, body := range design.Each[design.Subnet](d.Inside(o.ID, design.KindSubnet)) {
			if prefix.Has(d.Ranges(s.ID), a) && body.Zone != "" {
				return !slices.ContainsFunc(p.Zones(region), func(z string) bool { return strings.EqualFold(z, body.Zone) })
			}
		}
		return b.Region != region
	case *design.Hub:
		return b.Region != region
	}
	return false
}

// SourcePool is the address behind which an attachment hides a packet from its
// network: where it has a pool and the profile offers one, what comes from a range
// that it does not export, bound for the hub's own region where the pool serves
// that alone.
func (t *Tables) SourcePool(attachment *design.Object, src, dst netip.Addr) (netip.Addr, bool) {
	d := t.Design
	b := attachment.Body.(*design.Attachment)
	profile := d.ProfileOf(attachment.Parent)
	if b.Pool == "" || profile == nil || profile.Hub == nil || !profile.Hub.SourcePool ||
		prefix.Has(d.AttachmentExports(attachment), src) {
		return netip.Addr{}, false
	}
	if profile.Hub.PoolInRegion {
		table := t.Point(topology.BoundTable(d, attachment))
		if table == nil {
			return netip.Addr{}, false
		}
		region := d.Get(attachment.Parent).Body.(*design.Hub).Region
		if c := table.Lookup(dst); c.Winner == nil || elsewhere(d, d.Get(b.What), src, region) ||
			elsewhere(d, d.Get(c.Winner.Hop.To), dst, region) {
			return netip.Addr{}, false
		}
	}
	for _, r := range d.Ranges(b.Pool) {
		if r.Addr().Is4() == src.Is4() {
			return prefix.FirstHost(r), true
		}
	}
	return netip.Addr{}, false
}
