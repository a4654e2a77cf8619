// Package bgp computes what BGP speakers learn from each other: speakers,
// sessions and policies in, tables out (RFC 4271, RFC 4456 for reflectors). It is
// pure and deterministic, and runs to a fixed point.
//
// Prefixes that are originated alike and that no filter tells apart form a class, and
// a class is solved once. A speaker is one table: a box with several routing
// instances is several speakers, and what a session of it learns may go into
// several of them.
package bgp

import (
	"net/netip"

	"dravin/core/negotiate"
)

// Network is speakers and the sessions between them that are up. It must not be
// changed once it is solved; an unchanged speaker or session keeps its pointer
// from one network to the next.
type Network struct {
	Speakers []*Speaker
	Sessions []*Session
}

// Speaker is one table that routes are originated in and learned into.
type Speaker struct {
	Key       string     // unique in a network
	RouterID  netip.Addr // the BGP identifier (RFC 4271 section 1.1), an IPv4 address
	Own       []Originated
	Summaries []Summary
	Connected []netip.Prefix // where a next hop is reached without a route
	Multipath bool           // equal routes share
}

// Originated is a range that a speaker announces by itself.
type Originated struct {
	Prefix netip.Prefix
	Quiet  bool   // only a session whose Out has rules may announce it
	Only   string // the group of ends that may announce it; empty: every one
}

// Summary is a range that a speaker announces while its table has a longer one
// inside it.
type Summary struct {
	Prefix netip.Prefix
	Hide   bool // its parts are not announced
}

// Session is a session. One that is up drops if more is announced than an end
// takes.
type Session struct {
	Key  string // unique in a network
	Down bool   // it is not established
	Ends [2]End
}

// End is one end of a session.
type End struct {
	Speaker     string   // whose routes it announces
	Into        []string // the speakers that take what it learns
	Away        []uint32 // by Into: in that table what has less goes first; none: 0
	Group       string   // what it belongs to, for [Origin.Only]
	ASN         uint32
	Address     netip.Addr
	Families    [2]bool   // IPv4 and IPv6
	Limit       [2]uint32 // the most routes that it takes of each family; 0: any number
	AllowOwn    uint32    // how often its own ASN may stand in a path
	Client      bool      // the far end is its client (RFC 4456)
	KeepNextHop bool      // it announces learned routes with the next hop that they have
	Join        bool      // it is no session on the wire: tables of one administration, joined
	Weight      uint32    // what is learned here goes before what has less, whatever its attributes
	In          []Rule    // empty: everything is taken
	Out         []Rule    // empty: the speaker's own ranges are announced and nothing learned
}

// Rule is one rule of a filter: what it matches, what it sets, what becomes of
// the route. All conditions that are given must hold.
type Rule struct {
	Range     *Range                // nil: any prefix
	Has       []negotiate.Community // any of them
	Through   uint32                // this ASN stands in the path; 0: any path
	Neighbour uint32                // it is the first in the path
	OriginAS  uint32                // it is the last in the path
	Longest   uint32                // the path has at most so many; 0: any number

	LocalPref uint32 // 0: as it is
	MED       uint32 // 0: as it is
	Origin    Origin // Unset: as it is
	Prepend   uint8
	Add       []negotiate.Community
	Take      []negotiate.Community // taken away

	Action Action
}

// Range is a prefix with the lengths that count.
type Range struct {
	Prefix   netip.Prefix
	From, To int
}

// Matches reports whether a prefix lies in the range and has one of its lengths.
func (r Range) Matches(p netip.Prefix) bool {
	return p.Bits() >= r.From && p.Bits() <= r.To && r.Prefix.Bits() <= p.Bits() && r.Prefix.Contains(p.Addr())
}

// Action is what becomes of a route that a rule matches.
type Action uint8

// The verdicts. The zero Verdict is Accept.
const (
	Accept Action = iota
	Refuse
	GoOn // the next rule is asked
)

// Origin is the origin of a route (RFC 4271 section 5.1.1).
type Origin uint8

// The origins, the best first.
const (
	Unset Origin = iota // in a rule only
	IGP
	EGP
	Incomplete
)

func (c Origin) String() string { return [...]string{"", "IGP", "EGP", "incomplete"}[c] }

// Route is a route as one speaker has it. It must not be changed.
type Route struct {
	Path        []uint32 // the AS path, the neighbour first
	Origin      Origin
	LocalPref   uint32
	MED         uint32
	Communities []negotiate.Community // in order
	NextHop     netip.Addr            // invalid: its own
	Originator  netip.Addr            // RFC 4456; invalid if it was not reflected
	Clusters    []netip.Addr          // RFC 4456
	Summary     bool
	Quiet       bool
	Only        []string // groups of ends that may announce it; none: every one

	Weight   uint32
	Away     uint32   // see [End.Away]
	Internal bool     // learned on an internal session
	Client   bool     // and from a client
	Session  *Session // learned on; nil: its own
	End      int      // which end of the session is the speaker's
	Parent   *Route   // the route at the speaker that announced it; nil: its own
	At       string   // the speaker that has it
	Hops     int      // sessions passed since it was originated

	session int32 // of Session, in its network
	peerID  netip.Addr
}

// Own reports whether the speaker announces it by itself.
func (r *Route) Own() bool { return r.Session == nil }

// Why names the rule by which one route goes before another.
type Why uint8

// The rules, in their order (RFC 4271 section 9.1.2.2, RFC 4456 section 9).
const (
	Alone Why = iota // nothing else is there
	Unreachable
	OwnFirst
	Weighted
	Nearer
	HigherLocalPref
	ShorterPath
	BetterOrigin
	LowerMED
	ExternalFirst
	LowerRouterID
	FewerClusters
	LowerAddress
	Shares // equal down to the metric: both are used
)

var whyWords = [...]string{
	"it is the only one",
	"the next hop of the other can not be used",
	"its own ranges go first",
	"what comes this way is preferred",
	"what carries its own segment goes first",
	"higher local preference",
	"shorter AS path",
	"better origin",
	"lower MED from the same neighbour",
	"external before internal",
	"lower router ID",
	"shorter cluster list",
	"lower address of the neighbour",
	"equal: both are used",
}

func (w Why) String() string { return whyWords[w] }

// Chance reports whether nothing that anybody chose decides.
func (w Why) Chance() bool { return w >= LowerRouterID && w <= LowerAddress }

// Stop is why a route did not get from one end of a session to the other.
type Stop uint8

// The stops.
const (
	Passed        Stop = iota
	Nothing            // the speaker has no route
	Unannounced        // an Out without rules announces the speaker's own ranges only
	OutFilter          // the announcing end's filter
	InFilter           // the taking end's filter
	LoopCheck          // the taker's own ASN stands in the path (RFC 4271 section 9.1.2)
	SplitHorizon       // learned on an internal session, and not told to another (RFC 4271 section 9.2.1)
	BackToSender       // it came by this very session
	NoExport           // a community forbids it (RFC 1997)
	ReflectedLoop      // the taker's own ID stands in the cluster list, or it gave birth to the route (RFC 4456)
	HiddenPart         // a summary goes instead
	OtherFamily        // the session does not carry the family
	NotUp              // the session is not established
	OverLimit          // the session dropped: more than the taker takes
	ElsewhereOnly      // it is announced by another joint only
)
