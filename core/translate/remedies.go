package translate

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/ledger"
	"dravin/core/prefix"
	"dravin/core/topology"
	"dravin/core/words"
)

// mostSingles bounds how many places are tried by themselves where very many
// collide: those that most flows end in.
const mostSingles = 6

// options streams the remedies that apply, worked out and proven.
func (pl *planner) options() iter.Seq[Option] {
	return func(yield func(Option) bool) {
		if len(pl.scope.places) == 0 {
			pl.exclude("nothing collides among what was asked for")
			return
		}
		give := func(o *Option) bool { return pl.ctx.Err() == nil && (o == nil || yield(*o)) }
		if !give(pl.leave()) {
			return
		}
		for _, step := range []func(func(*Option) bool) bool{
			pl.mappings, pl.hidings, pl.published, pl.relays, pl.endpoints, pl.keptOut, pl.keptLocal, pl.twoStages,
			pl.between, pl.renumbered,
		} {
			if !step(give) {
				return
			}
		}
	}
}

// leave changes nothing: what stays broken.
func (pl *planner) leave() *Option {
	o := &Option{
		Remedy:   Leave,
		Key:      string(Leave),
		Title:    "Leave it as it is",
		Start:    "As it is now.",
		Total:    len(pl.before),
		Stays:    []string{},
		Breaks:   []string{},
		WhyMore:  []string{},
		Boxes:    []Touched{},
		Capacity: []ledger.Capacity{},
		Maps:     []Pair{},
		Changes:  []Change{},
		Edits:    []design.Edit{},
		Seen:     []Seen{},
		Next:     "It stays broken for that one, too.",
	}
	o.Judge(pl.held, pl.inScope(), pl.before)
	if o.Refused == "" {
		o.Next = "Nothing that must work is in the way of it now; it breaks as soon as two that are alike must talk."
	}
	return o
}

// mapping maps places one to one, and makes them known.
func (pl *planner) mapping(places []design.ID) *Option {
	return pl.try(Map, "Map "+pl.titles(places)+" one to one", func(e *editor, o *Option) error {
		m, err := pl.mapAll(e, places)
		if err != nil {
			return err
		}
		pl.open(e, m, nil)
		o.Start, o.Both, o.Tells = "Both sides can start, once the mapped range is routed; host parts stay the "+
			"same.", true, true
		o.Next = pl.room(e, len(places))
		for _, id := range places {
			if why := pl.constraints.must[id]; why != "" && len(places) > 1 {
				o.WhyMore = append(o.WhyMore, why)
			}
		}
		pl.tellNames(e)
		return nil
	})
}

func (pl *planner) mapAll(e *editor, places []design.ID) (mapped, error) {
	var lengths []int
	for _, id := range places {
		for _, p := range ipv4(pl.toMap(id)) {
			lengths = append(lengths, p.Bits())
		}
	}
	e.pool.setApart(lengths)
	m := mapped{}
	for _, id := range places {
		if pl.keeps(id) {
			return nil, fmt.Errorf("%s keeps its range, as was asked", pl.design.Title(id))
		}
		r, err := pl.mapPlace(e, id)
		if err != nil {
			return nil, err
		}
		m[id] = r
	}
	return m, nil
}

// mapPlace maps a place where its gateways translate, else at a box of its own.
func (pl *planner) mapPlace(e *editor, place design.ID) ([]netip.Prefix, error) {
	if pl.byBox(place, design.OneToOne) {
		return pl.mapByBox(e, pl.design.Get(place))
	}
	return e.mapPlace(place)
}

// toMap are the ranges that mapping a place spends as much of.
func (pl *planner) toMap(place design.ID) []netip.Prefix {
	if !pl.byBox(place, design.OneToOne) {
		return pl.design.Ranges(place)
	}
	var out []netip.Prefix
	for _, s := range pl.translated(pl.design.Get(place)) {
		out = append(out, design.RangesOf(s)...)
	}
	return out
}

// room says what happens when the next one with the same range comes.
func (pl *planner) room(e *editor, n int) string {
	if !e.pool.block.IsValid() {
		return "One more is mapped to the next free range of the pool, with its own routes."
	}
	left := prefix.Free([]netip.Prefix{e.pool.block}, e.pool.used)
	return fmt.Sprintf(
		"One more takes the next range of %s (%s free there), mapped where it leaves and routed there; entries that "+
			"name %s serve it already.",
		e.pool.block,
		list(left),
		e.pool.block,
	)
}

// list names ranges in a sentence.
func list(ps []netip.Prefix) string { return words.List(texts(ps)) }

func texts(ps []netip.Prefix) []string {
	var out []string
	for _, p := range ps {
		out = append(out, p.String())
	}
	return out
}

// tellNames adds the name records that have to follow what is mapped; who is hidden
// is not called.
func (pl *planner) tellNames(e *editor) {
	parties, told := map[design.ID]int{}, map[design.ID]bool{}
	for _, x := range e.maps {
		place := x.Place
		if told[place] {
			continue
		}
		told[place] = true
		of := []*design.Object{pl.design.Get(place)}
		if of[0].Kind == design.KindNetwork {
			of = pl.translated(of[0])
		}
		for _, p := range of {
			for h, body := range design.Each[design.Endpoint](pl.design.Inside(p.ID, design.KindEndpoint)) {
				parties[pl.design.Party(h.ID).ID] += len(body.Addresses)
			}
		}
	}
	for _, o := range pl.design.Inside("", design.KindSite, design.KindNetwork) {
		if n := parties[o.ID]; n > 0 {
			e.say(
				Names, o.ID, "", "give out %s for others: the ledger writes the zone",
				words.Count(n, "name record", "name records"),
			)
		}
	}
}

// mappings are one-to-one mappings: of single places, and of the fewest that
// satisfy everything.
func (pl *planner) mappings(give func(*Option) bool) bool {
	singles := slices.DeleteFunc(pl.constraints.choosable(), func(id design.ID) bool { return !pl.mappable(id) })
	slices.Reverse(singles)
	if len(singles) > mostSingles {
		pl.exclude(
			fmt.Sprintf(
				"of %d places that collide, only the %d that most flows end in are shown mapped by themselves",
				len(singles), mostSingles,
			),
		)
		singles = singles[:mostSingles]
		slices.SortFunc(
			singles, func(a, b design.ID) int { return slices.Index(pl.scope.places, a) - slices.Index(pl.scope.places, b) },
		)
	}
	best := false
	if len(pl.scope.places) <= 100 { // alone, one of very many fixes nothing
		for _, id := range singles {
			o := pl.mapping([]design.ID{id})
			if o != nil {
				pl.plan.Least.Tried++
				best = best || o.Refused == ""
			}
			if !give(o) {
				return false
			}
		}
	}
	if best {
		pl.plan.Least.Mapped, pl.plan.Least.Exact = 1, true
		return true
	}
	return pl.fewest(give)
}

// mappable reports whether a place can be mapped somewhere, and notes why it can
// not.
func (pl *planner) mappable(place design.ID) bool {
	if pl.keeps(place) {
		pl.exclude("Mapping " + pl.design.Title(place) + ": it keeps its range, as was asked")
		return false
	}
	if pl.byBox(place, design.OneToOne) {
		return true
	}
	edges, why := newEditor(pl.design, pl.pool).edges(place, design.OneToOne)
	if len(edges) == 0 {
		pl.exclude("Mapping " + pl.design.Title(place) + ": " + pl.whyNot(place, why))
	}
	return len(edges) > 0
}

// fewest finds the smallest choice of places that satisfies everything: every one
// while there are few, else a quick one beside the bound.
func (pl *planner) fewest(give func(*Option) bool) bool {
	l := &pl.plan.Least
	if len(pl.constraints.choosable()) > mostExact {
		places := pl.constraints.greedy()
		if len(places) == 0 || !all(places, pl.mappable) {
			return true
		}
		o := pl.mapping(places)
		l.Tried++
		l.Mapped = pl.constraints.parties(places)
		l.Exact = l.Mapped == l.Bound
		return give(o)
	}
	const shown = 3
	var refused *Option
	for _, places := range pl.constraints.choices(len(pl.constraints.choosable()) > 6) {
		if len(places) < 2 || !all(places, pl.mappable) {
			continue
		}
		if pl.constraints.parties(places) < l.Bound {
			continue
		}
		o := pl.mapping(places)
		if pl.ctx.Err() != nil {
			return false
		}
		l.Tried++
		if o == nil {
			continue
		}
		if o.Refused == "" {
			l.Mapped, l.Exact = pl.constraints.parties(places), true
			return give(o)
		}
		if refused == nil || o.Holding > refused.Holding {
			refused = o
		}
		if l.Tried > 80*shown {
			break
		}
	}
	return give(refused)
}

// hidings map who is called and hide who only calls: the side that starts nothing
// needs an address of its own, the other only a few.
func (pl *planner) hidings(give func(*Option) bool) bool {
	called, calls := map[design.ID]bool{}, map[design.ID]bool{}
	for _, n := range pl.scope.needs {
		calls[pl.scope.holder(n.from)] = true
		called[pl.scope.holder(n.to)] = true
	}
	var hide, mapped []design.ID
	for _, id := range pl.constraints.greedy() {
		switch {
		case called[id]:
			mapped = append(mapped, id)
		case calls[id]:
			hide = append(hide, id)
		}
	}
	if len(hide) == 0 {
		for _, id := range pl.scope.places { // who could keep the range may still be hidden
			if calls[id] && !called[id] && !pl.scope.settled[id] {
				hide = append(hide, id)
			}
		}
	}
	if len(hide) == 0 {
		pl.exclude("Hiding callers behind a pool: everybody whose range collides is called, too")
		return true
	}
	if !all(mapped, pl.mappable) {
		return true
	}
	for _, own := range []bool{false, true} {
		if !give(pl.hiding(hide, mapped, own)) {
			return false
		}
	}
	return true
}

func (pl *planner) hiding(hide, maps []design.ID, own bool) *Option {
	what, title := "a pool", "Hide "+pl.titles(hide)
	if own {
		what = "its gateway's own address"
	}
	title += " behind " + what
	if len(maps) > 0 {
		title += ", map " + pl.titles(maps)
	}
	return pl.try(Hide, title, func(e *editor, o *Option) error {
		m, err := pl.mapAll(e, maps)
		if err != nil {
			return err
		}
		for _, id := range hide {
			if err := pl.hide(e, o, m, id, own); err != nil {
				return err
			}
		}
		pl.open(e, m, nil)
		o.Start = "Only the hidden side can start."
		o.Next = "One more with the same range is hidden in the same way, with its own pool."
		if own {
			o.Next = "One more with the same range is hidden in the same way; nothing is spent."
		}
		pl.tellNames(e)
		return nil
	})
}

// hide hides what a place sends toward those whom it calls.
func (pl *planner) hide(e *editor, o *Option, m mapped, place design.ID, own bool) error {
	does := design.FromPool
	if own {
		does = design.OwnAddress
	}
	if !own && pl.byBox(place, does) {
		return pl.hideByBox(e, o, m, pl.design.Get(place))
	}
	edges, why := e.edges(place, does)
	if len(edges) == 0 {
		return fmt.Errorf("%s", pl.whyNot(place, why))
	}
	real := ipv4(pl.design.Ranges(place))
	if len(real) == 0 {
		return fmt.Errorf("%s has no IPv4 range to hide", pl.design.Title(place))
	}
	var pool netip.Prefix
	if !own {
		var err error
		if pool, err = pl.poolFor(e, place, real); err != nil {
			return err
		}
		m[place] = []netip.Prefix{pool}
		o.Capacity = append(
			o.Capacity,
			ledger.CapacityOf(pl.design, edges[0].gateway, pool, real, ledger.PortsAt(pl.design, edges[0].gateway)),
		)
	} else {
		m[place] = []netip.Prefix{} // the inside address is known beside the joint
	}
	for _, x := range edges {
		if own && topology.Selects(e.get(x.joint)) {
			return fmt.Errorf("%s has no inside address to hide behind: its selectors decide", e.get(x.joint).Name)
		}
		g := *e.get(x.gateway).Body.(*design.Gateway)
		r := design.Rule{Hook: design.Postrouting, Toward: x.joint, Source: real, Does: does}
		if pool.IsValid() {
			r.Into = pool
		}
		g.Translate = append(slices.Clone(g.Translate), r)
		for _, p := range real { // under its own range it is called no more
			e.untell(x, p)
		}
		what := "its own address there"
		if pool.IsValid() {
			what = pool.String()
		}
		e.put(
			e.get(x.gateway).With(&g), Rules, pl.design.Party(place).ID, x.gateway, "at %s hide %s behind %s toward %s",
			pl.design.Get(x.gateway).Name, list(real), what, e.get(x.joint).Name,
		)
	}
	return nil
}

// poolFor takes as many addresses as the hosts behind need ports.
func (pl *planner) poolFor(e *editor, place design.ID, behind []netip.Prefix) (netip.Prefix, error) {
	var hosts uint64
	for _, r := range behind {
		hosts += prefix.Size(r)
	}
	bits := 32
	for bits > 20 && (uint64(1)<<(32-bits))*ledger.UsablePorts/ledger.UsualPorts < hosts {
		bits--
	}
	p, err := e.pool.take(prefix.IPv4, bits)
	if err == nil {
		e.spent = append(e.spent, p)
		e.why = append(e.why, fmt.Sprintf("%s is hidden behind %s: %s.", pl.design.Title(place), p, e.pool.why))
	}
	return p, err
}

// renumbered gives a place that nobody has fixed another range.
func (pl *planner) renumbered(give func(*Option) bool) bool {
	var fixed []design.ID
	for _, id := range pl.constraints.greedy() {
		o := pl.design.Get(id)
		lan, ok := o.Body.(*design.LAN)
		if !ok || lan.Fixed || pl.keeps(id) {
			fixed = append(fixed, id)
			continue
		}
		if len(pl.scope.places) > mostSingles {
			continue
		}
		if !give(pl.renumber(o, lan)) {
			return false
		}
	}
	if len(fixed) > 0 {
		pl.exclude("Renumbering: the ranges of " + pl.titles(fixed) + " can not be changed")
	}
	return true
}

func (pl *planner) renumber(o *design.Object, lan *design.LAN) *Option {
	return pl.try(Renumber, "Renumber "+pl.design.Title(o.ID), func(e *editor, opt *Option) error {
		body := *lan
		body.Prefixes = nil
		party := o.Parent
		m := mapped{}
		for _, real := range lan.Prefixes {
			p, err := e.pool.take(prefix.FamilyOf(real.Addr()), real.Bits())
			if err != nil {
				return err
			}
			body.Prefixes = append(body.Prefixes, p)
			e.spent = append(e.spent, p)
			e.maps = append(e.maps, Pair{Place: o.ID, Title: pl.design.Title(o.ID), Real: real, Mapped: p})
			for _, g := range pl.design.Inside(party, design.KindGateway) {
				for _, j := range pl.design.JointsAt(g.ID) {
					if routed(j) {
						e.replace(e.get(j.ID), edge{g.ID, j.ID}, real, p)
					}
				}
			}
		}
		e.put(o.With(&body), Places, party, o.ID, "renumber %s to %s", o.Name, list(body.Prefixes))
		hosts := pl.design.Inside(o.ID, design.KindEndpoint)
		for _, h := range hosts {
			b := *h.Body.(*design.Endpoint)
			b.Addresses = slices.Clone(b.Addresses)
			for n, a := range b.Addresses {
				for k, real := range lan.Prefixes {
					if to := prefix.Translate(a, real, body.Prefixes[k]); to.IsValid() {
						b.Addresses[n] = to
					}
				}
			}
			e.put(
				h.With(&b), Places, party, o.ID, "set %s to %s", h.Name,
				strings.Join(addressTexts(b.Addresses), " and "),
			)
		}
		pl.readdress(e, party, lan.Prefixes, body.Prefixes)
		m[o.ID] = body.Prefixes
		pl.open(e, m, nil)
		opt.Start, opt.Both, opt.Tells = "Both sides can start.", true, true
		opt.PerHost = 1
		opt.Next = fmt.Sprintf(
			"One more with the old range collides with nobody here. It takes somebody on site: %s named, and every other "+
				"host of the place.",
			words.Count(len(hosts), "host is", "hosts are"),
		)
		return nil
	})
}

// readdress carries the addresses of gateways, boxes and inner routers in a LAN over
// to its new ranges.
func (pl *planner) readdress(e *editor, party design.ID, from, to []netip.Prefix) {
	moved := func(a netip.Addr) netip.Addr {
		for k := range from {
			if next := prefix.Translate(a, from[k], to[k]); next.IsValid() {
				return next
			}
		}
		return a
	}
	for _, o := range pl.design.Inside(party, design.KindGateway, design.KindBox, design.KindInnerRoute) {
		was := e.get(o.ID)
		now := was
		switch b := was.Body.(type) {
		case *design.Gateway:
			now = design.Edited(was, func(c *design.Gateway) { c.Stands = each(b.Stands, moved) })
		case *design.Box:
			now = design.Edited(was, func(c *design.Box) { c.Addresses = each(b.Addresses, moved) })
		case *design.InnerRoute:
			now = design.Edited(was, func(c *design.InnerRoute) { c.Via = moved(b.Via) })
		}
		if !design.Same(was, now) {
			e.put(now, Places, party, o.ID, "give %s its addresses in the new range", o.Name)
		}
	}
}

func each(list []netip.Addr, f func(netip.Addr) netip.Addr) []netip.Addr {
	var out []netip.Addr
	for _, a := range list {
		out = append(out, f(a))
	}
	return out
}

func addressTexts(list []netip.Addr) []string {
	var out []string
	for _, a := range list {
		out = append(out, a.String())
	}
	return out
}
