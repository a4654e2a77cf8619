package filter

import "dravin/core/design"

// Classes are packets that fare alike between two addresses: those of one protocol whose ports lie in two
// intervals, or, as long as nothing has asked for the protocol, of all. The zero Classes are none; begin with
// [Everything].
type Classes struct {
	SFirst, SLast, DFirst, DLast uint16
	ByProto                      bool // a rule asked for the protocol
}

// Everything are all packets.
func Everything() Classes { return Classes{SFirst: 1, SLast: 65535, DFirst: 1, DLast: 65535} }

// narrow cuts away what a rule tells from the packet.
func (c *Classes) narrow(r Rule, p Packet) {
	if c == nil || len(r.Services) == 0 {
		return
	}
	for _, t := range r.Services {
		c.Service(t, r.Replies, p)
	}
}

// Service notes that somebody asked whether a packet is of some traffic, and cuts away what differs from it.
func (c *Classes) Service(t design.Traffic, replies bool, p Packet) {
	if c == nil {
		return
	}
	c.ByProto = true
	if t.Proto != p.Proto || t.First == 0 {
		return
	}
	first, last, port := &c.DFirst, &c.DLast, p.DPort
	if replies {
		first, last, port = &c.SFirst, &c.SLast, p.SPort
	}
	switch {
	case port < t.First:
		*last = min(*last, t.First-1)
	case port > t.Last:
		*first = max(*first, t.Last+1)
	default:
		*first, *last = max(*first, t.First), min(*last, t.Last)
	}
}

// Turned are the same packets as their answers have them: each one's source port is the other's destination port.
func (c Classes) Turned() Classes {
	c.SFirst, c.SLast, c.DFirst, c.DLast = c.DFirst, c.DLast, c.SFirst, c.SLast
	return c
}

// Has reports whether ports are among them.
func (c Classes) Has(sport, dport uint16) bool {
	return c.SFirst <= sport && sport <= c.SLast && c.DFirst <= dport && dport <= c.DLast
}

// Without is what is left of classes once others are taken away: at most four, none of which has a packet in
// common with another.
func (c Classes) Without(o Classes) []Classes {
	if o.SFirst > c.SLast || o.SLast < c.SFirst || o.DFirst > c.DLast || o.DLast < c.DFirst {
		return []Classes{c}
	}
	var out []Classes
	left := c
	if left.DFirst < o.DFirst {
		out = append(out, Classes{SFirst: left.SFirst, SLast: left.SLast, DFirst: left.DFirst, DLast: o.DFirst - 1})
		left.DFirst = o.DFirst
	}
	if left.DLast > o.DLast {
		out = append(out, Classes{SFirst: left.SFirst, SLast: left.SLast, DFirst: o.DLast + 1, DLast: left.DLast})
		left.DLast = o.DLast
	}
	if left.SFirst < o.SFirst {
		out = append(out, Classes{SFirst: left.SFirst, SLast: o.SFirst - 1, DFirst: left.DFirst, DLast: left.DLast})
	}
	if left.SLast > o.SLast {
		out = append(out, Classes{SFirst: o.SLast + 1, SLast: left.SLast, DFirst: left.DFirst, DLast: left.DLast})
	}
	return out
}
