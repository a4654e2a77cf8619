package route

import (
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/settings"
	"dravin/core/status"
)

// Candidate is a route that a session brought into a table, used or not, with its
// attributes (RFC 4271 section 5, RFC 4456 section 8).
type Candidate struct {
	Prefix      netip.Prefix `json:"prefix"`
	Session     design.ID    `json:"session"`
	Used        bool         `json:"used"` // it is the best, or shares with it
	Path        []uint32     `json:"path"`
	Origin      string       `json:"origin"`
	LocalPref   uint32       `json:"local_pref"`
	MED         uint32       `json:"med"`
	Communities []string     `json:"communities"`
	NextHop     netip.Addr   `json:"next_hop,omitzero"`
	Internal    bool         `json:"internal,omitempty"`
	Originator  netip.Addr   `json:"originator,omitzero"`
	Clusters    []netip.Addr `json:"clusters,omitempty"`
}

// Candidates are all that sessions brought into a table, in the order of prefixes, those
// that are used first.
func (t *Tables) Candidates(k Key) []Candidate {
	t.Design.NoteLearned(k.String())
	out := []Candidate{}
	for _, e := range t.network.learn().Table(k.String()) {
		for n, r := range slices.Concat(e.Routes, e.Lost) {
			if r.Own() {
				continue
			}
			c := Candidate{
				Prefix:      e.Prefix,
				Session:     design.ID(r.Session.Key),
				Used:        n < len(e.Routes),
				Path:        append([]uint32{}, r.Path...),
				Origin:      r.Origin.String(),
				LocalPref:   r.LocalPref,
				MED:         r.MED,
				Communities: []string{},
				NextHop:     r.NextHop,
				Internal:    r.Internal,
				Originator:  r.Originator,
				Clusters:    r.Clusters,
			}
			for _, x := range r.Communities {
				c.Communities = append(c.Communities, x.String())
			}
			out = append(out, c)
		}
	}
	return out
}

// SessionState is a session as a whole: how it stands, and what its ends have come to.
type SessionState struct {
	Session  design.ID    `json:"session"`
	Carrier  string       `json:"carrier"` // the link and tunnel, or the circuit
	Up       bool         `json:"up"`
	Why      string       `json:"why,omitempty"`  // why it is down
	Hold     uint32       `json:"hold,omitempty"` // seconds, as negotiated; 0 if it is not up
	Families []string     `json:"families"`       // that both ends carry
	Internal bool         `json:"internal"`
	Ends     [2]SessionOf `json:"ends"`
}

// SessionOf is one end of a session.
type SessionOf struct {
	At      string     `json:"at"` // whose it is, by title
	ASN     uint32     `json:"asn"`
	Address netip.Addr `json:"address"`
	Taken   int        `json:"taken"` // how many routes it takes from the other
}

// Sessions are all sessions of the design, in canonical order.
func (t *Tables) Sessions() []SessionState {
	out := []SessionState{}
	for _, o := range t.Design.Of(design.KindSession) {
		v, agreed := t.Status.Of(o.ID), t.Status.Session(o.ID)
		set := settings.SessionEndsOf(t.Design, o)
		s := SessionState{
			Session: o.ID, Carrier: status.CarrierName(t.Design, o), Up: v.Up, Why: v.Why,
			Families: append([]string{}, agreed.Families...), Internal: set[0].ASN == set[1].ASN,
		}
		if v.Up {
			s.Hold = agreed.Hold
		}
		for n := range s.Ends {
			s.Ends[n] = SessionOf{ASN: set[n].ASN, Address: set[n].Address}
			if at := settings.Speaker(t.Design, o, n); at != nil {
				s.Ends[n].At = t.Design.Title(at.ID)
			}
			if v.Up {
				s.Ends[n].Taken = t.Taken(o.ID, n)
			}
		}
		out = append(out, s)
	}
	return out
}
