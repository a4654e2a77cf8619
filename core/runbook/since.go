package runbook

import (
	"crypto/sha256"
	"encoding/hex"

	"dravin/core/design"
)

// Since is how an order of work began: what held then, and what its steps were called. What one step says does not
// change because another is done.
type Since struct {
	// Held are the intents that held, with a mark of the way by which each went.
	Held map[design.ID]string `json:"held"`
	// Known are all intents that there were.
	Known map[design.ID]bool `json:"known"`
	Steps map[string]Told    `json:"steps"` // by ID
	Next  int                `json:"next"`  // the number that the next new step gets
}

// Told is what was said of a step when it was first written.
type Told struct {
	N      int    `json:"n"`
	Window Window `json:"window"`
}

// Anew is the same order of work, of which something else than its steps was done: the steps keep their numbers, and
// what works is what works today.
func (s *Since) Anew() *Since {
	out := &Since{Steps: map[string]Told{}, Next: s.Next}
	for id, t := range s.Steps {
		out.Steps[id] = Told{N: t.N}
	}
	return out
}

// begin notes what held when the work began.
func (w *writer) begin(since *Since) {
	for id := range w.held {
		w.ways[id] = shortened(w.ways[id])
	}
	if since == nil {
		since = &Since{Next: 1}
	}
	if since.Held != nil {
		for id, known := range since.Known {
			if known {
				delete(w.held, id)
				delete(w.ways, id)
			}
		}
		for id, way := range since.Held {
			w.held[id], w.ways[id] = true, way
		}
	}
	w.since = &Since{
		Held: map[design.ID]string{}, Known: map[design.ID]bool{}, Steps: since.Steps, Next: since.Next,
	}
	for id := range w.held {
		w.since.Held[id] = w.ways[id]
	}
	for _, o := range w.begun.design().Of(design.KindIntent) {
		w.since.Known[o.ID] = true
	}
}

// number gives each step the number that it has, and a new one the next.
func (w *writer) number() {
	told := map[string]Told{}
	for id, t := range w.since.Steps {
		told[id] = t
	}
	for n := range w.out.Steps {
		s := &w.out.Steps[n]
		t, known := told[s.ID]
		if !known {
			t.N = w.since.Next
			w.since.Next++
		}
		if t.Window == "" {
			t.Window = s.Window
		}
		s.N, s.Window = t.N, t.Window
		told[s.ID] = t
	}
	w.since.Steps = told
	w.out.Since = w.since
}

func shortened(way string) string {
	sum := sha256.Sum256([]byte(way))
	return hex.EncodeToString(sum[:8])
}
