package design

import (
	"net/netip"
	"reflect"

	"dravin/core/prefix"
)

// Session is a BGP session.
type Session struct {
	// Its two ends, in the order of the tunnel's or circuit's.
	Ends []SessionEnd `yaml:"ends" json:"ends" min:"2" max:"2"`
}

// SessionEnd is what one end of a session is set to.
type SessionEnd struct {
	// Its own autonomous system.
	ASN uint32 `yaml:"asn" json:"asn"`
	// The address it speaks from.
	Address netip.Addr `yaml:"address" json:"address"`
	// The far ASN as this end has it; the far end's if left out.
	PeerASN uint32 `yaml:"peer_asn,omitempty" json:"peer_asn,omitempty"`
	// The far address as this end has it; the far end's if left out.
	Peer netip.Addr `yaml:"peer,omitempty" json:"peer,omitzero"`
	// Hold time, seconds; 90 if left out (RFC 4271 section 10).
	Hold uint32 `yaml:"hold,omitempty" json:"hold,omitempty"`
	// It signs with the session's password (RFC 2385).
	Password bool `yaml:"password,omitempty" json:"password,omitempty"`
	// Address families; ipv4 if left out.
	Families []string `yaml:"families,omitempty" json:"families,omitempty" enum:"ipv4,ipv6"`
	// More routes than this drop the session; 0: no limit.
	MaxPrefixes uint32 `yaml:"max_prefixes,omitempty" json:"max_prefixes,omitempty"`
	// The far end is its client: routes learned inside the autonomous system are told to it, and its own to all (RFC
	// 4456).
	Client bool `yaml:"client,omitempty" json:"client,omitempty"`
	// It announces what it learned with the next hop that it has, and not with its own address.
	KeepNextHop bool `yaml:"keep_next_hop,omitempty" json:"keep_next_hop,omitempty"`
	// How often its own ASN may stand in a path.
	AllowOwn uint32 `yaml:"allow_own,omitempty" json:"allow_own,omitempty"`
	// What it takes, first match; empty: everything.
	In []Filter `yaml:"in,omitempty" json:"in,omitempty"`
	// What it announces, of its own and of what it learned, first match; empty: everything of its own.
	Out []Filter `yaml:"out,omitempty" json:"out,omitempty"`
}

// Filter is one rule of a route filter: what it matches, what it sets, what
// becomes of the route. All conditions that are given must hold.
type Filter struct {
	// Which range; left out: any.
	Prefix netip.Prefix `yaml:"prefix,omitempty" json:"prefix,omitzero"`
	// Shortest prefix length that matches; the range's own if left out.
	From uint8 `yaml:"from,omitempty" json:"from,omitempty"`
	// Longest that matches; as from if left out.
	To uint8 `yaml:"to,omitempty" json:"to,omitempty"`
	// It has one of these communities; left out: any or none.
	Has []string `yaml:"has,omitempty" json:"has,omitempty" form:"community"`
	// This ASN stands in its path.
	Through uint32 `yaml:"through,omitempty" json:"through,omitempty"`
	// This ASN is the first in its path.
	Neighbour uint32 `yaml:"neighbour,omitempty" json:"neighbour,omitempty"`
	// This ASN is the last in its path.
	Born uint32 `yaml:"born,omitempty" json:"born,omitempty"`
	// Its path has at most so many ASNs; 0: any number.
	Longest uint32 `yaml:"longest,omitempty" json:"longest,omitempty"`
	// Drop it instead; as verdict: refuse.
	Deny bool `yaml:"deny,omitempty" json:"deny,omitempty"`
	// What becomes of it; go-on: the next rule is asked, with what this one sets. accept if left out.
	Verdict string `yaml:"verdict,omitempty" json:"verdict,omitempty" enum:"accept,refuse,go-on"`
	// How often the own ASN is put in front once more.
	Prepend uint8 `yaml:"prepend,omitempty" json:"prepend,omitempty"`
	// Local preference.
	LocalPref uint32 `yaml:"local_pref,omitempty" json:"local_pref,omitempty"`
	// Multi-exit discriminator.
	MED uint32 `yaml:"med,omitempty" json:"med,omitempty"`
	// Origin to set (RFC 4271 section 5.1.1).
	Origin string `yaml:"origin,omitempty" json:"origin,omitempty" enum:"igp,egp,incomplete"`
	// To add, such as 64501:20 or no-export (RFC 1997, RFC 8092).
	Communities []string `yaml:"communities,omitempty" json:"communities,omitempty" form:"community"`
	// Communities to take away.
	Take []string `yaml:"take,omitempty" json:"take,omitempty" form:"community"`
}

// What becomes of a route that a rule matches.
const (
	Accept = "accept"
	Refuse = "refuse"
	GoOn   = "go-on"
)

// Does is the verdict of a rule, [Accept] if none is given.
func (f Filter) Does() string {
	switch {
	case f.Deny:
		return Refuse
	case f.Verdict == "":
		return Accept
	}
	return f.Verdict
}

// SameFilter reports whether two rules are the same.
func SameFilter(a, b Filter) bool { return reflect.DeepEqual(a, b) }

// Lengths are the shortest and longest prefix that a rule matches.
func (f Filter) Lengths() (from, to int) {
	from = max(int(f.From), f.Prefix.Bits())
	return from, max(int(f.To), from)
}

// Lets reports whether a filter lets every route to a range pass, as far as ranges decide: rules that
// ask for more than a range are passed over. An empty one is not asked: what it means depends on
// whether the range is the speaker's own.
func Lets(filter []Filter, p netip.Prefix) bool {
	for _, f := range filter {
		if len(f.Has) > 0 || f.Through+f.Neighbour+f.Born+f.Longest > 0 || f.Does() == GoOn {
			continue
		}
		from, to := f.Lengths()
		if !f.Prefix.IsValid() || prefix.Contains(f.Prefix, p) && from <= p.Bits() && p.Bits() <= to {
			return f.Does() == Accept
		}
	}
	return false
}

// Summary is a range that is announced while a part of it is known.
type Summary struct {
	// The range.
	Prefix netip.Prefix `yaml:"prefix" json:"prefix"`
	// Its parts are not announced.
	Hide bool `yaml:"hide,omitempty" json:"hide,omitempty"`
}

// EdgeRouter is a virtual router at an exchange.
type EdgeRouter struct {
	// Where it stands.
	Exchange string `yaml:"exchange" json:"exchange"`
	// Where it is: latitude and longitude in degrees, such as 57.1, -4.2.
	Position string `yaml:"position,omitempty" json:"position,omitempty" form:"position"`
	// Who answers for it.
	Owner Ref `yaml:"owner,omitempty" json:"owner,omitempty" ref:"owner"`
	// Its autonomous system.
	ASN uint32 `yaml:"asn,omitempty" json:"asn,omitempty"`
	// Its BGP identifier; the lowest address of its sessions if left out.
	RouterID netip.Addr `yaml:"router_id,omitempty" json:"router_id,omitzero"`
	// Ranges that it announces while it has a part of them.
	Summaries []Summary `yaml:"summaries,omitempty" json:"summaries,omitempty"`
	// How far it has come; ready if left out.
	State State `yaml:"state,omitempty" json:"state,omitempty" enum:"states"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

func (*Session) kind() Kind { return KindSession }

func (*EdgeRouter) kind() Kind { return KindEdgeRouter }

func (b *EdgeRouter) state() *State { return &b.State }
