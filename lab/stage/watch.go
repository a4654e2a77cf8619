package stage

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"dravin/core/design"
	"dravin/core/rehearsal"
	"dravin/core/route"
	"dravin/core/runbook"
	"dravin/core/walk"
)

// mostWatched is how many flows are sent all the time: more would keep a machine from its work.
const mostWatched = 12

// blink is for how long a flow may be without an answer while a step is done that is told to leave it as it is: files
// are put into use, daemons read them, and the machine is busy.
const blink = 4 * time.Second

// watch are flows of intents that are sent all the time while steps are done.
type watch struct {
	play  *play
	flows []rehearsal.Flow
	end   context.CancelFunc
	wg    sync.WaitGroup

	mu    sync.Mutex
	since []time.Time     // since when without an answer; zero: it is answered
	worst []time.Duration // the longest time without an answer in this step
}

// watching begins to send the flows of intents of which both ends are there.
func (p *play) watching(ctx context.Context, t *route.Tables) *watch {
	w := &watch{play: p}
	for _, f := range p.plan.Flows {
		if f.Intent != "" && len(w.flows) < mostWatched && p.stand(t, f) {
			w.flows = append(w.flows, f)
		}
	}
	w.since, w.worst = make([]time.Time, len(w.flows)), make([]time.Duration, len(w.flows))
	ctx, w.end = context.WithCancel(ctx)
	for n, f := range w.flows {
		from := p.node(f.Node)
		w.wg.Go(func() {
			for ctx.Err() == nil {
				begun := time.Now()
				w.note(n, begun, send(ctx, from, f, patience).Answered)
				select {
				case <-ctx.Done():
				case <-time.After(beat - time.Since(begun)):
				}
			}
		})
	}
	return w
}

func (w *watch) stop() {
	w.end()
	w.wg.Wait()
}

// note takes down what came of a flow that was sent at a time.
func (w *watch) note(n int, at time.Time, answered bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case !answered && w.since[n].IsZero():
		w.since[n] = at
	case answered && !w.since[n].IsZero():
		w.worst[n] = max(w.worst[n], time.Since(w.since[n]))
		w.since[n] = time.Time{}
	}
}

// hold holds for how long flows were without an answer in a step against what the runbook says of it: what is neither
// down nor goes another way is answered all the time.
func (w *watch) hold(s runbook.Step, before, after *route.Tables) {
	w.mu.Lock()
	defer w.mu.Unlock()
	said := func(hits []runbook.Hit, of design.ID) bool {
		return slices.ContainsFunc(hits, func(h runbook.Hit) bool { return h.Intent == of })
	}
	for n, f := range w.flows {
		if !walk.Prove(before, f.Flow).Works || !walk.Prove(after, f.Flow).Works || said(s.Down, f.Intent) {
			continue
		}
		longest := w.worst[n]
		if !w.since[n].IsZero() {
			longest = max(longest, time.Since(w.since[n]))
		}
		allowed, proof := blink, "answered all the time"
		if said(s.Moves, f.Intent) || said(s.Blinks, f.Intent) {
			allowed, proof = sessions, "answered again after a moment"
		}
		w.play.report.Checks = append(w.play.report.Checks, rehearsal.Check{
			Kind: rehearsal.StepCheck, ID: f.Intent, Name: f.Title, Without: fmt.Sprintf("while step %d is done", s.N),
			Proof: proof, Rehearsed: fmt.Sprintf("without an answer for %.1f s at most", longest.Seconds()),
			Same: longest <= allowed,
		})
	}
}
