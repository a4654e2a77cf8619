package negotiate

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/prefix"
)

// Settings is what one end of a tunnel is set to, in full.
type Settings struct {
	Name         string         // whose it is, for sentences; empty: the first or second end
	Address      netip.Addr     // its own public address
	Peer         netip.Addr     // the far end's as it has it
	Identity     string         // what it calls itself
	PeerIdentity string         // what the far end must call itself
	Key          string         // the pre-shared key, or anything equal where the keys are; empty: not known
	Version      uint8          // 1 or 2; 0: either
	IKE, ESP     []string       // proposals
	IKELife      uint32         // seconds
	ChildLife    uint32         // seconds
	DPD          uint32         // seconds
	Local        []netip.Prefix // selectors
	Remote       []netip.Prefix
	Inside       netip.Prefix // with the length of the inside range; invalid if it has none
	PeerInside   netip.Addr   // where it expects the far inside address; invalid if it has no opinion
	MTU          uint32       // bytes; 0: what fits
	NAT          bool
	Encapsulate  bool
}

// What a lifetime is where nothing else is said, seconds.
const (
	IKELife   = 14400
	ChildLife = 3600
	DPD       = 10
)

// Cause is the first thing on which two ends fail.
type Cause string

// The causes, in the order in which a handshake meets them.
const (
	NoCause           Cause = ""
	BadProposal       Cause = "bad-proposal"        // an end's own proposal is not usable
	NoAnswer          Cause = "no-answer"           // the packets go elsewhere
	NoConnection      Cause = "no-connection"       // the far end has no connection for this address or version
	NoIKEProposal     Cause = "no-ike-proposal"     // NO_PROPOSAL_CHOSEN for the IKE SA
	IdentityUnknown   Cause = "identity-unknown"    // one end calls itself what the other does not expect
	KeyDiffers        Cause = "key-differs"         // AUTHENTICATION_FAILED
	NoESPProposal     Cause = "no-esp-proposal"     // the IKE SA comes up, its child does not
	SelectorsDisjoint Cause = "selectors-disjoint"  // TS_UNACCEPTABLE
	SelectorsDiffer   Cause = "selectors-differ-v1" // IKEv1 does not narrow
)

// Outcome is how two ends end up.
type Outcome struct {
	Up    bool  `json:"up"`     // packets are carried
	IKEUp bool  `json:"ike_up"` // at least the control channel is up
	Cause Cause `json:"cause,omitempty"`
	// Parameter is the one on which it fails, such as ike or identity-2: that of
	// the second end.
	Parameter string         `json:"parameter,omitempty"`
	Why       string         `json:"why"` // the outcome as a sentence
	Version   uint8          `json:"version,omitempty"`
	IKE       *Chosen        `json:"ike,omitempty"`
	ESP       *Chosen        `json:"esp,omitempty"`
	Local     []netip.Prefix `json:"local"` // at the first end, after narrowing
	Remote    []netip.Prefix `json:"remote"`
	Renews    bool           `json:"renews"`        // new keys can be agreed on when the first have been used up
	UDP       bool           `json:"udp,omitempty"` // ESP goes in UDP (RFC 3948)
	MTU       int            `json:"mtu,omitempty"` // what fits inside, bytes, of 1500 outside
	// Later tells what comes up and will fail or suffer afterwards.
	Later []string `json:"later"`
}

// Agree tells how two ends end up when the first starts and the second
// answers, as two real daemons would. Unknown keys (empty) are taken to be
// equal.
func Agree(starts, answers Settings) Outcome {
	out := Outcome{Local: []netip.Prefix{}, Remote: []netip.Prefix{}, Later: []string{}}
	fail := func(c Cause, parameter, format string, args ...any) Outcome {
		out.Cause, out.Parameter, out.Why = c, parameter, fmt.Sprintf(format, args...)
		return out
	}
	one, two := Called(starts.Name, 0), Called(answers.Name, 1)
	offers, wrong, err := proposalsOf(starts, answers)
	if err != nil {
		return fail(BadProposal, wrong, "%v", err)
	}
	if Known(starts.Peer) && Known(answers.Address) && starts.Peer != answers.Address {
		return fail(NoAnswer, "address-2", "%s sends to %s, and %s is at %s", one, starts.Peer, two, answers.Address)
	}
	if Known(answers.Peer) && Known(starts.Address) && answers.Peer != starts.Address && !starts.NAT {
		return fail(
			NoConnection, "address-1", "%s has a connection for %s only, and %s comes from %s", two, answers.Peer, one,
			starts.Address,
		)
	}
	// A daemon that may speak either starts with 2.
	out.Version = starts.Version
	if out.Version == 0 {
		out.Version = 2
	}
	if answers.Version != 0 && answers.Version != out.Version {
		v := out.Version
		out.Version = 0
		return fail(NoConnection, "version", "%s speaks IKEv%d and %s IKEv%d only", one, v, two, answers.Version)
	}
	ike, ok := Choose(offers.answersIKE, offers.startsIKE, true)
	if !ok {
		return fail(
			NoIKEProposal, "ike", "the IKE proposals have %s", Disagreement(offers.answersIKE, offers.startsIKE, true),
		)
	}
	out.IKE = &ike
	if !SameIdentity(starts.Identity, answers.PeerIdentity) {
		return fail(
			IdentityUnknown, "identity-1", "%s calls itself %q and %s expects %q", one, starts.Identity, two,
			answers.PeerIdentity,
		)
	}
	if starts.Key != "" && answers.Key != "" && starts.Key != answers.Key {
		return fail(KeyDiffers, "key", "the keys differ")
	}
	if !SameIdentity(answers.Identity, starts.PeerIdentity) {
		return fail(
			IdentityUnknown, "identity-2", "%s calls itself %q and %s expects %q", two, answers.Identity, one,
			starts.PeerIdentity,
		)
	}
	out.IKEUp = true
	out.UDP = starts.NAT || answers.NAT || starts.Encapsulate || answers.Encapsulate
	return child(out, starts, answers, offers, fail)
}

// child negotiates what carries the packets.
func child(
	out Outcome,
	starts, answers Settings,
	offers offers,
	fail func(Cause, string, string, ...any) Outcome,
) Outcome {
	withGroup := out.Version == 1 // IKEv1's quick mode has its own exchange from the start
	esp, ok := Choose(offers.answersESP, offers.startsESP, withGroup)
	local, remote := Narrow(starts.Local, answers.Remote), Narrow(starts.Remote, answers.Local)
	selectors := "selectors-1"
	if len(local) > 0 && (len(remote) == 0 || SameSet(starts.Local, answers.Remote)) {
		selectors = "selectors-2"
	}
	if len(local) == 0 || len(remote) == 0 {
		f := fail(
			SelectorsDisjoint, selectors, "the selectors have nothing in common: %s to %s against %s to %s",
			Joined(starts.Local), Joined(starts.Remote), Joined(answers.Remote), Joined(answers.Local),
		)
		f.IKEUp = true
		return f
	}
	if out.Version == 1 && (!SameSet(starts.Local, answers.Remote) || !SameSet(starts.Remote, answers.Local)) {
		f := fail(SelectorsDiffer, selectors, "IKEv1 does not narrow, and the selectors do not mirror each other")
		f.IKEUp = true
		return f
	}
	if !ok {
		f := fail(
			NoESPProposal, "esp", "the IKE SA comes up, and its child fails: the ESP proposals have %s",
			Disagreement(offers.answersESP, offers.startsESP, withGroup),
		)
		f.IKEUp = true
		return f
	}
	out.Up, out.ESP, out.Local, out.Remote = true, &esp, local, remote
	_, out.Renews = Choose(offers.answersESP, offers.startsESP, true)
	out.MTU = Fits(esp, usual, out.UDP, starts.Address.Is6())
	out.Later = later(out, starts, answers, offers)
	out.Why = "it comes up"
	if len(out.Later) > 0 {
		out.Why = "it comes up, but " + out.Later[0]
	}
	return out
}

// later is what the handshake does not show.
func later(out Outcome, starts, answers Settings, offers offers) []string {
	said := []string{}
	if !out.Renews {
		said = append(
			said,
			fmt.Sprintf(
				"the ESP proposals have %s, so it fails at the first renewal of keys, after %d s at the latest",
				Disagreement(offers.answersESP, offers.startsESP, true),
				min(OrLife(starts.ChildLife, ChildLife), OrLife(answers.ChildLife, ChildLife)),
			),
		)
	}
	if out.Version == 2 &&
		(!SameSet(out.Local, prefix.Minimal(starts.Local)) || !SameSet(out.Remote, prefix.Minimal(starts.Remote)) ||
			!SameSet(out.Local, prefix.Minimal(answers.Remote)) || !SameSet(out.Remote, prefix.Minimal(answers.Local))) {
		said = append(
			said,
			fmt.Sprintf(
				"the selectors were narrowed to %s and %s, and the rest does not get through", Joined(out.Local),
				Joined(out.Remote),
			),
		)
	}
	if starts.ChildLife != answers.ChildLife || starts.IKELife != answers.IKELife {
		said = append(said, "the lifetimes differ, so one end renews before the other expects it")
	}
	if starts.MTU > uint32(out.MTU) || answers.MTU > uint32(out.MTU) {
		said = append(
			said,
			fmt.Sprintf("packets above %d bytes vanish: the MTU is set to %d", out.MTU, max(starts.MTU, answers.MTU)),
		)
	}
	return said
}

// Narrow is the intersection of two lists of selectors (RFC 7296 section 2.9),
// without what lies inside another. Neighbours stay apart, as daemons leave them.
func Narrow(a, b []netip.Prefix) []netip.Prefix {
	var out []netip.Prefix
	for _, x := range a {
		for _, y := range b {
			switch {
			case prefix.Contains(x, y):
				out = append(out, y)
			case prefix.Contains(y, x):
				out = append(out, x)
			}
		}
	}
	return prefix.Minimal(out)
}

type offers struct{ startsIKE, startsESP, answersIKE, answersESP []Proposal }

// proposalsOf reads the proposals of both ends, or tells which parameter is wrong.
func proposalsOf(starts, answers Settings) (o offers, parameter string, err error) {
	for _, want := range []struct {
		to    *[]Proposal
		proto Protocol
		list  []string
	}{{&o.startsIKE, IKE, starts.IKE}, {&o.startsESP, ESP, starts.ESP}, {&o.answersIKE, IKE, answers.IKE}, {&o.answersESP,
		ESP, answers.ESP}} {
		if *want.to, err = ParseProposals(want.proto, want.list); err != nil {
			return o, strings.ToLower(string(want.proto)), err
		}
	}
	return o, "", nil
}

// Called is an end's name, or which of the two it is.
func Called(name string, n int) string {
	if name == "" {
		return "the " + nth(n) + " end"
	}
	return name
}

// Known reports whether an address has been given.
func Known(a netip.Addr) bool { return a.IsValid() && !a.IsUnspecified() }

// SameSet reports whether two lists hold the same ranges, whatever their order.
func SameSet(a, b []netip.Prefix) bool {
	x, y := slices.Clone(a), slices.Clone(b)
	slices.SortFunc(x, prefix.Compare)
	slices.SortFunc(y, prefix.Compare)
	return slices.Equal(slices.Compact(x), slices.Compact(y))
}

// Joined are values in words.
func Joined[T fmt.Stringer](ps []T) string {
	words := make([]string, len(ps))
	for n, p := range ps {
		words[n] = p.String()
	}
	return strings.Join(words, ", ")
}

func OrLife(v, usual uint32) uint32 {
	if v == 0 {
		return usual
	}
	return v
}
