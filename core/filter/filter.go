// Package filter decides what may pass at one place. A [Filter] is a filter of a design, resolved: its rules with
// the ranges that are on the wire there, in the manner of its platform. [Filter.Decide] takes one packet;
// [Classes] says which other packets between the same two addresses fare alike, so that what must never pass is
// shown for all ports by one packet of each class, and never by samples.
//
// What is asked where, and what a box remembers of a conversation, is the walk's to know.
package filter

import (
	"cmp"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
)

// Manner is how a filter decides: its platform's way, from the profile, or a Linux box's.
type Manner struct {
	Stateless bool
	Any       bool   // all rules that fit are asked, and not the first alone
	OnlyAllow bool   // no rule refuses
	Before    bool   // at a gateway: addresses are those before translation
	Own       bool   // it is a Linux box's or host's own, and no cloud's
	Directed  bool   // it tells in from out
	Chosen    bool   // its owner chooses what becomes of what no rule is for
	In, Out   string // what becomes of what no rule is for
	Most      int    // rules that it takes; 0: any number
}

// MannerOf is how a filter decides. Its own defaults count where the platform leaves them to its owner.
func MannerOf(d *design.Design, f *design.PacketFilter) Manner {
	m := Manner{Directed: d.Directed(f)}
	if k := d.FilterKindOf(f); k != nil {
		m.Stateless, m.Any, m.OnlyAllow, m.Before = k.Stateless, k.Match == "any", !k.Refuses, k.BeforeTranslation
		m.In, m.Out, m.Most = k.In, k.Out, int(k.Rules)
		if m.Chosen = k.DefaultsChosen; m.Chosen {
			m.In, m.Out = cmp.Or(f.Default, m.In), cmp.Or(f.DefaultOut, m.Out)
		}
		return m
	}
	m.Own, m.Chosen, m.Stateless = true, true, f.Stateless
	m.In, m.Out = cmp.Or(f.Default, design.Refuse), cmp.Or(f.DefaultOut, design.Allow)
	return m
}

// Rule is one rule, resolved.
type Rule struct {
	N        int // its place among the rules of its filter, from 0
	Refuses  bool
	Family   string         // ipv4, ipv6; empty: both
	From, To []netip.Prefix // nil: any; empty: nothing
	Services []design.Traffic
	Replies  bool
}

// Filter is a filter, resolved.
type Filter struct {
	ID     design.ID
	Name   string
	Manner Manner
	in     []Rule
	out    []Rule // of one that is directed
}

// Of resolves a filter.
func Of(d *design.Design, o *design.Object) *Filter {
	b := o.Body.(*design.PacketFilter)
	f := &Filter{ID: o.ID, Name: o.Name, Manner: MannerOf(d, b)}
	for n, r := range b.Rules {
		x := Rule{
			N: n, Refuses: r.Refuses(), Family: r.Family, Services: r.Services, Replies: r.Replies,
			From: sideOf(d, b, r.From, r.FromOf), To: sideOf(d, b, r.To, r.ToOf),
		}
		if f.Manner.Directed && r.Goes() == design.Outgoing {
			f.out = append(f.out, x)
		} else {
			f.in = append(f.in, x)
		}
	}
	return f
}

// sideOf are the ranges that one side of a rule names, nil if it names nothing.
func sideOf(d *design.Design, f *design.PacketFilter, ranges []netip.Prefix, of []design.ID) []netip.Prefix {
	if len(ranges)+len(of) == 0 {
		return nil
	}
	out := slices.Clone(ranges)
	for _, id := range of {
		out = append(out, NamedAt(d, f, id)...)
	}
	return prefix.Minimal(out)
}

// Rules are those for one direction; of a filter that tells none apart all.
func (f *Filter) Rules(direction string) []Rule {
	if f.Manner.Directed && direction == design.Outgoing {
		return f.out
	}
	return f.in
}

// Default is what becomes of what no rule is for.
func (f *Filter) Default(direction string) string {
	if f.Manner.Directed && direction == design.Outgoing {
		return f.Manner.Out
	}
	return f.Manner.In
}

// Packet is what a filter sees of one.
type Packet struct {
	Src, Dst     netip.Addr
	Proto        string // tcp, udp, icmp, esp, or another
	SPort, DPort uint16 // of tcp and udp
	Message      string // of icmp
}

// ByDefault is the rule of a [Ruling] that none has made.
const ByDefault = -1

// Ruling is what a filter decides, and by which rule.
type Ruling struct {
	Allows bool
	Rule   int // from 0; [ByDefault] if none
}

// Decide rules on a packet. classes, if not nil, are narrowed to what fares alike by the same rules.
func (f *Filter) Decide(p Packet, direction string, classes *Classes) Ruling {
	out := Ruling{Allows: f.Default(direction) == design.Allow, Rule: ByDefault}
	for _, r := range f.Rules(direction) {
		if !r.between(p) {
			continue
		}
		classes.narrow(r, p)
		if !r.serves(p) {
			continue
		}
		if out.Rule == ByDefault || r.Refuses && out.Allows {
			out = Ruling{!r.Refuses, r.N}
		}
		if !f.Manner.Any || r.Refuses {
			break
		}
	}
	return out
}

// between reports whether the rule is for packets between the addresses of this one.
func (r Rule) between(p Packet) bool {
	return (r.Family == "" || (r.Family == "ipv4") == p.Dst.Is4()) &&
		(r.From == nil || prefix.Has(r.From, p.Src)) && (r.To == nil || prefix.Has(r.To, p.Dst))
}

// serves reports whether the rule is for the protocol, port and message of a packet.
func (r Rule) serves(p Packet) bool {
	return len(r.Services) == 0 ||
		slices.ContainsFunc(r.Services, func(t design.Traffic) bool { return Serves(t, r.Replies, p) })
}

// Serves reports whether traffic is what a packet carries; replies: what it answers.
func Serves(t design.Traffic, replies bool, p Packet) bool {
	if t.Proto != p.Proto {
		return false
	}
	if t.Proto == "icmp" {
		m := t.Message
		if replies && m == design.EchoRequest {
			m = design.EchoReply
		}
		return m == "" || m == p.Message || m == design.Unreachable && p.Message == design.TooBig && p.Dst.Is4()
	}
	port := p.DPort
	if replies {
		port = p.SPort
	}
	return t.First == 0 || t.First <= port && port <= t.Last
}

// Missed is a rule that was asked before the one that decided, and why it did not.
type Missed struct {
	Rule int    `json:"rule"` // from 0
	Why  string `json:"why"`
}

// Before are the rules that were asked for a packet before the one that decided.
func (f *Filter) Before(p Packet, direction string, decided int) []Missed {
	out := []Missed{}
	for _, r := range f.Rules(direction) {
		if r.N == decided {
			break
		}
		why := ""
		switch {
		case r.Family != "" && (r.Family == "ipv4") != p.Dst.Is4():
			why = "it is for " + r.Family
		case r.From != nil && !prefix.Has(r.From, p.Src):
			why = p.Src.String() + " is not among its sources"
		case r.To != nil && !prefix.Has(r.To, p.Dst):
			why = p.Dst.String() + " is not among its destinations"
		case !r.serves(p):
			why = "it is for other services"
		default:
			continue
		}
		out = append(out, Missed{r.N, why})
	}
	return out
}

// Words are what a rule is for, as a person reads it.
func Words(services []design.Traffic, replies bool) string {
	if len(services) == 0 {
		return "everything"
	}
	out := ""
	for n, s := range services {
		if n > 0 {
			out += ", "
		}
		out += s.String()
	}
	if replies {
		return "answers of " + out
	}
	return out
}
