package settings

import (
	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
)

// SessionEndsOf are the two ends of a session in full, with their names.
func SessionEndsOf(d *design.Design, o *design.Object) [2]negotiate.BGPEnd {
	ends := BGPEnds(o.Body.(*design.Session))
	for n := range ends {
		if p := PartyOf(d, o, n); p != nil {
			ends[n].Name = p.Name
		}
	}
	return ends
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
