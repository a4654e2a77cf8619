package server

import (
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"dravin/store"
)

// hub hands notices to the browsers that watch a design.
type hub struct {
	mu       sync.Mutex
	watchers map[string]map[chan store.Notice]bool
}

func newHub() *hub { return &hub{watchers: map[string]map[chan store.Notice]bool{}} }

func (h *hub) watch(design string) (<-chan store.Notice, func()) {
	c := make(chan store.Notice, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.watchers[design] == nil {
		h.watchers[design] = map[chan store.Notice]bool{}
	}
	h.watchers[design][c] = true
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.watchers[design], c)
		if len(h.watchers[design]) == 0 {
			delete(h.watchers, design)
		}
	}
}

// tell passes a notice on. A watcher that has one waiting already will learn
// of the newest position when it asks, so it needs no second.
func (h *hub) tell(n store.Notice) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.watchers[n.Design] {
		select {
		case c <- n:
		default:
		}
	}
}

// tellAll makes every watcher look again.
func (h *hub) tellAll() {
	h.mu.Lock()
	designs := make([]string, 0, len(h.watchers))
	for d := range h.watchers {
		designs = append(designs, d)
	}
	h.mu.Unlock()
	for _, d := range designs {
		h.tell(store.Notice{Design: d})
	}
}

const heartbeat = 20 * time.Second

// events streams "changed" events of a design as server-sent events (the HTML
// standard, section 9.2).
func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	flusher := http.NewResponseController(w)
	notices, leave := s.hub.watch(chi.URLParam(r, "design"))
	defer leave()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	fmt.Fprint(w, "retry: 1000\n\n")
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	for {
		if err := flusher.Flush(); err != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case n := <-notices:
			fmt.Fprintf(w, "event: changed\ndata: {\"position\":%d}\n\n", n.Position)
		case <-tick.C:
			fmt.Fprint(w, ": here\n\n")
		}
	}
}
