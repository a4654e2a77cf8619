package bgp

import (
	"net/netip"
	"slices"
)

// Trace is what became of one prefix everywhere.
type Trace struct {
	Held  []Held
	Tells []Advertises
}

// Held is what one speaker has of the prefix.
type Held struct {
	Speaker string
	Best    *Route // nil: it has none that it can use
	Shares  []*Route
	Rivals  []Rival
}

// Rival is a route that did not become the best, and the rule that beat it.
type Rival struct {
	Route *Route
	By    Why
}

// Advertises is what one end of a session made of the prefix, and the other end of
// that.
type Advertises struct {
	Session *Session
	End     int    // which end tells
	Sent    *Route // as the speaker has it; nil if it has none
	Got     *Route // as the other end has it; nil if it does not get there
	Stop    Stop
	Rule    int // of a filter that stopped it, which rule; -1: none matched
}

// Trace solves one prefix again and tells all that became of it. It is empty
// for a prefix that nobody announces.
func (r *Result) Trace(p netip.Prefix) Trace {
	k := r.of(p)
	if k == nil {
		return Trace{}
	}
	s := newSolver(r.compiled, r.lookup())
	k = &class{prefixes: []netip.Prefix{p}, originated: k.originated, ranges: k.ranges}
	s.settle(k)
	var out Trace
	slices.Sort(s.meets)
	for _, n := range s.meets {
		out.Held = append(out.Held, s.held(n))
		for _, e := range r.compiled.outs[n] {
			t := Advertises{Session: r.compiled.Sessions[e/2], End: int(e % 2), Sent: s.best[n], Stop: Nothing}
			if s.best[n] != nil {
				t.Got, t.Stop, t.Rule = s.pass(e, s.best[n])
			}
			out.Tells = append(out.Tells, t)
		}
	}
	return out
}

func (r *Result) lookup() lookup {
	if r.compiled.kept {
		return r.reachable()
	}
	return unreached
}

func (s *solver) held(n int32) Held {
	h := Held{Speaker: s.compiled.Speakers[n].Key}
	all := slices.Clone(s.candidates(n))
	if len(all) > 0 {
		h.Best = choose(all)
	}
	for _, r := range append([]*Route{s.own[n]}, s.slots[n]...) {
		switch {
		case r == nil || r == h.Best:
		case !slices.Contains(all, r):
			h.Rivals = append(h.Rivals, Rival{r, Unreachable})
		case s.compiled.Speakers[n].Multipath && shares(h.Best, r):
			h.Shares = append(h.Shares, r)
		default:
			h.Rivals = append(h.Rivals, Rival{r, beat(all, h.Best, r)})
		}
	}
	return h
}

// beat is the rule by which the best goes before a rival: a lower MED may be that
// of a third.
func beat(all []*Route, best, r *Route) Why {
	if c, why := before(best, r); c != 0 {
		return why
	}
	if beaten(all, r) {
		return LowerMED
	}
	_, why := compare(best, r)
	return why
}

// At are the tables that a session of a network tells from and teaches, by key;
// none for a session that is not in it.
func (r *Result) At(session string) []string {
	n, ok := r.compiled.byKey[session]
	if !ok {
		return nil
	}
	var out []string
	for _, e := range r.compiled.Sessions[n].Ends {
		out = append(append(out, e.Speaker), e.Into...)
	}
	return out
}

// Advertised lists what one end of a session tells the other, prefix by prefix, and
// what becomes of it there.
func (r *Result) Advertised(session string, end int) []Advertisement {
	n, ok := r.compiled.byKey[session]
	if !ok || r.compiled.Sessions[n].Down || r.compiled.speaks[2*n+int32(end)] < 0 {
		return nil
	}
	e := 2*n + int32(end)
	from := r.compiled.speaks[e]
	s := newSolver(r.compiled, r.lookup())
	done := map[*class]Advertises{}
	var out []Advertisement
	for _, x := range r.Table(r.compiled.Speakers[from].Key) {
		k := r.of(x.Prefix)
		t, ok := done[k]
		if !ok {
			s.begin(k)
			t = Advertises{Session: r.compiled.Sessions[n], End: end, Sent: x.Routes[0]}
			t.Got, t.Stop, t.Rule = s.pass(e, x.Routes[0])
			done[k] = t
		}
		out = append(out, Advertisement{x.Prefix, t})
	}
	return out
}

// Advertisement is a [Advertises] of one prefix.
type Advertisement struct {
	Prefix netip.Prefix
	Advertises
}
