package topology

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/negotiate"
	"dravin/core/prefix"
	"dravin/core/settings"
	"dravin/core/status"
)

// A link is a VPN between two gateways, with tunnels that carry it. Routes or selectors decide
// what enters; routes are entered, or learned on the sessions of its tunnels.
var link = Kind{
	Kind: design.KindLink, Judge: judgeLink,
	Edge: func(d *design.Design, o *design.Object, end int) Edge {
		far := o.Body.(*design.Link).Ends[1-end].Gateway
		return Edge{Enters: enteringBy(d, far, "")}
	},
	Routes: func(_ *design.Design, o *design.Object, end int) []netip.Prefix {
		return o.Body.(*design.Link).Ends[end].Routes
	},
	Inside: func(d *design.Design, o *design.Object, end int) (out []Inside) {
		if o.Body.(*design.Link).Routing == design.RoutingSelectors {
			return nil // it has no interface
		}
		for t, b := range design.Each[design.Tunnel](d.Inside(o.ID, design.KindTunnel)) {
			if len(b.Inside) == 2 {
				out = append(out, Inside{b.Inside[end], b.Inside[1-end].Addr(), t.ID})
			}
			if len(b.Inside6) == 2 {
				out = append(out, Inside{b.Inside6[end], b.Inside6[1-end].Addr(), t.ID})
			}
		}
		return out
	},
	Carriers: func(d *design.Design, o *design.Object) []*design.Object { return d.Inside(o.ID, design.KindTunnel) },
	Admits:   admitsByLink,
	Selects:  func(o *design.Object) bool { return o.Body.(*design.Link).Routing == design.RoutingSelectors },
	Learns: func(_ *design.Design, o *design.Object) bool {
		return o.Body.(*design.Link).Routing == design.RoutingBGP
	},
}

// admitsByLink takes what the selectors let in on which the two ends have agreed.
func admitsByLink(s *status.Status, e Edge, p Packet) ([]*design.Object, *Denial) {
	o := s.Design().Get(e.Joint)
	l := o.Body.(*design.Link)
	if l.Routing == design.RoutingSelectors {
		if covered(l.Ends[1-e.End].Local, l.Ends[1-e.End].Remote, p.to(), p.from()) {
			return p.Tunnels, nil
		}
		end := s.Design().Title(e.To)
		return nil, &Denial{
			SelectorMiss,
			fmt.Sprintf("%s has no selector of %s for %s from %s and drops it", end, o.Name, p.Dst, p.Src),
			"make the selectors of both ends mirror each other",
		}
	}
	fitting := slices.DeleteFunc(
		slices.Clone(p.Tunnels), func(t *design.Object) bool { return !narrowed(s, t.ID, e.End, p) },
	)
	if len(fitting) == 0 {
		return nil, &Denial{
			SelectorMiss,
			fmt.Sprintf("the two ends of %s have agreed on selectors that do not cover %s to %s", o.Name, p.Src, p.Dst),
			"set the selectors of both ends to everything",
		}
	}
	return fitting, nil
}

// covered reports whether selectors take a packet: one local range with one remote one.
func covered(local, remote []netip.Prefix, src, dst netip.Addr) bool {
	return prefix.Has(local, src) && prefix.Has(remote, dst)
}

// narrowed reports whether a packet fits what the two ends of a route-based tunnel have agreed
// on, seen from one of them.
func narrowed(s *status.Status, tunnel design.ID, end int, p Packet) bool {
	out := s.Tunnel(tunnel)
	near, far := out.Local, out.Remote
	if end == 1 {
		near, far = far, near
	}
	covers := func(ps []netip.Prefix, a netip.Addr) bool {
		family := slices.ContainsFunc(ps, func(p netip.Prefix) bool { return p.Addr().Is4() == a.Is4() })
		return prefix.Has(ps, a) ||
			!family && slices.ContainsFunc(ps, func(p netip.Prefix) bool { return p.Bits() == 0 })
	}
	everything := func(q netip.Prefix) bool { return q.Bits() == 0 && q.Addr().Is4() == p.Dst.Is4() }
	return (slices.ContainsFunc(far, everything) || covers(far, p.to())) &&
		(slices.ContainsFunc(near, everything) || covers(near, p.from()))
}

// enteringBy is the table of a network that routes what comes in by one of its gateways: what
// the joint itself names for that end, or the gateway; empty where the gateway itself does.
func enteringBy(d *design.Design, end, named design.ID) design.ID {
	if named != "" {
		return named
	}
	if g, ok := d.Get(end).Body.(*design.Gateway); ok {
		return g.Enters
	}
	return ""
}

// judgeLink is up if a tunnel is.
func judgeLink(s *status.Status, o *design.Object) status.Held {
	return status.Held{Verdict: carriedByTunnels(s, o)}
}

func carriedByTunnels(s *status.Status, o *design.Object) status.Verdict {
	if v := s.Made(o); !v.Up {
		return v
	}
	var first status.Verdict
	for n, t := range s.Design().Inside(o.ID, design.KindTunnel) {
		v := s.Of(t.ID)
		if v.Up {
			return status.Up
		}
		if n == 0 {
			first = v
		}
	}
	if first.Cause == "" {
		return status.Down(status.LinkDown, o.ID, "tunnels", "%s has no tunnel", o.Name)
	}
	return first
}

// judgeTunnel is up if its two ends agree and reach each other.
func judgeTunnel(s *status.Status, o *design.Object) status.Held {
	set := settings.SettingsOf(s.Design(), o, "")
	if slices.Contains(s.Condition().OtherKeys, o.ID) {
		set[0].Key, set[1].Key = "ours", "theirs"
	}
	outcome := negotiate.Agree(set[0], set[1])
	return status.Held{Verdict: tunnelVerdict(s, o, outcome), Tunnel: outcome}
}

func tunnelVerdict(s *status.Status, o *design.Object, outcome negotiate.Outcome) status.Verdict {
	t, parent := o.Body.(*design.Tunnel), s.Design().Get(o.Parent)
	l := parent.Body.(*design.Link)
	if v := s.Taken(parent); !v.Up {
		return v
	}
	if v := s.Made(parent); !v.Up {
		return v
	}
	name := parent.Name + ", " + o.Name
	outside := s.Design().OutsideOf(o)
	for n, e := range l.Ends {
		if v := s.Ending(e.Gateway); !v.Up {
			return v
		}
		if len(outside) == 2 && s.AddressGone(outside[n]) {
			return status.Down(status.LinkDown, o.ID, "", "the address %s is taken away", outside[n])
		}
		if len(outside) == 2 && s.Design().Side() == design.Built && !negotiate.Known(outside[n]) {
			return status.Down(
				status.NotThereYet, o.ID, lineOf("address", n), "the address of %s at %s has not been given yet", name,
				s.Design().Title(e.Gateway),
			)
		}
		if v := endMade(s, o, t, n, name); !v.Up {
			return v
		}
	}
	if !outcome.Up {
		return status.Down(
			status.LinkDown, o.ID, outcome.Parameter, "the two ends of %s do not agree: %s", name, outcome.Why,
		)
	}
	if why, at := settings.InsideRefused(s.Design(), o); why != "" {
		return status.Down(
			status.LinkDown, o.ID, "inside-1", "the inside range %s of %s %s (%s)", t.Inside[0].Masked(), name, why,
			s.Design().Title(at),
		)
	}
	if !settings.Starts(s.Design(), o, 0) && !settings.Starts(s.Design(), o, 1) {
		return status.Down(
			status.LinkDown, o.ID, "starts", "both ends of %s wait for the other to start, so that nobody does", name,
		)
	}
	return status.Up
}

// endMade is how far one end of a tunnel is set up, where it is said.
func endMade(s *status.Status, o *design.Object, t *design.Tunnel, n int, name string) status.Verdict {
	if len(t.Ends) != 2 || t.Ends[n].State == "" || t.Ends[n].State == design.Ready {
		return status.Up
	}
	at := s.Design().Title(s.Design().Get(o.Parent).Body.(*design.Link).Ends[n].Gateway)
	return status.Down(status.HalfMade, o.ID, "setup", "%s is %s at %s", name, design.StateWord(t.Ends[n].State), at)
}

func lineOf(key string, n int) string { return key + "-" + string(rune('1'+n)) }
