package server

import (
	"fmt"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"dravin/store"
)

// hub hands notices to the browsers that watch a design.
type hub struct {
	mu       sync.Mutex
	watchers map[string]map[chan store.Notice]bool // by design
	clients  map[string]int                        // streams, by client
	total    int

	ofOne, all int // the most streams of one client, and of all
}

// StreamsOfOne is the most event streams of one client, where nothing else is said.
// A browser has one for each page that is open.
const StreamsOfOne = 64

const streamsOfAll = 2000

func newHub() *hub {
	return &hub{
		watchers: map[string]map[chan store.Notice]bool{}, clients: map[string]int{}, ofOne: StreamsOfOne,
		all: streamsOfAll,
	}
}

// watch returns nil if the client, or all together, watch too much already.
func (h *hub) watch(design, client string) (<-chan store.Notice, func()) {
	c := make(chan store.Notice, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.clients[client] >= h.ofOne || h.total >= h.all {
		return nil, nil
	}
	h.clients[client]++
	h.total++
	if h.watchers[design] == nil {
		h.watchers[design] = map[chan store.Notice]bool{}
	}
	h.watchers[design][c] = true
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.total--
		if h.clients[client]--; h.clients[client] == 0 {
			delete(h.clients, client)
		}
		delete(h.watchers[design], c)
		if len(h.watchers[design]) == 0 {
			delete(h.watchers, design)
		}
	}
}

func (h *hub) count() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.total
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
	design := chi.URLParam(r, "design")
	if _, err := s.store.Info(r.Context(), design); err != nil {
		s.refuse(w, err)
		return
	}
	notices, leave := s.hub.watch(design, clientOf(r))
	if notices == nil {
		problem(w, http.StatusTooManyRequests, "too many pages of this client watch designs already; close some")
		return
	}
	defer leave()
	flusher := http.NewResponseController(w)
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

// clientOf tells clients apart, by the address that they come from.
func clientOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}
