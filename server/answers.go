package server

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"runtime/debug"
	"strings"
	"sync"

	"dravin/store"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/hashicorp/golang-lru/v2/simplelru"
	"golang.org/x/sync/singleflight"
)

// build tells the answers of this program from those of another.
var build = sync.OnceValue(func() string {
	revision, modified := "", "true"
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			switch s.Key {
			case "vcs.revision":
				revision = s.Value
			case "vcs.modified":
				modified = s.Value
			}
		}
	}
	if revision != "" && modified == "false" {
		return revision[:min(12, len(revision))]
	}
	b := make([]byte, 6) // a build that nobody can name counts for this process only
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
})

// reply is an answer as it goes out.
type reply struct {
	key    string
	header http.Header
	status int
	plain  []byte // empty if packed
	packed []byte // gzip; empty if small
	late   bool   // it is of a later position than was asked for
	broken bool   // who asked for it went before it was made
}

func (a *reply) size() int { return len(a.plain) + len(a.packed) + 3*len(a.key) + 1024 }

// replies holds answers about designs, ready to be sent, for the position of the
// design that they are of. The ones used last stay.
type replies struct {
	mu     sync.Mutex
	held   *simplelru.LRU[string, *reply]
	bytes  int
	flight singleflight.Group
}

const (
	maxReplies = 192 << 20 // bytes, together
	mostHeld   = 1 << 17   // replies, whatever their size
)

func newReplies() *replies {
	c := &replies{}
	// An error is told of a size below 1 only.
	c.held, _ = simplelru.NewLRU(mostHeld, func(_ string, old *reply) { c.bytes -= old.size() })
	return c
}

func (c *replies) get(key string) *reply {
	c.mu.Lock()
	defer c.mu.Unlock()
	a, _ := c.held.Get(key)
	return a
}

func (c *replies) put(a *reply) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if a.size() > maxReplies/4 || c.held.Contains(a.key) {
		return
	}
	c.bytes += a.size()
	c.held.Add(a.key, a)
	for c.bytes > maxReplies {
		c.held.RemoveOldest()
	}
}

// asking is what a request has learned of its design: asked once, it holds for
// the whole of it.
type asking struct {
	info store.Info
	late bool // what was worked out is of a later position
}

type askingKey struct{}

// remembered answers what was asked of the same position of a design before
// without working it out again, and 304 to who has it still. The day is part of
// the mark: what is said of order codes depends on it.
func (s *Server) remembered(next http.Handler) http.Handler {
	other := compressed(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := chi.URLParam(r, "design")
		if r.Method != http.MethodGet || id == "" || !isLine(id) ||
			strings.HasSuffix(r.URL.Path, "/history") || // who looks at keys moves no position
			strings.Contains(r.URL.Path, "/rehearsals") { // and nothing that is played does
			other.ServeHTTP(w, r)
			return
		}
		in, err := s.store.Info(r.Context(), id)
		if err != nil {
			s.refuse(w, err)
			return
		}
		mark := `W/"` + strings.Join(
			[]string{build(), in.ID, stamp(in), s.now().Format("20060102"), asked(r)}, "-",
		) + `"`
		if strings.Contains(r.Header.Get("If-None-Match"), mark) {
			s.metrics.replies.WithLabelValues("unchanged").Inc()
			marked(w.Header(), mark)
			w.WriteHeader(http.StatusNotModified)
			return
		}
		key := mark + r.URL.RequestURI()
		if a := s.replies.get(key); a != nil {
			s.metrics.replies.WithLabelValues("remembered").Inc()
			a.send(w, r, mark)
			return
		}
		s.metrics.replies.WithLabelValues("made").Inc()
		s.workOut(next, w, r, in, key, mark)
	})
}

// asked is a sum of what a request asks, so that the mark of one answer is not another's.
// stateDepth is how many slashes the path of a design's state has.
const stateDepth = 3

func asked(r *http.Request) string {
	whole := r.URL.RequestURI()
	if strings.Count(r.URL.Path, "/") == stateDepth { // what undo would take back is another for each
		whole += " " + author(r.Context())
	}
	sum := sha256.Sum256([]byte(whole))
	return hex.EncodeToString(sum[:6])
}

// workOut makes an answer, once for all who ask for it at the same time.
func (s *Server) workOut(next http.Handler, w http.ResponseWriter, r *http.Request, in store.Info, key, mark string) {
	own := false
	made, _, _ := s.replies.flight.Do(key, func() (any, error) {
		own = true
		ask := &asking{info: in}
		a := record(next, r.WithContext(context.WithValue(r.Context(), askingKey{}, ask)), key)
		a.late, a.broken = ask.late, r.Context().Err() != nil
		if !a.late { // what a writer has seen, to be sent back with what is written
			a.header.Set("X-Position", itoa(in.Position))
		}
		if a.status == http.StatusOK && !a.late {
			s.replies.put(a)
		}
		return a, nil
	})
	a := made.(*reply)
	if a.broken && !own {
		next.ServeHTTP(w, r) // who asked first has gone
		return
	}
	if a.late {
		mark = ""
	}
	a.send(w, r, mark)
}

// compressed packs what is not remembered.
var compressed = middleware.Compress(4, "application/json", "text/html", "text/css", "text/javascript")

func marked(h http.Header, mark string) {
	h.Set("ETag", mark)
	h.Set("Cache-Control", "private, no-cache")
	h.Set("Vary", "Accept-Encoding")
}

func (a *reply) send(w http.ResponseWriter, r *http.Request, mark string) {
	h := w.Header()
	for k, v := range a.header {
		h[k] = v
	}
	if mark != "" && a.status == http.StatusOK {
		marked(h, mark)
	}
	switch {
	case len(a.packed) == 0:
		w.WriteHeader(a.status)
		_, _ = w.Write(a.plain)
	case strings.Contains(r.Header.Get("Accept-Encoding"), "gzip"):
		h.Set("Content-Encoding", "gzip")
		h.Set("Content-Length", itoa(int64(len(a.packed))))
		w.WriteHeader(a.status)
		_, _ = w.Write(a.packed)
	default:
		w.WriteHeader(a.status)
		if z, err := gzip.NewReader(bytes.NewReader(a.packed)); err == nil {
			_, _ = io.Copy(w, z)
		}
	}
}

const packsFrom = 4 << 10 // bytes

// packers are kept: each takes a good part of a megabyte.
var packers = sync.Pool{New: func() any {
	z, err := gzip.NewWriterLevel(nil, 3)
	if err != nil {
		panic(err) // the level is fixed
	}
	return z
}}

// record lets next answer and keeps what it says.
func record(next http.Handler, r *http.Request, key string) *reply {
	out := &recorder{header: http.Header{}, status: http.StatusOK}
	next.ServeHTTP(out, r)
	a := &reply{key: key, header: out.header, status: out.status, plain: out.body.Bytes()}
	if len(a.plain) > packsFrom {
		var packed bytes.Buffer
		z := packers.Get().(*gzip.Writer)
		defer packers.Put(z)
		z.Reset(&packed)
		if _, err := z.Write(a.plain); err == nil && z.Close() == nil {
			a.plain, a.packed = nil, packed.Bytes()
		}
	}
	return a
}

type recorder struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (r *recorder) Header() http.Header         { return r.header }
func (r *recorder) WriteHeader(status int)      { r.status = status }
func (r *recorder) Write(p []byte) (int, error) { return r.body.Write(p) }
