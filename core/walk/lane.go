package walk

import (
	"maps"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
)

// A lane carries many packets of which nobody wants to know more than how they end. It carries them by the very steps
// of a walk. What it gains is that most steps look at nothing but where a packet is and where it goes: such a step is
// taken once for all sources and services, and remembered as a leap. A step says itself when it looks at more: it calls
// [walker.looks] before it asks for a source, a service, or what a box remembers. A packet that comes to such a step
// is walked for itself.
//
// Beside each station, which is a point with what a packet came there by, stands what of the design its steps have
// looked at, so that after an edit only the leaps of those stations are taken again that may differ: of one whose table
// alone has changed those to the ranges that differ in it.

// lane is used by one goroutine at a time.
type lane struct {
	tables   *route.Tables
	stations []*station
	known    map[state]int
	dsts     []dst
	numbered map[dst]int
	at       *station   // where the step at hand is taken
	looked   bool       // it has looked at more than where the packet goes
	routed   bool       // it has looked at no more of it than which route is for it
	delivers bool       // the step at hand hands a packet to a place
	again    []bool     // by destination: leaps to it were taken again after a change
	met      []*station // where steps were taken since it was emptied
	// between are the addresses of the two hosts that talk now; the zero Addr for one that a box has, too.
	between [2]netip.Addr
}

// state is where a packet may be: at a point, by what it came there, in which segment; or, by fromHost, at the host
// that sends it.
type state struct{ to, by, segment design.ID }

// fromHost stands for what a packet comes by that its host has just made.
const fromHost design.ID = "\x00host"

// intoPlace, with where it comes from, stands for what a packet comes by that is handed to a LAN or subnet.
const intoPlace design.ID = "\x00into "

// dst is where packets go: an address, and who should get it.
type dst struct {
	to    Header // of which the destination alone is set
	meant design.ID
}

// station is a state with what steps there have looked at.
type station struct {
	n      int
	key    state
	host   Host // of fromHost
	reads  *design.Reads
	view   *design.Design
	tables *route.Tables
	points map[route.Key]*route.Point
	leaps  []leap       // by destination
	away   leap         // of fromHost: to whatever is not on-link
	routed map[int]leap // by the route that a destination takes, of those that look at no more of it
	ends   []end        // by destination
	shared bool         // leaps and ends are those of a lane before, too
	stale  stale
}

// stale is what of a station's leaps had to be taken again after a change.
type stale struct {
	all    bool
	ranges []netip.Prefix // where not all: to these destinations
}

func (s stale) touches(a netip.Addr) bool { return s.all || prefix.Has(s.ranges, a) }

func (s stale) some() bool { return s.all || len(s.ranges) > 0 }

// leap is what a step comes to for a destination, whoever sends: its kind, and a station's number or a code's.
type leap uint32

// end is how a chain of leaps ends: a sum of the stations on the way, and the last leap.
type end uint64

const (
	unknown   uint32 = iota
	onTo             // it goes on at a station
	arrivesAt        // who was meant gets it
	stops            // it is stopped, with a code
	looksOn          // the step looks at more than where the packet goes
)

func leapOf(kind uint32, n int) leap { return leap(kind<<28 | uint32(n)) }

func (l leap) kind() uint32 { return uint32(l) >> 28 }

func (l leap) n() int { return int(l & (1<<28 - 1)) }

func (e end) leap() leap { return leap(uint32(e)) }

func newLane(t *route.Tables) *lane {
	return &lane{tables: t, known: map[state]int{}, numbered: map[dst]int{}}
}

// looks notes that a step asks for more than where a packet is and where it goes.
func (w *walker) looks() {
	if w.lane != nil {
		w.lane.looked = true
	}
}

// byRoute notes that a step goes on by what its route says, whatever in it the packet is for.
func (w *walker) byRoute() {
	if w.lane != nil {
		w.lane.routed = true
	}
}

// looksTo notes that a step asks after all where the packet goes.
func (w *walker) looksTo() {
	if w.lane != nil {
		w.lane.routed = false
	}
}

// pointIn is the table of a point for what is in the walker's segment.
func (w *walker) pointIn(id design.ID) *route.Point {
	if w.lane != nil {
		return w.lane.point(id, w.segment)
	}
	return w.tables.PointIn(id, w.segment)
}

// pointOf is the table of a point in which everything meets.
func (w *walker) pointOf(id design.ID) *route.Point {
	if w.lane != nil {
		return w.lane.point(id, "")
	}
	return w.tables.Point(id)
}

// point notes at the station which table its steps have looked at, apart from all else that they look at.
func (l *lane) point(id, segment design.ID) *route.Point {
	p := l.tables.PointIn(id, segment)
	if p != nil && l.at != nil {
		l.at.points[route.Key{At: id, Segment: segment}] = p
	}
	return p
}

func (l *lane) station(k state) *station {
	n, ok := l.known[k]
	if !ok {
		n = len(l.stations)
		l.known[k] = n
		l.stations = append(
			l.stations, &station{n: n, key: k, points: map[route.Key]*route.Point{}, routed: map[int]leap{}},
		)
	}
	return l.stations[n]
}

// opened gives a station a view of the design that notes what is looked at, beside what was before.
func (l *lane) opened(s *station) *station {
	if s.view == nil {
		before := s.reads
		s.reads = design.NewReads()
		s.reads.Also(before)
		s.view = l.tables.Design.Watched(s.reads)
		s.tables = l.tables.Watched(s.view)
	}
	return s
}

// enters lets the next step of a walker be taken at a station.
func (l *lane) enters(w *walker, s *station) {
	l.at = l.opened(s)
	l.met = append(l.met, s)
	w.design, w.tables = s.view, s.tables
}

// step is the step of a walker after an outcome, counted to its station: a leap, if it looks at nothing but where the
// packet goes.
func (l *lane) step(w *walker, o outcome) outcome {
	s := l.station(state{o.to, o.by, w.segment})
	if l.leaping(w) {
		to := l.to(dst{Header{Dst: w.header.Dst, Proto: "tcp"}, w.meant})
		switch x := l.leap(s, to); x.kind() {
		case onTo:
			l.met = append(l.met, s)
			if w.told++; w.told > maxStages {
				return w.halt(Loop, Place{}, "", "")
			}
			next := l.stations[x.n()].key
			w.segment = next.segment
			return goesTo(next.to, next.by)
		case stops:
			l.met = append(l.met, s)
			return w.halt(codeOf(x.n()), Place{}, "", "")
		}
	}
	l.enters(w, s)
	return l.steps(w, o)
}

// steps takes a step: through a point, or from one into a place.
func (l *lane) steps(w *walker, o outcome) outcome {
	at, into := strings.CutPrefix(string(o.by), string(intoPlace))
	if !into {
		return w.step(o.to, o.by)
	}
	l.delivers = true
	defer func() { l.delivers = false }()
	return w.deliver(o.to, w.placeOf(design.ID(at)))
}

// leaping reports whether leaps hold for the packet: it comes from one of the two hosts that talk, of which no box has
// the address, and goes to another.
func (l *lane) leaping(w *walker) bool {
	return w.header.Src != w.header.Dst && (w.header.Src == l.between[0] || w.header.Src == l.between[1])
}

// begins is the station of a host.
func (l *lane) begins(h Host) *station {
	s := l.station(state{h.id(), fromHost, design.ID(h.Address.String())})
	s.host = h
	return s
}

// to is the number of a destination.
func (l *lane) to(d dst) int {
	n, ok := l.numbered[d]
	if !ok {
		n = len(l.dsts)
		l.numbered[d] = n
		l.dsts = append(l.dsts, d)
	}
	return n
}

// leap is what a step at a station comes to for a destination.
func (l *lane) leap(s *station, to int) leap {
	s.own()
	if to >= len(s.leaps) {
		s.leaps = append(s.leaps, make([]leap, len(l.dsts)-len(s.leaps))...)
	}
	if s.leaps[to].kind() == unknown {
		s.leaps[to] = l.take(s, to)
	}
	return s.leaps[to]
}

// take takes a step for a destination, with a packet that stands for those of all sources and services.
func (l *lane) take(s *station, to int) leap {
	d := l.dsts[to]
	away := s.key.by == fromHost && !slices.ContainsFunc(
		l.tables.Design.Ranges(s.host.Place), func(p netip.Prefix) bool { return p.Contains(d.to.Dst) },
	)
	if away && s.away.kind() != unknown {
		return s.away
	}
	route := s.takes(l, d.to.Dst)
	if x, ok := s.routed[route]; ok {
		return x
	}
	w := walker{
		way: "forward", meant: d.meant, header: d.to, known: connections{}, let: remembering{}, turns: &turns{},
		lane: l,
	}
	met := len(l.met)
	l.looked, l.routed = false, false
	l.enters(&w, s)
	var o outcome
	if s.key.by == fromHost {
		w.header.Src = s.host.Address
		o = w.from(s.host)
	} else {
		w.header.Src = anybody(d.to)
		w.segment = s.key.segment
		o = l.steps(&w, goesTo(s.key.to, s.key.by))
	}
	l.met = l.met[:met]
	x := leapOf(arrivesAt, 0)
	switch {
	case l.looked || o.arrived.Beyond != "":
		x = leapOf(looksOn, 0)
	case o.stop != nil:
		x = leapOf(stops, codeNumber(o.stop.Code))
	case o.to != "":
		x = leapOf(onTo, l.station(state{o.to, o.by, w.segment}).n)
	}
	switch {
	case away:
		s.away = x
	case l.routed && x.kind() == onTo && route != noRoute:
		s.own()
		s.routed[route] = x
	}
	return x
}

// noRoute is no route: what a destination takes has not been looked at yet, or is not one route alone.
const noRoute = -1

// takes is the number of the one route that a destination takes at a station.
func (s *station) takes(l *lane, a netip.Addr) int {
	if s.key.by == fromHost || prefix.Has(l.tables.Design.Ranges(s.key.by), a) {
		return noRoute
	}
	p := l.point(s.key.to, s.key.segment)
	if p == nil || prefix.Has(p.Self, a) {
		return noRoute
	}
	return p.Takes(a)
}

// end is how a chain of leaps from a station to a destination ends.
func (l *lane) end(s *station, to int) end {
	if to < len(s.ends) && s.ends[to] != 0 {
		return s.ends[to]
	}
	s.own()
	if to >= len(s.ends) {
		s.ends = append(s.ends, make([]end, len(l.dsts)-len(s.ends))...)
	}
	if s.ends[to] == 0 {
		s.ends[to] = end(uint64(s.n+1)<<32) | end(leapOf(stops, codeNumber(Loop))) // where it comes round again
		x := l.leap(s, to)
		if x.kind() == onTo {
			next := l.end(l.stations[x.n()], to)
			s.ends[to] = end(mixed(uint32(s.n+1), uint32(next>>32)))<<32 | end(next.leap())
		} else {
			s.ends[to] = end(mixed(uint32(s.n+1), 0))<<32 | end(x)
		}
	}
	return s.ends[to]
}

// own lets a station have its leaps and ends for itself.
func (s *station) own() {
	if s.shared {
		s.leaps, s.ends, s.routed, s.shared = slices.Clone(s.leaps), slices.Clone(s.ends), maps.Clone(s.routed), false
	}
}

// after is the lane over the next tables, with the leaps that still hold.
func (l *lane) after(next *route.Tables) *lane {
	out := &lane{
		tables: next, known: maps.Clone(l.known), numbered: maps.Clone(l.numbered), dsts: slices.Clone(l.dsts),
		stations: make([]*station, 0, len(l.stations)),
	}
	again := make([]bool, len(l.dsts))
	out.again = again
	for _, s := range l.stations {
		x := &station{
			n: s.n, key: s.key, host: s.host, points: map[route.Key]*route.Point{}, stale: s.held(next),
			routed: map[int]leap{},
		}
		out.stations = append(out.stations, x)
		if x.stale.all {
			for n, was := range s.leaps {
				if s.key.by == fromHost {
					break // no other station leads to it
				}
				again[n] = again[n] || was.kind() != unknown
			}
			continue
		}
		x.reads, x.leaps, x.ends, x.away, x.shared = s.reads, s.leaps, s.ends, s.away, true
		x.routed = s.routed
		for k := range s.points {
			x.points[k] = next.PointIn(k.At, k.Segment)
		}
		out.forget(x, again)
	}
	for _, s := range out.stations {
		for n, yes := range again {
			if yes && n < len(s.ends) && s.ends[n] != 0 {
				s.own()
				s.ends[n] = 0
			}
		}
	}
	return out
}

// forget lets go of a station's leaps to the ranges in which its tables differ.
func (l *lane) forget(s *station, again []bool) {
	if len(s.stale.ranges) == 0 {
		return
	}
	s.own()
	s.routed = map[int]leap{} // other routes have other numbers
	for n, d := range l.dsts[:min(len(s.leaps), len(l.dsts))] {
		if s.leaps[n].kind() != unknown && prefix.Has(s.stale.ranges, d.to.Dst) {
			s.leaps[n], again[n] = 0, true
		}
	}
}

// held is what of a station's leaps no longer holds over the next tables.
func (s *station) held(next *route.Tables) (out stale) {
	if c := next.Changes(); s.reads != nil && !s.reads.Clean(c) {
		return stale{all: true}
	}
	for k, was := range s.points {
		now := next.PointIn(k.At, k.Segment)
		if now == was {
			continue
		}
		if now == nil {
			return stale{all: true}
		}
		ranges, other := now.Differs(was)
		if other {
			return stale{all: true}
		}
		out.ranges = append(out.ranges, ranges...)
	}
	return out
}

// mixed is a sum of a way by its first station and the sum of the rest (FNV-1a with a final mix).
func mixed(station, rest uint32) uint32 {
	x := (rest ^ station) * 0x01000193
	x ^= x >> 15
	return x*0x2c1b3c6d | 1
}

// codeNumber is a code as a number, from 1.
func codeNumber(c Code) int { return codeNumbers[c] }

// codeOf is the code of a number; none of 0.
func codeOf(n int) Code {
	if n == 0 {
		return ""
	}
	return Codes[n-1]
}

var codeNumbers = func() map[Code]int {
	out := map[Code]int{}
	for n, c := range Codes {
		out[c] = n + 1
	}
	return out
}()
