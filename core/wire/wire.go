// Package wire tells what one would see of a flow on the wire: the packets at every interface, in their order, with
// the addresses and ports that they have there, the filter to capture them by, the hops of a trace. And it holds what
// somebody has seen (a capture, a ping, a trace, a connection table, what a daemon says) against the walk of the flow:
// up to which stage they agree, where they part, and what to look at next.
//
// All of it is read off the proof of the flow and the boxes that it meets; nothing is walked anew.
package wire

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/settings"
	"dravin/core/status"
	"dravin/core/walk"
)

// Interface is where packets can be captured.
type Interface struct {
	At   walk.Place `json:"at"`
	Name string     `json:"name"` // the device, where the design names it; else what it leads to
	// What it is: of a host, to a LAN or subnet, a tunnel's inside, a circuit, or the way out, where ESP is.
	What string `json:"what" enum:"host,lan,tunnel,circuit,outside"`
	VLAN uint16 `json:"vlan,omitempty"` // IEEE 802.1Q; 0: untagged
	// Filter captures the flow there, in the language of pcap-filter.
	Filter string `json:"filter"`
}

// Outer is what is around a packet in a tunnel: ESP, perhaps in UDP.
type Outer struct {
	Src netip.Addr `json:"src"`
	Dst netip.Addr `json:"dst"`
	UDP bool       `json:"udp,omitempty"` // port 4500 (RFC 3948)
}

// Packet is a packet at an interface.
type Packet struct {
	Interface int         `json:"interface"` // its number in the capture
	Way       string      `json:"way" enum:"there,back"`
	What      string      `json:"what"` // SYN, SYN ACK, ACK, datagram, echo request, echo reply
	Header    walk.Header `json:"header"`
	Outer     *Outer      `json:"outer,omitempty"` // it is inside ESP, and the header can not be seen
	Leaves    bool        `json:"leaves"`          // the box sends it; else it gets it
	Stage     int         `json:"stage"`           // of the way, from 0
}

// Capture is what is seen of a flow, interface by interface, in the order of time.
type Capture struct {
	Interfaces []Interface `json:"interfaces"`
	Packets    []Packet    `json:"packets"`
}

// visit is a packet's time at a host or box.
type visit struct {
	at      walk.Place
	in, out walk.Header
	by, on  design.ID   // the joints that it comes and goes by; empty: none
	tunnels []design.ID // on one of which it goes
	came    []design.ID
	first   int // stage
	last    int
	proxies bool
	begins  bool // it is the sender
	ends    bool // it is who receives it
	stopped bool
	strays  bool       // it is lost, and leaves all the same
	beside  walk.Place // toward whom
}

// visitsOf are the hosts and boxes that a packet comes by, in order. What a host's own filter refuses, or the host does
// not answer, has come to it.
func visitsOf(t *route.Tables, p walk.Proof, stages []walk.Stage) []visit {
	out := visits(stages)
	s := p.Stop
	if s == nil || len(stages) == 0 || len(out) == 0 || stages[len(stages)-1].Act != walk.Stops {
		return out
	}
	if beside, leaves := strays(t, stages); leaves && slices.Contains(straying, s.Code) {
		last := &out[len(out)-1]
		last.stopped, last.strays, last.beside = false, true, beside
		if other := whoHas(t, beside, last.out.Dst); other.ID != "" {
			n := len(stages) - 1
			out = append(
				out, visit{at: other, in: last.out, out: last.out, first: n, last: n, ends: true, stopped: true},
			)
		}
		return out
	}
	own := s.Decided != nil && t.Filter(s.Decided.Filter).Manner.Own && s.Decided.Direction == design.Incoming
	last := out[len(out)-1]
	if own && s.At.Kind == design.KindEndpoint && last.at.ID != s.At.ID {
		out[len(out)-1].stopped = false
		out = append(out, visit{
			at: s.At, in: last.out, out: last.out, by: last.on, came: last.tunnels, first: len(stages) - 1,
			last: len(stages) - 1, ends: true, stopped: true,
		})
	}
	return out
}

// whoHas is the host of a place that has an address; the zero Place if none is known to.
func whoHas(t *route.Tables, place walk.Place, a netip.Addr) walk.Place {
	d := t.Design
	for _, e := range d.Inside(place.ID, design.KindEndpoint) {
		if slices.Contains(e.Body.(*design.Endpoint).Addresses, a) {
			return walk.Place{ID: e.ID, Kind: e.Kind, Title: d.Title(place.ID) + " " + e.Name}
		}
	}
	return walk.Place{}
}

// straying are the stops of what a box sends on all the same, by a worse route or to who answers for the address.
var straying = []walk.Code{
	walk.NoRoute, walk.ReplyNoRoute, walk.SelectorMiss, walk.NoWayBack, walk.OnLinkElsewhere, walk.ReplyOnLinkElsewhere,
	walk.Code(status.LinkDown), walk.Code(status.SessionDown), walk.Code(status.HalfMade),
	walk.Code(status.RefusedForOverlap), walk.Code(status.NotAccepted), walk.Code(status.NotThereYet),
}

// strays tells whether a packet that is lost leaves the box at which it is: by the way out, since a box of one's own
// sends there what it has no better route for, or to somebody else who has the very range; and where to.
func strays(t *route.Tables, stages []walk.Stage) (beside walk.Place, leaves bool) {
	d := t.Design
	for _, s := range slices.Backward(stages) {
		if s.Act != walk.Routes {
			continue
		}
		o := d.Get(s.At.ID)
		if s.Table == nil || s.Table.Winner == nil || !slices.Contains(walk.Boxes, o.Kind) {
			break
		}
		hop, own := s.Table.Winner.Hop, d.Party(o.ID).Kind == design.KindSite
		to := d.Get(hop.To)
		if to != nil && to.Kind == design.KindNetwork {
			to = walk.SubnetOf(d, to.ID, s.Header.Dst)
		}
		switch {
		case hop.Kind == route.Internet && own:
			return walk.Place{}, true
		case hop.Kind != route.Deliver || to == nil || !own && guarded(d, to):
		case to.Kind == design.KindInnerRoute && own:
			return walk.Place{ID: to.ID, Kind: to.Kind, Title: d.Title(to.ID)}, true
		case whoHas(t, walk.Place{ID: to.ID, Kind: to.Kind}, s.Header.Dst).ID != "":
			return walk.Place{ID: to.ID, Kind: to.Kind, Title: d.Title(to.ID)}, true
		}
		break
	}
	return walk.Place{}, false
}

// guarded reports whether a cloud's filter stands before a subnet, which may drop what strays before a host has it.
func guarded(d *design.Design, subnet *design.Object) bool {
	return len(d.FiltersAt(subnet.ID, false))+len(d.FiltersAt(subnet.Parent, false)) > 0
}

// visits are the hosts and boxes that a packet comes by, in order, as far as it is carried.
func visits(stages []walk.Stage) (out []visit) {
	var joint design.ID
	var tunnels []design.ID
	for n, s := range stages {
		var last *visit
		if len(out) > 0 {
			last = &out[len(out)-1]
		}
		if s.Act == walk.Enters {
			if last != nil && joined(s.At.Kind) {
				last.on, last.tunnels = s.At.ID, s.Tunnels
				joint, tunnels = s.At.ID, s.Tunnels
			}
			continue
		}
		if s.Act == walk.Stops {
			if last != nil && last.at.ID != s.At.ID && slices.Contains(walk.Boxes, s.At.Kind) { // it has come there
				out = append(
					out, visit{at: s.At, in: last.out, out: last.out, by: joint, came: tunnels, first: n, last: n},
				)
				last = &out[len(out)-1]
			}
			if last != nil {
				last.stopped = true
			}
			continue
		}
		if s.Act == walk.Filters && !holds(s.At.Kind) {
			continue // a filter of a subnet or network is no place where a packet stays
		}
		if last == nil || last.at.ID != s.At.ID || last.on != "" {
			in := s.Header
			if last != nil {
				in = last.out
			}
			out = append(
				out,
				visit{at: s.At, in: in, by: joint, came: tunnels, first: n, begins: s.Act == walk.Sends && last == nil},
			)
			last, joint, tunnels = &out[len(out)-1], "", nil
		}
		last.out, last.last = s.Header, n
		last.proxies = last.proxies || s.Act == walk.Proxies
		last.ends = last.ends || s.Act == walk.Delivers
		last.begins = last.begins || n == 0
	}
	return out
}

// holds reports whether a packet is at something of a kind for a while: at a host, or where it is routed.
func holds(k design.Kind) bool {
	return k == design.KindEndpoint || slices.Contains(route.PointKinds, k)
}

func joined(k design.Kind) bool {
	return k == design.KindLink || k == design.KindCircuit || k == design.KindPeering
}

// Of is what is seen of a flow by its proof.
func Of(t *route.Tables, p walk.Proof) Capture {
	c := camera{tables: t, proof: p, boxes: map[design.ID]*box.Box{}}
	c.out = Capture{Interfaces: []Interface{}, Packets: []Packet{}}
	there, back := visitsOf(t, p, p.Forward), visitsOf(t, p, p.Reply)
	c.conversation(there, back)
	for n := range c.out.Interfaces {
		c.out.Interfaces[n].Filter = c.filter(n)
	}
	return c.out
}

// camera takes what is seen.
type camera struct {
	tables *route.Tables
	proof  walk.Proof
	boxes  map[design.ID]*box.Box
	out    Capture
}

// conversation shows the packets of a conversation: of one that a box has ended and opened anew, first those on the
// caller's side.
func (c *camera) conversation(there, back []visit) {
	at := slices.IndexFunc(there, func(v visit) bool { return v.proxies })
	if at < 0 {
		c.exchange(there, back, len(c.proof.Reply) > 0)
		return
	}
	near, far := slices.Clone(there[:at+1]), slices.Clone(there[at:])
	near[at].out, near[at].on = near[at].in, ""
	far[0].in, far[0].by, far[0].begins, far[0].proxies = far[0].out, "", true, false
	near[at].ends = true
	split := -1 // of several that end connections the one nearest to the caller
	for n, v := range back {
		if v.proxies {
			split = n
		}
	}
	if split < 0 {
		c.exchange(near, reversed(near), true)
		c.conversation(far, back)
		return
	}
	farBack, nearBack := slices.Clone(back[:split+1]), slices.Clone(back[split:])
	farBack[split].out, farBack[split].on, farBack[split].ends = farBack[split].in, "", true
	nearBack[0].in, nearBack[0].by, nearBack[0].begins, nearBack[0].proxies = nearBack[0].out, "", true, false
	c.exchange(near, nearBack, true)
	c.conversation(far, farBack)
}

// reversed is the way back of an answer that a box gives at once, by the way that the request came.
func reversed(there []visit) []visit {
	out := make([]visit, 0, len(there))
	for _, v := range slices.Backward(there) {
		v.in, v.out = turned(v.out), turned(v.in)
		v.by, v.on, v.came, v.tunnels = v.on, v.by, v.tunnels, v.came
		v.begins, v.ends = v.ends, v.begins
		out = append(out, v)
	}
	return out
}

func turned(h walk.Header) walk.Header {
	return walk.Header{Src: h.Dst, Dst: h.Src, Proto: h.Proto, SPort: h.DPort, DPort: h.SPort}
}

// exchange shows the first packets of a connection: RFC 9293 section 3.5, or a question and its answer.
func (c *camera) exchange(there, back []visit, answered bool) {
	said := phases(there)
	c.pass(there, "there", said[0])
	if !answered {
		return
	}
	c.pass(back, "back", said[1])
	stopped := slices.ContainsFunc(back, func(v visit) bool { return v.stopped })
	if len(said) > 2 && !stopped {
		c.pass(there, "there", said[2])
	}
}

// phases are what the packets of a conversation are called.
func phases(there []visit) []string {
	proto := ""
	if len(there) > 0 {
		proto = there[0].in.Proto
	}
	switch proto {
	case "tcp":
		return []string{"SYN", "SYN ACK", "ACK"}
	case "icmp":
		return []string{"echo request", "echo reply"}
	}
	return []string{"datagram", "datagram"}
}

// pass shows one packet on its way.
func (c *camera) pass(visits []visit, way, what string) {
	for n, v := range visits {
		if !v.begins {
			c.sees(v, way, what, v.in, v.by, v.came, false, near(visits, n, -1), v.first)
		}
		last := n == len(visits)-1
		if !v.ends && !(last && v.stopped) {
			beside := near(visits, n, 1)
			if v.strays {
				beside = v.beside
			}
			c.sees(v, way, what, v.out, v.on, v.tunnels, true, beside, v.last)
		}
	}
}

// near is who stands before or after a visit.
func near(visits []visit, n, step int) walk.Place {
	if n+step < 0 || n+step >= len(visits) {
		return walk.Place{}
	}
	return visits[n+step].at
}

// sees shows a packet at an interface of a host or a box of one's own.
func (c *camera) sees(
	v visit, way, what string, h walk.Header, joint design.ID, tunnels []design.ID, leaves bool, beside walk.Place,
	stage int,
) {
	p := Packet{Way: way, What: what, Header: h, Leaves: leaves, Stage: stage}
	switch b := c.box(v.at.ID); {
	case v.at.Kind == design.KindEndpoint || slices.Contains(design.HostPlaces, v.at.Kind):
		c.add(Interface{At: v.at, Name: "host", What: "host"}, p)
	case b == nil || !b.Linux:
	case joint != "":
		c.atJoint(b, v, p, joint, tunnels)
	default:
		c.add(c.lan(b, v, beside), p)
	}
}

func (c *camera) box(id design.ID) *box.Box {
	if _, ok := c.boxes[id]; !ok {
		c.boxes[id] = box.Of(c.tables, id)
	}
	return c.boxes[id]
}

// atJoint shows a packet at a tunnel or circuit of a box: inside, and as ESP outside. What it gets it sees outside
// first.
func (c *camera) atJoint(b *box.Box, v visit, p Packet, joint design.ID, tunnels []design.ID) {
	if x := b.Circuit(joint); x != nil {
		c.add(Interface{At: v.at, Name: x.Device(), What: "circuit", VLAN: x.VLAN}, p)
		return
	}
	l := b.Link(joint)
	if l == nil || len(tunnels) == 0 {
		return
	}
	outside := p
	outside.Outer = c.outer(b, joint, tunnels[0], p.Leaves)
	way := Interface{At: v.at, Name: "way out", What: "outside"}
	n := slices.IndexFunc(l.Tunnels, func(x box.Tunnel) bool { return x.ID == tunnels[0] })
	inside := Interface{At: v.at, Name: "way out", What: "outside"}
	if n >= 0 && l.Routed() {
		inside = Interface{At: v.at, Name: l.Tunnels[n].Device(), What: "tunnel"}
	}
	if p.Leaves {
		if l.Routed() {
			c.add(inside, p)
		}
		c.add(way, outside)
		return
	}
	c.add(way, outside)
	c.add(inside, p) // of a policy-based link it is seen once more where it came in, decrypted
}

// outer is what is around packets of a tunnel as one of its ends sends or gets them.
func (c *camera) outer(b *box.Box, link, tunnel design.ID, leaves bool) *Outer {
	d := c.tables.Design
	ends := d.Get(link).Body.(*design.Link).Ends
	outside := d.OutsideOf(d.Get(tunnel))
	near := 0
	if ends[1].Gateway == b.ID {
		near = 1
	}
	if len(outside) != 2 {
		return &Outer{}
	}
	set := settings.SettingsOf(d, d.Get(tunnel), "")
	far := outside[1-near]
	if set[near].Peer.IsValid() {
		far = set[near].Peer
	}
	out := &Outer{Src: outside[near], Dst: far, UDP: c.tables.Status.Tunnel(tunnel).UDP}
	if !leaves {
		out.Src, out.Dst = out.Dst, out.Src
	}
	return out
}

// lan is the interface of a box toward who stands beside it.
func (c *camera) lan(b *box.Box, v visit, beside walk.Place) Interface {
	if beside.ID == "" {
		return Interface{At: v.at, Name: "way out", What: "outside"}
	}
	d := c.tables.Design
	place := walk.HomeOf(d, beside.ID)
	for _, l := range b.LANs {
		within := slices.ContainsFunc(
			l.Ranges, func(r netip.Prefix) bool { return r.Contains(v.in.Src) || r.Contains(v.out.Dst) },
		)
		behind := d.Get(place) != nil && d.Get(place).Kind == design.KindInnerRoute && within
		if l.ID == place || behind {
			return Interface{At: v.at, Name: l.Name, What: "lan", VLAN: l.VLAN}
		}
	}
	if o := d.Get(place); o != nil && slices.Contains(design.HostPlaces, o.Kind) {
		return Interface{At: v.at, Name: o.Name, What: "lan"}
	}
	return Interface{At: v.at, Name: "toward " + beside.Title, What: "lan"}
}

func (c *camera) add(i Interface, p Packet) {
	i.At.Segment = "" // an interface is in whatever instance the packet is
	n := slices.Index(c.out.Interfaces, i)
	if n < 0 {
		n = len(c.out.Interfaces)
		c.out.Interfaces = append(c.out.Interfaces, i)
	}
	p.Interface = n
	c.out.Packets = append(c.out.Packets, p)
}

// filter is what captures the flow at an interface: its packets as they are there, both ways.
func (c *camera) filter(n int) string {
	var parts []string
	for _, p := range c.out.Packets {
		if p.Interface != n {
			continue
		}
		part := inner(p.Header, p.Way)
		if p.Outer != nil {
			part = outerFilter(*p.Outer)
		}
		if !slices.Contains(parts, part) {
			parts = append(parts, part)
		}
	}
	out := strings.Join(parts, " or ")
	if len(parts) > 1 {
		out = "(" + strings.Join(parts, ") or (") + ")"
	}
	if v := c.out.Interfaces[n].VLAN; v != 0 && c.out.Interfaces[n].What != "circuit" {
		return fmt.Sprintf("vlan %d and (%s)", v, out)
	}
	return out
}

// inner captures a packet and its answer; the client's port is any.
func inner(h walk.Header, way string) string {
	port := h.DPort
	if way == "back" {
		port = h.SPort
	}
	a, b := h.Src, h.Dst
	if b.Less(a) {
		a, b = b, a
	}
	proto := h.Proto
	if h.Proto == "icmp" && h.Src.Is6() {
		proto = "icmp6"
	}
	out := fmt.Sprintf("%s and host %s and host %s", proto, a, b)
	if port != 0 {
		out += fmt.Sprintf(" and port %d", port)
	}
	return out
}

func outerFilter(o Outer) string {
	a, b := o.Src, o.Dst
	if b.Less(a) {
		a, b = b, a
	}
	if o.UDP {
		return fmt.Sprintf("udp port 4500 and host %s and host %s", a, b)
	}
	return fmt.Sprintf("esp and host %s and host %s", a, b)
}
