package settings

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
)

// SessionEndsOf are the two ends of a session in full, with their names. A family that is said, but of which the ends
// have no addresses, is not set as long as another remains: one daemon drops what it hears of it, the other believes
// next hops that no kernel takes (::ffff:169.254.128.10) and tells them on.
func SessionEndsOf(d *design.Design, o *design.Object) [2]negotiate.BGPEnd {
	ends := BGPEnds(SessionOf(d, o))
	for n := range ends {
		usable := slices.DeleteFunc(slices.Clone(ends[n].Families), func(f string) bool { return !HasNextHops(d, o, f) })
		if len(usable) > 0 {
			ends[n].Families = usable
		}
		if p := PartyOf(d, o, n); p != nil {
			ends[n].Name = p.Name
		}
	}
	return ends
}

// HasNextHops reports whether both ends of a session have addresses of a family where it runs: a route of it that
// either announces has one as its next hop (RFC 4271 section 5.1.3, RFC 2545 section 3), and without it nobody can use
// the route.
func HasNextHops(d *design.Design, session *design.Object, family string) bool {
	body := session.Body.(*design.Session)
	of := func(a netip.Addr) bool { return a.IsValid() && prefix.FamilyOf(a).Code() == family }
	if !slices.ContainsFunc(body.Ends, func(e design.SessionEnd) bool { return !of(e.Address) }) {
		return true
	}
	var inside [][]netip.Prefix
	switch b := d.Get(session.Parent).Body.(type) {
	case *design.Tunnel:
		inside = [][]netip.Prefix{b.Inside, b.Inside6}
	case *design.Circuit:
		inside = [][]netip.Prefix{{b.Ends[0].Inside, b.Ends[1].Inside}}
	}
	return slices.ContainsFunc(inside, func(two []netip.Prefix) bool {
		return len(two) == 2 && of(two[0].Addr()) && of(two[1].Addr())
	})
}

// Elsewhere is the first end of a session that speaks from an address which it does not have on what carries the
// session, with what it has of that family; -1 if there is none, or if nothing says what it has.
func Elsewhere(d *design.Design, session *design.Object) (int, netip.Addr) {
	var inside [][]netip.Prefix
	switch b := d.Get(session.Parent).Body.(type) {
	case *design.Tunnel:
		inside = [][]netip.Prefix{b.Inside, b.Inside6}
	case *design.Circuit:
		inside = [][]netip.Prefix{{b.Ends[0].Inside, b.Ends[1].Inside}}
	}
	for n, e := range session.Body.(*design.Session).Ends {
		for _, two := range inside {
			if len(two) != 2 || !two[n].IsValid() || !e.Address.IsValid() || e.Address.Is4() != two[n].Addr().Is4() {
				continue
			}
			if e.Address != two[n].Addr() {
				return n, two[n].Addr()
			}
		}
	}
	return -1, netip.Addr{}
}

// FiltersFixed reports whether the cloud at an end of a session lets nobody set filters or limits there.
func FiltersFixed(d *design.Design, session *design.Object, n int) bool {
	if d.Get(session.Parent) == nil {
		return false // it is being made
	}
	at := Speaker(d, session, n)
	if at == nil {
		return false
	}
	v := d.VPNOf(at.ID)
	return v != nil && v.FiltersFixed
}

// SessionOf are the two ends of a session as they can be set: filters and limits that a cloud does not let one set are
// not in it, whatever the design says. A hub passes on by itself what it knows.
func SessionOf(d *design.Design, o *design.Object) *design.Session {
	s := o.Body.(*design.Session)
	out := *s
	for n := range s.Ends {
		if FiltersFixed(d, o, n) {
			out.Ends = slices.Clone(out.Ends)
			out.Ends[n].In, out.Ends[n].Out, out.Ends[n].MaxPrefixes = nil, nil, 0
			if d.Party(Speaker(d, o, n).ID).Kind == design.KindHub {
				for _, f := range prefix.Families {
					all := f.Everything()
					out.Ends[n].Out = append(
						out.Ends[n].Out, design.Filter{Prefix: all, From: 1, To: uint8(all.Addr().BitLen())},
					)
				}
			}
		}
	}
	return &out
}

// BGPEnds are the two ends of a session in full.
func BGPEnds(s *design.Session) (out [2]negotiate.BGPEnd) {
	if len(s.Ends) != 2 {
		return out
	}
	for n, e := range s.Ends {
		far := s.Ends[1-n]
		out[n] = negotiate.BGPEnd{
			ASN: e.ASN, Address: e.Address, PeerASN: e.PeerASN, Peer: e.Peer, Hold: e.Hold, Families: e.Families,
			MaxPrefixes: e.MaxPrefixes,
		}
		if e.PeerASN == 0 {
			out[n].PeerASN = far.ASN
		}
		if !e.Peer.IsValid() {
			out[n].Peer = far.Address
		}
		if e.Hold == 0 {
			out[n].Hold = negotiate.DefaultHold
		}
		if len(e.Families) == 0 {
			out[n].Families = []string{prefix.IPv4.Code()}
		}
		if e.Password {
			out[n].Password = "the session's password"
		}
	}
	return out
}

// PartyOf is the party at an end of a session.
func PartyOf(d *design.Design, session *design.Object, n int) *design.Object {
	if at := Speaker(d, session, n); at != nil {
		return d.Party(at.ID)
	}
	return nil
}

// Speaker is the gateway or edge router at an end of a session.
func Speaker(d *design.Design, session *design.Object, n int) *design.Object {
	parent := d.Get(session.Parent)
	switch b := parent.Body.(type) {
	case *design.Circuit:
		return d.Get(b.Ends[n].At)
	case *design.Tunnel:
		return d.Get(d.Get(parent.Parent).Body.(*design.Link).Ends[n].Gateway)
	}
	return nil
}

// EndAt is which end of a session is a box's.
func EndAt(d *design.Design, session *design.Object, box design.ID) int {
	if at := Speaker(d, session, 1); at != nil && at.ID == box {
		return 1
	}
	return 0
}

// Waits reports whether a gateway waits for the far end to start: a cloud's, as
// its profile says, or where there is none to ask.
func Waits(d *design.Design, gateway design.ID) bool {
	v := d.VPNOf(gateway)
	return d.Party(gateway).Kind != design.KindSite && (v == nil || v.FarStarts)
}
