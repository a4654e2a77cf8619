package server

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strconv"
	"time"

	"golang.org/x/sync/semaphore"
)

// How slow a client may be before it is given up on: what it takes or sends must
// come at this rate at least, with a grace for a network that stalls.
var (
	grace   = 20 * time.Second
	minRate = int64(32 << 10) // bytes a second
)

const chunk = 64 << 10

// pace is the time that a client has used up in one direction.
type pace struct {
	bytes int64
	spent time.Duration
}

// left is how long the client may take for n more bytes.
func (p *pace) left(n int) time.Duration {
	return grace + time.Duration(p.bytes+int64(n))*time.Second/time.Duration(minRate) - p.spent
}

func (p *pace) took(start time.Time, n int) {
	p.spent += time.Since(start)
	p.bytes += int64(n)
}

// paced gives up on clients that neither take their answer nor send their body.
// Time that we need ourselves is not counted.
func paced(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		out := &pacedWriter{ResponseWriter: w, control: http.NewResponseController(w)}
		_ = out.control.SetWriteDeadline(time.Time{}) // the last request's, on this connection
		var body *pacedBody
		if r.Body != nil && r.Body != http.NoBody {
			body = &pacedBody{ReadCloser: r.Body, control: out.control}
			r.Body = body
		}
		next.ServeHTTP(out, r)
		if body != nil && body.failed { // nothing more is expected of this connection
			_ = out.control.Flush()
			panic(http.ErrAbortHandler)
		}
		_ = out.control.SetWriteDeadline(time.Now().Add(out.left(chunk))) // for what is still buffered
	})
}

type pacedWriter struct {
	http.ResponseWriter
	control *http.ResponseController
	pace
}

// Unwrap lets response controllers reach the connection.
func (w *pacedWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// Flush is for the writers around it that look for it.
func (w *pacedWriter) Flush() { _ = w.control.Flush() }

func (w *pacedWriter) Write(p []byte) (written int, err error) {
	for first := true; first || len(p) > 0 && err == nil; first = false {
		part := p[:min(len(p), chunk)]
		start := time.Now()
		_ = w.control.SetWriteDeadline(start.Add(w.left(len(part))))
		var n int
		n, err = w.ResponseWriter.Write(part)
		w.took(start, n)
		written, p = written+n, p[len(part):]
	}
	return written, err
}

type pacedBody struct {
	io.ReadCloser
	control *http.ResponseController
	failed  bool // it did not come to its end
	pace
}

func (b *pacedBody) Read(p []byte) (int, error) {
	start := time.Now()
	_ = b.control.SetReadDeadline(start.Add(b.left(0)))
	n, err := b.ReadCloser.Read(p)
	b.took(start, n)
	b.failed = err != nil && !errors.Is(err, io.EOF)
	if errors.Is(err, io.EOF) { // the connection goes on to be watched, without an end
		_ = b.control.SetReadDeadline(time.Time{})
	}
	return n, err
}

// How much of bodies that are read whole may be in memory at once, and how long
// one waits for its share.
const (
	allBodies  = 96 << 20
	smallBody  = 1 << 20
	bodyWaits  = 20 * time.Second
	largeBody  = maxCreateBytes // where the length is not said
	multiplied = 2              // a body is held as it came and as it was read
)

// bodies bounds what bodies take together. Small ones do not count.
type bodies struct{ room *semaphore.Weighted }

func newBodies() bodies { return bodies{semaphore.NewWeighted(allBodies * multiplied)} }

// limited lets a large body in when there is room for it.
func (b bodies) limited(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		size := r.ContentLength
		if size < 0 {
			size = largeBody
		}
		if size <= smallBody || r.Header.Get("Content-Type") == "" || isImport(r) { // imports are streamed, in a queue of their own
			next.ServeHTTP(w, r)
			return
		}
		if size > largeBody {
			problem(w, http.StatusRequestEntityTooLarge, "the body has "+strconv.FormatInt(size, 10)+" bytes; nothing here takes more than "+strconv.Itoa(largeBody))
			return
		}
		ctx, cancel := context.WithTimeout(r.Context(), bodyWaits)
		defer cancel()
		if b.room.Acquire(ctx, size) != nil {
			problem(w, http.StatusServiceUnavailable, "too much is being sent to Dravin at once; try again in a moment")
			return
		}
		defer b.room.Release(size)
		next.ServeHTTP(w, r)
	})
}
