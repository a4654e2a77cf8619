package topology

import (
	"net/netip"

	"dravin/core/design"
	"dravin/core/status"
)

// A circuit is a private line between two gateways or edge routers. It is ordered at one end
// and accepted with the order's code at the other; its sessions run over it itself.
var circuit = Kind{
	Kind: design.KindCircuit, Judge: judgeCircuit,
	Edge: func(d *design.Design, o *design.Object, end int) Edge {
		far := o.Body.(*design.Circuit).Ends[1-end]
		return Edge{Enters: enteringBy(d, far.At, far.Enters)}
	},
	Routes: func(_ *design.Design, o *design.Object, end int) []netip.Prefix {
		return o.Body.(*design.Circuit).Ends[end].Routes
	},
	Inside: func(d *design.Design, o *design.Object, end int) []Inside {
		if in := OnCircuit(d, o, end); in.Own.IsValid() {
			return []Inside{in}
		}
		return nil
	},
	Carriers: func(_ *design.Design, o *design.Object) []*design.Object { return []*design.Object{o} },
	Learns:   learnsByCircuit,
	Unfinished: func(o *design.Object) bool {
		step := o.Body.(*design.Circuit).Step
		return step != "" && step != design.StepInUse
	},
}

func learnsByCircuit(d *design.Design, o *design.Object) bool {
	return len(d.Inside(o.ID, design.KindSession)) > 0
}

// judgeCircuit is up if it was activated and its two ends match.
func judgeCircuit(s *status.Status, o *design.Object) status.Held {
	return status.Held{Verdict: circuitVerdict(s, o, o.Body.(*design.Circuit))}
}

func circuitVerdict(s *status.Status, o *design.Object, c *design.Circuit) status.Verdict {
	if v := s.Taken(o); !v.Up {
		return v
	}
	if v := s.Made(o); !v.Up {
		return v
	}
	if v := activated(s, o, c); !v.Up {
		return v
	}
	for _, e := range c.Ends {
		if v := s.Ending(e.At); !v.Up {
			return v
		}
		if s.ZoneGone(e.Zone) {
			return status.Down(status.LinkDown, o.ID, "", "the zone %s is taken away", e.Zone)
		}
	}
	x, y := c.Ends[0], c.Ends[1]
	switch {
	case x.Zone != y.Zone && x.Zone != "" && y.Zone != "":
		return status.Down(
			status.LinkDown, o.ID, "zone", "%s is in %s at one end and in %s at the other", o.Name, x.Zone, y.Zone,
		)
	case x.Mbps != y.Mbps:
		return status.Down(
			status.LinkDown, o.ID, "speed", "%s has %d Mbit/s at one end and %d at the other", o.Name, x.Mbps, y.Mbps,
		)
	case x.VLAN != y.VLAN:
		return status.Down(
			status.LinkDown, o.ID, "vlan", "%s has VLAN tag %d at one end and %d at the other", o.Name, x.VLAN, y.VLAN,
		)
	}
	for _, e := range c.Ends {
		if c.CodeZone != "" && e.Zone != "" && e.Zone != c.CodeZone {
			return status.Down(
				status.LinkDown, o.ID, "code", "the order code of %s is for %s, and its end is in %s", o.Name,
				c.CodeZone, e.Zone,
			)
		}
	}
	return addressed(s, o, c)
}

// addressed wants addresses on a circuit into which a box of one's own routes without a
// session: it has no next hop else.
func addressed(s *status.Status, o *design.Object, c *design.Circuit) status.Verdict {
	if len(s.Design().Inside(o.ID, design.KindSession)) > 0 ||
		c.Ends[0].Inside.IsValid() && c.Ends[1].Inside.IsValid() {
		return status.Up
	}
	for _, e := range c.Ends {
		at := s.Design().Get(e.At)
		if len(e.Routes) > 0 &&
			(at.Kind == design.KindEdgeRouter || s.Design().Get(at.Parent).Kind == design.KindSite) {
			return status.Down(
				status.LinkDown, o.ID, "inside",
				"%s has routes at %s, and neither a session nor addresses on the circuit to send them to", o.Name,
				s.Design().Title(e.At),
			)
		}
	}
	return status.Up
}

// activated tells whether the steps of a circuit's making are done.
func activated(s *status.Status, o *design.Object, c *design.Circuit) status.Verdict {
	if c.Step != "" && c.Step != design.StepInUse &&
		c.Step != design.StepAccepted {
		return status.Down(status.NotThereYet, o.ID, "code", "%s is ordered and not accepted yet", o.Name)
	}
	return status.Up
}

// OnCircuit are the addresses on a circuit, as one of its ends has them. They are said by the
// circuit itself, or by a session whose two addresses are near; invalid where neither says them.
func OnCircuit(d *design.Design, circuit *design.Object, end int) Inside {
	if e := circuit.Body.(*design.Circuit).Ends; e[end].Inside.IsValid() && e[1-end].Inside.IsValid() {
		return Inside{Own: e[end].Inside, Far: e[1-end].Inside.Addr()}
	}
	for _, s := range design.Each[design.Session](d.Inside(circuit.ID, design.KindSession)) {
		own, far := s.Ends[end].Address, s.Ends[1-end].Address
		if !own.IsValid() || !far.IsValid() {
			continue
		}
		if near := netip.PrefixFrom(own, own.BitLen()-2); near.Masked().Contains(far) {
			return Inside{Own: near, Far: far}
		}
	}
	return Inside{}
}
