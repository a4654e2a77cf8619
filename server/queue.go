package server

import (
	"context"
	"runtime"
	"slices"
	"sync"
	"time"

	"dravin/store"
)

// How many imports run at once, each of which takes up to 300 MB for the worst
// file that there is, and how many may wait.
const (
	importsAtOnce  = 2
	importsWaiting = 30
)

// How many wait for what is worked out for long, and for how long at most.
const (
	workWaiting = 30
	workWaits   = 30 * time.Second
)

// workAtOnce is how many of those run at once: half of the machine stays for what is
// answered at once.
func workAtOnce() int { return max(1, runtime.GOMAXPROCS(0)/2) }

// queue lets a few in at a time, in the order in which they came.
type queue struct {
	of     string // what is let in
	atOnce int
	most   int // that may wait

	mu      sync.Mutex
	running int
	waiting []*ticket
}

type ticket struct {
	called chan struct{} // closed when it is its turn
	moved  chan struct{} // told when its place has changed
}

// enter waits until it is the caller's turn and calls told with the place in the
// queue, 1 for the next, whenever it changes. leave must be called after.
func (q *queue) enter(ctx context.Context, told func(place int)) (leave func(), err error) {
	q.mu.Lock()
	if q.running < q.atOnce {
		q.running++
		q.mu.Unlock()
		return q.leave, nil
	}
	if len(q.waiting) >= q.most {
		q.mu.Unlock()
		return nil, &store.Unavailable{Why: "too many " + q.of + " wait already", Want: "try again in a few minutes"}
	}
	t := &ticket{make(chan struct{}), make(chan struct{}, 1)}
	q.waiting = append(q.waiting, t)
	place := len(q.waiting)
	q.mu.Unlock()
	for {
		if place > 0 {
			told(place)
		}
		select {
		case <-t.called:
			return q.leave, nil
		case <-t.moved:
			place = q.place(t)
		case <-ctx.Done():
			q.giveUp(t)
			return nil, ctx.Err()
		}
	}
}

// turn waits for the caller's turn, but not for ever.
func (q *queue) turn(ctx context.Context) (leave func(), err error) {
	waiting, cancel := context.WithTimeout(ctx, workWaits)
	defer cancel()
	leave, err = q.enter(waiting, func(int) {})
	if err != nil && ctx.Err() == nil && waiting.Err() != nil {
		return nil, &store.Unavailable{Why: "other " + q.of + " take long", Want: "try again in a minute"}
	}
	return leave, err
}

func (q *queue) place(t *ticket) int {
	q.mu.Lock()
	defer q.mu.Unlock()
	return slices.Index(q.waiting, t) + 1
}

// leave lets the next in.
func (q *queue) leave() {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(q.waiting) == 0 {
		q.running--
		return
	}
	close(q.waiting[0].called)
	q.drop(0)
}

// giveUp takes a ticket back; if it was its turn already the next is called.
func (q *queue) giveUp(t *ticket) {
	q.mu.Lock()
	at := slices.Index(q.waiting, t)
	if at >= 0 {
		q.drop(at)
	}
	q.mu.Unlock()
	if at < 0 {
		q.leave()
	}
}

func (q *queue) drop(at int) {
	q.waiting = slices.Delete(q.waiting, at, at+1)
	for _, t := range q.waiting[at:] {
		select {
		case t.moved <- struct{}{}:
		default:
		}
	}
}

// counts are how many run and wait.
func (q *queue) counts() (running, waiting int) {
	q.mu.Lock()
	defer q.mu.Unlock()
	return q.running, len(q.waiting)
}
