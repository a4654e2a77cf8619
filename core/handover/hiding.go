package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"

	"dravin/core/design"
	"dravin/core/route"
)

// A box that hides behind its own address puts the one that walks show, named wherever
// the design knows it. The kernel is asked only for what leaves by a LAN or to the
// internet: there it takes the interface's own, and of an interface without one it would
// take any other.

// hides are the ways in which a rule hides packets behind the box's own address.
func (r ruleset) hides(x route.Translation) []string {
	var out []string
	for _, s := range r.point.Selectors {
		a := r.t.OwnAddress(r.point, route.Hop{}, nil, s.Remote.Addr()).Addr
		if (x.Toward == "" || x.Toward == s.Link) && s.Remote.Addr().Is4() == r.v4 && s.Local.Contains(a) &&
			slices.Contains(r.stands(), a) {
			out = append(out, fmt.Sprintf("%s daddr %s snat to %s", r.family, s.Remote, a))
		}
	}
	var joints []string
	for _, w := range r.waysOut() {
		joints = append(joints, strconv.Quote(w.device))
		if w.own.IsValid() && (x.Toward == "" || x.Toward == w.joint) {
			out = append(out, fmt.Sprintf("oifname %q snat to %s", w.device, w.own))
		}
	}
	switch {
	case x.Toward != "" && r.devices(x.Toward) != nil:
	case len(joints) > 0:
		out = append(out, "oifname != "+set(joints)+" masquerade")
	default:
		out = append(out, "masquerade")
	}
	return out
}

// stands are the box's addresses beside hosts.
func (r ruleset) stands() []netip.Addr { return design.StandsAt(r.t.Design.Get(r.point.ID)) }

// exit is the interface of a tunnel or circuit with the address that the box has on
// it, invalid if it has none of the family.
type exit struct {
	joint  design.ID
	tunnel design.ID
	device string
	own    netip.Addr
}

func (r ruleset) waysOut() (out []exit) {
	add := func(w exit, own netip.Prefix) {
		if own.IsValid() && own.Addr().Is4() == r.v4 {
			w.own = own.Addr()
		}
		out = append(out, w)
	}
	for _, e := range r.ends {
		for _, s := range e.tunnels {
			if e.routed() {
				var own netip.Prefix
				if len(s.body.Inside) == 2 {
					own = s.body.Inside[e.n]
				}
				add(exit{joint: e.link.ID, tunnel: s.tunnel.ID, device: s.device()}, own)
			}
		}
	}
	for _, c := range r.on {
		add(exit{joint: c.object.ID, device: c.device}, c.own)
	}
	return out
}

// dials gives a listener that dials over several tunnels the address of the tunnel
// that each connection takes: bound to one of them it would stay there when that is
// lost.
func (r ruleset) dials() {
	g := r.t.Design.Get(r.point.ID)
	for _, o := range r.t.Design.ListenersAt(g.ID) {
		l := o.Body.(*design.Listener)
		to, port := r.t.Design.DialOf(l)
		tunnels := tunnelsToward(r.t, g, to)
		if !l.Proxies() || len(tunnels) < 2 || to.Is4() != r.v4 {
			continue
		}
		r.comment("%s dials by any tunnel, from its inside address", o.Name)
		for _, w := range r.waysOut() {
			if slices.Contains(tunnels, w.tunnel) && w.own.IsValid() {
				r.line(
					"oifname %q fib saddr type local %s daddr %s %s dport %d snat to %s", w.device, r.family, to,
					l.Service.Proto, port, w.own,
				)
			}
		}
	}
}
