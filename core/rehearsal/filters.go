package rehearsal

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/filter"
	"dravin/core/handover"
	"dravin/core/prefix"
	"dravin/core/topology"
)

// filters set up those of clouds: at their gateways and hubs for what these pass on, and at their hosts
// for what comes to and goes from these.
func (b *builder) filters() {
	d := b.design
	for _, n := range b.plan.Nodes {
		switch n.Role {
		case Player:
			for _, f := range b.filtersAt(n.ID) {
				b.filter(n, []*filter.Filter{f}, design.Forwarded, "forward", [2]string{})
			}
			if o := d.Get(n.ID); o != nil && o.Kind == design.KindHub {
				b.crossingsAt(n)
			}
		case HostRole:
			if place := d.Get(n.Place); place != nil && place.Kind == design.KindSubnet {
				b.hostFilters(n, place)
			}
		}
	}
}

// filteredAround reports whether a box stands where its cloud filters what comes to it, which nothing here plays.
func (b *builder) filteredAround(box design.ID) bool {
	d := b.whole.Design
	network := d.Party(box)
	if network == nil || network.Kind != design.KindNetwork {
		return false
	}
	for _, s := range d.Inside(network.ID, design.KindSubnet) {
		if d.StandsIn(d.Get(box), s) && len(d.FiltersAt(s.ID, false)) > 0 {
			return true
		}
	}
	return len(d.FiltersAt(network.ID, false)) > 0
}

// crossingsAt sets up the filters of crossings at a hub: what comes in by an attachment of one table and goes on by a
// route that the crossing has shared is asked.
func (b *builder) crossingsAt(n *Node) {
	for _, p := range b.tables.Points() {
		if p.Kind != design.KindHubTable || p.Party.ID != n.ID {
			continue
		}
		var in []string
		for _, a := range b.design.Inside(n.ID, design.KindAttachment) {
			if device := b.devices[[2]design.ID{a.ID, n.ID}]; device != "" && topology.BoundTable(b.design, a) == p.ID {
				in = append(in, device)
			}
		}
		shared := map[design.ID][]netip.Prefix{}
		for _, r := range p.Routes {
			if r.Crossing != "" && r.Unusable == "" {
				shared[r.Crossing] = append(shared[r.Crossing], r.Prefix)
			}
		}
		for _, c := range slices.Sorted(maps.Keys(shared)) {
			for _, o := range design.InOrder(b.design.FiltersAt(c, false)) {
				f := b.tables.Filter(o.ID)
				if len(in) == 0 {
					b.leaves("the filter %s of the crossing %s at %s", f.Name, b.design.Get(c).Name, n.Title)
					continue
				}
				var where [2]string
				for _, family := range prefix.Families {
					where[family] = "iifname { " + strings.Join(in, ", ") + " }"
					if to := texts(prefix.OfFamily(shared[c], family)); len(to) > 0 {
						where[family] += [2]string{" ip", " ip6"}[family] + " daddr { " + strings.Join(to, ", ") + " }"
					}
				}
				b.filter(n, []*filter.Filter{f}, design.Forwarded, "forward", where)
			}
		}
	}
}

func texts(ps []netip.Prefix) (out []string) {
	for _, p := range prefix.Minimal(ps) {
		out = append(out, p.String())
	}
	return out
}

func (b *builder) filtersAt(id design.ID) (out []*filter.Filter) {
	for _, o := range design.InOrder(slices.Concat(b.design.FiltersAt(id, false), b.design.FiltersAt(id, true))) {
		if f := b.tables.Filter(o.ID); !f.Manner.Own {
			out = append(out, f)
		}
	}
	return out
}

// hostFilters are those of a host in a cloud: its own and its groups', its subnet's, and its network's
// for what is not of the network.
func (b *builder) hostFilters(n *Node, place *design.Object) {
	var together []*filter.Filter
	asks := func(f *filter.Filter, in, out [2]string) {
		b.filter(n, []*filter.Filter{f}, design.Incoming, "input", in)
		b.filter(n, []*filter.Filter{f}, design.Outgoing, "output", out)
	}
	ids := []design.ID{n.ID, place.ID}
	for _, g := range b.design.GroupsOf(n.ID, place.ID) {
		ids = append(ids, g.ID)
	}
	for _, id := range ids {
		if id == "" {
			continue
		}
		for _, f := range b.filtersAt(id) {
			if f.Manner.OnlyAllow {
				together = append(together, f)
			} else {
				asks(f, [2]string{}, [2]string{})
			}
		}
	}
	if len(together) > 0 {
		b.filter(n, together, design.Incoming, "input", [2]string{})
		b.filter(n, together, design.Outgoing, "output", [2]string{})
	}
	network := b.design.Party(place.ID)
	for _, f := range b.filtersAt(network.ID) {
		ranges := b.design.Ranges(network.ID)
		asks(f, without("saddr", ranges), without("daddr", ranges))
	}
}

// without fits packets of neither end in some ranges.
func without(side string, ranges []netip.Prefix) (out [2]string) {
	for _, f := range prefix.Families {
		var words []string
		for _, p := range prefix.OfFamily(ranges, f) {
			words = append(words, p.String())
		}
		if len(words) > 0 {
			out[f] = fmt.Sprintf("%s %s != { %s }", [2]string{"ip", "ip6"}[f], side, strings.Join(words, ", "))
		}
	}
	return out
}

func (b *builder) filter(n *Node, list []*filter.Filter, direction, hook string, where [2]string) {
	n.filters++
	text := handover.StandFilter(fmt.Sprintf("filter%d", n.filters), list, direction, hook, where)
	n.Rulesets = append(n.Rulesets, text)
}
