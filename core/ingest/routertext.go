package ingest

import (
	"bufio"
	"bytes"
	"context"
	"net/netip"
	"regexp"
	"slices"
	"strings"
)

// What ip addr and ip route write, as far as it is told apart by.
var (
	interfaceLine = regexp.MustCompile(`^\d+:\s+([^:@\s]+)[@:]`)
	inetLine      = regexp.MustCompile(`^\s*inet6?\s+(\S+)\s`)
	routeLine     = regexp.MustCompile(`^(?:(default|unreachable|blackhole|prohibit|unicast|local|broadcast|multicast|anycast|throw)\b|\d+\.\d+|[0-9a-f]*:[0-9a-f:]*)`)
)

// looksRouter reports whether text is what ip addr or ip route writes.
func looksRouter(text []byte) bool {
	hits := 0
	for n, line := range bytes.Split(text, []byte{'\n'}) {
		if n > 60 {
			break
		}
		l := string(line)
		if inetLine.MatchString(l) || routeLine.MatchString(l) && strings.Contains(l, " dev ") {
			hits++
		}
	}
	return hits > 0
}

// readRouterText reads the text of ip addr and ip route, of a Linux box.
func readRouterText(ctx context.Context, r *bufio.Reader, o Options) (*Table, error) {
	t := &Table{Format: "addresses or routes of a Linux box", Header: routerHeader}
	e := &elements{filling: filling{ctx: ctx, table: t, options: o}}
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, maxTextLine)
	device := ""
	for lines.Scan() {
		e.line++
		text := lines.Text()
		var err error
		if m := interfaceLine.FindStringSubmatch(text); m != nil {
			device = m[1]
		} else if m := inetLine.FindStringSubmatch(text); m != nil {
			if p, bad := netip.ParsePrefix(m[1]); bad == nil && !p.Addr().IsLoopback() &&
				!p.Addr().IsLinkLocalUnicast() {
				err = e.row("lan", device, p.Masked().String(), "", "address "+p.Addr().String()+" on "+device)
			}
		} else if routeLine.MatchString(text) {
			err = e.routeText(strings.Fields(text))
		}
		if err != nil {
			return nil, err
		}
	}
	if err := lines.Err(); err != nil {
		return nil, &Error{Line: e.line + 1, Why: "the line is too long to be text", Want: "give the output as it is"}
	}
	if len(t.Rows) == 0 {
		return nil, &Error{
			Why: "no range was found in what the box says", Want: "give the whole output of ip addr or ip route",
		}
	}
	return t, nil
}

// notStock begin lines of routes that say nothing of which ranges there are.
var notStock = []string{
	"default", "unreachable", "blackhole", "prohibit", "throw", "local", "broadcast", "multicast", "anycast", "nat",
}

// routeText takes one line of ip route in.
func (e *elements) routeText(words []string) error {
	if words[0] == "unicast" && len(words) > 1 { // with details each kind is named
		words = words[1:]
	}
	if slices.Contains(notStock, words[0]) {
		return nil
	}
	if p, err := netip.ParsePrefix(words[0]); err == nil && (p.Addr().IsLinkLocalUnicast() || p.Addr().IsMulticast()) {
		return nil // it is there on every link
	}
	x := ipRoute{Dst: words[0]}
	for n := 1; n+1 < len(words); n++ {
		switch words[n] {
		case "via":
			x.Gateway = words[n+1]
		case "dev":
			x.Device = words[n+1]
		case "proto":
			x.Protocol = words[n+1]
		case "scope":
			x.Scope = words[n+1]
		}
	}
	return e.route(x)
}
