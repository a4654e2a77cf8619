package walk

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/negotiate"
	"dravin/core/route"
)

// What a flow gets of the joints on its way: how large its packets may be, how long they take, how much they may be.

// Leg is one joint that a packet takes.
type Leg struct {
	Joint design.ID   `json:"joint"`
	Kind  design.Kind `json:"kind"`
	Title string      `json:"title"`
	// Tunnels are those on one of which it goes.
	Tunnels []design.ID `json:"tunnels,omitempty"`
	// MTU is the largest packet that goes through, in bytes, and Overhead what is wrapped around it.
	MTU      int    `json:"mtu"`
	Overhead int    `json:"overhead"`
	MTUWhy   string `json:"mtu_why"`
	// RTT is how long a packet and its answer are on it, in milliseconds, and where that is known from.
	RTT     float64 `json:"rtt_ms"`
	RTTFrom string  `json:"rtt_from" enum:"given,measured,distance,unknown"`
	// Mbps is how much goes through, in Mbit/s; 0: not known.
	Mbps uint32 `json:"mbps"`
	// Before is the box that sends into it.
	Before Place `json:"before"`
}

// Way is what a flow gets in one direction.
type Way struct {
	Legs []Leg `json:"legs"`
	MTU  int   `json:"mtu"` // of the whole way, bytes
	// Narrow is the joint that sets the MTU, if one does.
	Narrow design.ID `json:"narrow,omitempty"`
	Large  Large     `json:"large"`
}

// Large is what a packet of 1500 bytes meets that may not be divided (RFC 1191, RFC 8201).
type Large struct {
	Fits bool  `json:"fits"`
	At   Place `json:"at"` // the box that can not send it on
	// Home says that the box's word for it (ICMP, packet too big) comes to who sent it.
	Home bool   `json:"home"`
	Why  string `json:"why"`
	// Clamped says that a box on the way tells TCP what fits, so that it never sends such packets (RFC 9293 section
	// 3.7.1).
	Clamped bool `json:"clamped"`
	MSS     int  `json:"mss"` // TCP's largest segment that fits, bytes
}

// Measure is what a flow gets, there and back.
type Measure struct {
	There Way `json:"there"`
	Back  Way `json:"back"`
	// RTT is how long a packet and its answer are on the way, in milliseconds, of the legs of which it is known.
	RTT float64 `json:"rtt_ms"`
	// Unknown are the legs of which it is not.
	Unknown []string `json:"unknown"`
	// Slowest is the leg on which it is longest.
	Slowest string `json:"slowest,omitempty"`
	// Mbps is the least that any leg lets through, and Bottleneck which; 0: none is known.
	Mbps       uint32    `json:"mbps"`
	Bottleneck design.ID `json:"bottleneck,omitempty"`
	Narrowest  string    `json:"narrowest,omitempty"`
}

// usualMTU is what LANs, subnets and the internet carry, in bytes.
const usualMTU = 1500

// MeasureOf is what a flow gets whose proof is known.
func MeasureOf(t *route.Tables, f Flow, p Proof) Measure {
	m := Measure{Unknown: []string{}}
	m.There, m.Back = wayOf(t, p.Forward), wayOf(t, p.Reply)
	m.There.Large, m.Back.Large = largeOf(t, f, m.There, false), largeOf(t, f, m.Back, true)
	slowest, both := 0.0, slices.Concat(m.There.Legs, m.Back.Legs)
	for _, w := range []*Way{&m.There, &m.Back} {
		w.Large.Clamped = slices.ContainsFunc(
			both, func(l Leg) bool { return l.Joint == w.Narrow && clamps(t, l.Before.ID) },
		)
	}
	for _, l := range both {
		if l.RTTFrom == "unknown" {
			if !slices.Contains(m.Unknown, l.Title) {
				m.Unknown = append(m.Unknown, l.Title)
			}
		} else if m.RTT += l.RTT / 2; l.RTT > slowest {
			slowest, m.Slowest = l.RTT, l.Title
		}
		if l.Mbps > 0 && (m.Mbps == 0 || l.Mbps < m.Mbps) {
			m.Mbps, m.Bottleneck, m.Narrowest = l.Mbps, l.Joint, l.Title
		}
	}
	m.RTT = math.Round(m.RTT*10) / 10
	return m
}

func wayOf(t *route.Tables, stages []Stage) Way {
	w := Way{Legs: []Leg{}, MTU: usualMTU}
	last := region{}
	for n, s := range stages {
		l, ok := legOf(t, s)
		now := regionAt(t.Design, s.At.ID)
		switch {
		case ok:
			last = region{} // it has told how far it is from one end to the other
		case now == region{}:
			continue
		case last.cloud == now.cloud && last.name != now.name:
			l, last = legWithin(t.Design, s.At, last, now), now
		default:
			last = now
			continue
		}
		for _, before := range slices.Backward(stages[:n]) {
			if slices.Contains(route.PointKinds, before.At.Kind) {
				l.Before = before.At
				break
			}
		}
		if w.Legs = append(w.Legs, l); l.MTU < w.MTU {
			w.MTU, w.Narrow = l.MTU, l.Joint
		}
	}
	return w
}

// region is a region of a cloud; the zero region is none.
type region struct {
	cloud, name string
	party       design.ID
}

// regionAt is the region of a cloud in which something is: of a network that spans regions a subnet's zone tells, and
// nothing of its tables.
func regionAt(d *design.Design, id design.ID) region {
	party := d.Party(id)
	if party == nil {
		return region{}
	}
	out := region{cloud: design.CloudOf(party), party: party.ID}
	switch b := party.Body.(type) {
	case *design.Hub:
		out.name = b.Region
	case *design.Network:
		p := d.ProfileOf(party.ID)
		if p == nil || !p.Networks.SpanRegions {
			out.name = b.Region
			break
		}
		o := d.Get(HomeOf(d, id))
		if s, ok := o.Body.(*design.Subnet); ok {
			for _, r := range p.Regions {
				if slices.ContainsFunc(r.Zones, func(z string) bool { return strings.EqualFold(z, s.Zone) }) {
					out.name = r.Name
				}
			}
		} else if o.Kind == design.KindGateway {
			out.name = b.Region
		}
	}
	if out.name == "" {
		return region{}
	}
	return out
}

// legWithin is the way from one region of a cloud to another, which the cloud carries itself.
func legWithin(d *design.Design, at Place, from, to region) Leg {
	l := Leg{
		Joint: to.party, Kind: d.Get(to.party).Kind, Title: fmt.Sprintf("%s from %s to %s", to.cloud, from.name, to.name),
		MTU: usualMTU, MTUWhy: "nothing is wrapped around packets", RTTFrom: "unknown",
	}
	a, known := d.RegionPosition(from.party, from.name)
	b, also := d.RegionPosition(to.party, to.name)
	if known && also {
		l.RTT, l.RTTFrom = math.Round(a.Kilometres(b)*perKilometre*detour*10)/10, "distance"
	}
	return l
}

// legOf is the joint into which a stage leads.
func legOf(t *route.Tables, s Stage) (Leg, bool) {
	d := t.Design
	o := d.Get(s.At.ID)
	if s.Act != Enters || o == nil || !slices.Contains([]design.Kind{
		design.KindLink, design.KindCircuit, design.KindPeering,
	}, o.Kind) {
		return Leg{}, false
	}
	l := Leg{
		Joint: o.ID, Kind: o.Kind, Title: d.Title(o.ID), Tunnels: s.Tunnels, MTU: usualMTU,
		MTUWhy: "nothing is wrapped around packets",
	}
	switch b := o.Body.(type) {
	case *design.Link:
		l.wrapped(t, s, b)
		l.RTT, l.RTTFrom = roundTrip(d, o, b.RTT, b.RTTFrom)
	case *design.Circuit:
		l.Mbps = min(b.Ends[0].Mbps, b.Ends[1].Mbps)
		l.RTT, l.RTTFrom = roundTrip(d, o, b.RTT, b.RTTFrom)
	case *design.Peering:
		l.RTT, l.RTTFrom = roundTrip(d, o, b.RTT, b.RTTFrom)
	}
	return l, true
}

// wrapped is what fits into the tunnels of a link, of which a packet takes one.
func (l *Leg) wrapped(t *route.Tables, s Stage, b *design.Link) {
	for _, id := range s.Tunnels {
		fits, why := Inside(t, id)
		if fits > 0 && fits < l.MTU {
			l.MTU, l.MTUWhy = fits, why
		}
	}
	l.Overhead = usualMTU - l.MTU
	for _, e := range b.Ends {
		if v := t.Design.VPNOf(e.Gateway); v != nil && v.Mbps > 0 && (l.Mbps == 0 || v.Mbps < l.Mbps) {
			l.Mbps = v.Mbps
		}
	}
}

// Inside is the largest packet that goes through a tunnel, in bytes, and why: what is left of the path's MTU once ESP
// is around it, or less where one of its ends says so. 0 if its ends do not agree. A policy-based tunnel has no
// interface that could hold a packet to the MTU that is set: there it bounds what TCP says, and nothing else.
func Inside(t *route.Tables, tunnel design.ID) (int, string) {
	out := t.Status.Tunnel(tunnel)
	if out.MTU == 0 {
		return 0, ""
	}
	fits, why := out.MTU, fmt.Sprintf("ESP takes %d of %d bytes", usualMTU-out.MTU, usualMTU)
	if out.UDP {
		why = fmt.Sprintf("ESP in UDP takes %d of %d bytes", usualMTU-out.MTU, usualMTU)
	}
	o := t.Design.Get(tunnel)
	if t.Design.Get(o.Parent).Body.(*design.Link).Routing == design.RoutingSelectors {
		return fits, why
	}
	for _, e := range o.Body.(*design.Tunnel).Ends {
		if e.MTU != 0 && int(e.MTU) < fits {
			fits, why = int(e.MTU), "its MTU is set"
		}
	}
	return fits, why
}

// perKilometre is how long light takes in fibre there and back, in milliseconds, and detour how much longer cables are
// than the great circle.
const (
	perKilometre = 2.0 / 200
	detour       = 1.5
)

// roundTrip is how long a packet and its answer are on a joint.
func roundTrip(d *design.Design, o *design.Object, said uint32, from string) (float64, string) {
	if said > 0 {
		return float64(said), cmp.Or(from, "given")
	}
	j, ok := design.JointOf(o)
	if !ok {
		return 0, "unknown"
	}
	var at [2]design.Position
	for n, end := range j.Ends {
		party := d.Party(end)
		if party == nil {
			return 0, "unknown"
		}
		p, known := d.PositionOf(party.ID)
		if !known {
			return 0, "unknown"
		}
		at[n] = p
	}
	return math.Round(at[0].Kilometres(at[1])*perKilometre*detour*10) / 10, "distance"
}

// largeOf is what a packet of the usual size meets on a way: the first joint that is narrower than what came before.
func largeOf(t *route.Tables, f Flow, w Way, back bool) Large {
	out := Large{Fits: true, MSS: negotiate.MSS(w.MTU, f.To.Is6())}
	n := slices.IndexFunc(w.Legs, func(l Leg) bool { return l.MTU < usualMTU })
	if n < 0 {
		out.Why = fmt.Sprintf("packets of %d bytes fit everywhere", usualMTU)
		return out
	}
	l := w.Legs[n]
	out.Fits, out.At = false, l.Before
	home, why := errorHome(t, f, l, back)
	out.Home = home
	says := fmt.Sprintf(
		"%s can not send a packet of %d bytes into %s, where %d fit", l.Before.Title, usualMTU, l.Title, l.MTU,
	)
	out.Why = says + ", and " + why
	return out
}

// clamps reports whether a box lowers the largest segment that TCP says in what it passes on: every Linux box of one's
// own does, by the files that it is handed, for both directions of a connection.
func clamps(t *route.Tables, box design.ID) bool {
	o := t.Design.Get(box)
	return o != nil && slices.Contains(Boxes, o.Kind) && linux(t.Design, box)
}

// errorHome tells whether a box's word that a packet was too large comes to who sent it: it takes the way of answers,
// and filters that remember know what it is about; others must let it pass by a rule.
func errorHome(t *route.Tables, f Flow, l Leg, back bool) (bool, string) {
	if !linux(t.Design, l.Before.ID) {
		return false, "whether its cloud says so is not known"
	}
	gates, stop := errorBack(t, f, l, back)
	if stop != nil {
		return false, "its word for that does not come back: " + stop.Why
	}
	for _, g := range gates {
		x := t.Filter(g.Filter)
		about := filter.Packet{Src: g.Header.Src, Dst: g.Header.Dst, Proto: "icmp", Message: design.TooBig}
		if known := g.Remembered && !x.Manner.Stateless; !known && !x.Decide(about, g.Direction, nil).Allows {
			return false, fmt.Sprintf("%s refuses its word for that, icmp/too-big", x.Name)
		}
	}
	return true, "says so to who sent it"
}

// errorBack carries a box's word about a packet, or about its answer, to who sent it, past the filters that it
// collects.
func errorBack(t *route.Tables, f Flow, l Leg, back bool) ([]Gate, *Stop) {
	c := &collected{}
	tr := trip{tables: t, flow: f, way: &turns{}, collect: c, until: l.Joint}
	if back {
		tr.until, tr.untilBack = "", l.Joint
	}
	if stop := tr.goes(); stop != nil {
		return nil, stop
	}
	w, meant := &tr.there, f.From.id()
	if back {
		if stop := tr.returns(); stop != nil {
			return nil, stop
		}
		w, meant = &tr.back, tr.reached.id()
	}
	c.gates = nil
	home := walker{
		tables: t, design: t.Design, way: "reply", header: w.header.reversed(), known: w.known, fabric: w.fabric,
		let: w.let, collect: c, turns: tr.way, ports: w.ports, meant: meant, begun: f.From.Box,
	}
	_, stop := home.run(home.sendsItself(home.pointOf(l.Before.ID), home.placeOf(l.Before.ID), false))
	return c.gates, stop
}
