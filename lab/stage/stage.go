package stage

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"dravin/core/design"
	"dravin/core/rehearsal"
)

// EventKind is what an event tells of.
type EventKind string

// The kinds of events.
const (
	StepEvent    EventKind = "step"    // the rehearsal has come to another step
	BoxEvent     EventKind = "box"     // a box has booted
	TunnelEvent  EventKind = "tunnel"  // a tunnel carries, or no longer does
	SessionEvent EventKind = "session" // a session is established, or no longer is
	FlowEvent    EventKind = "flow"    // a flow was sent
	LogEvent     EventKind = "log"     // what a box's own programs say
	KeptEvent    EventKind = "kept"    // how to enter a node of what is left running
)

// Event is one thing that happens while a rehearsal is on.
type Event struct {
	Seconds float64   `json:"seconds"` // since it began
	Kind    EventKind `json:"kind" enum:"step,box,tunnel,session,flow,log,kept"`
	ID      design.ID `json:"id,omitempty"`    // of the tunnel, session or box
	Joint   design.ID `json:"joint,omitempty"` // the link or circuit of a tunnel or session
	Node    string    `json:"node,omitempty"`  // whose log it is
	Name    string    `json:"name,omitempty"`  // what it is about, in words
	Up      bool      `json:"up,omitempty"`
	Text    string    `json:"text,omitempty"`
	Done    int       `json:"done,omitempty"` // of a step: how much of it
	Of      int       `json:"of,omitempty"`
}

// Stage is a plan that is built.
type Stage struct {
	plan  *rehearsal.Plan
	nodes []*node
	ether *node
	begun time.Time
	tell  func(Event)
	mu    sync.Mutex
}

func (s *Stage) say(e Event) {
	e.Seconds = float64(time.Since(s.begun).Milliseconds()) / 1000
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tell(e)
}

func (s *Stage) node(name string) *node {
	for _, n := range s.nodes {
		if n.Name == name {
			return n
		}
	}
	return nil
}

// each does something in all nodes, a few at once.
func (s *Stage) each(ctx context.Context, f func(context.Context, *node) error) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(8)
	for _, n := range s.nodes {
		g.Go(func() error { return f(ctx, n) })
	}
	return g.Wait()
}

// build makes the namespaces and cables, and what is there before anything is handed over.
func (s *Stage) build(ctx context.Context) error {
	s.say(Event{Kind: StepEvent, Name: "building", Of: len(s.plan.Nodes)})
	for _, x := range s.plan.Nodes {
		n := &node{Node: x, dir: filepath.Join(work, x.Name)}
		if err := n.make(); err != nil {
			return fmt.Errorf("a namespace for %s: %w", n.Title, err)
		}
		s.nodes = append(s.nodes, n)
		if x.Role == rehearsal.Wires {
			s.ether = n
		}
	}
	err := s.each(ctx, func(ctx context.Context, n *node) error {
		_, err := n.script(ctx, n.begin()...)
		return err
	})
	if err != nil {
		return err
	}
	if err := s.cables(ctx); err != nil {
		return err
	}
	return s.each(ctx, func(ctx context.Context, n *node) error {
		if _, err := n.script(ctx, n.Before...); err != nil {
			return err
		}
		if err := n.rules(ctx, nil, n.Rulesets); err != nil {
			return err
		}
		return n.furnish()
	})
}

func (s *Stage) cables(ctx context.Context) error {
	var lines strings.Builder
	for _, c := range s.plan.Cables {
		a, z := c.Ends[0], c.Ends[1]
		fmt.Fprintf(
			&lines, "link add %s netns %s type veth peer name %s netns %s\n", a.Device, a.Node, z.Device, z.Node,
		)
	}
	cmd := exec.CommandContext(ctx, "ip", "-batch", "-")
	cmd.Stdin = strings.NewReader(lines.String())
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("cables: %w: %s", err, out)
	}
	return nil
}

// bootAll boots all nodes with daemons at once, as after a power cut.
func (s *Stage) bootAll(ctx context.Context) error {
	s.say(Event{Kind: StepEvent, Name: "booting"})
	var wg sync.WaitGroup
	var mu sync.Mutex
	var errs []error
	for _, n := range s.nodes {
		if n.holder == nil {
			continue
		}
		wg.Go(func() {
			if err := s.boot(ctx, n); err != nil {
				mu.Lock()
				errs = append(errs, err)
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	return errors.Join(errs...)
}

func (s *Stage) boot(ctx context.Context, n *node) error {
	err := n.boot(ctx, func(text string) { s.say(Event{Kind: LogEvent, Node: n.Name, Name: n.Title, Text: text}) })
	if err == nil {
		_, err = n.script(ctx, n.After...)
	}
	s.say(Event{Kind: BoxEvent, ID: n.ID, Node: n.Name, Name: n.Title, Up: err == nil})
	return err
}

// halt ends everything that runs.
func (s *Stage) halt() {
	var wg sync.WaitGroup
	for _, n := range s.nodes {
		wg.Go(func() {
			n.halt()
			if n.holder != nil {
				_ = n.holder.Kill()
			}
		})
	}
	wg.Wait()
}
