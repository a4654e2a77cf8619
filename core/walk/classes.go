package walk

import (
	"net/netip"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/prefix"
	"dravin/core/route"
)

// What must never work must not for any port of either end. A walk knows which packets between its two addresses
// fare as its own does: those that no filter, translation or listener on the way has told from it. So one walk
// answers for a class of packets, and a flow of every service for as few walks as there are classes.

// mostClasses bounds the walks of one flow; what has more is not decided.
const mostClasses = 4096

// protocols stand for all: one that nothing names for those that have no name here.
var protocols = []string{"icmp", "tcp", "udp", "esp", "other"}

// Undecided says that a flow has more classes of packets than are walked.
type Undecided struct{ Flow Flow }

func (u Undecided) Error() string {
	return "more classes of packets than are walked lie between the two; name a service, or fewer ports in filters"
}

// AnyPossibly walks a flow for every port of both ends, and, of a zero service, for every protocol. The proof is
// that of the first class that is delivered by some of equal routes, else of the first: that an answer would be lost
// keeps nobody from being reached. The error is [Undecided].
func AnyPossibly(t *route.Tables, f Flow) (Proof, error) {
	var out Proof
	walks := 0
	try := func(f Flow) (delivered bool, alike filter.Classes) {
		alike = filter.Everything()
		p := first(waysIn(t, f, &alike), func(p Proof) bool { return p.Delivered })
		if walks++; walks == 1 || p.Delivered {
			out = p
		}
		return p.Delivered, alike
	}
	if f.Service != (design.Service{}) {
		_, err := overPorts(f, &walks, try)
		return out, err
	}
	for _, proto := range protocols {
		f.Service = design.Service{Proto: proto}
		works, alike, err := allPorts(f, &walks, try)
		if works || err != nil || !alike.ByProto {
			return out, err
		}
	}
	return out, nil
}

// overPorts walks a flow of a service from every class of source ports.
func overPorts(f Flow, walks *int, try func(Flow) (bool, filter.Classes)) (works bool, err error) {
	_, ok, err := over(
		f, filter.Classes{SFirst: 1, SLast: 65535, DFirst: f.Service.Port, DLast: f.Service.Port}, walks, try,
	)
	return ok, err
}

func allPorts(
	f Flow, walks *int, try func(Flow) (bool, filter.Classes),
) (works bool, alike filter.Classes, err error) {
	alike, works, err = over(f, filter.Everything(), walks, try)
	return works, alike, err
}

// over walks a flow for all ports of some classes. byProto says in alike whether anything asked for the protocol.
func over(
	f Flow, all filter.Classes, walks *int, try func(Flow) (bool, filter.Classes),
) (alike filter.Classes, works bool, err error) {
	ported := f.Service.Proto == "tcp" || f.Service.Proto == "udp"
	left := []filter.Classes{all}
	for len(left) > 0 {
		if *walks > mostClasses {
			return alike, false, Undecided{f}
		}
		c := left[len(left)-1]
		left = left[:len(left)-1]
		if ported {
			f.Service.Port, f.SPort = c.DFirst, representative(c)
		}
		ok, fares := try(f)
		alike.ByProto = alike.ByProto || fares.ByProto
		if ok || !ported {
			return alike, ok, nil
		}
		left = append(left, c.Without(fares)...)
	}
	return alike, false, nil
}

// representative is a source port of some classes, the usual one where it is among them.
func representative(c filter.Classes) uint16 {
	if c.SFirst <= clientPort && clientPort <= c.SLast {
		return clientPort
	}
	return c.SFirst
}

// collected is what a walk collects that filters do not stop.
type collected struct {
	from, to netip.Prefix // the ranges for which the header's addresses stand
	gates    []Gate
}

// Opened walks a flow as if every filter let it pass, and returns the filters that it comes to, there and back, with
// what they see. from and to are the ranges for which the flow's two ends stand; the zero Prefix is the address
// alone. The proof is that of the flow with all filters open.
func Opened(t *route.Tables, f Flow, from, to netip.Prefix) (Proof, []Gate) {
	if !from.IsValid() {
		from = prefix.Alone(f.From.Address)
	}
	if !to.IsValid() {
		to = prefix.Alone(f.To)
	}
	var gates []Gate
	var out Proof
	way := &turns{}
	for n := range mostTurns {
		c := &collected{from: from, to: to}
		p := proveWith(t, f, way, nil, c)
		gates = append(gates, c.gates...)
		if n == 0 || out.Works && !p.Works {
			out = p
		}
		if !way.next() {
			break
		}
	}
	return out, gates
}

// carries keeps the range for which an address stands, as a one-to-one rule carries it over.
func (c *collected) carries(side *netip.Prefix, from, into netip.Prefix) {
	if over := prefix.TranslatePrefix(*side, from, into); over.IsValid() {
		*side = over
	}
}

// becomes sets what an address stands for that has become another one.
func becomes(side *netip.Prefix, now netip.Addr) {
	if !side.Contains(now) {
		*side = prefix.Alone(now)
	}
}

// narrowed lets something narrow the classes by a packet as it is now. On the way back its ports have changed sides;
// a port that a box has written itself is the same for all packets of the class, whatever is asked of it.
func (w *walker) narrowed(p filter.Packet, by func(*filter.Classes)) {
	if w.classes == nil {
		by(nil)
		return
	}
	c, sport, dport := *w.classes, w.ports[0], w.ports[1]
	if w.way == "reply" {
		c, sport, dport = c.Turned(), dport, sport
	}
	before := c
	by(&c)
	if p.SPort != sport {
		c.SFirst, c.SLast = before.SFirst, before.SLast
	}
	if p.DPort != dport {
		c.DFirst, c.DLast = before.DFirst, before.DLast
	}
	if w.way == "reply" {
		c = c.Turned()
	}
	*w.classes = c
}

// standsForItself says that both addresses of a header stand for nothing but themselves.
func (w *walker) standsForItself() {
	if w.collect != nil {
		w.collect.from, w.collect.to = prefix.Alone(w.header.Src), prefix.Alone(w.header.Dst)
	}
}
