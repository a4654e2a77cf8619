package design

import (
	"net/netip"
	"reflect"
	"slices"
	"strings"

	"dravin/core/provider"
)

// State tells how far something that is being made has come. The empty State
// is that of what simply exists, ready.
type State = string

// The states, in their order.
const (
	Drafted State = "drafted"
	Waiting State = "waiting-for-the-other-half"
	Making  State = "being-built"
	Ready   State = "ready"
	Refused State = "refused"
	Gone    State = "gone"
)

// StateWord is a state as people say it.
func StateWord(s State) string { return strings.ReplaceAll(s, "-", " ") }

// The steps of a circuit's making.
const (
	StepOrdered  = "ordered"
	StepCode     = "code"
	StepAccepted = "accepted"
	StepInUse    = "session"
)

// Profile is what one cloud allows.
type Profile provider.Profile

// Link is a VPN between two gateways.
type Link struct {
	// static: route-based, routes decide what enters; selectors: policy-based, selectors decide (RFC 4301 section
	// 4.4.1); bgp: route-based, and the routes are learned on a session.
	Routing string `yaml:"routing" json:"routing" enum:"static,selectors,bgp"`
	// Its two ends.
	Ends []End `yaml:"ends" json:"ends" min:"2" max:"2"`
	// The routing domain that it carries; left out: whatever meets at its ends.
	Segment Ref `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment"`
	// How far it has come; ready if left out.
	State State `yaml:"state,omitempty" json:"state,omitempty" enum:"states"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// How a link decides what enters it.
const (
	RoutingStatic    = "static"
	RoutingSelectors = "selectors"
	RoutingBGP       = "bgp"
)

// End is one end of a link.
type End struct {
	// The gateway at this end.
	Gateway Ref `yaml:"gateway" json:"gateway" ref:"gateway"`
	// Route-based: what this end sends into the link; with bgp, what it is expected to learn there.
	Routes []netip.Prefix `yaml:"routes,omitempty" json:"routes,omitempty"`
	// Policy-based: this end's selectors, as on the wire (after mapping).
	Local []netip.Prefix `yaml:"local,omitempty" json:"local,omitempty"`
	// Policy-based: the far end's selectors as this end has them.
	Remote []netip.Prefix `yaml:"remote,omitempty" json:"remote,omitempty"`
}

// Tunnel is one tunnel of a link.
type Tunnel struct {
	// The public addresses at the first and second end; 0.0.0.0 while a cloud has not given it yet.
	Outside []netip.Addr `yaml:"outside" json:"outside" min:"2" max:"2"`
	// Route-based: the inside addresses at the first and second end, with their common prefix length.
	Inside []netip.Prefix `yaml:"inside,omitempty" json:"inside,omitempty" host:"true" max:"2"`
	// The routing domain that this tunnel carries, if it is not that of its link.
	Segment Ref `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment"`
	// What the first and second end are set to, where that does not follow from the rest.
	Ends []TunnelEnd `yaml:"ends,omitempty" json:"ends,omitempty" max:"2"`
}

// TunnelEnd is what one end of a tunnel is set to. What is left out follows
// from the tunnel, the link and the gateways.
type TunnelEnd struct {
	// The far end's address as this end has it.
	Peer netip.Addr `yaml:"peer,omitempty" json:"peer,omitzero"`
	// What it calls itself (RFC 7296 section 3.5); its address if left out.
	Identity string `yaml:"identity,omitempty" json:"identity,omitempty" form:"identity"`
	// What it expects the far end to call itself.
	PeerIdentity string `yaml:"peer_identity,omitempty" json:"peer_identity,omitempty" form:"identity"`
	// IKE version; 2 if left out.
	Version uint8 `yaml:"version,omitempty" json:"version,omitempty"`
	// IKE proposals, the preferred first.
	IKE []string `yaml:"ike,omitempty" json:"ike,omitempty" form:"ike"`
	// ESP proposals, the preferred first.
	ESP []string `yaml:"esp,omitempty" json:"esp,omitempty" form:"esp"`
	// Seconds until the IKE SA is renewed; 14400 if left out.
	IKELife uint32 `yaml:"ike_life,omitempty" json:"ike_life,omitempty"`
	// Seconds until the keys of packets are renewed; 3600 if left out.
	ChildLife uint32 `yaml:"child_life,omitempty" json:"child_life,omitempty"`
	// Seconds between questions whether the far end lives; 10 if left out.
	DPD uint32 `yaml:"dpd,omitempty" json:"dpd,omitempty"`
	// Route-based: its own selectors, if they are not everything. A policy-based link has them at its ends.
	Local []netip.Prefix `yaml:"local,omitempty" json:"local,omitempty"`
	// Route-based: the far end's selectors as it has them, if they are not everything.
	Remote []netip.Prefix `yaml:"remote,omitempty" json:"remote,omitempty"`
	// Its inside address, if it is another than planned.
	Inside netip.Prefix `yaml:"inside,omitempty" json:"inside,omitzero" host:"true"`
	// MTU inside the tunnel, bytes; what fits if left out.
	MTU uint32 `yaml:"mtu,omitempty" json:"mtu,omitempty"`
	// How far it is set up, where that is another than at the far end; as the link's if left out.
	State State `yaml:"state,omitempty" json:"state,omitempty" enum:"drafted,being-built,ready,gone"`
	// It stands behind a NAT.
	NAT bool `yaml:"nat,omitempty" json:"nat,omitempty"`
	// It puts ESP into UDP always (RFC 3948).
	Encapsulate bool `yaml:"encapsulate,omitempty" json:"encapsulate,omitempty"`
}

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

// Summary is a range that is announced while a part of it is known.
type Summary struct {
	// The range.
	Prefix netip.Prefix `yaml:"prefix" json:"prefix"`
	// Its parts are not announced.
	Hide bool `yaml:"hide,omitempty" json:"hide,omitempty"`
}

// Hub is a cloud's router between attachments.
type Hub struct {
	// The cloud it is in.
	Cloud string `yaml:"cloud" json:"cloud"`
	// The cloud's region.
	Region string `yaml:"region,omitempty" json:"region,omitempty"`
	// Who answers for it and lets others join.
	Owner Ref `yaml:"owner,omitempty" json:"owner,omitempty" ref:"owner"`
	// Its autonomous system; 0 if it speaks no BGP.
	ASN uint32 `yaml:"asn,omitempty" json:"asn,omitempty"`
	// How far it has come; ready if left out.
	State State `yaml:"state,omitempty" json:"state,omitempty" enum:"states"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// HubTable is a table of a hub.
type HubTable struct {
	// Its routing domain; left out: whatever is fed into it.
	Segment Ref `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment"`
	// Static entries.
	Routes []HubEntry `yaml:"routes,omitempty" json:"routes,omitempty"`
}

// HubEntry is a static entry of a hub table.
type HubEntry struct {
	// Where to.
	Prefix netip.Prefix `yaml:"prefix" json:"prefix"`
	// The attachment that takes it; left out: a black hole.
	Via Ref `yaml:"via,omitempty" json:"via,omitempty" ref:"attachment"`
}

// Attachment joins something to a hub.
type Attachment struct {
	// What is attached.
	What Ref `yaml:"what" json:"what" ref:"network,link,circuit,hub"`
	// A network's: one subnet per zone, where the profile wants them.
	Subnets []Ref `yaml:"subnets,omitempty" json:"subnets,omitempty" ref:"subnet"`
	// The hub table that decides for what comes in by it.
	Bound Ref `yaml:"bound,omitempty" json:"bound,omitempty" ref:"hub-table"`
	// The hub tables that learn its ranges.
	Feeds []Ref `yaml:"feeds,omitempty" json:"feeds,omitempty" ref:"hub-table"`
	// Its routing domain, if it is not that of what is attached.
	Segment Ref `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment"`
	// A network's: the table that routes what comes in by it; left out: it is for the network itself.
	Enters Ref `yaml:"enters,omitempty" json:"enters,omitempty" ref:"table"`
	// Ranges that it does not export.
	KeepOut []netip.Prefix `yaml:"keep_out,omitempty" json:"keep_out,omitempty"`
	// A network's: the subnet, without hosts and exported, behind whose addresses it hides what comes from ranges that
	// are kept out.
	Pool Ref `yaml:"source_pool,omitempty" json:"source_pool,omitempty" ref:"subnet"`
	// How far it has come; ready if left out.
	State State `yaml:"state,omitempty" json:"state,omitempty" enum:"states"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// EdgeRouter is a virtual router at an exchange.
type EdgeRouter struct {
	// Where it stands.
	Exchange string `yaml:"exchange" json:"exchange"`
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

// Circuit is a private circuit.
type Circuit struct {
	// Its two ends; the order is made at the first.
	Ends []CircuitEnd `yaml:"ends" json:"ends" min:"2" max:"2"`
	// How far its making has come: ordered, the code is there, it is accepted, the session is up.
	Step string `yaml:"step,omitempty" json:"step,omitempty" enum:"ordered,code,accepted,session"`
	// The order code that one party gives the other.
	Code string `yaml:"code,omitempty" json:"code,omitempty" form:"code"`
	// The routing domain that it carries; left out: whatever meets at its ends.
	Segment Ref `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment"`
	// The zone that the code holds for.
	CodeZone string `yaml:"code_zone,omitempty" json:"code_zone,omitempty"`
	// Until when the code can be used, as 2026-12-01.
	Expires string `yaml:"expires,omitempty" json:"expires,omitempty"`
	// How far it has come; ready if left out.
	State State `yaml:"state,omitempty" json:"state,omitempty" enum:"states"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// CircuitEnd is one end of a circuit.
type CircuitEnd struct {
	// Where it ends.
	At Ref `yaml:"at" json:"at" ref:"gateway,edge-router"`
	// The zone that this end has it in.
	Zone string `yaml:"zone,omitempty" json:"zone,omitempty"`
	// The speed that this end has, Mbit/s.
	Mbps uint32 `yaml:"mbps" json:"mbps"`
	// The VLAN tag (IEEE 802.1Q).
	VLAN uint16 `yaml:"vlan,omitempty" json:"vlan,omitempty"`
	// Its address on the circuit, with the length of the range that both ends share; left out where a session says it.
	Inside netip.Prefix `yaml:"inside,omitempty" json:"inside,omitzero" host:"true"`
	// What this end is expected to learn over it; without a session, what it sends into it.
	Routes []netip.Prefix `yaml:"routes,omitempty" json:"routes,omitempty"`
	// A network's: the table that routes what comes in by it; left out: as its gateway says.
	Enters Ref `yaml:"enters,omitempty" json:"enters,omitempty" ref:"table"`
}

// Peering joins two networks directly.
type Peering struct {
	// Its two halves.
	Halves []Half `yaml:"halves" json:"halves" min:"2" max:"2"`
	// How far it has come; ready if left out.
	State State `yaml:"state,omitempty" json:"state,omitempty" enum:"states"`
	// Free text.
	Note string `yaml:"note,omitempty" json:"note,omitempty" form:"free"`
}

// Half is one network's half of a peering.
type Half struct {
	// Whose half it is.
	Network Ref `yaml:"network" json:"network" ref:"network"`
	// It exists in the cloud.
	Made bool `yaml:"made,omitempty" json:"made,omitempty"`
	// The other network may use this one's gateway.
	LendsGateway bool `yaml:"lends_gateway,omitempty" json:"lends_gateway,omitempty"`
	// This network uses the other one's gateway.
	UsesGateway bool `yaml:"uses_gateway,omitempty" json:"uses_gateway,omitempty"`
	// The table of this network that routes what comes in from the other; left out: it is for this network itself.
	Enters Ref `yaml:"enters,omitempty" json:"enters,omitempty" ref:"table"`
	// This network takes packets that the other one only forwards.
	AcceptForwarded bool `yaml:"accept_forwarded,omitempty" json:"accept_forwarded,omitempty"`
}

// Request is one owner's wish to join something of another's.
type Request struct {
	// What would be made.
	For Ref `yaml:"for" json:"for" ref:"link,peering,circuit,attachment"`
	// Who asks.
	From Ref `yaml:"from,omitempty" json:"from,omitempty" ref:"owner"`
	// Who decides.
	To Ref `yaml:"to,omitempty" json:"to,omitempty" ref:"owner"`
	// What was decided; left out while it is open.
	Answer string `yaml:"answer,omitempty" json:"answer,omitempty" enum:"accepted,refused"`
	// Why.
	Reason string `yaml:"reason,omitempty" json:"reason,omitempty" form:"free"`
}

func (*Profile) kind() Kind    { return KindProfile }
func (*Link) kind() Kind       { return KindLink }
func (*Tunnel) kind() Kind     { return KindTunnel }
func (*Session) kind() Kind    { return KindSession }
func (*Hub) kind() Kind        { return KindHub }
func (*HubTable) kind() Kind   { return KindHubTable }
func (*Attachment) kind() Kind { return KindAttachment }
func (*EdgeRouter) kind() Kind { return KindEdgeRouter }
func (*Circuit) kind() Kind    { return KindCircuit }
func (*Peering) kind() Kind    { return KindPeering }
func (*Request) kind() Kind    { return KindRequest }

// End returns the link's end at that gateway and the other one, and their
// positions 0 or 1. ok is false if the link does not end there.
func (l *Link) End(gateway ID) (near, far *End, n int, ok bool) {
	if len(l.Ends) != 2 {
		return nil, nil, 0, false
	}
	for n := range l.Ends {
		if l.Ends[n].Gateway == gateway {
			return &l.Ends[n], &l.Ends[1-n], n, true
		}
	}
	return nil, nil, 0, false
}

// Tunnels are the tunnels of a link, without those that are gone at either end: the other
// end sends nothing into them, and no file names them.
func (d *Design) Tunnels(link ID) []*Object {
	return slices.DeleteFunc(slices.Clone(d.Inside(link, KindTunnel)), GoneAtAnEnd)
}

// GoneAtAnEnd reports whether a tunnel is gone at either of its ends.
func GoneAtAnEnd(tunnel *Object) bool {
	return slices.ContainsFunc(tunnel.Body.(*Tunnel).Ends, func(e TunnelEnd) bool { return e.State == Gone })
}

// made is a body that has a state.
type made interface{ state() *State }

func (b *Link) state() *State       { return &b.State }
func (b *Peering) state() *State    { return &b.State }
func (b *Circuit) state() *State    { return &b.State }
func (b *Attachment) state() *State { return &b.State }
func (b *Hub) state() *State        { return &b.State }
func (b *EdgeRouter) state() *State { return &b.State }

// StateOf is the state of a link, peering, circuit, attachment, hub or edge
// router; [Ready] for what has none.
func StateOf(o *Object) State {
	if m, ok := o.Body.(made); ok && *m.state() != "" {
		return *m.state()
	}
	return Ready
}

// InState is o in another state, or o itself if it has none.
func (o *Object) InState(s State) *Object {
	if _, ok := o.Body.(made); !ok {
		return o
	}
	body := reflect.New(reflect.TypeOf(o.Body).Elem())
	body.Elem().Set(reflect.ValueOf(o.Body).Elem())
	*body.Interface().(made).state() = s
	return o.With(body.Interface().(Body))
}

// OwnerOf is who answers for a party, empty if nobody is said to.
func OwnerOf(o *Object) ID {
	if o == nil {
		return ""
	}
	switch b := o.Body.(type) {
	case *Site:
		return b.Owner
	case *Network:
		return b.Owner
	case *Hub:
		return b.Owner
	case *EdgeRouter:
		return b.Owner
	case *Outside:
		return b.Owner
	}
	return ""
}

// CloudOf is the cloud that a network or hub is in, empty for anything else.
func CloudOf(o *Object) string {
	switch b := o.Body.(type) {
	case *Network:
		return b.Cloud
	case *Hub:
		return b.Cloud
	}
	return ""
}
