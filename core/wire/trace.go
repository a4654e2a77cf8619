package wire

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/walk"
)

// Hop is one line of a trace: who answers when a packet's time to live ends there.
type Hop struct {
	N  int        `json:"n"` // from 1
	At walk.Place `json:"at"`
	// Address is what it answers from; invalid where nobody can say: a cloud's, or a LAN's router whose address the
	// design does not hold.
	Address netip.Addr `json:"address,omitzero"`
	Why     string     `json:"why,omitempty"` // why the address is not known
	Target  bool       `json:"target,omitempty"`
}

// Trace are the hops of a flow as its source sees them. A box that ends the connection and opens another is the last.
func Trace(t *route.Tables, p walk.Proof) []Hop {
	out := []Hop{}
	for _, v := range visits(p.Forward) {
		if v.begins && !v.ends {
			continue
		}
		h := Hop{N: len(out) + 1, At: v.at}
		switch {
		case v.ends && !slices.Contains(walk.Boxes, v.at.Kind):
			h.Address, h.Target = p.Dialled, true
		case slices.Contains(route.PointKinds, v.at.Kind):
			h.Address, h.Why = answersFrom(t, v)
			h.Target = v.ends || v.proxies
			if h.Target {
				h.Address, h.Why = p.Dialled, ""
			}
		default:
			continue
		}
		if v.at.Kind == design.KindTable || v.at.Kind == design.KindHubTable {
			continue // a cloud's fabric is no hop
		}
		h.N = len(out) + 1
		if out = append(out, h); h.Target {
			break
		}
	}
	return out
}

// answersFrom is the address from which a box says that a packet's time has ended: the one that its kernel gives what
// it sends to the source.
func answersFrom(t *route.Tables, v visit) (netip.Addr, string) {
	p := t.PointIn(v.at.ID, v.at.Segment)
	if p == nil {
		return netip.Addr{}, "it is no box"
	}
	if p.Kind == design.KindGateway && p.Party.Kind != design.KindSite {
		return netip.Addr{}, "it is a cloud's"
	}
	c := p.Lookup(v.in.Src)
	if c.Winner == nil {
		return netip.Addr{}, "it has no route to the source, and does not answer"
	}
	if own := t.SendsFrom(p, c.Winner, v.in.Src); own.IsValid() && !own.Assumed {
		return own.Addr, ""
	}
	return netip.Addr{}, "the design does not say its address there"
}

// LogLine is what the log of a box's kernel says of a packet, where a rule of its filters is told to log.
type LogLine struct {
	At   walk.Place `json:"at"`
	Line string     `json:"line"`
}

// Logs are the lines that the rulesets of one's own boxes log of a flow, with a rule "log" before each that decides.
func Logs(t *route.Tables, p walk.Proof) []LogLine {
	out := []LogLine{}
	for _, way := range [][]walk.Stage{p.Forward, p.Reply} {
		for _, s := range way {
			if s.Decided != nil && slices.Contains(walk.Boxes, s.At.Kind) {
				out = append(out, LogLine{s.At, logged(s.Decided, s.Header, "lets pass")})
			}
		}
	}
	if s := p.Stop; s != nil && s.Decided != nil && slices.Contains(walk.Boxes, s.At.Kind) {
		if way := lastWay(p); len(way) > 0 {
			out = append(out, LogLine{s.At, logged(s.Decided, way[len(way)-1].Header, "refuses")})
		}
	}
	return out
}

func lastWay(p walk.Proof) []walk.Stage {
	if len(p.Reply) > 0 {
		return p.Reply
	}
	return p.Forward
}

func logged(d *walk.Decided, h walk.Header, does string) string {
	ports := ""
	if h.DPort != 0 {
		ports = fmt.Sprintf(" SPT=%d DPT=%d", h.SPort, h.DPort)
	}
	return fmt.Sprintf("%s %s: SRC=%s DST=%s PROTO=%s%s", d.Name, does, h.Src, h.Dst, upper(h.Proto), ports)
}

func upper(proto string) string {
	return map[string]string{"tcp": "TCP", "udp": "UDP", "icmp": "ICMP", "esp": "ESP"}[proto]
}
