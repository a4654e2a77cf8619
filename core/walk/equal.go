package walk

import (
	"iter"

	"dravin/core/filter"
	"dravin/core/route"
)

// Where equal routes share, a box sends each conversation by one of them, and nobody can
// say which. A flow is walked by every one: it works if it does by all, since else some
// conversations fail; it never works only if it does by none.

// turns are the choices among equal routes that a walk makes, in the order in which it
// comes to them, there and back. The zero turns take the first each time.
type turns struct {
	take []int // which was taken at each
	of   []int // among how many
	at   int
}

// mostTurns bounds how many ways of a flow are walked.
const mostTurns = 32

// next sets the turns of the walk after this one; false if all were taken.
func (t *turns) next() bool {
	t.at = 0
	for n := len(t.take) - 1; n >= 0; n-- {
		if t.take[n]+1 < t.of[n] {
			t.take[n]++
			t.take, t.of = t.take[:n+1], t.of[:n+1]
			return true
		}
	}
	return false
}

// choose is the turn at the next fork of so many.
func (t *turns) choose(of int) int {
	if t.at == len(t.take) {
		t.take, t.of = append(t.take, 0), append(t.of, of)
	}
	t.at++
	return min(t.take[t.at-1], of-1)
}

// pick takes one of equal routes for the winner, and puts the others beside it.
func (w *walker) pick(c route.Choice) route.Choice {
	if len(c.Branches) == 0 {
		return c
	}
	w.looks()
	all := append([]route.Route{*c.Winner}, c.Branches...)
	n := w.turns.choose(len(all))
	c.Winner, c.Branches = &all[n], append(append([]route.Route{}, all[:n]...), all[n+1:]...)
	return c
}

// Prove walks a flow there and back, by every one of equal routes: the proof is that of
// the first way that is stopped, else of the first.
func Prove(t *route.Tables, f Flow) Proof {
	return first(Ways(t, f), func(p Proof) bool { return !p.Works })
}

// Possibly is as [Prove], for what must never work: the proof is that of the first way
// that delivers the packet, else of the first.
func Possibly(t *route.Tables, f Flow) Proof {
	return first(Ways(t, f), func(p Proof) bool { return p.Delivered })
}

// Ways are the proofs of a flow by each of the ways that equal routes leave: one where there
// are none, and 32 at most.
func Ways(t *route.Tables, f Flow) iter.Seq[Proof] { return waysIn(t, f, nil) }

// waysIn narrows classes, if there are any, to packets that fare alike by all ways.
func waysIn(t *route.Tables, f Flow, classes *filter.Classes) iter.Seq[Proof] {
	return func(yield func(Proof) bool) {
		way := &turns{}
		for range mostTurns {
			if !yield(proveWith(t, f, way, classes, nil)) || !way.next() {
				return
			}
		}
	}
}

// first is the first proof that decides, else the first of all.
func first(ways iter.Seq[Proof], decides func(Proof) bool) (p Proof) {
	n := 0
	for x := range ways {
		if decides(x) {
			return x
		}
		if n++; n == 1 {
			p = x
		}
	}
	return p
}
