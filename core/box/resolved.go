package box

import (
	"slices"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/provider"
	"dravin/core/route"
	"dravin/core/settings"
	"dravin/core/topology"
)

// resolved is the body of an object with what follows from the rest of the design filled in:
// whoever enters it sees nothing else.
func resolved(d *design.Design, o *design.Object) design.Body {
	switch b := o.Body.(type) {
	case *design.Tunnel:
		return resolvedTunnel(d, o, b)
	case *design.Session:
		out := *b
		out.Ends = slices.Clone(b.Ends)
		for n, set := range settings.SessionEndsOf(d, o) {
			e := &out.Ends[n]
			e.PeerASN, e.Peer, e.Hold, e.Families = set.PeerASN, set.Peer, set.Hold, set.Families
		}
		return &out
	case *design.Circuit:
		return design.Edited(o, func(b *design.Circuit) {
			for n := range b.Ends {
				b.Ends[n].Number = 0
			}
		}).Body
	case *design.Gateway:
		out := *b
		if id := route.RouterID(d, o.ID); len(route.SessionsOf(d, o.ID)) > 0 && id.IsValid() {
			out.RouterID = id
		}
		if v := orderedVPN(d, o); v != nil {
			out.VPN = v.Name
		}
		if d.Get(o.Parent).Kind == design.KindNetwork && out.Announces == "" {
			out.Announces = design.AnnounceBlocks
		}
		return &out
	case *design.EdgeRouter:
		out := *b
		if id := route.RouterID(d, o.ID); len(route.SessionsOf(d, o.ID)) > 0 && id.IsValid() {
			out.RouterID = id
		}
		return &out
	case *design.Attachment:
		out := *b
		out.Bound = topology.BoundTable(d, o)
		return &out
	}
	return o.Body
}

func resolvedTunnel(d *design.Design, o *design.Object, b *design.Tunnel) design.Body {
	out := *b
	out.Numbers = nil // files have them; nobody enters them
	out.Ends = make([]design.TunnelEnd, 2)
	copy(out.Ends, b.Ends)
	link := d.Get(o.Parent).Body.(*design.Link)
	for n, set := range settings.SettingsOf(d, o, "") {
		e := &out.Ends[n]
		if negotiate.Known(set.Peer) {
			e.Peer = set.Peer
		}
		e.Identity, e.PeerIdentity, e.Version = set.Identity, set.PeerIdentity, set.Version
		e.IKE, e.ESP, e.IKELife, e.ChildLife, e.DPD = set.IKE, set.ESP, set.IKELife, set.ChildLife, set.DPD
		if link.Routing != design.RoutingSelectors { // else its link has them
			e.Local, e.Remote = set.Local, set.Remote
		}
	}
	return &out
}

// orderedVPN is the kind of VPN gateway that a cloud's gateway is ordered as; nil for one that carries no link, such as
// a gateway of circuits.
func orderedVPN(d *design.Design, gateway *design.Object) *provider.VPN {
	carries := func(l *design.Object) bool {
		return slices.ContainsFunc(
			l.Body.(*design.Link).Ends, func(e design.End) bool { return e.Gateway == gateway.ID },
		)
	}
	if gateway.Body.(*design.Gateway).VPN == "" && !slices.ContainsFunc(d.Of(design.KindLink), carries) {
		return nil
	}
	return d.VPNOf(gateway.ID)
}
