package proof

import (
	"context"
	"math/bits"
	"slices"
	"sync"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/walk"
	"dravin/core/words"
)

// The matrix is who reaches whom, held against what is meant. Its rows and columns are all hosts, and each LAN, inner
// route and subnet without any; what a flow comes to is what its walk says ([walk.Pairs]).

// State is how a flow stands against the intents.
type State byte

// The states, worst first: of several that are folded into one cell the first counts.
const (
	Leaking State = '!' // it must never work, and does
	Missing State = 'x' // it must work, and does not
	Unmeant State = 'o' // it works, and nobody asked for it
	AsMeant State = '+' // it works, as it must
	Apart   State = '-' // it does not work, as it must not
	Closed  State = '.' // it does not work, and nobody asked for it
)

// States are all, worst first, with what they mean.
var States = []words.Coded[string]{
	{Code: string(Leaking), Title: "leaking", Doc: "it must never work, and is delivered"},
	{Code: string(Missing), Title: "missing", Doc: "it must work, and does not"},
	{Code: string(Unmeant), Title: "open, unmeant", Doc: "it works, and no intent asks for it"},
	{Code: string(AsMeant), Title: "as meant", Doc: "it works, as it must"},
	{Code: string(Apart), Title: "kept apart", Doc: "it does not work, as it must not"},
	{Code: string(Closed), Title: "closed", Doc: "it does not work, and no intent asks for it"},
}

// ranks are the states by how bad they are.
var ranks = [256]uint8{Leaking: 0, Missing: 1, Unmeant: 2, AsMeant: 3, Apart: 4, Closed: 5}

// End is a row or column of the matrix: a host, a place without one, or the internet.
type End struct {
	ID      design.ID // of the endpoint, or of the LAN, inner route or subnet; of the internet where there is one
	Title   string
	Place   design.ID
	Party   design.ID
	Segment design.ID
	Owner   design.ID
	Groups  []design.ID
	host    int // among the hosts of the pairs; -1: the internet
}

// MostEnds is how many hosts and places a matrix has at most: what they reach is known for each pair.
const MostEnds = 2500

// Matrix is who reaches whom.
type Matrix struct {
	Ends     []End
	Left     int // hosts that are left out, since there are more than [MostEnds]
	Services []design.Service

	tables  *route.Tables
	pairs   *walk.Pairs
	intents []*design.Intent
	from    []marks // by end: the intents that begin there
	to      []marks
	leaks   map[leak]bool

	outside  sync.Once
	internet []walk.Services // by end: for which services the internet reaches it
	reaches  []walk.Services // by end: for which services it reaches the internet
}

type leak struct{ from, to design.ID }

// marks are some of a list, by number.
type marks []uint64

func (b marks) set(n int) { b[n/64] |= 1 << (n % 64) }

// meets reports whether two have any in common.
func (b marks) meets(o marks) bool {
	for w := range b {
		if b[w]&o[w] != 0 {
			return true
		}
	}
	return false
}

// Services are the services in use: what intents ask for, hosts answer and published services are dialled by, and a
// ping.
func Services(d *design.Design) []design.Service {
	var out []design.Service
	add := func(s design.Service) {
		if s != (design.Service{}) && !slices.Contains(out, s) && len(out) < walk.MostServices {
			out = append(out, s)
		}
	}
	for _, b := range design.Each[design.Intent](d.Of(design.KindIntent)) {
		add(b.Service)
	}
	for _, b := range design.Each[design.Listener](d.Of(design.KindListener)) {
		add(b.Service)
	}
	for _, b := range design.Each[design.Endpoint](d.Of(design.KindEndpoint)) {
		for _, s := range b.Answers {
			add(s)
		}
	}
	add(design.Service{Proto: "icmp"})
	return out
}

// MatrixOf is the matrix of a design as its proofs have it. ctx may end it; tell, if not nil, hears how far it is, from
// 0 to 1.
func MatrixOf(ctx context.Context, p *Proofs, tell func(float64)) (*Matrix, error) {
	m, hosts := newMatrix(p)
	pairs, err := walk.PairsOf(ctx, p.tables, hosts, m.Services, tell)
	m.pairs = pairs
	return m, err
}

// After is the matrix over the proofs of the next design; what does not differ is not walked again.
func (m *Matrix) After(ctx context.Context, p *Proofs) (*Matrix, error) {
	next, hosts := newMatrix(p)
	pairs, err := m.pairs.After(ctx, p.tables, hosts, next.Services)
	next.pairs = pairs
	return next, err
}

func newMatrix(p *Proofs) (*Matrix, []walk.Host) {
	d := p.tables.Design
	m := &Matrix{tables: p.tables, Services: Services(d), leaks: map[leak]bool{}}
	var hosts []walk.Host
	for _, k := range append([]design.Kind{design.KindEndpoint}, design.HostPlaces...) {
		for _, o := range d.Of(k) {
			if k != design.KindEndpoint && (len(d.Inside(o.ID, design.KindEndpoint)) > 0 || d.IsSourcePool(o.ID)) {
				continue
			}
			h, err := anyHost(d, o.ID)
			if err != nil {
				continue
			}
			m.Ends = append(m.Ends, endOf(d, o, h, len(hosts)))
			hosts = append(hosts, h)
		}
	}
	hosts = m.thin(hosts)
	for _, o := range d.Of(design.KindInternet) {
		m.Ends = append(m.Ends, End{ID: o.ID, Title: o.Name, host: -1})
	}
	m.mean(d)
	for _, r := range p.All() {
		if r.Never && !r.Holds && r.Proof.Delivered {
			m.leaks[leak{r.Proof.From.ID, r.Proof.To.ID}] = true
		}
	}
	return m, hosts
}

// thin leaves out hosts where there are too many: each place keeps its first ones, all places alike.
func (m *Matrix) thin(hosts []walk.Host) []walk.Host {
	if len(hosts) <= MostEnds {
		return hosts
	}
	turn := make([]int, len(hosts)) // which of its place a host is
	met, turns := map[design.ID]int{}, map[int]int{}
	for n, e := range m.Ends {
		turn[n] = met[e.Place]
		met[e.Place]++
		turns[turn[n]]++
	}
	last, room := 0, MostEnds
	for ; turns[last] <= room; last++ {
		room -= turns[last]
	}
	var ends []End
	var kept []walk.Host
	for n, e := range m.Ends {
		if turn[n] > last || turn[n] == last && room == 0 {
			continue
		}
		if turn[n] == last {
			room--
		}
		e.host = len(kept)
		ends, kept = append(ends, e), append(kept, hosts[n])
	}
	m.Ends, m.Left = ends, len(hosts)-len(kept)
	return kept
}

func anyHost(d *design.Design, id design.ID) (h walk.Host, err error) {
	for _, f := range prefix.Families {
		if h, err = walk.HostOf(d, id, f); err == nil {
			break
		}
	}
	return h, err
}

func endOf(d *design.Design, o *design.Object, h walk.Host, n int) End {
	e := End{ID: o.ID, Title: d.Title(o.ID), Place: h.Place, Segment: d.SegmentOf(h.Place), host: n}
	if o.Kind == design.KindEndpoint {
		e.Title = d.Title(h.Place) + " " + o.Name
	}
	party := d.Party(o.ID)
	e.Party = party.ID
	switch b := party.Body.(type) {
	case *design.Site:
		e.Owner = b.Owner
	case *design.Network:
		e.Owner = b.Owner
	}
	for _, g := range d.GroupsOf(h.Endpoint, h.Place) {
		e.Groups = append(e.Groups, g.ID)
	}
	return e
}

// mean notes which intents each end is meant by.
func (m *Matrix) mean(d *design.Design) {
	all := d.Of(design.KindIntent)
	size := (len(all) + 63) / 64
	for range m.Ends {
		m.from, m.to = append(m.from, make(marks, size)), append(m.to, make(marks, size))
	}
	at := map[design.ID][]int{}
	for n, e := range m.Ends {
		at[e.ID] = append(at[e.ID], n)
		if e.Place != e.ID && e.Place != "" {
			at[e.Place] = append(at[e.Place], n)
		}
	}
	for n, o := range all {
		in := o.Body.(*design.Intent)
		m.intents = append(m.intents, in)
		for _, side := range []struct {
			end design.ID
			of  []marks
		}{{in.From, m.from}, {in.To, m.to}} {
			for _, id := range d.StandsFor(side.end) {
				for _, e := range at[id] {
					side.of[e].set(n)
				}
			}
		}
	}
}

// Works is for which services one end reaches another, and what stops the first that does not.
func (m *Matrix) Works(from, to int) (walk.Services, walk.Code) {
	a, b := m.Ends[from].host, m.Ends[to].host
	switch {
	case a >= 0 && b >= 0 && a != b:
		return m.pairs.Works(a, b)
	case a < 0 && b >= 0:
		m.outside.Do(m.lookOutside)
		return m.internet[to], ""
	case b < 0 && a >= 0:
		m.outside.Do(m.lookOutside)
		return m.reaches[from], ""
	}
	return 0, ""
}

// lookOutside walks from and to the internet, once for hosts that are alike.
func (m *Matrix) lookOutside() {
	m.internet, m.reaches = make([]walk.Services, len(m.Ends)), make([]walk.Services, len(m.Ends))
	known := map[int]walk.Services{}
	for n, e := range m.Ends {
		if e.host < 0 {
			continue
		}
		h := m.pairs.Hosts()[e.host]
		class := m.pairs.ClassOf(e.host)
		out, seen := known[class]
		for k, s := range m.Services {
			for _, f := range walk.FromInternet(m.tables, e.ID, s) {
				if walk.Prove(m.tables, f).Works {
					m.internet[n] |= 1 << k
					break
				}
			}
			if f, ok := walk.ToInternet(m.tables, h, s); !seen && ok && walk.Prove(m.tables, f).Works {
				out |= 1 << k
			}
		}
		known[class], m.reaches[n] = out, out
	}
}

// stateOf is how the flow from one end to another for a service stands.
func (m *Matrix) stateOf(from, to, service int, works bool) State {
	must, never := false, false
	for w := range m.from[from] {
		for both := m.from[from][w] & m.to[to][w]; both != 0; both &= both - 1 {
			in := m.intents[w*64+bits.TrailingZeros64(both)]
			if in.Service != (design.Service{}) && in.Service != m.Services[service] {
				continue
			}
			must, never = must || !in.Never, never || in.Never
		}
	}
	leaks := len(m.leaks) > 0 && never && m.leaks[leak{m.Ends[from].ID, m.Ends[to].ID}]
	switch {
	case never && (works || leaks):
		return Leaking
	case must && !works:
		return Missing
	case must:
		return AsMeant
	case works:
		return Unmeant
	case never:
		return Apart
	}
	return Closed
}

// Classes are how many kinds of hosts there are that are not alike.
func (m *Matrix) Classes() int { return m.pairs.Classes() }
