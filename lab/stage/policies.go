package stage

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/rehearsal"
)

// A kernel with ESP asks the selectors of its SAs (RFC 4301 section 5.1) whatever a route says, and once more after it
// has translated the source; what an SA has decapsulated must fit it. On a kernel without ESP rules of the packet
// filter do the same: what fits before it is translated leaves by no link that routes decide on, what fits behind the
// translation is put on the tunnel's wire, and what comes from a wire and does not fit is dropped.

// policies loads, in every box with policy-based tunnels, what stands for its kernel's.
func (l *live) policies(ctx context.Context) {
	for _, n := range l.nodes {
		rules := ""
		for _, v4 := range []bool{true, false} {
			rules += l.policiesOf(n, v4)
		}
		if rules == "" || l.asked[n.Name] == rules {
			continue
		}
		l.asked[n.Name] = rules
		l.load(ctx, n, rules)
	}
}

func (l *live) policiesOf(n *node, v4 bool) string {
	ip := map[bool]string{true: "ip", false: "ip6"}[v4]
	var in, before, past []string
	var stay []netip.Prefix
	any := false
	for k, w := range l.laid() {
		for e, end := range w.Ends {
			if end.Node != n.Name || !end.Asks {
				continue
			}
			any, stay = true, end.Stay
			l.mu.Lock()
			pairs := l.pairs[k]
			l.mu.Unlock()
			for _, p := range pairs {
				local, remote := p.local, p.remote
				if e == 1 {
					local, remote = remote, local
				}
				local, remote = ofFamily(local, v4), ofFamily(remote, v4)
				for _, rule := range fits(local, remote, "") {
					match := strings.TrimPrefix(rule, "meta protocol "+ip+" ")
					before = append(before, match+"meta mark set mark or "+rehearsal.Selected+" return")
					past = append(past, "meta protocol "+ip+" "+match+
						"ether daddr set "+rehearsal.WireMAC+" fwd to "+end.Device)
				}
				for _, rule := range fits(remote, local, "return") {
					in = append(in, "iifname "+end.Device+" "+strings.TrimPrefix(rule, "meta protocol "+ip+" "))
				}
			}
			in = append(in, "iifname "+end.Device+" drop")
		}
	}
	if !any {
		return ""
	}
	kept := ofFamily(stay, v4)
	for _, rule := range slices.Backward(fits(kept, kept, "return")) {
		before = slices.Insert(before, 0, strings.TrimPrefix(rule, "meta protocol "+ip+" "))
		past = slices.Insert(past, 0, rule)
	}
	devices := l.outerDevices(n)
	out := fmt.Sprintf(
		"table %[1]s selectors { }; delete table %[1]s selectors; table %[1]s selectors {\n"+
			"chain in { type filter hook prerouting priority -250; %[2]s; }\n"+
			"chain before { type filter hook prerouting priority -50; %[3]s; }\n}\n",
		ip, strings.Join(in, "; "), strings.Join(append(before, "accept"), "; "),
	)
	return out + fmt.Sprintf(
		"table netdev selectors_%[1]s { }; delete table netdev selectors_%[1]s; table netdev selectors_%[1]s {\n"+
			"chain past { type filter hook egress devices = { %[2]s } priority 0; %[3]s; }\n}\n",
		ip, strings.Join(devices, ", "), strings.Join(append(past, "accept"), "; "),
	)
}

func ofFamily(list []netip.Prefix, v4 bool) (out []netip.Prefix) {
	for _, p := range list {
		if p.Addr().Is4() == v4 {
			out = append(out, p)
		}
	}
	return out
}

// outerDevices are the devices of a box but for those of policy-based tunnels.
func (l *live) outerDevices(n *node) []string {
	own := []string{}
	for _, w := range l.laid() {
		for _, e := range w.Ends {
			if e.Node == n.Name && e.Asks {
				own = append(own, e.Device)
			}
		}
	}
	out := []string{}
	for _, c := range l.plan.Cables {
		for _, p := range c.Ends {
			if p.Node == n.Name && !slices.Contains(own, p.Device) {
				out = append(out, p.Device)
			}
		}
	}
	return out
}
