package bgp

import (
	"cmp"
	"net/netip"
	"runtime"
	"slices"
	"sync"

	"dravin/core/prefix"
)

// Result is what the speakers of a network have learned. It may be used by many
// at once.
type Result struct {
	compiled *compiled
	classes  map[netip.Prefix]*class // of every prefix; shared with results before, which over goes before
	over     map[netip.Prefix]*class // what is otherwise now; nil: gone
	has      [][]*class              // by speaker
	more     map[int32][]*class      // by speaker: what came with over
	down     map[int32]Down
}

// Solve runs a network to its fixed point.
func Solve(n *Network) *Result { return limited(n, nil) }

// Update is [Solve] of the next network, given the result for another: what the
// difference can not have touched is taken over. changed are the keys of the
// speakers whose routes differ, in order.
func (r *Result) Update(n *Network) (next *Result, changed []string) {
	if slices.Equal(n.Speakers, r.compiled.Speakers) && slices.Equal(n.Sessions, r.compiled.Sessions) {
		return r, nil
	}
	if d, ok := r.difference(n); ok {
		news := r.touched(d, n)
		if len(news) == 0 {
			next := *r
			next.compiled = r.compiled.with(n)
			return &next, nil
		}
		if next := r.patch(n, news); next != nil {
			return next, next.differs(r, news)
		}
	}
	next = limited(n, r)
	return next, next.differs(r, nil)
}

// limited solves until no session takes more than it may. The one that would
// have dropped first is dropped, and all is solved anew.
func limited(n *Network, before *Result) *Result {
	down := map[int32]Down{}
	for {
		c := compile(n, down)
		r := c.solve()
		over := r.exceeded()
		if len(over) == 0 {
			return r
		}
		for _, d := range over {
			down[d.end/2] = d.Down
		}
	}
}

// solve solves all classes; what next hops were kept are looked up in what came
// of it, until that changes nothing.
func (c *compiled) solve() *Result {
	r := c.once(unreached)
	for n := 0; c.kept && n < 16; n++ {
		next := c.once(r.reachable())
		if len(next.differs(r, nil)) == 0 {
			return next
		}
		r = next
	}
	return r
}

// unreached finds no next hop but the neighbours' own.
func unreached(int32, netip.Addr) (by netip.Prefix, ok bool) { return by, false }

// reachable looks next hops up in what is known: where the speaker stands, or
// the longest route that holds it. A route whose own next hop has to be looked up leads to none:
// daemons look up once.
func (r *Result) reachable() lookup {
	tables := make([]*prefix.Table[netip.Prefix], len(r.compiled.Speakers))
	connected := make([]map[netip.Prefix]bool, len(r.compiled.Speakers))
	lookedUp := make([]map[netip.Prefix]bool, len(r.compiled.Speakers))
	for n := range tables {
		t := &prefix.Table[netip.Prefix]{}
		connected[n], lookedUp[n] = map[netip.Prefix]bool{}, map[netip.Prefix]bool{}
		for _, p := range r.compiled.Speakers[n].Connected {
			connected[n][p.Masked()] = true
			t.Add(p.Masked(), p.Masked())
		}
		for _, e := range r.table(int32(n)) {
			if !connected[n][e.Prefix] {
				t.Add(e.Prefix, e.Prefix)
				lookedUp[n][e.Prefix] = slices.ContainsFunc(e.Routes, func(x *Route) bool { return !x.direct() })
			}
		}
		tables[n] = t
	}
	return func(n int32, hop netip.Addr) (netip.Prefix, bool) {
		if !hop.IsValid() {
			return netip.Prefix{}, false
		}
		all := tables[n].Matches(hop) // the longest first
		if len(all) == 0 || lookedUp[n][all[0]] {
			return netip.Prefix{}, false
		}
		if connected[n][all[0]] {
			return netip.Prefix{}, true
		}
		return all[0], true
	}
}

// once solves all classes over given next hops: the prefixes that no summary is
// made of first.
func (c *compiled) once(look lookup) *Result {
	r := &Result{compiled: c, classes: map[netip.Prefix]*class{}, has: make([][]*class, len(c.Speakers)), down: c.down}
	originated := map[netip.Prefix][]origination{}
	for n, s := range c.Speakers {
		for _, o := range s.Own {
			originated[o.Prefix] = append(
				originated[o.Prefix], origination{speaker: int32(n), quiet: o.Quiet, only: onlyOf(o)},
			)
		}
	}
	sums := c.summaries()
	later := map[netip.Prefix]bool{}
	for _, s := range sums {
		later[s] = true
	}
	r.add(c.group(originated, func(p netip.Prefix) bool { return !later[p] }), look)
	for _, s := range sums { // longest first: a summary may be made of summaries
		all := map[netip.Prefix][]origination{s: append(originated[s], r.summed(s)...)}
		r.add(c.group(all, func(netip.Prefix) bool { return true }), look)
	}
	return r
}

// summaries lists the prefixes of all summaries, the longest first.
func (c *compiled) summaries() []netip.Prefix {
	var out []netip.Prefix
	for _, s := range c.Speakers {
		for _, x := range s.Summaries {
			if !slices.Contains(out, x.Prefix) {
				out = append(out, x.Prefix)
			}
		}
	}
	slices.SortFunc(out, func(a, b netip.Prefix) int {
		return cmp.Or(cmp.Compare(b.Bits(), a.Bits()), prefix.Compare(a, b))
	})
	return out
}

// summed are the births of a summary: at every speaker that makes it and has a
// part of it.
func (r *Result) summed(s netip.Prefix) []origination {
	var out []origination
	for n, x := range r.compiled.Speakers {
		if !slices.ContainsFunc(x.Summaries, func(y Summary) bool { return y.Prefix == s }) {
			continue
		}
		worst := Unset
		for _, e := range r.table(int32(n)) {
			if e.Prefix.Bits() > s.Bits() && prefix.Contains(s, e.Prefix) {
				worst = max(worst, e.Routes[0].Origin)
			}
		}
		if worst != Unset {
			out = append(out, origination{speaker: int32(n), summary: true, origin: worst})
		}
	}
	return out
}

// group makes classes of prefixes.
func (c *compiled) group(originated map[netip.Prefix][]origination, want func(netip.Prefix) bool) []*class {
	by := map[string]*class{}
	var out []*class
	var ranges []int32
	all := make([]netip.Prefix, 0, len(originated))
	for p := range originated {
		if want(p) && len(originated[p]) > 0 {
			all = append(all, p)
		}
	}
	slices.SortFunc(all, prefix.Compare)
	for _, p := range all {
		b := dedupe(originated[p])
		ranges = c.ranges.matching(p, ranges[:0])
		key := signature(b, ranges, prefix.FamilyOf(p.Addr()))
		k := by[key]
		if k == nil {
			k = &class{originated: b, ranges: slices.Clone(ranges)}
			by[key] = k
			out = append(out, k)
		}
		k.prefixes = append(k.prefixes, p)
	}
	return out
}

// onlyOf are the groups of ends that may announce an origin, none for all.
func onlyOf(o Originated) []string {
	if o.Only == "" {
		return nil
	}
	return []string{o.Only}
}

// dedupe keeps one birth for each speaker: the one that is told to most; what several
// groups of ends may each announce, all of them may.
func dedupe(originated []origination) []origination {
	if len(originated) < 2 {
		return originated
	}
	out := slices.Clone(originated)
	told := func(b origination) int {
		switch {
		case b.summary:
			return 0
		case b.quiet:
			return 3
		case len(b.only) > 0:
			return 2
		}
		return 1
	}
	slices.SortStableFunc(out, func(a, b origination) int {
		return cmp.Or(cmp.Compare(a.speaker, b.speaker), cmp.Compare(told(a), told(b)))
	})
	kept := out[:1]
	for _, b := range out[1:] {
		last := &kept[len(kept)-1]
		switch {
		case b.speaker != last.speaker:
			kept = append(kept, b)
		case len(last.only) > 0 && len(b.only) > 0 && !last.quiet && !last.summary &&
			!slices.Contains(last.only, b.only[0]):
			last.only = append(slices.Clone(last.only), b.only...)
		}
	}
	return kept
}

// add solves classes, on every core, and puts them in.
func (r *Result) add(all []*class, look lookup) {
	workers := min(runtime.GOMAXPROCS(0), len(all))
	var wait sync.WaitGroup
	for w := range workers {
		wait.Go(func() {
			s := newSolver(r.compiled, look)
			for n := w; n < len(all); n += workers {
				s.class(all[n])
			}
		})
	}
	wait.Wait()
	for _, k := range all {
		for _, p := range k.prefixes {
			r.classes[p] = k
		}
		for _, h := range k.has {
			r.has[h.speaker] = append(r.has[h.speaker], k)
		}
	}
}

// note keeps what the speakers have.
func (s *solver) note(k *class) {
	slices.Sort(s.meets)
	for _, n := range s.meets {
		all := s.candidates(n)
		if len(all) > 0 {
			best := choose(all)
			h := holding{speaker: n, routes: []*Route{best}, rivals: len(all) - 1}
			for _, r := range all {
				switch {
				case r == best:
				case s.compiled.Speakers[n].Multipath && shares(best, r):
					h.routes = append(h.routes, r)
					h.by = max(h.by, Shares)
				default:
					why := beat(all, best, r)
					h.lost = append(h.lost, r)
					h.chance = h.chance || why.Chance() && r.peerID != best.peerID
					if h.by == Shares || why > h.by {
						h.by = why
					}
				}
			}
			slices.SortFunc(h.routes[1:], func(a, b *Route) int { c, _ := after(a, b); return c })
			k.has = append(k.has, h)
		}
		for slot, r := range s.slots[n] {
			if e := s.compiled.slots[n][slot]; r != nil && s.compiled.into[e][0] == n {
				k.taken = append(k.taken, taking{e, int32(r.Hops)})
			}
		}
	}
}

// exceed is a session that would take too much, and how soon.
type exceed struct {
	Down
	end  int32
	hops int32
}

// exceeded lists the sessions that would take more than they may. What comes
// from afar comes later, so only those that drop first are given.
func (r *Result) exceeded() []exceed {
	type count struct{ hops []int32 }
	counts := map[[2]int32]*count{}
	for _, k := range r.all() {
		f := prefix.FamilyOf(k.prefixes[0].Addr())
		for _, t := range k.taken {
			if r.compiled.ends[t.end].Limit[f] == 0 {
				continue
			}
			key := [2]int32{t.end, int32(f)}
			if counts[key] == nil {
				counts[key] = &count{}
			}
			for range k.prefixes {
				counts[key].hops = append(counts[key].hops, t.hops)
			}
		}
	}
	var out []exceed
	for key, n := range counts {
		limit := int(r.compiled.ends[key[0]].Limit[key[1]])
		if len(n.hops) <= limit {
			continue
		}
		slices.Sort(n.hops)
		out = append(
			out, exceed{
				Down{
					r.compiled.Sessions[key[0]/2], int(key[0] % 2), prefix.Family(key[1]), len(n.hops),
				}, key[0], n.hops[limit],
			},
		)
	}
	slices.SortFunc(
		out, func(a, b exceed) int { return cmp.Or(cmp.Compare(a.hops, b.hops), cmp.Compare(a.end, b.end)) },
	)
	for n := range out {
		if out[n].hops != out[0].hops {
			return out[:n]
		}
	}
	return out
}

// all lists the classes that count.
func (r *Result) all() []*class {
	seen := map[*class]bool{}
	var out []*class
	for _, p := range r.prefixes() {
		if k := r.of(p); !seen[k] {
			seen[k] = true
			out = append(out, k)
		}
	}
	return out
}

func (r *Result) prefixes() []netip.Prefix {
	out := make([]netip.Prefix, 0, len(r.classes))
	for p := range r.classes {
		if _, changed := r.over[p]; !changed {
			out = append(out, p)
		}
	}
	for p, k := range r.over {
		if k != nil {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, prefix.Compare)
	return out
}

// of is the class of a prefix, nil if nobody announces it.
func (r *Result) of(p netip.Prefix) *class {
	if k, ok := r.over[p]; ok {
		return k
	}
	return r.classes[p]
}

// Entry is what a speaker has of one prefix: the best route and those that share
// with it.
type Entry struct {
	Prefix netip.Prefix
	Routes []*Route
	By     Why      // the rule that beat the runner-up
	Chance bool     // the runner-up is another speaker's, and nothing that anybody chose beat it
	Rivals int      // how many routes did not become the best
	Lost   []*Route // those of them that are not used
}

// Table is what a speaker has, its own ranges included, in the order of
// prefixes; nil for a speaker that is not in the network.
func (r *Result) Table(speaker string) []Entry {
	n, ok := r.compiled.speaker[speaker]
	if !ok {
		return nil
	}
	out := r.table(n)
	slices.SortFunc(out, func(a, b Entry) int { return prefix.Compare(a.Prefix, b.Prefix) })
	return out
}

func (r *Result) table(n int32) []Entry {
	var out []Entry
	for _, list := range [2][]*class{r.has[n], r.more[n]} {
		for _, k := range list {
			h := k.at(n)
			for _, p := range k.prefixes {
				if len(r.over) > 0 && r.of(p) != k {
					continue
				}
				out = append(out, h.entry(p))
			}
		}
	}
	return out
}

func (k *class) at(n int32) *holding {
	if i, ok := slices.BinarySearchFunc(
		k.has, n, func(h holding, n int32) int { return cmp.Compare(h.speaker, n) },
	); ok {
		return &k.has[i]
	}
	return nil
}

// Best is what a speaker has of one prefix; ok is false if it has nothing.
func (r *Result) Best(speaker string, p netip.Prefix) (Entry, bool) {
	n, known := r.compiled.speaker[speaker]
	k := r.of(p)
	if !known || k == nil {
		return Entry{}, false
	}
	h := k.at(n)
	if h == nil {
		return Entry{}, false
	}
	return h.entry(p), true
}

func (h *holding) entry(p netip.Prefix) Entry {
	return Entry{p, h.routes, h.by, h.chance, h.rivals, h.lost}
}

// Dropped lists the sessions that dropped for a limit, by key.
func (r *Result) Dropped() map[string]Down {
	out := map[string]Down{}
	for _, d := range r.down {
		out[d.Session.Key] = d
	}
	return out
}

// Trouble is prefixes that have no lasting outcome, or more than one.
type Trouble struct {
	Prefixes []netip.Prefix
	Never    bool     // no outcome lasts (RFC 3345); else there is more than one (RFC 4264)
	Speakers []string // whose choice it concerns
}

// Troubles lists what does not come to one lasting outcome.
func (r *Result) Troubles() []Trouble {
	var out []Trouble
	for _, k := range r.all() {
		switch {
		case k.unstable:
			t := Trouble{Prefixes: k.prefixes, Never: true}
			for _, h := range k.has {
				if h.rivals > 0 {
					t.Speakers = append(t.Speakers, r.compiled.Speakers[h.speaker].Key)
				}
			}
			out = append(out, t)
		case len(k.several) > 0:
			out = append(out, Trouble{Prefixes: k.prefixes, Speakers: k.several})
		}
	}
	return out
}
