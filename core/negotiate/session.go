package negotiate

import (
	"fmt"
	"net/netip"
	"slices"
)

// BGPEnd is what one end of a session is set to, in full.
type BGPEnd struct {
	Name          string // whose it is, for sentences; empty: the first or second end
	ASN, PeerASN  uint32
	Address, Peer netip.Addr
	Hold          uint32 // seconds
	Password      string // or anything equal where the passwords are; empty: none
	Families      []string
	MaxPrefixes   uint32
}

// DefaultHold is the hold time that RFC 4271 section 10 suggests, seconds.
const DefaultHold = 90

// SessionOutcome is how a session ends up.
type SessionOutcome struct {
	Up bool `json:"up"`
	// Parameter is the one on which it fails, such as asn-2: that of the second
	// end.
	Parameter string   `json:"parameter,omitempty"`
	Why       string   `json:"why"`
	Hold      uint32   `json:"hold"` // seconds; 0: no keepalives
	Families  []string `json:"families"`
	Internal  bool     `json:"internal"`
	Later     []string `json:"later"`
}

// AgreeSession tells how a session ends up over a path that is up (RFC 4271
// sections 4.2 and 6.2): established, or the first thing on which it fails.
func AgreeSession(a, b BGPEnd) SessionOutcome {
	out := SessionOutcome{Families: []string{}, Later: []string{}}
	fail := func(parameter, format string, args ...any) SessionOutcome {
		out.Parameter, out.Why = parameter, fmt.Sprintf(format, args...)
		return out
	}
	ends := [2]BGPEnd{a, b}
	for n, e := range ends {
		if far := ends[1-n]; e.Peer != far.Address {
			return fail(
				fmt.Sprintf("bgp-address-%d", 2-n), "%s looks for %s, and the other end is at %s", Called(e.Name, n),
				e.Peer, far.Address,
			)
		}
	}
	if a.Password != b.Password {
		return fail("bgp-password", "the passwords differ, so neither hears the other (RFC 2385)")
	}
	for n, e := range ends {
		if far := ends[1-n]; e.PeerASN != far.ASN {
			return fail(
				fmt.Sprintf("asn-%d", 2-n), "%s expects ASN %d, and the other end is %d", Called(e.Name, n), e.PeerASN,
				far.ASN,
			)
		}
	}
	for _, f := range a.Families {
		if slices.Contains(b.Families, f) {
			out.Families = append(out.Families, f)
		}
	}
	if len(out.Families) == 0 {
		return fail("bgp-families", "they have no address family in common")
	}
	out.Up, out.Internal, out.Hold = true, a.ASN == b.ASN, min(a.Hold, b.Hold)
	out.Why = fmt.Sprintf("it is established, hold time %d s", out.Hold)
	return out
}

func nth(n int) string { return [...]string{"first", "second"}[n] }
