package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/prefix"
)

// A box that hides behind its own address puts the one that walks show, named wherever
// the design knows it. The kernel is asked only for what leaves by a LAN or to the
// internet: there it takes the interface's own, and of an interface without one it would
// take any other.

// hides are the ways in which a rule hides packets behind the box's own address.
func (r ruleset) hides(x box.Rule) []string {
	var out []string
	for _, h := range x.Selected {
		if r.of.Has(h.Remote.Addr()) {
			out = append(out, fmt.Sprintf("%s daddr %s snat to %s", r.family, h.Remote, h.Own))
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
		out = append(out, "oifname != "+set(joints)+r.others(x)+" masquerade")
	default:
		out = append(out, strings.TrimPrefix(r.others(x)+" masquerade", " "))
	}
	return out
}

// others keeps a rule from what the box sends from one of several public addresses of its own, as its IPsec daemon
// does: a far end knows it by that.
func (r ruleset) others(x box.Rule) string {
	var own []string
	for _, a := range r.box.Addresses {
		if r.of.Has(a) && !a.IsUnspecified() && (len(x.Source) == 0 || prefix.Has(x.Source, a)) {
			own = append(own, a.String())
		}
	}
	if len(own) < 2 {
		return ""
	}
	return fmt.Sprintf(" %s saddr != { %s }", r.family, strings.Join(own, ", "))
}

// exit is the interface of a tunnel or circuit with the address that the box has on
// it, invalid if it has none of the family.
type exit struct {
	joint  design.ID
	tunnel design.ID
	device string
	own    netip.Addr
}

func (r ruleset) waysOut() (out []exit) {
	add := func(w exit, insides ...netip.Prefix) {
		for _, own := range insides {
			if own.IsValid() && r.of.Has(own.Addr()) && !w.own.IsValid() {
				w.own = own.Addr()
			}
		}
		out = append(out, w)
	}
	for _, e := range r.box.Links {
		for _, s := range e.Tunnels {
			if e.Routed() {
				add(exit{joint: e.ID, tunnel: s.ID, device: s.Device()}, s.Insides()...)
			}
		}
	}
	for _, c := range r.box.Circuits {
		add(exit{joint: c.ID, device: c.Device()}, c.Inside)
	}
	return out
}

// dials gives a listener that dials over several tunnels the address of the tunnel
// that each connection takes: bound to one of them it would stay there when that is
// lost.
func (r ruleset) dials() {
	for _, l := range r.box.Listeners {
		if !l.ByTunnel || !r.of.Has(l.Dials) {
			continue
		}
		r.comment("%s dials by any tunnel, from its inside address", l.Name)
		for _, w := range r.waysOut() {
			if slices.Contains(l.Tunnels, w.tunnel) && w.own.IsValid() {
				r.line(
					"oifname %q fib saddr type local %s daddr %s %s dport %d snat to %s", w.device, r.family, l.Dials,
					l.Service.Proto, l.Port, w.own,
				)
			}
		}
	}
}
