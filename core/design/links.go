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
	Routing string `yaml:"routing" json:"routing" enum:"static,selectors,bgp" doc:"static: route-based, routes decide what enters; selectors: policy-based, selectors decide (RFC 4301 section 4.4.1); bgp: route-based, and the routes are learned on a session."`
	Ends    []End  `yaml:"ends" json:"ends" doc:"Its two ends." min:"2" max:"2"`
	Segment Ref    `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment" doc:"The routing domain that it carries; left out: whatever meets at its ends."`
	State   State  `yaml:"state,omitempty" json:"state,omitempty" enum:"drafted,waiting-for-the-other-half,being-built,ready,refused,gone" doc:"How far it has come; ready if left out."`
	Note    string `yaml:"note,omitempty" json:"note,omitempty" form:"free" doc:"Free text."`
}

// How a link decides what enters it.
const (
	RoutingStatic    = "static"
	RoutingSelectors = "selectors"
	RoutingBGP       = "bgp"
)

// End is one end of a link.
type End struct {
	Gateway Ref            `yaml:"gateway" json:"gateway" ref:"gateway" doc:"The gateway at this end."`
	Routes  []netip.Prefix `yaml:"routes,omitempty" json:"routes,omitempty" doc:"Route-based: what this end sends into the link; with bgp, what it is expected to learn there."`
	Local   []netip.Prefix `yaml:"local,omitempty" json:"local,omitempty" doc:"Policy-based: this end's selectors, as on the wire (after mapping)."`
	Remote  []netip.Prefix `yaml:"remote,omitempty" json:"remote,omitempty" doc:"Policy-based: the far end's selectors as this end has them."`
}

// Tunnel is one tunnel of a link.
type Tunnel struct {
	Outside []netip.Addr   `yaml:"outside" json:"outside" doc:"The public addresses at the first and second end; 0.0.0.0 while a cloud has not given it yet." min:"2" max:"2"`
	Inside  []netip.Prefix `yaml:"inside,omitempty" json:"inside,omitempty" host:"true" doc:"Route-based: the inside addresses at the first and second end, with their common prefix length." max:"2"`
	Segment Ref            `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment" doc:"The routing domain that this tunnel carries, if it is not that of its link."`
	Ends    []TunnelEnd    `yaml:"ends,omitempty" json:"ends,omitempty" doc:"What the first and second end are set to, where that does not follow from the rest." max:"2"`
}

// TunnelEnd is what one end of a tunnel is set to. What is left out follows
// from the tunnel, the link and the gateways.
type TunnelEnd struct {
	Peer         netip.Addr     `yaml:"peer,omitempty" json:"peer,omitzero" doc:"The far end's address as this end has it."`
	Identity     string         `yaml:"identity,omitempty" json:"identity,omitempty" form:"identity" doc:"What it calls itself (RFC 7296 section 3.5); its address if left out."`
	PeerIdentity string         `yaml:"peer_identity,omitempty" json:"peer_identity,omitempty" form:"identity" doc:"What it expects the far end to call itself."`
	Version      uint8          `yaml:"version,omitempty" json:"version,omitempty" doc:"IKE version; 2 if left out."`
	IKE          []string       `yaml:"ike,omitempty" json:"ike,omitempty" form:"ike" doc:"IKE proposals, the preferred first."`
	ESP          []string       `yaml:"esp,omitempty" json:"esp,omitempty" form:"esp" doc:"ESP proposals, the preferred first."`
	IKELife      uint32         `yaml:"ike_life,omitempty" json:"ike_life,omitempty" doc:"Seconds until the IKE SA is renewed; 14400 if left out."`
	ChildLife    uint32         `yaml:"child_life,omitempty" json:"child_life,omitempty" doc:"Seconds until the keys of packets are renewed; 3600 if left out."`
	DPD          uint32         `yaml:"dpd,omitempty" json:"dpd,omitempty" doc:"Seconds between questions whether the far end lives; 10 if left out."`
	Local        []netip.Prefix `yaml:"local,omitempty" json:"local,omitempty" doc:"Route-based: its own selectors, if they are not everything. A policy-based link has them at its ends."`
	Remote       []netip.Prefix `yaml:"remote,omitempty" json:"remote,omitempty" doc:"Route-based: the far end's selectors as it has them, if they are not everything."`
	Inside       netip.Prefix   `yaml:"inside,omitempty" json:"inside,omitzero" host:"true" doc:"Its inside address, if it is another than planned."`
	MTU          uint32         `yaml:"mtu,omitempty" json:"mtu,omitempty" doc:"MTU inside the tunnel, bytes; what fits if left out."`
	State        State          `yaml:"state,omitempty" json:"state,omitempty" enum:"drafted,being-built,ready,gone" doc:"How far it is set up, where that is another than at the far end; as the link's if left out."`
	NAT          bool           `yaml:"nat,omitempty" json:"nat,omitempty" doc:"It stands behind a NAT."`
	Encapsulate  bool           `yaml:"encapsulate,omitempty" json:"encapsulate,omitempty" doc:"It puts ESP into UDP always (RFC 3948)."`
}

// Session is a BGP session.
type Session struct {
	Ends []SessionEnd `yaml:"ends" json:"ends" doc:"Its two ends, in the order of the tunnel's or circuit's." min:"2" max:"2"`
}

// SessionEnd is what one end of a session is set to.
type SessionEnd struct {
	ASN         uint32     `yaml:"asn" json:"asn" doc:"Its own autonomous system."`
	Address     netip.Addr `yaml:"address" json:"address" doc:"The address it speaks from."`
	PeerASN     uint32     `yaml:"peer_asn,omitempty" json:"peer_asn,omitempty" doc:"The far ASN as this end has it; the far end's if left out."`
	Peer        netip.Addr `yaml:"peer,omitempty" json:"peer,omitzero" doc:"The far address as this end has it; the far end's if left out."`
	Hold        uint32     `yaml:"hold,omitempty" json:"hold,omitempty" doc:"Hold time, seconds; 90 if left out (RFC 4271 section 10)."`
	Password    bool       `yaml:"password,omitempty" json:"password,omitempty" doc:"It signs with the session's password (RFC 2385)."`
	Families    []string   `yaml:"families,omitempty" json:"families,omitempty" enum:"ipv4,ipv6" doc:"Address families; ipv4 if left out."`
	MaxPrefixes uint32     `yaml:"max_prefixes,omitempty" json:"max_prefixes,omitempty" doc:"More routes than this drop the session; 0: no limit."`
	Client      bool       `yaml:"client,omitempty" json:"client,omitempty" doc:"The far end is its client: routes learned inside the autonomous system are told to it, and its own to all (RFC 4456)."`
	KeepNextHop bool       `yaml:"keep_next_hop,omitempty" json:"keep_next_hop,omitempty" doc:"It announces what it learned with the next hop that it has, and not with its own address."`
	AllowOwn    uint32     `yaml:"allow_own,omitempty" json:"allow_own,omitempty" doc:"How often its own ASN may stand in a path."`
	In          []Filter   `yaml:"in,omitempty" json:"in,omitempty" doc:"What it takes, first match; empty: everything."`
	Out         []Filter   `yaml:"out,omitempty" json:"out,omitempty" doc:"What it announces, of its own and of what it learned, first match; empty: everything of its own."`
}

// Filter is one rule of a route filter: what it matches, what it sets, what
// becomes of the route. All conditions that are given must hold.
type Filter struct {
	Prefix      netip.Prefix `yaml:"prefix,omitempty" json:"prefix,omitzero" doc:"Which range; left out: any."`
	From        uint8        `yaml:"from,omitempty" json:"from,omitempty" doc:"Shortest prefix length that matches; the range's own if left out."`
	To          uint8        `yaml:"to,omitempty" json:"to,omitempty" doc:"Longest that matches; as from if left out."`
	Has         []string     `yaml:"has,omitempty" json:"has,omitempty" form:"community" doc:"It has one of these communities; left out: any or none."`
	Through     uint32       `yaml:"through,omitempty" json:"through,omitempty" doc:"This ASN stands in its path."`
	Neighbour   uint32       `yaml:"neighbour,omitempty" json:"neighbour,omitempty" doc:"This ASN is the first in its path."`
	Born        uint32       `yaml:"born,omitempty" json:"born,omitempty" doc:"This ASN is the last in its path."`
	Longest     uint32       `yaml:"longest,omitempty" json:"longest,omitempty" doc:"Its path has at most so many ASNs; 0: any number."`
	Deny        bool         `yaml:"deny,omitempty" json:"deny,omitempty" doc:"Drop it instead; as verdict: refuse."`
	Verdict     string       `yaml:"verdict,omitempty" json:"verdict,omitempty" enum:"accept,refuse,go-on" doc:"What becomes of it; go-on: the next rule is asked, with what this one sets. accept if left out."`
	Prepend     uint8        `yaml:"prepend,omitempty" json:"prepend,omitempty" doc:"How often the own ASN is put in front once more."`
	LocalPref   uint32       `yaml:"local_pref,omitempty" json:"local_pref,omitempty" doc:"Local preference."`
	MED         uint32       `yaml:"med,omitempty" json:"med,omitempty" doc:"Multi-exit discriminator."`
	Origin      string       `yaml:"origin,omitempty" json:"origin,omitempty" enum:"igp,egp,incomplete" doc:"Origin to set (RFC 4271 section 5.1.1)."`
	Communities []string     `yaml:"communities,omitempty" json:"communities,omitempty" form:"community" doc:"To add, such as 64501:20 or no-export (RFC 1997, RFC 8092)."`
	Take        []string     `yaml:"take,omitempty" json:"take,omitempty" form:"community" doc:"Communities to take away."`
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
	Prefix netip.Prefix `yaml:"prefix" json:"prefix" doc:"The range."`
	Hide   bool         `yaml:"hide,omitempty" json:"hide,omitempty" doc:"Its parts are not announced."`
}

// Hub is a cloud's router between attachments.
type Hub struct {
	Cloud  string `yaml:"cloud" json:"cloud" doc:"The cloud it is in."`
	Region string `yaml:"region,omitempty" json:"region,omitempty" doc:"The cloud's region."`
	Owner  Ref    `yaml:"owner,omitempty" json:"owner,omitempty" ref:"owner" doc:"Who answers for it and lets others join."`
	ASN    uint32 `yaml:"asn,omitempty" json:"asn,omitempty" doc:"Its autonomous system; 0 if it speaks no BGP."`
	State  State  `yaml:"state,omitempty" json:"state,omitempty" enum:"drafted,waiting-for-the-other-half,being-built,ready,refused,gone" doc:"How far it has come; ready if left out."`
	Note   string `yaml:"note,omitempty" json:"note,omitempty" form:"free" doc:"Free text."`
}

// HubTable is a table of a hub.
type HubTable struct {
	Segment Ref        `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment" doc:"Its routing domain; left out: whatever is fed into it."`
	Routes  []HubEntry `yaml:"routes,omitempty" json:"routes,omitempty" doc:"Static entries."`
}

// HubEntry is a static entry of a hub table.
type HubEntry struct {
	Prefix netip.Prefix `yaml:"prefix" json:"prefix" doc:"Where to."`
	Via    Ref          `yaml:"via,omitempty" json:"via,omitempty" ref:"attachment" doc:"The attachment that takes it; left out: a black hole."`
}

// Attachment joins something to a hub.
type Attachment struct {
	What    Ref            `yaml:"what" json:"what" ref:"network,link,circuit,hub" doc:"What is attached."`
	Subnets []Ref          `yaml:"subnets,omitempty" json:"subnets,omitempty" ref:"subnet" doc:"A network's: one subnet per zone, where the profile wants them."`
	Bound   Ref            `yaml:"bound,omitempty" json:"bound,omitempty" ref:"hub-table" doc:"The hub table that decides for what comes in by it."`
	Feeds   []Ref          `yaml:"feeds,omitempty" json:"feeds,omitempty" ref:"hub-table" doc:"The hub tables that learn its ranges."`
	Segment Ref            `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment" doc:"Its routing domain, if it is not that of what is attached."`
	Enters  Ref            `yaml:"enters,omitempty" json:"enters,omitempty" ref:"table" doc:"A network's: the table that routes what comes in by it; left out: it is for the network itself."`
	KeepOut []netip.Prefix `yaml:"keep_out,omitempty" json:"keep_out,omitempty" doc:"Ranges that it does not export."`
	Pool    Ref            `yaml:"source_pool,omitempty" json:"source_pool,omitempty" ref:"subnet" doc:"A network's: the subnet, without hosts and exported, behind whose addresses it hides what comes from ranges that are kept out."`
	State   State          `yaml:"state,omitempty" json:"state,omitempty" enum:"drafted,waiting-for-the-other-half,being-built,ready,refused,gone" doc:"How far it has come; ready if left out."`
	Note    string         `yaml:"note,omitempty" json:"note,omitempty" form:"free" doc:"Free text."`
}

// EdgeRouter is a virtual router at an exchange.
type EdgeRouter struct {
	Exchange  string     `yaml:"exchange" json:"exchange" doc:"Where it stands."`
	Owner     Ref        `yaml:"owner,omitempty" json:"owner,omitempty" ref:"owner" doc:"Who answers for it."`
	ASN       uint32     `yaml:"asn,omitempty" json:"asn,omitempty" doc:"Its autonomous system."`
	RouterID  netip.Addr `yaml:"router_id,omitempty" json:"router_id,omitzero" doc:"Its BGP identifier; the lowest address of its sessions if left out."`
	Summaries []Summary  `yaml:"summaries,omitempty" json:"summaries,omitempty" doc:"Ranges that it announces while it has a part of them."`
	State     State      `yaml:"state,omitempty" json:"state,omitempty" enum:"drafted,waiting-for-the-other-half,being-built,ready,refused,gone" doc:"How far it has come; ready if left out."`
	Note      string     `yaml:"note,omitempty" json:"note,omitempty" form:"free" doc:"Free text."`
}

// Circuit is a private circuit.
type Circuit struct {
	Ends     []CircuitEnd `yaml:"ends" json:"ends" doc:"Its two ends; the order is made at the first." min:"2" max:"2"`
	Step     string       `yaml:"step,omitempty" json:"step,omitempty" enum:"ordered,code,accepted,session" doc:"How far its making has come: ordered, the code is there, it is accepted, the session is up."`
	Code     string       `yaml:"code,omitempty" json:"code,omitempty" form:"code" doc:"The order code that one party gives the other."`
	Segment  Ref          `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment" doc:"The routing domain that it carries; left out: whatever meets at its ends."`
	CodeZone string       `yaml:"code_zone,omitempty" json:"code_zone,omitempty" doc:"The zone that the code holds for."`
	Expires  string       `yaml:"expires,omitempty" json:"expires,omitempty" doc:"Until when the code can be used, as 2026-12-01."`
	State    State        `yaml:"state,omitempty" json:"state,omitempty" enum:"drafted,waiting-for-the-other-half,being-built,ready,refused,gone" doc:"How far it has come; ready if left out."`
	Note     string       `yaml:"note,omitempty" json:"note,omitempty" form:"free" doc:"Free text."`
}

// CircuitEnd is one end of a circuit.
type CircuitEnd struct {
	At   Ref    `yaml:"at" json:"at" ref:"gateway,edge-router" doc:"Where it ends."`
	Zone string `yaml:"zone,omitempty" json:"zone,omitempty" doc:"The zone that this end has it in."`
	Mbps uint32 `yaml:"mbps" json:"mbps" doc:"The speed that this end has, Mbit/s."`
	VLAN uint16 `yaml:"vlan,omitempty" json:"vlan,omitempty" doc:"The VLAN tag (IEEE 802.1Q)."`
	// Inside is needed where no session says it.
	Inside netip.Prefix   `yaml:"inside,omitempty" json:"inside,omitzero" host:"true" doc:"Its address on the circuit, with the length of the range that both ends share; left out where a session says it."`
	Routes []netip.Prefix `yaml:"routes,omitempty" json:"routes,omitempty" doc:"What this end is expected to learn over it; without a session, what it sends into it."`
	Enters Ref            `yaml:"enters,omitempty" json:"enters,omitempty" ref:"table" doc:"A network's: the table that routes what comes in by it; left out: as its gateway says."`
}

// Peering joins two networks directly.
type Peering struct {
	Halves []Half `yaml:"halves" json:"halves" doc:"Its two halves." min:"2" max:"2"`
	State  State  `yaml:"state,omitempty" json:"state,omitempty" enum:"drafted,waiting-for-the-other-half,being-built,ready,refused,gone" doc:"How far it has come; ready if left out."`
	Note   string `yaml:"note,omitempty" json:"note,omitempty" form:"free" doc:"Free text."`
}

// Half is one network's half of a peering.
type Half struct {
	Network         Ref  `yaml:"network" json:"network" ref:"network" doc:"Whose half it is."`
	Made            bool `yaml:"made,omitempty" json:"made,omitempty" doc:"It exists in the cloud."`
	LendsGateway    bool `yaml:"lends_gateway,omitempty" json:"lends_gateway,omitempty" doc:"The other network may use this one's gateway."`
	UsesGateway     bool `yaml:"uses_gateway,omitempty" json:"uses_gateway,omitempty" doc:"This network uses the other one's gateway."`
	Enters          Ref  `yaml:"enters,omitempty" json:"enters,omitempty" ref:"table" doc:"The table of this network that routes what comes in from the other; left out: it is for this network itself."`
	AcceptForwarded bool `yaml:"accept_forwarded,omitempty" json:"accept_forwarded,omitempty" doc:"This network takes packets that the other one only forwards."`
}

// Request is one owner's wish to join something of another's.
type Request struct {
	For    Ref    `yaml:"for" json:"for" ref:"link,peering,circuit,attachment" doc:"What would be made."`
	From   Ref    `yaml:"from,omitempty" json:"from,omitempty" ref:"owner" doc:"Who asks."`
	To     Ref    `yaml:"to,omitempty" json:"to,omitempty" ref:"owner" doc:"Who decides."`
	Answer string `yaml:"answer,omitempty" json:"answer,omitempty" enum:"accepted,refused" doc:"What was decided; left out while it is open."`
	Reason string `yaml:"reason,omitempty" json:"reason,omitempty" form:"free" doc:"Why."`
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
