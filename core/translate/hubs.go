package translate

import (
	"fmt"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/ledger"
	"dravin/core/prefix"
	"dravin/core/words"
)

// keptOut keeps what collides out of what hubs are told, at everybody attached,
// and hides whoever must call from there behind a source pool.
func (pl *planner) keptOut(give func(*Option) bool) bool {
	var attached []*design.Object
	for _, id := range pl.scope.places {
		if pl.design.Get(id).Kind == design.KindNetwork && !pl.scope.settled[id] {
			attached = append(attached, pl.design.Referring(id, design.KindAttachment)...)
		}
	}
	attached = slices.DeleteFunc(
		attached,
		func(a *design.Object) bool {
			return !slices.Contains(pl.scope.places, a.Body.(*design.Attachment).What)
		},
	)
	if len(attached) < 2 {
		return true
	}
	for _, pooled := range []bool{false, true} {
		title := "Keep what collides out of what is advertised to " + pl.hubsOf(attached)
		if pooled {
			title += ", with a source pool"
		}
		if !give(
			pl.try(KeepOut, title, func(e *editor, o *Option) error { return pl.keepOut(e, o, attached, pooled) }),
		) {
			return false
		}
	}
	return true
}

func (pl *planner) hubsOf(attached []*design.Object) string {
	var out []string
	for _, a := range attached {
		if t := pl.design.Title(a.Parent); !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	return words.List(out)
}

func (pl *planner) keepOut(e *editor, o *Option, attached []*design.Object, pooled bool) error {
	m := mapped{}
	touched := false
	for _, a := range attached {
		b := *a.Body.(*design.Attachment)
		shared := pl.shared(b.What)
		if left := prefix.Free(pl.design.Ranges(b.What), shared); len(left) > 0 && !pooled {
			m[b.What] = left
		}
		b.KeepOut = prefix.Minimal(slices.Concat(b.KeepOut, shared))
		e.put(
			a.With(&b), Routes, pl.design.Party(b.What).ID, a.ID, "keep %s out of what is advertised to %s",
			list(shared),
			pl.design.Title(a.Parent),
		)
		if !pooled || !pl.callsFrom(b.What, shared) {
			continue
		}
		profile := pl.design.ProfileOf(a.Parent)
		if profile == nil || profile.Hub == nil || !profile.Hub.SourcePool {
			return fmt.Errorf("%s offers no source pool", pl.design.Title(a.Parent))
		}
		pool, err := pl.sourcePool(e, o, a, shared, profile.Hub.PortsPerHost)
		if err != nil {
			return err
		}
		touched = true
		b.Pool = pool.ID
		e.put(
			a.With(&b), Rules, b.What, a.ID, "hide what comes from there behind the pool %s",
			list(design.RangesOf(pool)),
		)
		m[b.What] = design.RangesOf(pool)
	}
	if pooled && !touched {
		return fmt.Errorf("nobody calls from what is kept out")
	}
	pl.openHubs(e, m)
	o.Start, o.Both, o.Tells = "Everyone else can start; what is kept out reaches nobody over the hub.", !pooled, !pooled
	if pooled {
		o.Start = "What is kept out can start, and is called by nobody."
	}
	o.Next = "One more with the same range keeps it out, too."
	if pooled {
		o.Next = "One more with the same range keeps it out, too, and takes a pool of its own."
	}
	return nil
}

// shared are the parts of a network's blocks that others in scope hold, too.
func (pl *planner) shared(network design.ID) []netip.Prefix {
	var out []netip.Prefix
	for _, other := range pl.scope.places {
		if pl.scope.meets[[2]design.ID{network, other}] {
			out = append(out, prefix.Intersect(pl.design.Ranges(network), pl.design.Ranges(other))...)
		}
	}
	return prefix.Minimal(out)
}

// callsFrom reports whether anybody in some ranges of a network must call.
func (pl *planner) callsFrom(network design.ID, ranges []netip.Prefix) bool {
	return slices.ContainsFunc(pl.scope.needs, func(n need) bool {
		return n.fromParty == network && len(prefix.Intersect(pl.design.Ranges(n.from), ranges)) > 0
	})
}

// sourcePool is a subnet without hosts, outside what is kept out: one that is
// there, a new one in what is left of the blocks, or one in a new small block.
func (pl *planner) sourcePool(
	e *editor,
	o *Option,
	a *design.Object,
	shared []netip.Prefix,
	ports uint32,
) (*design.Object, error) {
	network := pl.design.Get(a.Body.(*design.Attachment).What)
	b := network.Body.(*design.Network)
	const bits = 28
	var used []netip.Prefix
	var first *design.Subnet
	for s, body := range design.Each[design.Subnet](pl.design.Inside(network.ID, design.KindSubnet)) {
		used = append(used, design.RangesOf(s)...)
		if first == nil {
			first = body
		}
	}
	if first == nil {
		return nil, fmt.Errorf("%s has no subnet", network.Name)
	}
	r, ok := prefix.Carve(ipv4(prefix.Free(b.Blocks, shared)), used, bits)
	if !ok {
		var err error
		if r, err = e.pool.take(prefix.IPv4, bits); err != nil {
			return nil, err
		}
		e.spent = append(e.spent, r)
		edited := design.Edited(e.get(network.ID), func(body *design.Network) {
			body.Blocks = append(body.Blocks, r)
		})
		e.put(edited, Places, network.ID, network.ID, "add the block %s, for the pool alone", r)
	}
	s := e.add(
		design.KindSubnet, network.ID, "source pool",
		&design.Subnet{Zone: first.Zone, Prefixes: []netip.Prefix{r}, Table: first.Table}, Places, network.ID,
		"make the subnet source pool %s, for no hosts", r,
	)
	o.Capacity = append(o.Capacity, ledger.AttachmentPool(pl.design, a, r, prefix.Free(b.Blocks, shared), ports))
	return s, nil
}

// openHubs makes the flows of networks known whose ways go over hubs.
func (pl *planner) openHubs(e *editor, m mapped) {
	for _, n := range pl.scope.needs {
		if n.path == nil {
			continue
		}
		seen := func(place, to design.ID) []netip.Prefix {
			if r, ok := m[pl.scope.holder(place)]; ok {
				return r
			}
			return pl.known(place, to)
		}
		e.carry(n.path, ipv4(seen(n.from, n.toParty)), ipv4(seen(n.to, n.fromParty)))
	}
}

// twoStages maps the source where it leaves and the destination at a box in a
// network on the way.
func (pl *planner) twoStages(give func(*Option) bool) bool {
	var list []need
	for _, n := range pl.scope.needs {
		if !pl.held[n.intent] && pl.scope.meets[[2]design.ID{pl.scope.holder(n.from), pl.scope.holder(n.to)}] &&
			pl.middle(n) >= 0 {
			list = append(list, n)
		}
	}
	if len(list) == 0 {
		pl.exclude("Two stages: no network lies between two that collide and talk")
		return true
	}
	if len(list) > mostServices {
		return true
	}
	return give(
		pl.try(
			TwoStages,
			"Translate in two stages: "+pl.titles(
				[]design.ID{list[0].from},
			)+" where it leaves, "+pl.titles(
				[]design.ID{list[0].to},
			)+" on the way",
			func(e *editor, o *Option) error {
				hidden, led := mapped{}, mapped{}
				for _, n := range list {
					if err := pl.stages(e, o, n, hidden, led); err != nil {
						return err
					}
				}
				o.Start = "Only the side that it was built for can start."
				o.Next = "One more with the same range is hidden where it leaves; the box on the way serves it already."
				o.WhyMore = append(
					o.WhyMore,
					pl.design.Title(
						list[0].fromParty,
					)+" holds the range that it must reach, and "+pl.design.Title(
						list[0].toParty,
					)+" the one that calls: each must be seen as something else where the other is known",
				)
				return nil
			},
		),
	)
}

// middle is the hop into a network on the way whose box can translate; -1 if there
// is none.
func (pl *planner) middle(n need) int {
	for k, h := range n.path {
		o := pl.design.Get(h.To)
		if o.Kind == design.KindNetwork && h.To != n.toParty &&
			!pl.scope.meets[[2]design.ID{pl.scope.holder(n.to), h.To}] {
			return k
		}
	}
	return -1
}

// stages translates one flow in two stages: hidden are the places that are seen as
// something else where they leave, led those to which the box leads already.
func (pl *planner) stages(e *editor, o *Option, n need, hidden, led mapped) error {
	k := pl.middle(n)
	network := pl.design.Get(n.path[k].To)
	box, err := pl.boxIn(e, network, "", true)
	if err != nil {
		return err
	}
	if hidden[pl.scope.holder(n.from)] == nil {
		if err := pl.hide(e, o, hidden, pl.scope.holder(n.from), false); err != nil {
			return err
		}
	}
	ours := hidden[pl.scope.holder(n.from)]
	if before := led[n.to]; before != nil {
		pl.throughBox(e, n, k, network, box, ours, before)
		return nil
	}
	for _, real := range ipv4(pl.design.Ranges(n.to)) {
		to, err := e.pool.take(prefix.IPv4, real.Bits())
		if err != nil {
			return err
		}
		led[n.to] = append(led[n.to], to)
		e.spent = append(e.spent, to)
		e.maps = append(e.maps, Pair{Place: n.to, Title: pl.design.Title(n.to), Real: real, Mapped: to})
		edited := design.Edited(e.get(box.ID), func(b *design.Box) {
			b.Translate = append(slices.Clone(b.Translate),
				design.Rule{Hook: design.Prerouting, Does: design.OneToOne, Real: real, Into: to},
				design.Rule{Hook: design.Postrouting, Does: design.OwnAddress, Destination: []netip.Prefix{real}})
		})
		e.put(
			edited, Rules, network.ID, box.ID,
			"at %s lead %s to %s, and hide callers behind its own address", box.Name, to, real,
		)
		pl.throughBox(e, n, k, network, box, ours, []netip.Prefix{to})
	}
	own := pl.design.Ranges(network.ID)
	e.only = map[design.ID]design.ID{network.ID: pl.tableOfBox(e, box)}
	e.carry(n.path[k+1:], ipv4(own), ipv4(pl.known(n.to, network.ID)))
	e.only = nil
	return nil
}

// throughBox lets what comes by a hop for ranges go to a box first.
func (pl *planner) throughBox(e *editor, n need, k int, network, box *design.Object, ours, to []netip.Prefix) {
	e.only = map[design.ID]design.ID{network.ID: pl.tableOfBox(e, box)}
	e.carry(n.path[:k+1], ours, to)
	e.only = nil
	j, _ := design.JointOf(e.get(n.path[k].By))
	gateway, ok := e.gatewayAt(j.ID, network.ID)
	if !ok {
		return
	}
	table := e.entersBy(network, gateway, j.Name)
	for _, p := range to {
		e.entry(e.get(table), p, box.ID)
	}
}
