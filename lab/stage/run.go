package stage

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"dravin/core/design"
	"dravin/core/rehearsal"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/lab/netns"
)

// Options are how a rehearsal is played.
type Options struct {
	Sample   int           `json:"sample"`   // flows beside those of intents and published services
	Settle   time.Duration `json:"settle"`   // how long all may take to come up
	Drills   []string      `json:"drills"`   // what is taken away, one after the other: paths, addresses or zones
	Likely   int           `json:"likely"`   // how many drills are chosen where none is named
	Captures bool          `json:"captures"` // intents and what differs are captured, one flow each
	Steps    bool          `json:"steps"`    // it begins with the estate of today, and does the steps of the runbook
	Back     bool          `json:"back"`     // with steps: the way back of each is gone, and it is done again
	Keep     bool          `json:"keep"`     // it goes on running until it is told to end
	Limit    time.Duration `json:"limit"`    // how long all of it may take, what is kept apart; 0: as usual
}

// The bounds of a rehearsal.
const (
	usualSettle = 75 * time.Second
	usualLimit  = 15 * time.Minute
	quiet       = 6 * time.Second // nothing has changed for so long: it is as it will be
	atOnce      = 48              // flows that are sent at a time
)

// Play builds the plan of solved tables, plays it and tells what happens; with steps, those that lead to the goal.
// reported hears what was found, once, also where it was broken off. It must run in a process of its own ([Alone]). The
// error is what kept it from being played to its end.
func Play(
	ctx context.Context, t *route.Tables, goal *design.Design, o Options, tampered []rehearsal.Tampering, tell func(Event),
	reported func(*rehearsal.Report),
) error {
	if err := enter(); err != nil {
		return err
	}
	if _, err := status.ParseThings(t.Design, o.Drills); err != nil {
		return err
	}
	whole := t
	if o.Steps {
		whole = route.Solve(rehearsal.Whole(t.Design, goal), t.Status.Condition())
	}
	plan, err := rehearsal.At(whole, t, o.Sample)
	if err != nil {
		return err
	}
	for _, x := range tampered {
		if err := plan.Tamper(x); err != nil {
			return err
		}
	}
	o.Settle, o.Limit = cmp.Or(o.Settle, usualSettle), cmp.Or(o.Limit, usualLimit)
	if err := fitsMemory(plan); err != nil {
		return err
	}
	s := &Stage{plan: plan, begun: time.Now(), tell: tell}
	defer s.halt()
	p := &play{Stage: s, whole: whole, goal: goal, tables: t, options: o, report: rehearsal.Begin(plan)}
	s.say(Event{Kind: StepEvent, Name: "planned", Text: fmt.Sprintf(
		"%d parties in %d namespaces, about %d MiB of memory", p.report.Parties, p.report.Nodes, Needs(plan)>>10,
	)})
	bounded, end := context.WithCancelCause(ctx)
	defer end(nil)
	timer := time.AfterFunc(o.Limit, func() { end(fmt.Errorf("it took longer than %s", o.Limit)) })
	watched := make(chan struct{})
	go func() { defer close(watched); p.watchMemory(bounded, end) }()
	go p.watchTime(bounded)
	err = p.run(bounded, func() {
		timer.Stop()
		p.report.Seconds = time.Since(s.begun).Seconds()
		p.tellLate()
		p.report.Conclude()
		reported(p.report)
	})
	if cause := context.Cause(bounded); err != nil && cause != nil {
		err = cause
	}
	end(nil)
	<-watched
	return err
}

// play is a rehearsal on its way.
type play struct {
	*Stage
	tables  *route.Tables
	options Options
	report  *rehearsal.Report
	live    *live
	hosts   answering
	ctx     context.Context // of what runs until the end
	whole   *route.Tables   // all that stands there from the first step to the last
	goal    *design.Design  // what is there once all steps are done
	rewired bool            // hosts or wires would be others after a step: what follows is not rehearsed
	late    atomic.Int64    // the longest that it went without a turn, in nanoseconds
}

// run plays it; done is called when all has been found that can be.
func (p *play) run(ctx context.Context, done func()) error {
	if err := p.build(ctx); err != nil {
		return err
	}
	following, end := context.WithCancel(ctx)
	p.live = &live{
		Stage: p.Stage, pairs: map[int][]child{}, carried: map[int]string{}, asked: map[string]string{},
		rows: map[string]string{}, sessions: map[string]bool{}, cut: map[int]bool{}, refused: map[int]bool{},
		changed: time.Now(),
	}
	p.ctx = following
	p.live.put(p.plan)
	for _, c := range p.plan.Cables {
		if c.Cut {
			p.silence(ctx, c, true)
		}
	}
	followed := make(chan struct{})
	go func() { defer close(followed); p.live.follow(following) }()
	defer func() { end(); <-followed }()
	if err := p.bootAll(ctx); err != nil {
		return err
	}
	defer p.hosts.close()
	if err := p.listen(); err != nil {
		return err
	}
	err := p.found(ctx)
	done()
	if err == nil && p.options.Keep {
		p.keep(ctx)
	}
	return err
}

// found holds what happens against what is proven.
func (p *play) found(ctx context.Context) error {
	p.settle(ctx, p.tables, p.options.Settle)
	if p.options.Steps {
		if err := p.steps(ctx); err != nil || p.rewired {
			return err
		}
		p.settle(ctx, p.tables, p.options.Settle)
	}
	p.holdState(ctx)
	p.holdTerms(ctx)
	flows, checks := p.holdFlows(ctx, p.tables, "")
	p.report.Came(flows, checks)
	p.captures(ctx, flows, checks)
	if err := p.drills(ctx); err != nil {
		return err
	}
	return ctx.Err()
}

// keep tells how to look around, and goes on running until the context ends.
func (p *play) keep(ctx context.Context) {
	for _, n := range p.nodes {
		enter := "--net=" + netns.Dir + "/" + n.Name
		if n.holder != nil {
			enter = fmt.Sprintf("--target %d --mount --net", n.holder.Pid)
		}
		p.say(Event{Kind: KeptEvent, ID: n.ID, Node: n.Name, Name: n.Title, Text: enter})
	}
	p.say(Event{Kind: StepEvent, Name: "kept"})
	<-ctx.Done()
}

// listen lets hosts answer what the design says, and those of which it says nothing whatever is sent to them.
func (p *play) listen() error {
	var errs []error
	for _, n := range p.nodes {
		if n.Role != rehearsal.HostRole {
			continue
		}
		asked := n.Answers
		if len(asked) == 0 {
			asked = p.plan.AskedOf(n.Node)
		}
		errs = append(errs, p.hosts.only(n, asked))
	}
	return errors.Join(errs...)
}

// settle waits until all that is proven to be up is, or nothing changes any more, or the time is over.
func (p *play) settle(ctx context.Context, t *route.Tables, within time.Duration) {
	begun := time.Now()
	for ctx.Err() == nil && time.Since(begun) < within {
		up, of := p.standing(t)
		p.say(Event{Kind: StepEvent, Name: "settling", Done: up, Of: of})
		p.live.mu.Lock()
		still := time.Since(p.live.changed)
		p.live.mu.Unlock()
		if up == of && still > quiet/2 && (p.tablesStand(ctx) || still > 4*quiet) {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(beat):
		}
	}
}

// standing is how many of the tunnels and sessions that are proven to be up are.
func (p *play) standing(t *route.Tables) (up, of int) {
	p.live.mu.Lock()
	defer p.live.mu.Unlock()
	for k, w := range p.plan.Wires {
		if t.Status.Of(w.Tunnel).Up {
			of++
			if len(p.live.pairs[k]) >= w.Pairs() {
				up++
			}
		}
	}
	for _, s := range p.plan.Sessions {
		if t.Status.Of(s.ID).Up {
			of++
			if p.live.sessions[string(s.ID)] {
				up++
			}
		}
	}
	return up, of
}

func (p *play) tablesStand(ctx context.Context) bool {
	for _, t := range p.plan.Tables {
		if !p.holdTable(ctx, t).Same {
			return false
		}
	}
	return true
}

func (p *play) holdTable(ctx context.Context, t rehearsal.Table) rehearsal.Check {
	list, _ := p.node(t.Node).routes(ctx)
	return rehearsal.HoldTable(t, inTable(list, t, true), inTable(list, t, false))
}

// inTable is what of a kernel's routes is in a table: what its daemon brings, or all else.
func inTable(list []netRoute, t rehearsal.Table, daemon bool) (out []rehearsal.Learned) {
	for _, r := range list {
		if r.daemon != daemon || !tableIs(r.table, t.Number) {
			continue
		}
		k := slices.IndexFunc(out, func(l rehearsal.Learned) bool { return l.Prefix == r.prefix })
		if k < 0 {
			k = len(out)
			out = append(out, rehearsal.Learned{Prefix: r.prefix})
		}
		out[k].Devices = append(out[k].Devices, r.device...)
	}
	slices.SortFunc(out, func(a, b rehearsal.Learned) int { return comparePrefix(a.Prefix, b.Prefix) })
	return out
}

func comparePrefix(a, b netip.Prefix) int { return a.Compare(b) }

// holdState holds tunnels, sessions and tables against what is proven of them.
func (p *play) holdState(ctx context.Context) {
	p.live.mu.Lock()
	differ := map[string]bool{}
	for k, w := range p.plan.Wires {
		c := rehearsal.HoldTunnel(w, len(p.live.pairs[k]) > 0)
		p.report.Checks = append(p.report.Checks, c)
		if p.live.refused[k] && len(p.live.pairs[k]) > 0 {
			p.report.Again = append(p.report.Again, w.Name)
		}
		if !c.Same {
			differ[w.Ends[0].Node], differ[w.Ends[1].Node] = true, true
		}
	}
	for _, s := range p.plan.Sessions {
		p.report.Checks = append(p.report.Checks, rehearsal.HoldSession(s, p.live.sessions[string(s.ID)]))
	}
	p.live.mu.Unlock()
	for _, x := range p.plan.Tables {
		p.report.Checks = append(p.report.Checks, p.holdTable(ctx, x))
	}
	for name := range differ {
		p.daemonSays(p.node(name))
	}
}

// daemonSays tells the last of what a node's IPsec daemon has written.
func (p *play) daemonSays(n *node) {
	text, _ := os.ReadFile(n.root("/run/charon.log"))
	const most = 60_000
	p.say(Event{Kind: LogEvent, Node: n.Name, Name: n.Title, Text: string(text[max(0, len(text)-most):])})
}

// holdFlows sends all flows of which both ends are there and holds them against their walks.
func (p *play) holdFlows(
	ctx context.Context, t *route.Tables, without string,
) (flows []rehearsal.Flow, checks []rehearsal.Check) {
	flows = slices.DeleteFunc(slices.Clone(p.plan.Flows), func(f rehearsal.Flow) bool { return !p.stand(t, f) })
	p.say(Event{Kind: StepEvent, Name: "sending", Of: len(flows)})
	checks = make([]rehearsal.Check, len(flows))
	limit := make(chan struct{}, atOnce)
	var wg sync.WaitGroup
	for n, f := range flows {
		wg.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			checks[n] = p.holdFlow(ctx, t, f)
			p.say(Event{
				Kind: FlowEvent, ID: f.Intent, Name: f.Title, Up: checks[n].Same, Done: n + 1, Of: len(flows),
				Text: checks[n].Rehearsed,
			})
		})
	}
	wg.Wait()
	for _, c := range checks {
		if without != "" {
			c.Kind, c.Without = rehearsal.DrillCheck, without
		}
		p.report.Checks = append(p.report.Checks, c)
	}
	return flows, checks
}

// stand reports whether both ends of a flow are there: what is not built yet, or was taken away, has a namespace all
// the same, and nothing is judged of it.
func (p *play) stand(t *route.Tables, f rehearsal.Flow) bool {
	if p.whole == t {
		return true
	}
	ends := []design.ID{f.Flow.From.Place, f.Flow.From.Endpoint, f.Flow.From.Box, f.Flow.Meant}
	for _, o := range walk.Prove(p.whole, f.Flow).Owners {
		ends = append(ends, o.ID)
	}
	return !slices.ContainsFunc(ends, func(id design.ID) bool {
		return id != "" && p.whole.Design.Get(id) != nil && t.Design.Get(id) == nil
	})
}

// holdFlow sends one; a busy machine may be late, so what should have come is asked for again.
func (p *play) holdFlow(ctx context.Context, t *route.Tables, f rehearsal.Flow) (c rehearsal.Check) {
	from := p.node(f.Node)
	for k := range 3 {
		wait := patience
		if k > 0 {
			wait = longest
		}
		c = p.plan.HoldFlow(t, f, send(ctx, from, f, wait))
		if c.Same || ctx.Err() != nil {
			return c
		}
	}
	return c
}
