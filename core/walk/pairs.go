package walk

import (
	"context"
	"net/netip"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/prefix"
	"dravin/core/route"
)

// Pairs are the verdicts of walks between all of some hosts, for some services, each what [Prove] says of
// [FlowBetween]. Hosts that are alike are walked once; of the walks between two that differ only what looks at the
// packet itself is walked for them alone, and all else is read off leaps of a [lane].
type Pairs struct {
	tables    *route.Tables
	services  []design.Service
	hosts     []Host
	keys      []string
	class     []int                          // of each host
	members   [][]int                        // hosts of each class
	names     *design.Memo[call, netip.Addr] // how places call hosts
	published []bool                         // by class: published services lead to it
	named     []bool                         // by class: it has other names than its address, or is published
	own       *prefix.Table[bool]            // addresses of boxes
	odd       []bool                         // by class: some box has the address, so that leaps do not hold
	lanes     []*lane
	begins    [][]*station // by lane and class
	tos       []int        // by class: its number as a destination in its lane
	cells     []cell
	paths     []*paths // by lane
}

// cell is what is known of the flows from one class to another.
type cell struct {
	works Services
	code  uint8 // of the first service that is stopped, as a number; 0: none is
	path  int32 // 0: read off leaps; else where the walks have been
}

// stopped notes what stops a service, if it is the first.
func (c *cell) stopped(code Code) {
	if c.code == 0 {
		c.code = uint8(codeNumber(code))
	}
}

// Services are some of the services that pairs are walked for, by their number.
type Services uint64

// MostServices is for how many services pairs can be walked at once.
const MostServices = 64

// Has reports whether a service is among them.
func (s Services) Has(n int) bool { return s&(1<<n) != 0 }

// paths are sets of stations that walks have been at, each once.
type paths struct {
	mu      sync.Mutex // those of a change are kept beside those before
	by      map[string]int32
	list    [][]int32
	turned  []bool // by path: packets were translated on it
	scratch []byte
}

// PairsOf walks between hosts. ctx may end it; done, if not nil, is told how far it is, from 0 to 1.
func PairsOf(ctx context.Context, t *route.Tables, hosts []Host, services []design.Service, done func(float64)) (
	*Pairs, error,
) {
	p := begin(t, hosts, services)
	for range runtime.GOMAXPROCS(0) {
		p.lanes = append(p.lanes, newLane(t))
		p.paths = append(p.paths, &paths{by: map[string]int32{"": 0}, list: [][]int32{nil}, turned: []bool{false}})
	}
	p.cells = make([]cell, len(p.members)*len(p.members))
	return p, p.fill(ctx, func(_, _ int) bool { return true }, done)
}

func begin(t *route.Tables, hosts []Host, services []design.Service) *Pairs {
	p := &Pairs{
		tables: t, services: services[:min(len(services), MostServices)], hosts: hosts,
		names: &design.Memo[call, netip.Addr]{},
	}
	like := alikenessOf(t)
	numbers := map[string]int{}
	for n, h := range hosts {
		k := like.key(h)
		c, ok := numbers[k]
		if !ok {
			c = len(p.members)
			numbers[k] = c
			p.members, p.keys = append(p.members, nil), append(p.keys, k)
		}
		p.class = append(p.class, c)
		p.members[c] = append(p.members[c], n)
	}
	p.own = boxAddresses(t)
	for c := range p.members {
		h := p.first(c)
		p.odd = append(p.odd, len(p.own.Matches(h.Address)) > 0)
		names := mappedNames(t.Design, t.Design.Party(h.Place), h.Address)
		published := len(LeadingTo(t.Design, h.Endpoint)) > 0
		p.named = append(p.named, len(names) > 0 || published)
		p.published = append(p.published, published)
	}
	return p
}

// boxAddresses are those that some box has itself.
func boxAddresses(t *route.Tables) *prefix.Table[bool] {
	out := &prefix.Table[bool]{}
	for _, q := range t.Points() {
		for _, own := range q.Self {
			out.Add(own, true)
		}
	}
	return out
}

func (p *Pairs) first(class int) Host { return p.hosts[p.members[class][0]] }

// laneOf is in which lane packets to a class are walked.
func (p *Pairs) laneOf(class int) int { return class % len(p.lanes) }

// fill works out the cells that are wanted.
func (p *Pairs) fill(ctx context.Context, wanted func(from, to int) bool, done func(float64)) error {
	p.number()
	if err := p.eachLane(ctx, func(int) {}, p.chains); err != nil {
		return err
	}
	told := func(int) {}
	if done != nil {
		told = func(n int) { done(float64(n) / float64(len(p.members))) }
	}
	return p.eachLane(ctx, told, func(l, to int) {
		for from := range p.members {
			if wanted(from, to) {
				p.cells[from*len(p.members)+to] = p.work(l, from, to)
			}
		}
	})
}

// number gives all classes their number as a destination.
func (p *Pairs) number() {
	p.tos = make([]int, len(p.members))
	p.begins = make([][]*station, len(p.lanes))
	for c := range p.members {
		h := p.first(c)
		for n, l := range p.lanes {
			p.begins[n] = append(p.begins[n], l.begins(h))
		}
		p.tos[c] = p.lanes[p.laneOf(c)].to(dst{Header{Dst: h.Address, Proto: "tcp"}, h.id()})
	}
}

// eachLane does something for every class in the lane that it is walked in.
func (p *Pairs) eachLane(ctx context.Context, told func(int), do func(lane, class int)) error {
	g, within := errgroup.WithContext(ctx)
	for l := range p.lanes {
		g.Go(func() error {
			for c := l; c < len(p.members); c += len(p.lanes) {
				if err := within.Err(); err != nil {
					return err
				}
				do(l, c)
				if l == 0 {
					told(c)
				}
			}
			return nil
		})
	}
	return g.Wait()
}

// chains follows leaps to a class from all others.
func (p *Pairs) chains(l, to int) {
	for from := range p.members {
		if p.plain(from, to) {
			p.lanes[l].end(p.begins[l][from], p.tos[to])
		}
	}
}

// plain reports whether leaps may hold between two classes at all.
func (p *Pairs) plain(from, to int) bool {
	return from != to && p.first(from).Address.Is4() == p.first(to).Address.Is4() && !p.odd[from] && !p.odd[to] &&
		p.first(from).Address != p.first(to).Address &&
		!p.named[from] && !p.named[to]
}

// work works out one cell.
func (p *Pairs) work(l, from, to int) cell {
	if from == to && len(p.members[from]) < 2 {
		return cell{}
	}
	a, b := p.two(from, to)
	if p.plain(from, to) {
		if there, back := p.seen(from, to); there.leap().kind() != looksOn && back.leap().kind() != looksOn {
			return p.leapt(b, there.leap(), back.leap())
		}
	}
	return p.walk(l, a, b, to)
}

// two are hosts of two classes, of different addresses if there are such: what stops two that have one address is not
// what stops the others.
func (p *Pairs) two(from, to int) (a, b Host) {
	a, b = p.first(from), p.first(to)
	switch others, them := p.members[from], p.members[to]; {
	case a.Address != b.Address:
		return a, b
	case len(them) > 1:
		return a, p.hosts[them[1]]
	case len(others) > 1:
		return p.hosts[others[1]], b
	}
	return a, b
}

// seen are the ends of the leaps there and back.
func (p *Pairs) seen(from, to int) (there, back end) {
	if !p.plain(from, to) {
		return 0, 0
	}
	there = p.readEnd(from, to)
	if there.leap().kind() == arrivesAt {
		return there, p.readEnd(to, from)
	}
	return there, end(leapOf(arrivesAt, 0))
}

// readEnd is endOf once all chains are there: it changes nothing.
func (p *Pairs) readEnd(from, to int) end {
	return p.begins[p.laneOf(to)][from].ends[p.tos[to]]
}

// leapt is the cell of a pair between which nothing looks at packets.
func (p *Pairs) leapt(b Host, there, back leap) cell {
	if there.kind() == stops {
		return cell{code: uint8(there.n())}
	}
	out := cell{}
	for n, s := range p.services {
		switch {
		case answers(p.tables.Design, b, s, func(design.Service) {}) != nil:
			out.stopped(NotAnswered)
		case back.kind() == stops:
			out.stopped(codeOf(back.n()).returning())
		default:
			out.works |= 1 << n
		}
	}
	return out
}

// walk walks a pair for every service that something on the way tells from others.
func (p *Pairs) walk(n int, a, b Host, to int) cell {
	l := p.lanes[n]
	l.met = l.met[:0]
	l.between = p.talking(a, b)
	out := cell{}
	left := p.services
	turned := false
	done := Services(0)
	for k, s := range left {
		if done.Has(k) {
			continue
		}
		f, alike, ok := p.flow(a, b, to, s)
		if !ok {
			out.stopped(NoRoute)
			continue
		}
		classes := filter.Everything()
		end := p.ways(l, f, &classes)
		turned = turned || end.turned || f.To != b.Address
		alike = alike && end.asked == s
		for m := k; m < len(left); m++ {
			same := m == k || alike && left[m].Proto == s.Proto &&
				(s.Proto == "icmp" || classes.Has(clientPort, left[m].Port))
			if !same || done.Has(m) {
				continue
			}
			done |= 1 << m
			code := end.code
			if asked := left[m]; end.reached {
				if !alike {
					asked = end.asked
				}
				if answers(p.tables.Design, end.who, asked, func(design.Service) {}) != nil {
					code = NotAnswered
				}
			}
			if code == "" {
				out.works |= 1 << m
			} else {
				out.stopped(code)
			}
		}
	}
	out.path = p.paths[n].of(l.met, turned)
	l.met = l.met[:0]
	return out
}

// talking are the addresses of two hosts, without those that boxes have.
func (p *Pairs) talking(a, b Host) (out [2]netip.Addr) {
	for n, h := range [2]Host{a, b} {
		if len(p.own.Matches(h.Address)) == 0 {
			out[n] = h.Address
		}
	}
	return out
}

// flow is the flow of a pair, to a host of a class. alike says that it is dialled so for all services.
func (p *Pairs) flow(a, b Host, class int, s design.Service) (f Flow, alike, ok bool) {
	if a.Address.Is4() != b.Address.Is4() {
		f, err := FlowBetween(p.tables, a.id(), b.id(), s)
		return f, false, err == nil
	}
	switch {
	case p.published[class]:
		return FlowOf(p.tables, a, b, s), false, true
	case p.named[class]:
		return Flow{From: a, To: p.nameOf(a, b), Meant: b.id(), Service: s}, true, true
	}
	return Flow{From: a, To: b.Address, Meant: b.id(), Service: s}, true, true
}

// ending is how the walks of a flow end.
type ending struct {
	code    Code // of the first that is stopped; empty if none is
	reached bool // who is meant was reached by all
	who     Host
	asked   design.Service // what it is asked for
	turned  bool           // packets were translated
}

// ways walks a flow by all ways that equal routes leave, whether who is reached answers or not.
func (p *Pairs) ways(l *lane, f Flow, classes *filter.Classes) (out ending) {
	way := &turns{}
	for range mostTurns {
		tr := trip{tables: p.tables, flow: f, way: way, classes: classes, lane: l}
		stop := l.goes(&tr)
		got := tr.there.header
		out.turned = out.turned || got != tr.first()
		out.asked, out.who, out.reached = design.Service{Proto: got.Proto, Port: got.DPort}, tr.reached, stop == nil
		if stop == nil {
			stop = l.returns(&tr)
		}
		if stop != nil {
			out.code = stop.Code
			return out
		}
		if !way.next() {
			break
		}
	}
	return out
}

// After are the pairs over the next tables, which [route.Tables.After] has made of these: only what may differ is
// walked again. Of other hosts or services all are.
func (p *Pairs) After(
	ctx context.Context, next *route.Tables, hosts []Host, services []design.Service,
) (*Pairs, error) {
	q := begin(next, hosts, services)
	if !slices.Equal(p.keys, q.keys) || !slices.Equal(p.services, q.services) || next.Changes() == nil {
		return PairsOf(ctx, next, hosts, services, nil)
	}
	q.names.After(p.names, next.Changes())
	q.paths, q.cells, q.lanes = p.paths, slices.Clone(p.cells), make([]*lane, len(p.lanes))
	stale := make([][]bool, len(p.lanes))
	var g errgroup.Group
	for l := range p.lanes {
		g.Go(func() error {
			q.lanes[l] = p.lanes[l].after(next)
			stale[l] = q.stalePaths(l)
			return nil
		})
	}
	_ = g.Wait()                          // which never fails
	other := make([]bool, len(q.members)) // classes of which something else has changed
	for c := range q.members {
		other[c] = p.odd[c] != q.odd[c] || p.named[c] != q.named[c] || p.published[c] || q.published[c]
	}
	return q, q.fill(ctx, func(from, to int) bool {
		c := p.cells[from*len(p.members)+to]
		return other[from] || other[to] || stale[p.laneOf(to)][c.path] || q.endsOtherwise(p, from, to) ||
			c.path != 0 && q.partly(c.path, from, to) ||
			q.named[to] && p.nameOf(p.first(from), p.first(to)) != q.nameOf(p.first(from), p.first(to))
	}, nil)
}

// endsOtherwise reports whether leaps between two classes end otherwise than before.
func (p *Pairs) endsOtherwise(before *Pairs, from, to int) bool {
	at, back := p.laneOf(to), p.laneOf(from)
	if !p.lanes[at].again[p.tos[to]] && !p.lanes[back].again[p.tos[from]] && !p.begins[at][from].stale.some() &&
		!p.begins[back][to].stale.some() {
		return false
	}
	was, wasBack := before.seen(from, to)
	now, nowBack := p.seen(from, to)
	return was != now || wasBack != nowBack
}

// nameOf is how a host knows another, remembered for all hosts of its place.
func (p *Pairs) nameOf(a, b Host) netip.Addr {
	return p.names.Get(p.tables.Design, call{a.Place, b.Place, b.Address}, func(view *design.Design) netip.Addr {
		return SeenAs(p.tables.Watched(view), a.Place, b.Place, b.Address).Address
	})
}

// call is who dials whom.
type call struct {
	viewer, place design.ID
	real          netip.Addr
}

// stalePaths are the paths of a lane with a station of which all leaps were taken again, or, where packets are
// translated on them, some.
func (p *Pairs) stalePaths(l int) []bool {
	x := p.paths[l]
	out := make([]bool, len(x.list))
	for n, path := range x.list {
		out[n] = slices.ContainsFunc(path, func(s int32) bool {
			return p.lanes[l].stations[s].stale.all || x.turned[n] && p.lanes[l].stations[s].stale.some()
		})
	}
	return out
}

// partly reports whether a station of a path has other leaps to one of two classes.
func (p *Pairs) partly(path int32, from, to int) bool {
	l := p.laneOf(to)
	a, b := p.first(from).Address, p.first(to).Address
	return slices.ContainsFunc(p.paths[l].list[path], func(n int32) bool {
		s := p.lanes[l].stations[n].stale
		return s.some() && (s.touches(a) || s.touches(b))
	})
}

// goes carries a packet there, beginning at its host's station.
func (l *lane) goes(tr *trip) *Stop {
	l.at = l.opened(l.begins(tr.flow.From))
	l.met = append(l.met, l.at)
	tr.tables = l.at.tables
	return tr.goes()
}

// returns carries the answer back.
func (l *lane) returns(tr *trip) *Stop {
	l.at = l.opened(l.begins(tr.reached))
	l.met = append(l.met, l.at)
	tr.tables = l.at.tables
	return tr.returns()
}

// of is the number of a path.
func (x *paths) of(met []*station, turned bool) int32 {
	ids := make([]int32, 0, len(met))
	for _, s := range met {
		ids = append(ids, int32(s.n))
	}
	slices.Sort(ids)
	ids = slices.Compact(ids)
	x.mu.Lock()
	defer x.mu.Unlock()
	x.scratch = x.scratch[:0]
	for _, n := range ids {
		x.scratch = append(x.scratch, byte(n), byte(n>>8), byte(n>>16), byte(n>>24))
	}
	if turned {
		x.scratch = append(x.scratch, 't')
	}
	n, ok := x.by[string(x.scratch)]
	if !ok {
		n = int32(len(x.list))
		x.by[string(x.scratch)] = n
		x.list, x.turned = append(x.list, ids), append(x.turned, turned)
	}
	return n
}

// Hosts are the hosts, as they were given.
func (p *Pairs) Hosts() []Host { return p.hosts }

// Services are the services.
func (p *Pairs) Services() []design.Service { return p.services }

// Classes are how many kinds of hosts there are that are not alike.
func (p *Pairs) Classes() int { return len(p.members) }

// ClassOf is the class of a host by its number.
func (p *Pairs) ClassOf(host int) int { return p.class[host] }

// Between is for which services one class reaches another, and what stops the first that does not.
func (p *Pairs) Between(from, to int) (works Services, code Code) {
	c := p.cells[from*len(p.members)+to]
	return c.works, codeOf(int(c.code))
}

// Works is for which services a host reaches another, by their numbers, and what stops the first that does not; of two
// hosts that have one address, what stops others like them.
func (p *Pairs) Works(from, to int) (Services, Code) { return p.Between(p.class[from], p.class[to]) }
