package design

import (
	"net/netip"
	"slices"
)

// Link is a VPN between two gateways.
type Link struct {
	// static: route-based, routes decide what enters; selectors: policy-based, selectors decide (RFC 4301 section
	// 4.4.1); bgp: route-based, and the routes are learned on a session.
	Routing string `yaml:"routing" json:"routing" enum:"static,selectors,bgp"`
	// Its two ends.
	Ends []End `yaml:"ends" json:"ends" min:"2" max:"2"`
	// Round-trip time over it, milliseconds; left out: estimated by the distance of its ends, where both are known.
	RTT uint32 `yaml:"rtt_ms,omitempty" json:"rtt_ms,omitempty"`
	// Where the round-trip time comes from; given if left out.
	RTTFrom string `yaml:"rtt_from,omitempty" json:"rtt_from,omitempty" enum:"given,measured"`
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
	// The public addresses at the first and second end; 0.0.0.0: the gateway's own, of several in turn, or none while
	// it has not been given any.
	Outside []netip.Addr `yaml:"outside" json:"outside" min:"2" max:"2"`
	// Route-based: the inside addresses at the first and second end, with their common prefix length.
	Inside []netip.Prefix `yaml:"inside,omitempty" json:"inside,omitempty" host:"true" max:"2"`
	// Route-based: inside addresses of IPv6 beside those of IPv4, with their common prefix length: a session between
	// addresses of IPv4 needs them as next hops of the IPv6 that it carries.
	Inside6 []netip.Prefix `yaml:"inside6,omitempty" json:"inside6,omitempty" host:"true" max:"2"`
	// The routing domain that this tunnel carries, if it is not that of its link.
	Segment Ref `yaml:"segment,omitempty" json:"segment,omitempty" ref:"segment"`
	// The number of its interface, if_id and mark at the boxes of one's own at its first and second end, for life; 0 at
	// a cloud. Given when it is made: the next that is free there.
	Numbers []uint16 `yaml:"numbers,omitempty" json:"numbers,omitempty" max:"2"`
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

func (*Link) kind() Kind { return KindLink }

func (*Tunnel) kind() Kind { return KindTunnel }

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

// OutsideOf are the public addresses at the two ends of a tunnel: what it says, or else what the gateway
// has, of several in the order of the link's tunnels; unspecified where that has none yet. They are nil
// for a tunnel that does not say two.
func (d *Design) OutsideOf(tunnel *Object) []netip.Addr {
	t := tunnel.Body.(*Tunnel)
	link, ok := d.Get(tunnel.Parent).Body.(*Link)
	if !ok || len(t.Outside) != 2 || len(link.Ends) != 2 {
		return nil
	}
	out := slices.Clone(t.Outside)
	for n, a := range out {
		if a.IsValid() && !a.IsUnspecified() {
			continue
		}
		g, ok := d.Get(link.Ends[n].Gateway).Body.(*Gateway)
		if !ok {
			continue
		}
		own := slices.DeleteFunc(slices.Clone(g.Addresses), func(x netip.Addr) bool { return x.Is4() != a.Is4() })
		turns := max(len(own), 1)
		if v := d.VPNOf(link.Ends[n].Gateway); v != nil { // of two, one may be known before the other
			turns = max(turns, int(v.Addresses))
		}
		turn := max(slices.Index(d.Inside(tunnel.Parent, KindTunnel), d.Get(tunnel.ID)), 0) % turns
		if turn < len(own) {
			out[n] = own[turn]
		}
	}
	return out
}

// GoneAtAnEnd reports whether a tunnel is gone at either of its ends.
func GoneAtAnEnd(tunnel *Object) bool {
	return slices.ContainsFunc(tunnel.Body.(*Tunnel).Ends, func(e TunnelEnd) bool { return e.State == Gone })
}

func (b *Link) state() *State { return &b.State }

// ends are the gateways of a link.
func (b *Link) ends(*Object) (ends [2]ID, ok bool) {
	if len(b.Ends) != 2 {
		return ends, false
	}
	return [2]ID{b.Ends[0].Gateway, b.Ends[1].Gateway}, true
}
