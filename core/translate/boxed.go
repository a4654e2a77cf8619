package translate

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/ledger"
	"dravin/core/prefix"
	"dravin/core/status"
	"dravin/core/topology"
)

// boxed is a cloud network whose subnets are translated by a box of its own: what
// they send to others goes to the box, and the box's table leads on from there.
type boxed struct {
	box   design.ID
	table design.ID   // that of the box's own subnet; what enters for the mapped ranges is routed by it, too
	of    []design.ID // tables of the subnets that are translated
}

// boxedAlready are the networks whose subnets go through a box of their own already:
// it translates, and their tables name it.
func boxedAlready(d *design.Design) map[design.ID]*boxed {
	out := map[design.ID]*boxed{}
	for _, o := range d.Of(design.KindBox) {
		network := d.Get(o.Parent)
		if network.Kind != design.KindNetwork || len(design.RulesOf(o)) == 0 {
			continue
		}
		b := &boxed{box: o.ID}
		for _, e := range topology.Places(d, o) {
			b.table = topology.Router(d, d.Get(e.To))
		}
		for t, body := range design.Each[design.Table](d.Inside(network.ID, design.KindTable)) {
			if t.ID != b.table &&
				slices.ContainsFunc(body.Routes, func(r design.Entry) bool { return r.Via == o.ID }) {
				b.of = append(b.of, t.ID)
			}
		}
		if len(b.of) > 0 && out[network.ID] == nil {
			out[network.ID] = b
		}
	}
	return out
}

// toBox lets a network's subnets go through a box: those that hold what others hold,
// too. What collides, and what is translated, is no longer told to hubs.
func (pl *planner) toBox(e *editor, network *design.Object) (b *boxed, real []netip.Prefix, err error) {
	if b := e.boxed[network.ID]; b != nil {
		return nil, nil, fmt.Errorf("%s is translated already", network.Name)
	}
	joints, zone, err := pl.waysOut(network)
	if err != nil {
		return nil, nil, err
	}
	box, err := pl.boxIn(e, network, zone, true)
	if err != nil {
		return nil, nil, err
	}
	b = &boxed{box: box.ID, table: pl.tableOfBox(e, box)}
	for _, s := range pl.translated(network) {
		real = append(real, ipv4(design.RangesOf(s))...)
		if table := s.Body.(*design.Subnet).Table; !slices.Contains(b.of, table) {
			b.of = append(b.of, table)
		}
	}
	if len(real) == 0 {
		return nil, nil, fmt.Errorf("no subnet of %s holds what collides", network.Name)
	}
	e.boxed[network.ID] = b
	out := prefix.Minimal(slices.Concat(pl.shared(network.ID), real))
	for _, j := range joints {
		pl.leaveBy(e, network, b, j, out)
	}
	return b, real, nil
}

// translated are the subnets of a network that hold what others in scope hold, too:
// those of hosts.
func (pl *planner) translated(network *design.Object) []*design.Object {
	shared := pl.shared(network.ID)
	return slices.DeleteFunc(pl.design.Inside(network.ID, design.KindSubnet), func(s *design.Object) bool {
		return pl.design.IsSourcePool(s.ID) || pl.forBoxes(s) ||
			len(prefix.Intersect(ipv4(design.RangesOf(s)), shared)) == 0
	})
}

// forBoxes reports whether a subnet is one in which boxes stand and no hosts.
func (pl *planner) forBoxes(subnet *design.Object) bool {
	return len(pl.design.Inside(subnet.ID, design.KindEndpoint)) == 0 &&
		slices.ContainsFunc(topology.Standing(pl.design, subnet), func(e topology.Edge) bool {
			return pl.design.Get(e.To).Kind == design.KindBox
		})
}

// byBox reports whether a place is translated at a box of its own: it is a cloud's
// network whose gateways do not do that, or to which no gateway leads, and boxes
// may stand there.
func (pl *planner) byBox(place design.ID, does string) bool {
	o := pl.design.Get(place)
	if o.Kind != design.KindNetwork || pl.noBox(o) != "" {
		return false
	}
	edges, _ := newEditor(pl.design, pl.pool).edges(place, does)
	_, _, err := pl.waysOut(o)
	return len(edges) == 0 && err == nil
}

// noBox says why no translating box can be put into a network, empty if one can.
func (pl *planner) noBox(network *design.Object) string {
	profile := pl.design.ProfileOf(network.ID)
	switch {
	case pl.question.NoBoxes:
		return "no box may be added, as was asked"
	case profile == nil || !profile.Networks.Appliances:
		return "in its cloud no table leads to a box of one's own"
	}
	return ""
}

// whyNot says why a place can be translated nowhere: at no gateway, and at no box.
func (pl *planner) whyNot(place design.ID, why string) string {
	o := pl.design.Get(place)
	if o.Kind != design.KindNetwork {
		return why
	}
	if _, _, err := pl.waysOut(o); err != nil {
		return err.Error()
	}
	return why + "; and " + pl.noBox(o)
}

// waysOut are the joints by which a network's subnets are reached, and a zone that
// they serve.
func (pl *planner) waysOut(network *design.Object) (out []design.Joint, zone string, err error) {
	for a, b := range design.Each[design.Attachment](pl.design.Referring(network.ID, design.KindAttachment)) {
		if j, ok := design.JointOf(a); ok && b.What == network.ID && status.Exists(a) {
			out = append(out, j)
			for _, s := range b.Subnets {
				if zone == "" {
					zone = pl.design.Get(s).Body.(*design.Subnet).Zone
				}
			}
		}
	}
	for _, x := range pl.jointsOf(network) {
		j, _ := design.JointOf(pl.design.Get(x.joint))
		out = append(out, j)
	}
	if len(out) == 0 {
		err = fmt.Errorf(
			"%s has no link, circuit or hub; a peering carries the two networks' own ranges only, and is refused while "+
				"these overlap",
			network.Name,
		)
	}
	return out, zone, err
}

// leaveBy lets a joint of a network no longer tell what is translated, and routes
// what enters by it for mapped ranges in the box's table.
func (pl *planner) leaveBy(e *editor, network *design.Object, b *boxed, j design.Joint, out []netip.Prefix) {
	if _, ok := e.get(j.ID).Body.(*design.Attachment); ok {
		edited := design.Edited(e.get(j.ID), func(c *design.Attachment) {
			c.KeepOut = prefix.Minimal(slices.Concat(c.KeepOut, out))
		})
		e.put(
			edited, Routes, network.ID, j.ID, "keep %s out of what is advertised to %s", list(out),
			pl.design.Title(pl.design.Get(j.ID).Parent),
		)
		return
	}
	at := j.Ends[e.endAt(j.ID, network.ID)]
	for _, p := range out {
		e.untell(edge{at, j.ID}, p)
	}
	o := e.get(at)
	g := *o.Body.(*design.Gateway)
	if g.Enters == "" {
		g.Enters = b.table
	}
	if topology.Learns(pl.design, j.Object) {
		g.List = prefix.Free(pl.announced(network, &g), out)
		g.Announces = design.AnnounceList
	}
	if next := o.With(&g); !design.Same(o, next) {
		e.put(
			next, Routes, network.ID, at, "at %s announce %s no longer, and route what enters in %s", o.Name, list(out),
			e.get(b.table).Name,
		)
	}
}

// announced is what a cloud's gateway tells of its network.
func (pl *planner) announced(network *design.Object, g *design.Gateway) []netip.Prefix {
	if g.Announces == design.AnnounceList {
		return g.List
	}
	return pl.design.Ranges(network.ID)
}

// tellOf lets a network's joints tell a range for which its box answers.
func (pl *planner) tellOf(e *editor, network *design.Object, b *boxed, p netip.Prefix) {
	o := e.get(b.table)
	edited := design.Edited(o, func(t *design.Table) {
		t.Routes = append(t.Routes, design.Entry{Prefix: p, Via: b.box, Publish: design.Published})
	})
	e.put(edited, Routes, network.ID, o.ID, "in %s add %s via %s, and publish it", o.Name, p, e.get(b.box).Name)
	for _, g := range pl.design.Inside(network.ID, design.KindGateway) {
		now := e.get(g.ID)
		c := *now.Body.(*design.Gateway)
		if c.Announces == design.AnnounceList && c.Enters != "" {
			c.List = append(slices.Clone(c.List), p)
			e.put(now.With(&c), Routes, network.ID, g.ID, "at %s announce %s", g.Name, p)
		}
		if c.Enters != "" && c.Enters != b.table {
			e.entry(e.get(c.Enters), p, b.box)
		}
	}
}

// boxRules adds translations to a box.
func (e *editor) boxRules(box, party design.ID, text string, rules ...design.Rule) {
	o := e.get(box)
	edited := design.Edited(o, func(b *design.Box) { b.Translate = append(b.Translate, rules...) })
	e.put(edited, Rules, party, box, "at %s %s", o.Name, text)
}

// mapByBox maps what collides of a network one to one at a box of its own. What is
// left of the network is known as before.
func (pl *planner) mapByBox(e *editor, network *design.Object) ([]netip.Prefix, error) {
	b, real, err := pl.toBox(e, network)
	if err != nil {
		return nil, err
	}
	var out []netip.Prefix
	for _, r := range real {
		to, err := e.pool.take(prefix.IPv4, r.Bits())
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", network.Name, r, err)
		}
		out = append(out, to)
		e.spent = append(e.spent, to)
		e.why = append(e.why, fmt.Sprintf("%s becomes %s: %s.", r, to, e.pool.why))
		e.maps = append(e.maps, Pair{Place: network.ID, Title: network.Name, Real: r, Mapped: to})
		e.boxRules(b.box, network.ID, fmt.Sprintf("map %s to %s", r, to),
			design.Rule{Hook: design.Prerouting, Does: design.OneToOne, Real: r, Into: to},
			design.Rule{Hook: design.Postrouting, Does: design.OneToOne, Real: r, Into: to})
		pl.tellOf(e, network, b, to)
		for _, j := range pl.jointsOf(network) {
			e.replace(e.get(j.joint), j, r, to)
		}
	}
	return append(out, pl.untouched(network)...), nil
}

// untouched are the ranges of a network's subnets that a box does not translate.
func (pl *planner) untouched(network *design.Object) []netip.Prefix {
	var out []netip.Prefix
	translated := pl.translated(network)
	for _, s := range pl.design.Inside(network.ID, design.KindSubnet) {
		if !slices.Contains(translated, s) && !pl.forBoxes(s) {
			out = append(out, ipv4(design.RangesOf(s))...)
		}
	}
	return out
}

// jointsOf are a network's links and circuits with the gateways at which they end.
func (pl *planner) jointsOf(network *design.Object) []edge {
	var out []edge
	for _, g := range pl.design.Inside(network.ID, design.KindGateway) {
		for _, j := range pl.design.JointsAt(g.ID) {
			if routed(j) {
				out = append(out, edge{g.ID, j.ID})
			}
		}
	}
	return out
}

// hideByBox hides what collides of a network behind a pool at a box of its own.
func (pl *planner) hideByBox(e *editor, o *Option, m mapped, network *design.Object) error {
	b, real, err := pl.toBox(e, network)
	if err != nil {
		return err
	}
	pool, err := pl.poolFor(e, network.ID, real)
	if err != nil {
		return err
	}
	e.boxRules(
		b.box, network.ID, fmt.Sprintf("hide %s behind %s", list(real), pool),
		design.Rule{Hook: design.Postrouting, Source: real, Does: design.FromPool, Into: pool},
	)
	pl.tellOf(e, network, b, pool)
	m[network.ID] = append([]netip.Prefix{pool}, pl.untouched(network)...)
	o.Capacity = append(o.Capacity, ledger.CapacityOf(pl.design, network.ID, pool, real, 0))
	return nil
}
