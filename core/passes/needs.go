// Package passes works out from intents what filters must let pass.
//
// An intent is walked as if every filter were open. Each filter that it comes to, there and back, is a [Need]: the
// ranges and the service as they are on the wire there. A filter that remembers needs nothing for answers; one that
// does not needs a rule for them, and one for the errors of ICMP that a path with tunnels lives by. The needs of one
// filter are brought together into as few rules as let pass exactly them ([Least]). Nothing is guessed: where a
// platform can not have such rules, or the ways there and back differ so that no rule helps, that is said.
package passes

import (
	"cmp"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/walk"
)

// Need is what one intent needs one filter to let pass.
type Need struct {
	Filter    design.ID
	Direction string // in, out or forwarded
	From, To  netip.Prefix
	Traffic   design.Traffic
	Replies   bool // it is the answers' traffic
	Errors    bool // it is for errors of ICMP
	Intent    design.ID
	Passes    bool // the filter lets it pass as it is
	Rule      int  // by which rule, from 0; -1: by default
}

// Unmet is what no rule can help.
type Unmet struct {
	Intent design.ID `json:"intent"`
	Filter design.ID `json:"filter"`
	Why    string    `json:"why"`
}

// needed is what became of one intent.
type needed struct {
	needs []Need
	unmet []Unmet
	works bool // it does with every filter open
}

// Needs are what intents need, remembered from one design to the next as long as nothing has changed that their
// walks looked at.
type Needs struct {
	tables *route.Tables
	memo   *design.Memo[design.ID, needed]
}

// Of begins with solved tables.
func Of(t *route.Tables) *Needs { return &Needs{t, &design.Memo[design.ID, needed]{}} }

// After are the needs over the tables of the next design.
func (n *Needs) After(next *route.Tables, changes *design.Changes) *Needs {
	out := Of(next)
	out.memo.After(n.memo, changes)
	return out
}

// Settle takes over what still holds of the needs before, and lets go of them.
func (n *Needs) Settle() { n.memo.Settle() }

// Watched are the same needs, noting whatever is looked at where the view of the tables notes it.
func (n *Needs) Watched(t *route.Tables) *Needs { return &Needs{t, n.memo} }

// Tables are what they are over.
func (n *Needs) Tables() *route.Tables { return n.tables }

func (n *Needs) of(intent design.ID) needed {
	return n.memo.Get(n.tables.Design, intent, func(view *design.Design) needed {
		return needsOf(n.tables.Watched(view), view.Get(intent))
	})
}

// All are the needs of all intents that must work, in the order of the intents.
func (n *Needs) All() (needs []Need, unmet []Unmet) {
	for _, o := range n.tables.Design.Of(design.KindIntent) {
		x := n.of(o.ID)
		needs, unmet = append(needs, x.needs...), append(unmet, x.unmet...)
	}
	return needs, unmet
}

// end is one end of a flow with the range for which it stands.
type end struct {
	host  walk.Host
	whole netip.Prefix
}

// ends are the ends that an object stands for: a host's addresses, the ranges of a place.
func ends(d *design.Design, id design.ID) []end {
	o := d.Get(id)
	var out []end
	if b, ok := o.Body.(*design.Endpoint); ok {
		for _, a := range b.Addresses {
			out = append(out, end{walk.Host{Place: o.Parent, Endpoint: id, Address: a}, prefix.Alone(a)})
		}
		return out
	}
	for _, r := range d.Ranges(id) {
		h := walk.Host{Place: id, Address: prefix.FirstHost(r)}
		for e, b := range design.Each[design.Endpoint](d.Inside(id, design.KindEndpoint)) {
			n := slices.IndexFunc(b.Addresses, r.Contains)
			if n >= 0 {
				h = walk.Host{Place: id, Endpoint: e.ID, Address: b.Addresses[n]}
				break
			}
		}
		out = append(out, end{h, r.Masked()})
	}
	return out
}

func needsOf(t *route.Tables, o *design.Object) (out needed) {
	in := o.Body.(*design.Intent)
	switch {
	case in.Never:
		return out
	case t.Design.Get(in.From).Kind == design.KindInternet:
		out.fromInternet(t, o.ID, in)
		return out
	}
	for _, from := range t.Design.StandsFor(in.From) {
		for _, to := range t.Design.StandsFor(in.To) {
			if from == to {
				continue
			}
			for _, a := range ends(t.Design, from) {
				for _, b := range ends(t.Design, to) {
					if a.host.Address.Is4() == b.host.Address.Is4() {
						out.between(t, o.ID, in, a, b)
					}
				}
			}
		}
	}
	return out
}

// fromInternet adds what everybody on the internet needs.
func (n *needed) fromInternet(t *route.Tables, intent design.ID, in *design.Intent) {
	for _, to := range t.Design.StandsFor(in.To) {
		seen := map[netip.Addr]bool{}
		for _, f := range walk.FromInternet(t, to, in.Service) {
			if !seen[f.To] { // whoever it is, he needs the same
				seen[f.To] = true
				n.flow(t, intent, f, everything(prefix.Alone(f.From.Address)), prefix.Alone(f.To))
			}
		}
	}
}

// between adds what a flow from one end to another needs.
func (n *needed) between(t *route.Tables, intent design.ID, in *design.Intent, a, b end) {
	if b.whole.IsSingleIP() {
		b.host.Endpoint = cmp.Or(b.host.Endpoint, in.To)
	}
	flow := walk.FlowOf(t, a.host, b.host, in.Service)
	if b.host.Endpoint != "" && !b.whole.IsSingleIP() {
		flow.Meant = b.host.Endpoint
	}
	n.flow(t, intent, flow, a.whole, named(t, a, b, flow))
}

// flow adds what a flow needs whose ends stand for ranges.
func (n *needed) flow(t *route.Tables, intent design.ID, flow walk.Flow, from, to netip.Prefix) {
	p, gates := walk.Opened(t, flow, from, to)
	n.works = n.works || p.Works
	if !p.Works {
		return // something else is wrong, and no rule helps
	}
	tunnels := slices.ContainsFunc(slices.Concat(p.Forward, p.Reply), func(s walk.Stage) bool {
		return s.Act == walk.Enters && s.At.Kind == design.KindLink
	})
	alike := map[[2]string]bool{} // of a host's groups that only allow, one is enough
	for _, g := range gates {
		f := t.Filter(g.Filter)
		if guards := t.Design.Get(g.Filter).Body.(*design.PacketFilter).At; f.Manner.OnlyAllow &&
			t.Design.Get(guards).Kind == design.KindGroup && !g.Remembered {
			k := [2]string{string(g.At.ID), g.Direction + g.Way}
			if alike[k] {
				continue
			}
			alike[k] = true
		}
		n.gate(t, intent, g, tunnels)
		if halfSeen(t, g, gates) {
			n.unmet = append(n.unmet, Unmet{
				intent, g.Filter,
				t.Filter(g.Filter).Name + " remembers conversations and never sees the answer: the ways there and " +
					"back differ",
			})
		}
	}
}

// halfSeen reports whether a filter that remembers sees the request of a conversation of TCP and not the answer. A
// hub has one memory for all its tables.
func halfSeen(t *route.Tables, g walk.Gate, gates []walk.Gate) bool {
	if g.Way != "forward" || g.Remembered || g.Header.Proto != "tcp" || t.Filter(g.Filter).Manner.Stateless {
		return false
	}
	return !slices.ContainsFunc(gates, func(x walk.Gate) bool {
		return x.Way == "reply" && x.Filter == g.Filter && (x.At.ID == g.At.ID || x.At.Kind == design.KindHubTable)
	})
}

// named is the range that stands at the source for the target's: as long as it, where hosts beside each other are
// named beside each other; else the address that is dialled alone.
func named(t *route.Tables, a, b end, f walk.Flow) netip.Prefix {
	alone := prefix.Alone(f.To)
	if b.whole.IsSingleIP() || f.Service.Port != 0 && f.To.Is4() != b.whole.Addr().Is4() {
		return alone
	}
	if f.To == b.host.Address {
		return b.whole
	}
	as := netip.PrefixFrom(f.To, b.whole.Bits()).Masked()
	for _, h := range []netip.Addr{prefix.FirstHost(b.whole), prefix.LastHost(b.whole)} {
		if walk.SeenAs(t, a.host.Place, b.host.Place, h).Address != prefix.Translate(h, b.whole, as) {
			return alone
		}
	}
	return as
}

// gate adds what one filter must let pass.
func (n *needed) gate(t *route.Tables, intent design.ID, g walk.Gate, tunnels bool) {
	f := t.Filter(g.Filter)
	reply := g.Way == "reply"
	x := Need{
		Filter: g.Filter, Direction: g.Direction, From: g.From, To: g.To, Intent: intent, Passes: g.Allows,
		Rule:    g.Rule,
		Replies: reply, Traffic: design.TrafficOf(design.Service{Proto: g.Header.Proto, Port: g.Header.DPort}),
	}
	switch {
	case g.Remembered:
		return
	case reply && !f.Manner.Stateless:
		n.unmet = append(n.unmet, Unmet{
			intent, g.Filter,
			f.Name + " remembers conversations and sees the answer alone: the ways there and back differ",
		})
		return
	case reply:
		x.Traffic = design.TrafficOf(design.Service{Proto: g.Header.Proto, Port: g.Header.SPort})
	}
	n.needs = append(n.needs, x)
	if f.Manner.Stateless && tunnels {
		n.needs = append(n.needs, errorsTo(t, x))
	}
}

// errorsTo are the errors about what a filter that remembers nothing lets pass: they come from any box of the way to
// the sender.
func errorsTo(t *route.Tables, x Need) Need {
	back := map[string]string{design.Incoming: design.Outgoing, design.Outgoing: design.Incoming}
	e := Need{
		Filter: x.Filter, Direction: cmp.Or(back[x.Direction], x.Direction), From: everything(x.From), To: x.From,
		Traffic: design.Traffic{Proto: "icmp", Message: design.TooBig}, Errors: true, Intent: x.Intent,
	}
	r := t.Filter(x.Filter).Decide(packetOf(e), e.Direction, nil)
	e.Passes, e.Rule = r.Allows, r.Rule
	return e
}

func everything(p netip.Prefix) netip.Prefix { return netip.PrefixFrom(p.Addr(), 0).Masked() }
