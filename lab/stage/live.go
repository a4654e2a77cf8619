package stage

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"dravin/core/design"
	"dravin/core/rehearsal"
)

// live follows the daemons: what they agree on lets packets pass, and what they learn lets players route.
type live struct {
	*Stage
	mu       sync.Mutex
	pairs    map[int][]child               // what each wire lets pass, as its first end has it
	last     map[string]map[string][]child // what daemons held when they were asked last, by node and connection
	carried  map[int]string                // the rules of each wire as they are loaded
	asked    map[string]string
	rows     map[string]string // as they are set, by node, family and key
	wanted   []rehearsal.Row
	awaited  []rehearsal.Session
	sessions map[string]bool // "node protocol"
	cut      map[int]bool    // wires that a drill has taken away
	changed  time.Time
	rounds   int          // of asking
	refused  map[int]bool // tunnels for which a player has asked again
}

// beat is how often the daemons are asked.
const beat = 500 * time.Millisecond

// follow asks all daemons again and again until the context ends.
func (l *live) follow(ctx context.Context) {
	for ctx.Err() == nil {
		begun := time.Now()
		l.round(ctx)
		select {
		case <-ctx.Done():
		case <-time.After(max(beat-time.Since(begun), beat/5)):
		}
	}
}

func (l *live) round(ctx context.Context) {
	children, sessions, known := map[string]map[string][]child{}, map[string]map[string]string{}, map[string][]netRoute{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, n := range l.nodes {
		if n.holder == nil {
			continue
		}
		wg.Go(func() {
			c, err := n.children()
			var s map[string]string
			if n.has("bird/bird.conf") {
				s, _ = n.sessions()
			}
			mu.Lock()
			if err != nil && !gone(err) {
				c = l.last[n.Name] // it is busy, and holds what it held
			}
			children[n.Name], sessions[n.Name] = c, s
			mu.Unlock()
		})
	}
	for _, name := range l.asksRoutes() {
		wg.Go(func() {
			r, _ := l.node(name).routes(ctx)
			mu.Lock()
			known[name] = r
			mu.Unlock()
		})
	}
	wg.Wait()
	l.last = children
	l.wires(ctx, children)
	l.policies(ctx)
	l.playersRows(ctx, known)
	l.heard(sessions)
	l.asksAgain(children)
}

// wires opens each wire for what both of its daemons hold, and closes it to everything else.
func (l *live) wires(ctx context.Context, children map[string]map[string][]child) {
	var script []string
	for k, w := range l.laid() {
		a, b := w.Ends[0], w.Ends[1]
		var pairs []child
		for _, x := range children[a.Node][a.Connection] {
			for _, y := range children[b.Node][b.Connection] {
				if x.in == y.out && x.out == y.in {
					pairs = append(pairs, x)
				}
			}
		}
		l.mu.Lock()
		if l.cut[k] {
			pairs = nil
		}
		rules := wireRules(k, a.Inner, b.Inner, pairs)
		if l.carried[k] != rules {
			l.carried[k], l.changed = rules, time.Now()
			script = append(script, rules)
			l.pairs[k] = pairs
			l.say(Event{Kind: TunnelEvent, ID: w.Tunnel, Joint: w.Link, Name: w.Name, Up: len(pairs) > 0})
		}
		l.mu.Unlock()
	}
	if len(script) > 0 {
		l.load(ctx, l.ether, strings.Join(script, "\n"))
	}
}

// wireRules let pass, from each inner end to the other, what the selectors fit.
func wireRules(k int, a, b string, pairs []child) string {
	var there, back []string
	for _, p := range pairs {
		there = append(there, fits(p.local, p.remote, "fwd to "+b)...)
		back = append(back, fits(p.remote, p.local, "fwd to "+a)...)
	}
	return fmt.Sprintf(
		"table netdev wire%[1]d { }; delete table netdev wire%[1]d; table netdev wire%[1]d {\n"+
			"chain there { type filter hook ingress device %[2]s priority 0; policy drop; %[3]s; }\n"+
			"chain back { type filter hook ingress device %[4]s priority 0; policy drop; %[5]s; }\n}",
		k, a, strings.Join(append(there, "drop"), "; "), b, strings.Join(append(back, "drop"), "; "),
	)
}

// fits are rules for what goes from some ranges to others.
func fits(from, to []netip.Prefix, verdict string) (out []string) {
	for _, f := range from {
		for _, t := range to {
			if ip := family(f); f.Addr().Is4() == t.Addr().Is4() {
				out = append(out, fmt.Sprintf(
					"meta protocol %s %s saddr %s %s daddr %s %s", ip, ip, f, ip, t, verdict,
				))
			}
		}
	}
	return out
}

func family(p netip.Prefix) string { return map[bool]string{true: "ip", false: "ip6"}[p.Addr().Is4()] }

// load loads rules of the packet filter in a node.
func (l *live) load(ctx context.Context, n *node, rules string) {
	cmd := n.command(ctx, "nft", "-f", "-")
	cmd.Stdin = strings.NewReader(rules)
	if out, err := cmd.CombinedOutput(); err != nil && ctx.Err() == nil {
		l.say(Event{Kind: LogEvent, Node: n.Name, Text: fmt.Sprintf("what stands for its kernel: %v: %s", err, out)})
	}
}

// heard notes how the sessions stand: one is up when both of its ends say so.
func (l *live) heard(states map[string]map[string]string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range l.awaited {
		up := len(s.Ends) > 0
		for _, e := range s.Ends {
			up = up && states[e.Node][e.Protocol] == established
		}
		if was, met := l.sessions[string(s.ID)]; was != up || !met {
			l.sessions[string(s.ID)], l.changed = up, time.Now()
			l.say(Event{Kind: SessionEvent, ID: s.ID, Joint: s.Joint, Name: s.Name, Up: up})
		}
	}
}

// netRoute is a route of a kernel.
type netRoute struct {
	table  int
	prefix netip.Prefix
	daemon bool // a daemon has brought it
	device []string
}

// routes are all routes of a node.
func (n *node) routes(ctx context.Context) (out []netRoute, err error) {
	for _, f := range []string{"-4", "-6"} {
		text, err := n.command(ctx, "ip", f, "-j", "route", "show", "table", "all").Output()
		if err != nil {
			return nil, err
		}
		var list []struct {
			Dst, Dev, Protocol string
			Table              json.RawMessage
			Nexthops           []struct{ Dev string }
		}
		if len(text) == 0 {
			continue
		}
		if err := json.Unmarshal(text, &list); err != nil {
			return nil, err
		}
		for _, x := range list {
			r := netRoute{prefix: everything(x.Dst, f), daemon: x.Protocol == "bird"}
			_, _ = fmt.Sscan(strings.Trim(string(x.Table), `"`), &r.table)
			if x.Dev != "" {
				r.device = append(r.device, x.Dev)
			}
			for _, h := range x.Nexthops {
				r.device = append(r.device, h.Dev)
			}
			if r.prefix.IsValid() {
				out = append(out, r)
			}
		}
	}
	return out, nil
}

func everything(text, f string) netip.Prefix {
	if text == "default" {
		return map[string]netip.Prefix{"-4": netip.MustParsePrefix("0.0.0.0/0"), "-6": netip.MustParsePrefix("::/0")}[f]
	}
	if p, err := netip.ParsePrefix(text); err == nil {
		return p
	}
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(a, a.BitLen())
	}
	return netip.Prefix{}
}

// put lets players route, and sessions be awaited, as another plan of the same whole has it.
func (l *live) put(p *rehearsal.Plan) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.wanted, l.awaited, l.changed = p.Rows, p.Sessions, time.Now()
	l.plan.Wires = p.Wires
}

// laid are the wires, with what daemons call them by now.
func (l *live) laid() []rehearsal.Wire {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.plan.Wires
}

func (l *live) rowsNow() []rehearsal.Row {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.wanted
}

// speaks reports whether a session is established.
func (l *live) speaks(session design.ID) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.sessions[string(session)]
}

// asksRoutes are the nodes whose routes somebody's rows depend on.
func (l *live) asksRoutes() []string {
	out := map[string]bool{}
	for _, r := range l.rowsNow() {
		for _, w := range r.Ways {
			if w.Known.Node != "" {
				out[w.Known.Node] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(out))
}

// playersRows gives players the routes for which all is there that they need.
func (l *live) playersRows(ctx context.Context, known map[string][]netRoute) {
	scripts, set := map[string][]string{}, map[string]string{}
	for _, r := range l.rowsNow() {
		if s := l.rowSet(r, known); s != "" {
			set[r.Node+"|"+rowFlag(r)+"|"+rowKey(r)] = s
		}
	}
	for key := range l.rows {
		if f := strings.Split(key, "|"); set[key] == "" {
			scripts[f[0]] = append(scripts[f[0]], "ip "+f[1]+" route del "+f[2]+" 2>/dev/null || true")
		}
	}
	for _, key := range slices.Sorted(maps.Keys(set)) {
		if node, _, _ := strings.Cut(key, "|"); l.rows[key] != set[key] {
			scripts[node] = append(scripts[node], set[key])
		}
	}
	l.rows = set
	if len(scripts) > 0 {
		l.mu.Lock()
		l.changed = time.Now()
		l.mu.Unlock()
	}
	for name, lines := range scripts {
		if _, err := l.node(name).script(ctx, lines...); err != nil && ctx.Err() == nil {
			l.say(Event{Kind: LogEvent, Node: name, Text: err.Error()})
		}
	}
}

func rowFlag(r rehearsal.Row) string {
	return map[bool]string{true: "-4", false: "-6"}[r.Prefix.Addr().Is4()]
}

func rowKey(r rehearsal.Row) string {
	out := fmt.Sprintf("%s metric %d", r.Prefix, r.Metric)
	if r.Table != 0 {
		out += fmt.Sprintf(" table %d", r.Table)
	}
	return out
}

// rowSet is the command that sets a row as it stands; empty while it does not.
func (l *live) rowSet(r rehearsal.Row, known map[string][]netRoute) string {
	head := "ip " + rowFlag(r) + " route replace "
	switch {
	case r.Throw:
		return head + "throw " + rowKey(r)
	case len(r.Ways) == 0:
		return head + "blackhole " + rowKey(r)
	}
	var hops []string
	for _, w := range r.Ways {
		if w.Known.Node != "" && !slices.ContainsFunc(known[w.Known.Node], func(x netRoute) bool {
			return x.prefix == r.Prefix && tableIs(x.table, w.Known.Table)
		}) {
			continue
		}
		if w.Tunnel != "" && !l.carries(w.Tunnel) {
			continue
		}
		hop := "dev " + w.Device
		if w.Via.IsValid() {
			hop = "via " + w.Via.String() + " " + hop + " onlink"
		}
		hops = append(hops, hop)
	}
	switch {
	case len(hops) == 0:
		return ""
	case len(hops) == 1 || r.Prefix.Addr().Is6():
		return head + rowKey(r) + " " + hops[0]
	}
	return head + rowKey(r) + " nexthop " + strings.Join(hops, " nexthop ")
}

func tableIs(got, asked int) bool { return got == asked || asked == 0 && got == 254 }

// carries reports whether a tunnel carries.
func (l *live) carries(tunnel design.ID) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for k, w := range l.plan.Wires {
		if w.Tunnel == tunnel {
			return len(l.pairs[k]) > 0
		}
	}
	return false
}
