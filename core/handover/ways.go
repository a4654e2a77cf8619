package handover

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/box"
	"dravin/core/prefix"
	"dravin/core/route"
)

// The metrics of routes into links: behind all that the box has of its own. Of
// several links with one range the first in the design goes first.
const (
	entered4 = 2 // the box's own entries go before what is sent into links
	entered6 = 2047
	metric4  = 3 // before what the BGP daemon learns
	metric6  = 2048
	perLink  = 8 // tunnels that may stand one behind the other
)

// way is a route into a static link, or into a circuit without a session, as a table
// of the kernel has it.
type way struct {
	to      netip.Prefix
	devices []string   // of the tunnels that it may take, or of the circuit
	up      []string   // those of them that are up
	via     netip.Addr // a circuit's far end; invalid for a link
	metric  int        // of the first
	table   int        // 0: the main one
	src     string     // a shell word that gives the source of what the box sends itself
}

// ways are the routes of a point into its static links and circuits.
func (s *script) ways(p *route.Point, table int) []way {
	var out []way
	for _, r := range p.Routes {
		if r.Entered() || r.Learned != nil || r.Expected != "" || r.Unusable != "" && r.Down == nil {
			continue
		}
		w := way{to: r.Prefix, table: table}
		switch {
		case r.Hop.Kind == route.Tunnel && r.Source == route.Static:
			n := slices.IndexFunc(s.box.Links, func(l *box.Link) bool { return l.ID == r.Hop.To })
			if n < 0 || len(s.box.Links[n].Tunnels) == 0 {
				continue
			}
			w.devices, w.metric = devicesOf(s.box.Links[n], r), metricOf(r.Prefix, n)
			w.up = upAmong(s.box.Links[n], w.devices)
		case r.Hop.Kind == route.Circuit && r.Source == route.CircuitStatic:
			n := slices.IndexFunc(s.box.Circuits, func(c box.Circuit) bool { return c.ID == r.Hop.To })
			if n < 0 {
				continue
			}
			c := s.box.Circuits[n]
			if !c.FarInside.IsValid() || c.FarInside.Is4() != r.Prefix.Addr().Is4() {
				continue
			}
			w.devices, w.via, w.metric = []string{c.Device()}, c.FarInside, metricOf(r.Prefix, len(s.box.Links)+n)
			if r.Unusable == "" {
				w.up = w.devices
			}
		default:
			continue
		}
		if table == 0 {
			w.src = ownSource(p, prefix.FamilyOf(r.Prefix.Addr()))
		}
		out = append(out, w)
	}
	return out
}

func metricOf(p netip.Prefix, n int) int {
	if p.Addr().Is4() {
		return metric4 + n*perLink
	}
	return metric6 + n*perLink
}

// place writes the commands that set the route.
func (s *script) place(w way) {
	if w.src != "" {
		s.line("s=%s", w.src)
	}
	for _, half := range halves(w.to) {
		for k, hops := range w.hops() {
			if hops == "" {
				continue
			}
			set := w.put(half, k, hops)
			if w.via.IsValid() {
				set = fmt.Sprintf("if has %s; then %s; fi", w.devices[0], set)
			}
			s.placed(half, w.metric+k, w.table)
			s.line("%s", set)
		}
	}
}

// put is the command that sets the route over next hops, the k-th of those that stand one
// behind the other.
func (w way) put(half netip.Prefix, k int, hops string) string {
	out := fmt.Sprintf("ip %s route replace %s metric %d ", flag(w.to), half, w.metric+k)
	if w.table != 0 {
		out += fmt.Sprintf("table %d ", w.table)
	}
	if w.src != "" {
		out += "${s:+src $s} "
	}
	return out + hops
}

// drop is the command that takes the route away, if it is there.
func (w way) drop(half netip.Prefix, k int, of string) string {
	out := fmt.Sprintf("ip %s route del %s metric %d", flag(w.to), half, w.metric+k)
	if w.table != 0 {
		out += fmt.Sprintf(" table %d", w.table)
	}
	return out + of + " 2>/dev/null"
}

// shares reports whether the route has all its next hops at once.
func (w way) shares() bool { return w.to.Addr().Is4() && !w.via.IsValid() }

// hops are the next hops by metric; empty where the one of that metric is down.
func (w way) hops() []string {
	if len(w.up) == 0 {
		return nil
	}
	if w.via.IsValid() {
		return []string{fmt.Sprintf("via %s dev %s", w.via, w.devices[0])}
	}
	if w.shares() {
		return hopsOf(w.up, prefix.IPv4)
	}
	out := hopsOf(w.devices, prefix.IPv6)
	for n, d := range w.devices {
		if !slices.Contains(w.up, d) {
			out[n] = ""
		}
	}
	return out
}

// devicesOf are the devices of the tunnels that a route into a link uses.
func devicesOf(l *box.Link, r route.Route) []string {
	var out []string
	for _, t := range l.Tunnels {
		if len(r.Tunnels) == 0 || slices.Contains(r.Tunnels, t.ID) {
			out = append(out, t.Device())
		}
	}
	if len(out) == 0 {
		return l.Devices()
	}
	return out
}

// upAmong are those of some devices whose tunnels are up.
func upAmong(l *box.Link, devices []string) []string {
	var out []string
	for _, t := range l.Tunnels {
		if t.Up && slices.Contains(devices, t.Device()) {
			out = append(out, t.Device())
		}
	}
	return out
}

// hopsOf are the next hops of a link, one list for each metric: IPv4 shares among
// the tunnels; IPv6 takes no route over several devices without gateways, so there
// they stand one behind the other.
func hopsOf(devices []string, f prefix.Family) []string {
	if f == prefix.IPv6 || len(devices) == 1 {
		out := make([]string, len(devices))
		for n, d := range devices {
			out[n] = "dev " + d
		}
		return out
	}
	return []string{"nexthop dev " + strings.Join(devices, " nexthop dev ")}
}

// halves are a default route as two routes, so that it goes before the one that
// the box has; any other as it is.
func halves(p netip.Prefix) []netip.Prefix {
	if low, high, ok := prefix.Halves(p); ok && p.Bits() == 0 {
		return []netip.Prefix{low, high}
	}
	return []netip.Prefix{p}
}

// ownSource finds the box's own address in its LANs, as the source of what it
// sends into links itself: the far end knows the way back there.
func ownSource(point *route.Point, f prefix.Family) string {
	var asked []string
	for _, own := range point.Own {
		if f.Has(own.Addr()) {
			asked = append(asked, fmt.Sprintf("own %s %s", flag(own), own))
		}
	}
	if len(asked) == 0 {
		return ""
	}
	return "$({ " + strings.Join(asked, "; ") + "; } | head -n 1)"
}

// allWays are the ways of all routing instances.
func (s *script) allWays() []way {
	var out []way
	for n := range s.box.Instances {
		i := &s.box.Instances[n]
		out = append(out, s.ways(i.Table, kernelTable(i))...)
	}
	return out
}
