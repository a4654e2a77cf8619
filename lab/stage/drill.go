package stage

import (
	"context"
	"fmt"
	"slices"
	"time"

	"dravin/core/proof"
	"dravin/core/rehearsal"
	"dravin/core/status"
)

// drills takes things away, one after the other, each time waits until what moves has moved, and sends the flows
// again.
func (p *play) drills(ctx context.Context) error {
	asked, err := status.ParseThings(p.tables.Design, p.options.Drills)
	if err != nil {
		return err
	}
	if len(asked) == 0 && p.options.Likely == 0 {
		return nil
	}
	cuts, err := p.plan.Cuts(ctx, proof.Of(p.tables), asked, p.options.Likely)
	if err != nil {
		return err
	}
	for n, c := range cuts {
		p.say(Event{Kind: StepEvent, Name: "drill", Text: "without " + c.Title, Done: n, Of: len(cuts)})
		p.take(ctx, c, true)
		p.moves(ctx, c)
		p.holdFlows(ctx, c.Tables, c.Title)
		p.holdSilence(ctx, c)
		p.take(ctx, c, false)
		p.settle(ctx, p.tables, p.options.Settle)
	}
	return ctx.Err()
}

// The share of time by which what moves may be late on a busy machine, and how long to wait where nothing moves.
const (
	late     = 1.5
	atLeast  = 8 * time.Second
	sessions = 45 * time.Second // after which sessions over what does not answer are gone
)

// moves waits until flows fare as they are proven to without what has gone, for as long as that may take.
func (p *play) moves(ctx context.Context, c rehearsal.Cut) {
	begun := time.Now()
	within := max(time.Duration(float64(c.Within)*late)*time.Second, sessions)
	for ctx.Err() == nil && time.Since(begun) < within {
		same := true
		for _, f := range p.plan.Flows {
			if f.Intent == "" {
				continue
			}
			same = same && p.plan.HoldFlow(c.Tables, f, send(ctx, p.node(f.Node), f, patience)).Same
			if !same {
				break
			}
		}
		if same && time.Since(begun) > atLeast {
			break
		}
		select {
		case <-ctx.Done():
		case <-time.After(beat):
		}
	}
	if c.Within > 0 {
		took := time.Since(begun)
		p.report.Checks = append(p.report.Checks, rehearsal.Check{
			Kind: rehearsal.DrillCheck, Name: "how long it takes", Without: c.Title,
			Proof:     fmt.Sprintf("within %d s", c.Within),
			Rehearsed: fmt.Sprintf("within %d s", int(took.Seconds()+0.5)),
			Same:      took < within,
		})
	}
}

// take takes away what is cut, or gives it back. What is cut is silent: nothing tells whoever is at the other end.
func (p *play) take(ctx context.Context, c rehearsal.Cut, away bool) {
	p.live.mu.Lock()
	for _, k := range c.Tunnels {
		p.live.cut[k] = away
	}
	p.live.changed = time.Now()
	p.live.mu.Unlock()
	for _, k := range c.Cables {
		p.silence(ctx, p.plan.Cables[k], away)
	}
	for _, name := range c.Nodes {
		p.silent(
			ctx, name, "dead", "chain i { type filter hook prerouting priority -500; policy drop; }\n"+
				"chain o { type filter hook output priority -500; policy drop; }", "inet", away,
		)
	}
	for _, k := range c.Tunnels {
		p.unheard(ctx, k, away)
	}
}

// silence lets nothing out of a cable at either end, or everything again.
func (p *play) silence(ctx context.Context, c rehearsal.Cable, away bool) {
	for _, e := range c.Ends {
		p.silent(ctx, e.Node, "cable_"+e.Device, fmt.Sprintf(
			"chain c { type filter hook ingress device %s priority -500; policy drop; }", e.Device,
		), "netdev", away)
	}
}

// silent drops what a table's chains see, or no longer does.
func (p *play) silent(ctx context.Context, node, table, chains, family string, away bool) {
	rules := fmt.Sprintf("table %s %s { }; delete table %s %s\n", family, table, family, table)
	if away {
		rules += fmt.Sprintf("table %s %s {\n%s\n}\n", family, table, chains)
	}
	p.live.load(ctx, p.node(node), rules)
}

// unheard keeps the daemons of a tunnel that is cut from hearing each other on the internet.
func (p *play) unheard(ctx context.Context, k int, away bool) {
	w := p.plan.Wires[k]
	if !outside(w) {
		return
	}
	a, b := w.Ends[0].Address, w.Ends[1].Address
	world := slices.IndexFunc(p.nodes, func(n *node) bool { return n.Role == rehearsal.World })
	ip := map[bool]string{true: "ip", false: "ip6"}[a.Is4()]
	p.silent(ctx, p.nodes[world].Name, fmt.Sprintf("tunnel%d", k), fmt.Sprintf(
		"chain c { type filter hook forward priority 0; %[1]s saddr %[2]s %[1]s daddr %[3]s drop; "+
			"%[1]s saddr %[3]s %[1]s daddr %[2]s drop; }", ip, a, b,
	), "inet", away)
}

// outside reports whether the daemons of a tunnel hear each other on the internet, by addresses that are known.
func outside(w rehearsal.Wire) bool {
	a, b := w.Ends[0].Address, w.Ends[1].Address
	return a.IsValid() && b.IsValid() && a.Is4() == b.Is4()
}

// givesUp is how long a daemon goes on asking whoever is silent, by its settings, and what a busy machine adds.
const givesUp = 35 * time.Second

// holdSilence holds that one's own daemons notice that the far end of what was cut is silent, and give it up.
func (p *play) holdSilence(ctx context.Context, c rehearsal.Cut) {
	begun := time.Now()
	for _, k := range c.Tunnels {
		w := p.plan.Wires[k]
		for _, e := range w.Ends {
			if len(e.Terms) == 0 || e.DPD == 0 || !outside(w) {
				continue
			}
			n, gone := p.node(e.Node), false
			within := time.Duration(e.DPD)*time.Second + givesUp
			for !gone && ctx.Err() == nil && time.Since(begun) < within {
				all, err := n.children()
				if gone = err == nil && len(all[e.Connection]) == 0; !gone {
					time.Sleep(beat)
				}
			}
			p.report.Checks = append(p.report.Checks, rehearsal.Check{
				Kind: rehearsal.DrillCheck, ID: w.Tunnel, Name: w.Name + ", at " + n.Title, Without: c.Title,
				Proof:     fmt.Sprintf("given up on within %.0f s of silence", within.Seconds()),
				Rehearsed: map[bool]string{true: "given up on", false: "still held"}[gone], Same: gone,
			})
		}
	}
}
