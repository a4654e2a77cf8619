package draft

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/provider"
	"dravin/core/settings"
)

// SetOffers is the edit that lets both ends of a tunnel offer just these
// proposals.
func SetOffers(tunnel *design.Object, proto negotiate.Protocol, list []string) []design.Edit {
	for n := range 2 {
		tunnel = settings.With(tunnel, n, func(e *design.TunnelEnd) {
			if proto == negotiate.IKE {
				e.IKE = list
			} else {
				e.ESP = list
			}
		})
	}
	return []design.Edit{design.PutEdit(tunnel)}
}

// SetInside gives a tunnel another inside range, and its session the addresses
// in it.
func SetInside(d *design.Design, tunnel *design.Object, p netip.Prefix) []design.Edit {
	low, high := hosts(p)
	body := *tunnel.Body.(*design.Tunnel)
	body.Inside = []netip.Prefix{high, low}
	edits := []design.Edit{design.PutEdit(tunnel.With(&body))}
	for o, b := range design.Each[design.Session](d.Inside(tunnel.ID, design.KindSession)) {
		s := design.Session{Ends: slices.Clone(b.Ends)}
		for n := range s.Ends {
			s.Ends[n].Address, s.Ends[n].Peer = body.Inside[n].Addr(), netip.Addr{}
		}
		edits = append(edits, design.PutEdit(o.With(&s)))
	}
	return edits
}

// AddressCircuit gives the two ends of a circuit addresses in a free range; nil where
// none is left.
func AddressCircuit(d *design.Design, circuit *design.Object) []design.Edit {
	free, err := TakeInside(allocation.NewBooks(d), nil, nil)
	if err != nil {
		return nil
	}
	edited := design.Edited(circuit, func(body *design.Circuit) {
		body.Ends[0].Inside, body.Ends[1].Inside = hosts(free)
	})
	return []design.Edit{design.PutEdit(edited)}
}

// AddTunnel drafts one more tunnel for a link, like its first, nil where it can
// not be.
func AddTunnel(d *design.Design, o *design.Object) []design.Edit {
	l := o.Body.(*design.Link)
	tunnels := d.Inside(o.ID, design.KindTunnel)
	if len(tunnels) == 0 {
		return nil
	}
	s := newShape("tunnel", "")
	f := draft(allocation.NewBooks(d), &s, Options{})
	k := len(tunnels)
	t := &design.Tunnel{Outside: make([]netip.Addr, 2)}
	var rules [2]*provider.Inside
	for n, e := range l.Ends {
		x := end{vpn: d.VPNOf(e.Gateway), gateway: d.Get(e.Gateway)}
		all := x.addresses()
		t.Outside[n], rules[n] = all[k%len(all)], x.insideRule()
	}
	if l.Routing != design.RoutingSelectors {
		ranges := f.inside(rules[0], rules[1], 1)
		if ranges == nil {
			return nil
		}
		low, high := hosts(ranges[0])
		t.Inside = []netip.Prefix{high, low}
		if len(tunnels[0].Body.(*design.Tunnel).Inside6) == 2 {
			six, err := TakeInside6(f.books)
			if err != nil {
				return nil
			}
			low, high := hosts(six)
			t.Inside6 = []netip.Prefix{high, low}
		}
	}
	tunnel := f.put(design.KindTunnel, o.ID, fmt.Sprintf("tunnel %d", k+1), t)
	for session, body := range design.Each[design.Session](d.Inside(tunnels[0].ID, design.KindSession)) {
		like := design.Session{Ends: slices.Clone(body.Ends)}
		for n := range like.Ends {
			like.Ends[n].Address, like.Ends[n].Peer = t.Inside[n].Addr(), netip.Addr{}
		}
		f.put(design.KindSession, tunnel.ID, session.Name, &like)
	}
	return s.Edits
}

// Renumber gives everything of a party that has one ASN another, its sessions
// included.
func Renumber(d *design.Design, party design.ID, old, free uint32) []design.Edit {
	var edits []design.Edit
	for _, o := range append(d.Inside(party, design.KindGateway), d.Get(party)) {
		switch b := o.Body.(type) {
		case *design.Gateway:
			if c := *b; c.ASN == old {
				c.ASN = free
				edits = append(edits, design.PutEdit(o.With(&c)))
			}
		case *design.Hub:
			if c := *b; c.ASN == old {
				c.ASN = free
				edits = append(edits, design.PutEdit(o.With(&c)))
			}
		case *design.EdgeRouter:
			if c := *b; c.ASN == old {
				c.ASN = free
				edits = append(edits, design.PutEdit(o.With(&c)))
			}
		}
	}
	for o, body := range design.Each[design.Session](d.Of(design.KindSession)) {
		s := design.Session{Ends: slices.Clone(body.Ends)}
		changed := false
		for n := range s.Ends {
			if at := settings.PartyOf(d, o, n); at != nil && at.ID == party && s.Ends[n].ASN == old {
				s.Ends[n].ASN, changed = free, true
				if s.Ends[1-n].PeerASN == old {
					s.Ends[1-n].PeerASN = free
				}
			}
		}
		if changed {
			edits = append(edits, design.PutEdit(o.With(&s)))
		}
	}
	return edits
}

// LargerSubnet moves a cloud gateway to a subnet that is large enough, nil
// where there is no room.
func LargerSubnet(d *design.Design, gateway *design.Object, v *provider.VPN) []design.Edit {
	network, ok := d.Get(gateway.Parent).Body.(*design.Network)
	g := *gateway.Body.(*design.Gateway)
	if !ok || g.Subnet == "" {
		return nil
	}
	var used []netip.Prefix
	for _, s := range d.Inside(gateway.Parent, design.KindSubnet) {
		if s.ID != g.Subnet {
			used = append(used, d.Ranges(s.ID)...)
		}
	}
	p, ok := prefix.Carve(network.Blocks, used, int(v.OwnSubnet))
	if !ok {
		return nil
	}
	subnet := d.Get(g.Subnet)
	edited := design.Edited(subnet, func(b *design.Subnet) {
		b.Prefixes = []netip.Prefix{p}
	})
	return []design.Edit{design.PutEdit(edited)}
}
