package server

import (
	"errors"
	"io"
	"net/http"
	"time"
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
