package topology

import (
	"net/netip"

	"dravin/core/design"
	"dravin/core/status"
)

// Kind is all that there is to know of one kind of joint. Hooks that may be nil say what
// nothing means.
type Kind struct {
	Kind design.Kind
	// Judge is how one stands.
	Judge status.Judge
	// Edge is what leaves it at its end 0 or 1, without what all kinds have alike: where it
	// comes to in the end and by which table it is routed there.
	Edge func(d *design.Design, o *design.Object, end int) Edge
	// Routes are the ranges that are entered at one of its ends: what it brings there without a
	// session, what is expected there with one; nil: none.
	Routes func(d *design.Design, o *design.Object, end int) []netip.Prefix
	// Inside are the addresses that one of its ends has on it; nil: none.
	Inside func(d *design.Design, o *design.Object, end int) []Inside
	// Carriers are what its sessions run over; nil: it has no sessions of its own.
	Carriers func(d *design.Design, o *design.Object) []*design.Object
	// Learns reports whether its routes are learned on sessions; nil: never.
	Learns func(d *design.Design, o *design.Object) bool
	// Admits are the tunnels, of those that are up, on which a packet may enter, or why it may
	// not; nil: everything passes.
	Admits func(s *status.Status, e Edge, p Packet) ([]*design.Object, *Denial)
	// Selects reports whether selectors decide what enters, and no route; nil: never.
	Selects func(o *design.Object) bool
	// Unfinished reports whether its making has not come to its end, beside its state; nil: its
	// state tells all.
	Unfinished func(o *design.Object) bool
}

// Kinds are the kinds of joints, in the order of [design.JointKinds].
var Kinds = []*Kind{&link, &circuit, &peering, &attachment}

var byKind = map[design.Kind]*Kind{}

func init() {
	for _, k := range Kinds {
		byKind[k.Kind] = k
	}
}

// KindOf is the kind of an object as a joint; nil if it is none.
func KindOf(o *design.Object) *Kind {
	if o == nil {
		return nil
	}
	return byKind[o.Kind]
}

// judges are how everything stands that joins something or runs over a joint.
func judges() map[design.Kind]status.Judge {
	out := map[design.Kind]status.Judge{design.KindTunnel: judgeTunnel, design.KindSession: judgeSession}
	for _, k := range Kinds {
		out[k.Kind] = k.Judge
	}
	return out
}

// Inside is an address that an end has on a joint.
type Inside struct {
	Own    netip.Prefix // with the length of the range that both ends share
	Far    netip.Addr   // the far end's
	Tunnel design.ID    // on which it is; empty where the joint has none
}

// At are the joints that end at a gateway or edge router, in canonical order.
func At(d *design.Design, end design.ID) []*design.Object {
	return design.InOrder(d.Referring(end, design.JointKinds...))
}

// Learns reports whether the routes over a joint are learned on its sessions.
func Learns(d *design.Design, joint *design.Object) bool {
	k := KindOf(joint)
	return k != nil && k.Learns != nil && k.Learns(d, joint)
}

// Packet is what a joint may ask of a packet that would enter it.
type Packet struct {
	Src, Dst    netip.Addr
	Tunnels     []*design.Object // those of the joint that are up and that its route takes
	FromGateway bool             // a cloud's gateway sends it, and not a table of hosts
	Asked       func()           // called when somebody looks at where it comes from
	AskedTo     func()           // called when somebody looks at where it goes
}

// to is where the packet goes.
func (p Packet) to() netip.Addr {
	if p.AskedTo != nil {
		p.AskedTo()
	}
	return p.Dst
}

// from is where the packet comes from.
func (p Packet) from() netip.Addr {
	if p.Asked != nil {
		p.Asked()
	}
	return p.Src
}

// Code names why a joint does not take a packet that would enter it while it is up.
type Code string

// The codes, with which walks stop.
const (
	SelectorMiss  Code = "selector-miss"  // no selector covers source and destination
	NotTransitive Code = "not-transitive" // a peering carries the two networks' own ranges only
	ZoneCutOff    Code = "zone-cut-off"   // the attachment has no subnet in the host's zone
)

// Denial is why a joint does not take a packet, and what would let it pass.
type Denial struct {
	Code     Code
	Why, Fix string
}

// Admits are the tunnels on which a packet may enter a joint, or why it may not.
func Admits(s *status.Status, e Edge, p Packet) ([]*design.Object, *Denial) {
	if k := byKind[e.Kind]; k.Admits != nil {
		return k.Admits(s, e, p)
	}
	return p.Tunnels, nil
}

// Selects reports whether selectors decide what enters a joint; false for what is none.
func Selects(o *design.Object) bool {
	k := KindOf(o)
	return k != nil && k.Selects != nil && k.Selects(o)
}

// Status begins the status of a design under a condition.
func Status(d *design.Design, c status.Condition) *status.Status { return status.Of(d, c, judges()) }

// BetweenBoxes reports whether a kind joins gateways and edge routers, with routes into it at
// either; others join networks and hubs.
func BetweenBoxes(k design.Kind) bool { return byKind[k] != nil && byKind[k].Routes != nil }

// CarriersOf are what the sessions of a joint run over; none if it has none.
func CarriersOf(d *design.Design, joint *design.Object) []*design.Object {
	if k := KindOf(joint); k != nil && k.Carriers != nil {
		return k.Carriers(d, joint)
	}
	return nil
}

// SessionsOf are the sessions that run over a joint, in canonical order of what carries them.
func SessionsOf(d *design.Design, joint *design.Object) []*design.Object {
	var out []*design.Object
	for _, c := range CarriersOf(d, joint) {
		out = append(out, d.Inside(c.ID, design.KindSession)...)
	}
	return out
}
