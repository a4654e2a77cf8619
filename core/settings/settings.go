// Package settings says what each end of a tunnel or session is set to: what was
// said of it, or what follows from the rest of the design.
package settings

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
)

// Everything is the selectors that leave the choice to routes.
var Everything = []netip.Prefix{netip.MustParsePrefix("0.0.0.0/0"), netip.MustParsePrefix("::/0")}

// SettingsOf are the settings of a tunnel's two ends: what each is set to, or
// what follows from the tunnel, its link and the gateways. key is the same at
// both.
func SettingsOf(d *design.Design, tunnel *design.Object, key string) (out [2]negotiate.Settings) {
	t := tunnel.Body.(*design.Tunnel)
	l := d.Get(tunnel.Parent).Body.(*design.Link)
	outside := d.OutsideOf(tunnel)
	if len(outside) != 2 || len(l.Ends) != 2 {
		return out
	}
	for n := range out {
		s := design.TunnelEnd{}
		if len(t.Ends) == 2 {
			s = t.Ends[n]
		}
		out[n] = negotiate.Settings{
			Name:    EndTitle(d, l, n),
			Address: outside[n], Peer: PeerOf(d, tunnel, n), Identity: s.Identity, PeerIdentity: s.PeerIdentity, Key: key,
			Version: s.Version,
			IKE:     s.IKE, ESP: s.ESP, IKELife: negotiate.OrLife(s.IKELife, negotiate.IKELife),
			ChildLife: negotiate.OrLife(s.ChildLife, negotiate.ChildLife), DPD: negotiate.OrLife(s.DPD, negotiate.DPD),
			Local: s.Local, Remote: s.Remote, MTU: s.MTU, NAT: s.NAT, Encapsulate: s.Encapsulate,
		}
		if len(t.Inside) == 2 {
			out[n].Inside, out[n].PeerInside = t.Inside[n], t.Inside[1-n].Addr()
		}
		if s.Inside.IsValid() {
			out[n].Inside = s.Inside
		}
	}
	for n := range out {
		follow(d, l, tunnel, n, &out[n], &out[1-n])
	}
	return out
}

// PeerOf is the far end's public address as an end of a tunnel has it; invalid where
// the tunnel says none.
func PeerOf(d *design.Design, tunnel *design.Object, n int) netip.Addr {
	t := tunnel.Body.(*design.Tunnel)
	if len(t.Ends) == 2 && t.Ends[n].Peer.IsValid() {
		return t.Ends[n].Peer
	}
	outside := d.OutsideOf(tunnel)
	if len(outside) != 2 {
		return netip.Addr{}
	}
	return outside[1-n]
}

// follow fills what is not set at an end from what is known elsewhere.
func follow(d *design.Design, l *design.Link, tunnel *design.Object, n int, s, far *negotiate.Settings) {
	if s.Identity == "" {
		s.Identity = addressWord(s.Address)
	}
	if s.PeerIdentity == "" {
		s.PeerIdentity = far.Identity
		if s.PeerIdentity == "" {
			s.PeerIdentity = addressWord(far.Address)
		}
	}
	if s.Version == 0 {
		s.Version = 2
	}
	ike, esp := agreed(d, l.Ends[n].Gateway, l.Ends[1-n].Gateway)
	every := everything(d, l, tunnel)
	if len(s.IKE) == 0 {
		s.IKE = ike
	}
	if len(s.ESP) == 0 {
		s.ESP = esp
	}
	if len(s.Local) == 0 {
		s.Local = selectorsOf(l, l.Ends[n].Local, every)
	}
	if len(s.Remote) == 0 {
		s.Remote = selectorsOf(l, l.Ends[n].Remote, every)
	}
}

func addressWord(a netip.Addr) string {
	if !negotiate.Known(a) {
		return ""
	}
	return a.String()
}

// selectorsOf are an end's own on a policy-based link, else everything.
func selectorsOf(l *design.Link, own, every []netip.Prefix) []netip.Prefix {
	if l.Routing == design.RoutingSelectors {
		return own
	}
	return every
}

// everything are the selectors of a route-based tunnel that leave the choice to routes:
// of the families that its routes, its inside addresses and its sessions have; of IPv4
// where none of them says.
func everything(d *design.Design, l *design.Link, tunnel *design.Object) []netip.Prefix {
	var has [2]bool
	for _, p := range slices.Concat(
		l.Ends[0].Routes, l.Ends[1].Routes, tunnel.Body.(*design.Tunnel).Inside, tunnel.Body.(*design.Tunnel).Inside6,
	) {
		has[prefix.FamilyOf(p.Addr())] = true
	}
	for _, body := range design.Each[design.Session](d.Inside(tunnel.ID, design.KindSession)) {
		for _, e := range BGPEnds(body) {
			for _, f := range e.Families {
				has[prefix.IPv4] = has[prefix.IPv4] || f == prefix.IPv4.Code()
				has[prefix.IPv6] = has[prefix.IPv6] || f == prefix.IPv6.Code()
			}
		}
	}
	if !has[prefix.IPv4] && !has[prefix.IPv6] {
		return Everything[:1]
	}
	return slices.DeleteFunc(
		slices.Clone(Everything),
		func(p netip.Prefix) bool { return !has[prefix.FamilyOf(p.Addr())] },
	)
}

// ProposalsOf are the proposals that a gateway can do, strongest first: its
// own, its profile's, or every strong one.
func ProposalsOf(d *design.Design, gateway design.ID) (ike, esp []string) {
	g := d.Get(gateway).Body.(*design.Gateway)
	ike, esp = g.IKE, g.ESP
	if v := d.VPNOf(gateway); v != nil {
		if len(ike) == 0 {
			ike = v.IKE
		}
		if len(esp) == 0 {
			esp = v.ESP
		}
	}
	if len(ike) == 0 {
		ike = negotiate.Strong.IKE
	}
	if len(esp) == 0 {
		esp = negotiate.Strong.ESP
	}
	return ike, esp
}

// agreed are the proposals that a gateway is set to toward another: those that
// both can do, strongest first; all its own where they share none, so that the
// disagreement shows.
func agreed(d *design.Design, own, far design.ID) (ike, esp []string) {
	ikeOwn, espOwn := ProposalsOf(d, own)
	ikeFar, espFar := ProposalsOf(d, far)
	return shared(negotiate.IKE, ikeOwn, ikeFar), shared(negotiate.ESP, espOwn, espFar)
}

func shared(proto negotiate.Protocol, own, far []string) []string {
	if c := negotiate.Common(proto, own, far); len(c) > 0 {
		return c
	}
	return own
}

// EndTitle names an end of a link.
func EndTitle(d *design.Design, l *design.Link, n int) string { return d.Title(l.Ends[n].Gateway) }

// With is a tunnel with one of its ends set otherwise.
func With(tunnel *design.Object, n int, set func(*design.TunnelEnd)) *design.Object {
	body := *tunnel.Body.(*design.Tunnel)
	body.Ends = slices.Clone(body.Ends)
	if len(body.Ends) != 2 {
		body.Ends = make([]design.TunnelEnd, 2)
	}
	set(&body.Ends[n])
	return tunnel.With(&body)
}
