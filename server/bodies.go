package server

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"golang.org/x/sync/semaphore"
)

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
		if size <= smallBody || isImport(r) { // imports are streamed, in a queue of their own
			next.ServeHTTP(w, r)
			return
		}
		if size > largeBody {
			problem(
				w, http.StatusRequestEntityTooLarge,
				"the body has "+strconv.FormatInt(size, 10)+" bytes; nothing here takes more than "+strconv.Itoa(
					largeBody,
				),
			)
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
