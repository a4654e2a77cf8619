package stage

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/proof"
	"dravin/core/rehearsal"
	"dravin/core/route"
	"dravin/core/runbook"
)

// checkWithin is how long a check of a step may take to come true.
const checkWithin = 60 * time.Second

// steps begins with the estate of today, does the steps of the runbook in their order, and runs each of their checks.
// After each step it holds what works against what is proven of the half-done estate.
func (p *play) steps(ctx context.Context) error {
	book, err := runbook.Of(ctx, proof.Of(p.tables), p.goal, nil, nil, nil)
	if err != nil {
		return err
	}
	now := p.tables
	for n, s := range book.Steps {
		w := p.watching(ctx, now)
		p.say(Event{
			Kind: StepEvent, Name: "step", Text: fmt.Sprintf("%d. %s: %s", s.N, s.Where, s.Does), Done: n, Of: len(book.Steps),
		})
		next, err := after(now, s.Edits, p.goal)
		if err != nil {
			return err
		}
		plan, err := rehearsal.At(p.whole, next, p.options.Sample)
		if err != nil {
			return err
		}
		if what := moved(p.plan, plan); what != "" {
			p.report.Leaves = append(p.report.Leaves, fmt.Sprintf(
				"step %d and what comes after it: hosts or wires are others then (%s), and stand here as they stood", s.N, what,
			))
			w.stop()
			p.rewired = true
			return nil
		}
		before := p.asIs()
		err = p.step(ctx, s, plan, next)
		w.stop()
		if err != nil {
			return err
		}
		w.hold(s, now, next)
		// What is taken out of service is not put into service again by a line.
		if p.options.Back && (s.At == "" || next.Design.Get(s.At) != nil) {
			if err := p.back(ctx, s, before, now); err != nil {
				return err
			}
			if err := p.step(ctx, s, plan, next); err != nil {
				return err
			}
		}
		now, p.tables = next, next
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return nil
}

// moved is what stands or is plugged in otherwise in one plan than in another; empty if all namespaces and wires are
// the same.
func moved(a, b *rehearsal.Plan) string {
	if len(a.Nodes) != len(b.Nodes) || len(a.Cables) != len(b.Cables) {
		return "how many there are"
	}
	for n, x := range a.Nodes {
		y := b.Nodes[n]
		if x.Name != y.Name || x.ID != y.ID || x.Role != y.Role || !slices.Equal(x.Addresses, y.Addresses) {
			return x.Title
		}
	}
	for n, x := range a.Cables {
		if y := b.Cables[n]; x.Ends != y.Ends {
			return x.Ends[0].Node + " to " + x.Ends[1].Node
		}
	}
	return ""
}

// step does a step, runs its checks, and holds what works against what is proven once it is done.
func (p *play) step(ctx context.Context, s runbook.Step, plan *rehearsal.Plan, next *route.Tables) error {
	p.live.put(plan)
	if err := p.obey(ctx, plan); err != nil {
		return err
	}
	if err := p.does(ctx, s, next); err != nil {
		p.report.Checks = append(p.report.Checks, rehearsal.Check{
			Kind: rehearsal.StepCheck, ID: s.Object, Name: fmt.Sprintf("%d. %s", s.N, s.Does), Without: s.Where,
			Proof: "its lines run", Rehearsed: err.Error(),
		})
	}
	for _, n := range p.nodes { // a box that goes with others at one go has no lines that end what runs there
		if n.Role == rehearsal.OwnBox && p.tables.Design.Get(n.ID) != nil && next.Design.Get(n.ID) == nil {
			n.halt()
		}
	}
	for _, c := range s.Checks {
		p.report.Checks = append(p.report.Checks, p.sees(ctx, s, c, next))
	}
	p.stillWorks(ctx, fmt.Sprintf("after step %d", s.N), next)
	return nil
}

// asIs is the plan by which players act now.
func (p *play) asIs() *rehearsal.Plan {
	out := *p.plan
	out.Nodes = nil
	for _, n := range p.nodes {
		x := *n.Node
		out.Nodes = append(out.Nodes, &x)
	}
	return &out
}

// back goes the way back of a step: the lines that it says are typed, players enter again what they had, and what
// worked before works again.
func (p *play) back(ctx context.Context, s runbook.Step, before *rehearsal.Plan, now *route.Tables) error {
	p.live.put(before)
	if err := p.obey(ctx, before); err != nil {
		return err
	}
	if k := slices.IndexFunc(p.nodes, func(n *node) bool { return n.ID == s.At && n.Role == rehearsal.OwnBox }); k >= 0 &&
		len(s.Run) > 0 {
		for _, line := range s.Back {
			if err := p.types(ctx, p.nodes[k], line); err != nil {
				p.report.Checks = append(p.report.Checks, rehearsal.Check{
					Kind: rehearsal.StepCheck, ID: s.Object, Name: fmt.Sprintf("%d. %s", s.N, line), Without: s.Where,
					Proof: "its way back runs", Rehearsed: err.Error(),
				})
			}
		}
	}
	p.stillWorks(ctx, fmt.Sprintf("after the way back of step %d", s.N), now)
	return nil
}

func after(t *route.Tables, edits []design.Edit, plan *design.Design) (*route.Tables, error) {
	if len(edits) == 0 {
		return t, nil
	}
	next, _, err := t.Design.Apply(edits)
	if err != nil {
		return nil, err
	}
	next = next.Sharing(plan)
	return t.After(next, t.Design.ChangesTo(next)), nil
}

// obey lets the players follow their instructions as they are now, and opens and cuts what is there by now.
func (p *play) obey(ctx context.Context, plan *rehearsal.Plan) error {
	for k, c := range plan.Cables {
		if c.Cut != p.plan.Cables[k].Cut {
			p.silence(ctx, c, c.Cut)
		}
	}
	for k, x := range plan.Nodes {
		n := p.nodes[k]
		if err := n.rules(ctx, n.Rulesets, x.Rulesets); err != nil {
			return err
		}
		n.Rulesets, n.Answers = x.Rulesets, x.Answers
		if n.Role == rehearsal.Player || n.Role == rehearsal.HostRole {
			if err := p.takes(ctx, n, x.Files); err != nil {
				return err
			}
		}
	}
	p.plan.Cables, p.plan.Rows = plan.Cables, plan.Rows
	p.plan.Tables, p.plan.Sessions = plan.Tables, plan.Sessions
	return p.listen()
}

// takes lets a player or a host have the files that it has by now.
func (p *play) takes(ctx context.Context, n *node, files []handover.File) error {
	had := n.Files
	at := func(list []handover.File, path string) int {
		return slices.IndexFunc(list, func(f handover.File) bool { return f.Path == path })
	}
	var changed, fresh []string
	for _, f := range files {
		old := at(had, f.Path)
		if old >= 0 && had[old].Content == f.Content {
			continue
		}
		changed = append(changed, f.Path)
		if old < 0 {
			fresh = append(fresh, f.Path)
		}
	}
	n.Files = files
	if n.holder == nil {
		if err := n.furnish(); err != nil {
			return err
		}
	}
	for _, path := range changed {
		if err := n.put(path, []byte(files[at(files, path)].Content), 0o644); err != nil {
			return err
		}
	}
	for _, line := range handover.Load(changed, fresh) {
		if err := p.types(ctx, n, line); err != nil {
			return err
		}
	}
	for _, f := range had { // a host that has no filter any more
		if f.Path == handover.Ruleset && at(files, f.Path) < 0 {
			return n.rules(ctx, []string{f.Content}, nil)
		}
	}
	return nil
}

// does what a step says at a box of one's own: its files are put there, and its lines typed.
func (p *play) does(ctx context.Context, s runbook.Step, t *route.Tables) error {
	k := slices.IndexFunc(p.nodes, func(n *node) bool { return n.ID == s.At && n.Role == rehearsal.OwnBox })
	if k < 0 || len(s.Files) == 0 {
		return nil
	}
	n := p.nodes[k]
	name := t.Design.Get(s.At).Name
	for _, f := range handover.Of(handover.Render(t, s.Party, p.plan.Keys), name) {
		if !slices.Contains(s.Files, f.Path) {
			continue
		}
		mode := os.FileMode(0o644)
		if f.Secret {
			mode = 0o600
		}
		path := n.root(filepath.Join(runbook.Handed(name), f.Path))
		err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, []byte(f.Content), mode))
		if err != nil {
			return err
		}
	}
	for _, c := range s.Run {
		if err := p.types(ctx, n, c.Line); err != nil {
			return err
		}
	}
	return nil
}

// types types a line at a node. What it says to systemd is done as systemd would.
func (p *play) types(ctx context.Context, n *node, line string) error {
	tell := func(text string) { p.say(Event{Kind: LogEvent, Node: n.Name, Name: n.Title, Text: text}) }
	tell("# " + line)
	words := strings.Fields(line)
	if words[0] != "systemctl" {
		out, err := n.runs(n.asAdmin(n.command(ctx, "/bin/sh", "-e")), line)
		if out != "" {
			tell(strings.TrimSpace(out))
		}
		return err
	}
	switch unit := words[len(words)-1]; words[1] {
	case "daemon-reload":
		return nil
	case "disable":
		n.stop(unit)
		return nil
	default:
		n.stop(unit)
		return n.start(p.ctx, unit, tell)
	}
}

// stop ends one service of a node.
func (n *node) stop(name string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.services = slices.DeleteFunc(n.services, func(s *service) bool {
		if s.name != name {
			return false
		}
		s.end()
		s.wg.Wait()
		return true
	})
}

// start starts one service of a node.
func (n *node) start(ctx context.Context, name string, tell func(string)) error {
	path := filepath.Join(n.dir, "etc/systemd/system", name)
	if _, ok := vendors[name]; ok {
		path = filepath.Join("/usr/lib/systemd/system", name)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	u, err := readUnit(name, string(text))
	if err != nil {
		return err
	}
	own, end := context.WithCancel(ctx)
	s := &service{unit: u, in: n, tell: tell, end: end}
	n.mu.Lock()
	n.services = append(n.services, s)
	n.mu.Unlock()
	return s.begin(own)
}

// sees runs a check of a step until it is true, for as long as that may take.
func (p *play) sees(ctx context.Context, s runbook.Step, c runbook.Check, t *route.Tables) rehearsal.Check {
	out := rehearsal.Check{
		Kind: rehearsal.StepCheck, ID: s.Object, Name: fmt.Sprintf("%d. %s", s.N, c.Text), Without: s.Where, Proof: "true",
	}
	try := func() (bool, string) { return true, "its player has entered it" }
	k := slices.IndexFunc(p.nodes, func(n *node) bool { return n.ID == s.At && n.holder != nil })
	f := slices.IndexFunc(p.plan.Flows, func(f rehearsal.Flow) bool { return f.Intent == c.Intent && c.Intent != "" })
	switch {
	case c.Line != "" && k >= 0:
		try = func() (bool, string) {
			n := p.nodes[k]
			text, err := n.runs(n.asAdmin(n.command(ctx, "/bin/sh", "-e")), c.Line)
			return err == nil, strings.TrimSpace(text + " " + c.Line)
		}
	case f >= 0:
		try = func() (bool, string) {
			held := p.holdFlow(ctx, t, p.plan.Flows[f])
			return held.Same, held.Rehearsed
		}
	case c.Kind == box.TunnelUp:
		try = func() (bool, string) { return p.carries(t, c.Object), "its daemons hold child SAs" }
	case c.Kind == box.Established:
		try = func() (bool, string) { return p.live.speaks(c.Object), "its daemons have established it" }
	}
	for begun := time.Now(); ; {
		out.Same, out.Rehearsed = try()
		if out.Same || ctx.Err() != nil || time.Since(begun) > checkWithin {
			break
		}
		time.Sleep(beat)
	}
	if out.Same {
		out.Rehearsed = "true: " + out.Rehearsed
	} else {
		out.Rehearsed = "false: " + out.Rehearsed
	}
	return out
}

// carries reports whether a tunnel carries, or any tunnel of a link.
func (p *play) carries(t *route.Tables, id design.ID) bool {
	tunnels := t.Design.Tunnels(id)
	return p.live.carries(id) || slices.ContainsFunc(tunnels, func(x *design.Object) bool { return p.live.carries(x.ID) })
}

// stillWorks sends all flows of intents after a step: those that it takes down are down, and no others.
func (p *play) stillWorks(ctx context.Context, after string, t *route.Tables) {
	for _, f := range p.plan.Flows {
		if f.Intent == "" || !p.stand(t, f) {
			continue
		}
		c := p.holdFlow(ctx, t, f)
		for begun := time.Now(); !c.Same && time.Since(begun) < sessions && ctx.Err() == nil; {
			c = p.holdFlow(ctx, t, f)
		}
		c.Kind, c.Without = rehearsal.StepCheck, after
		p.report.Checks = append(p.report.Checks, c)
	}
}
