package lab_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"

	"dravin/core/design"
	"dravin/core/prefix"
)

// filters gives an estate filters of every kind, drawn apart from the rest of it.
func (e *estate) filters(seed uint64) {
	r := e.r
	e.r = rand.New(rand.NewPCG(seed, 22))
	defer func() { e.r = r }()
	for _, g := range e.of(design.KindGateway, "") {
		switch p := e.partyOf(g); {
		case p.Kind == design.KindSite && e.chance(45):
			e.filter(g.ID, e.chance(30), true)
		case p.Kind == design.KindNetwork && p.Body.(*design.Network).Cloud == "Osier" && e.chance(40):
			e.filter(g.ID, false, true)
		}
	}
	for _, h := range e.of(design.KindHub, "") {
		if h.Body.(*design.Hub).Cloud == "Tarn" && e.chance(60) {
			e.filter(h.ID, false, true)
		}
	}
	for _, place := range slices.Concat(
		e.of(design.KindLAN, ""), e.of(design.KindInnerRoute, ""), e.of(design.KindSubnet, ""),
	) {
		cloud := ""
		if n, ok := e.partyOf(place).Body.(*design.Network); ok {
			cloud = n.Cloud
		}
		hosts := e.of(design.KindEndpoint, place.ID)
		if e.chance(25) {
			e.filter(pick(e.r, hosts).ID, e.chance(30), true)
		}
		if cloud == "Osier" && e.chance(50) {
			e.filter(place.ID, false, true)
		}
		if cloud != "Osier" && e.chance(25) {
			for range 1 + e.r.IntN(2) {
				members := []design.Ref{place.ID}
				if e.chance(50) {
					members = []design.Ref{pick(e.r, hosts).ID}
				}
				g := e.add(design.KindGroup, "", &design.Group{Members: members})
				e.filter(g.ID, cloud == "" && e.chance(30), cloud != "Sedge")
			}
		}
	}
	for _, n := range e.of(design.KindNetwork, "") {
		if n.Body.(*design.Network).Cloud == "Sedge" && e.chance(60) {
			e.filter(n.ID, false, false)
		}
	}
}

func (e *estate) filter(at design.ID, stateless, refuses bool) {
	b := &design.PacketFilter{At: at, Stateless: stateless, Default: design.Allow, DefaultOut: design.Allow}
	if e.chance(50) {
		b.Default = design.Refuse
	}
	if e.chance(25) {
		b.DefaultOut = design.Refuse
	}
	directed := slices.Contains([]design.Kind{
		design.KindEndpoint, design.KindGroup, design.KindSubnet, design.KindNetwork,
	}, e.get(at).Kind)
	if o := e.get(at); o.Kind == design.KindGroup || o.Kind == design.KindSubnet { // as Tarn and Sedge have it
		if o.Kind == design.KindGroup {
			b.Default, b.DefaultOut = "", ""
		}
	}
	for range 1 + e.r.IntN(6) {
		b.Rules = append(b.Rules, e.filterRule(directed, refuses))
	}
	e.add(design.KindFilter, "", b)
}

func (e *estate) filterRule(directed, refuses bool) design.FilterRule {
	x := design.FilterRule{}
	if directed && e.chance(50) {
		x.Direction = pick(e.r, []string{design.Incoming, design.Outgoing})
	}
	if refuses && e.chance(30) {
		x.Does = design.Refuse
	}
	pool := slices.Concat(siteRanges, blocks)
	if e.chance(20) {
		pool = slices.Concat(siteRanges6, blocks6)
	}
	if e.chance(15) {
		x.Family = pick(e.r, []string{"ipv4", "ipv6"})
	}
	side := func() (out []netip.Prefix) {
		if e.chance(45) {
			return nil
		}
		for range 1 + e.r.IntN(2) {
			p := pick(e.r, pool)
			if e.chance(30) {
				p = netip.PrefixFrom(nth(p, 10+e.r.IntN(2)), p.Addr().BitLen())
			}
			out = append(out, p)
		}
		return out
	}
	x.From, x.To = side(), side()
	if e.chance(75) {
		for range 1 + e.r.IntN(2) {
			t, err := design.ParseTraffic(pick(e.r, []string{
				"tcp/7001", "tcp", "tcp/7000-7002", "tcp/22", "udp/7001", "udp", "udp/1-7000", "icmp", "icmp/echo",
				"icmp/echo-reply", "icmp/too-big", "esp",
			}))
			if err != nil {
				panic(err)
			}
			x.Services = append(x.Services, t)
		}
		x.Replies = e.chance(30)
	}
	return x
}

// filters sets the filters of hosts and what holds them up, where the hosts are, and those of boxes that no file is
// handed over for. It reads the filters as they are written and asks nobody.
func (w *world) filters(rendered bool) {
	groups := map[design.ID][]string{} // of places: the groups that only allow, which add up
	for k, o := range w.e.d.Of(design.KindFilter) {
		b := o.Body.(*design.PacketFilter)
		at := w.e.d.Get(b.At)
		m := w.mannerOf(at, b)
		switch at.Kind {
		case design.KindGateway:
			if !rendered || w.e.d.Party(at.ID).Kind != design.KindSite {
				w.hook(at.ID, fmt.Sprintf("f%d", k), "forward", "", b, m, "")
			}
		case design.KindHub:
			w.hook(at.ID, fmt.Sprintf("f%d", k), "forward", "", b, m, "")
		case design.KindEndpoint:
			w.hosted(at.Parent, k, b, m, addressesOf(at))
		case design.KindSubnet:
			w.hosted(at.ID, k, b, m, nil)
			w.besideBoxes(at, k, b, m, nil)
		case design.KindNetwork:
			for _, s := range w.e.d.Inside(at.ID, design.KindSubnet) {
				w.outside(s.ID, k, b, m, design.RangesOf(at))
				w.besideBoxes(s, k, b, m, design.RangesOf(at))
			}
		case design.KindGroup:
			for _, id := range at.Body.(*design.Group).Members {
				place, addresses := id, []netip.Addr(nil)
				if h := w.e.d.Get(id); h.Kind == design.KindEndpoint {
					place, addresses = h.Parent, addressesOf(h)
				}
				if m.onlyAllow {
					groups[place] = append(groups[place], string(o.ID))
					w.adds(place, b, m, addresses)
					continue
				}
				w.hosted(place, k*10+slices.Index(at.Body.(*design.Group).Members, id), b, m, addresses)
			}
		}
	}
	for place := range groups {
		w.addedUp(place)
	}
}

// manner is how a platform's filters decide, as its profile's author meant it.
type manner struct {
	stateless, any, onlyAllow bool
	in, out                   string
}

func (w *world) mannerOf(at *design.Object, b *design.PacketFilter) manner {
	cloud := ""
	party := w.e.d.Party(at.ID)
	if at.Kind == design.KindGroup {
		party = w.e.d.Party(at.Body.(*design.Group).Members[0])
	}
	switch p := party.Body.(type) {
	case *design.Network:
		cloud = p.Cloud
	case *design.Hub:
		cloud = p.Cloud
	}
	chosen := func(m manner) manner {
		if b.Default != "" {
			m.in = b.Default
		}
		if b.DefaultOut != "" {
			m.out = b.DefaultOut
		}
		return m
	}
	switch fmt.Sprint(cloud, " ", at.Kind) {
	case "Tarn group":
		return manner{in: design.Refuse, out: design.Refuse}
	case "Tarn hub":
		return chosen(manner{in: design.Allow, out: design.Allow})
	case "Osier subnet":
		return chosen(manner{stateless: true, any: true, in: design.Allow, out: design.Allow})
	case "Osier gateway":
		return chosen(manner{in: design.Refuse, out: design.Allow})
	case "Sedge network":
		return chosen(manner{any: true, onlyAllow: true, in: design.Refuse, out: design.Allow})
	case "Sedge group":
		return manner{stateless: true, onlyAllow: true, in: design.Refuse, out: design.Refuse}
	}
	return chosen(manner{stateless: b.Stateless, in: design.Refuse, out: design.Allow})
}

var verdicts = map[string]string{design.Allow: "accept", design.Refuse: "drop"}

// hook writes a chain at a hook for one direction of a filter; only what guard fits is asked.
func (w *world) hook(node design.ID, name, hook, direction string, b *design.PacketFilter, m manner, guard string) {
	lines := []string{}
	if !m.stateless {
		lines = append(lines, "ct state established,related accept", "ct state invalid drop")
	}
	lines = append(lines, rulesOf(b, m, direction)...)
	last := m.in
	if direction == design.Outgoing {
		last = m.out
	}
	w.table(node, name, hook, guard, append(lines, verdicts[last]))
}

// table writes a table with a chain at a hook that leads what a guard fits to lines.
func (w *world) table(node design.ID, name, hook, guard string, lines []string) {
	w.do(
		node, "nft 'table inet %s { chain rules { %s; }; chain at { type filter hook %s priority 5; policy "+
			"accept; %s; }; }'",
		name, strings.Join(lines, "; "), hook, strings.TrimSpace(guard+" jump rules"),
	)
}

// rulesOf are the rules of one direction as lines; of those that are all asked the refusing ones first.
func rulesOf(b *design.PacketFilter, m manner, direction string) []string {
	var first, then []string
	for _, r := range b.Rules {
		if way := r.Direction; direction != "" && direction != way && (direction != design.Incoming || way != "") {
			continue
		}
		if lines := linesOf(r); m.any && r.Does == design.Refuse {
			first = append(first, lines...)
		} else {
			then = append(then, lines...)
		}
	}
	return append(first, then...)
}

func linesOf(r design.FilterRule) (out []string) {
	for _, v4 := range []bool{true, false} {
		if r.Family != "" && (r.Family == "ipv4") != v4 {
			continue
		}
		head, ok := map[bool]string{true: "meta nfproto ipv4", false: "meta nfproto ipv6"}[v4], true
		for word, list := range map[string][]netip.Prefix{"saddr": r.From, "daddr": r.To} {
			if list == nil {
				continue
			}
			text := setOf(list, v4)
			if ok = ok && text != ""; text != "" {
				head += fmt.Sprintf(" %s %s %s", map[bool]string{true: "ip", false: "ip6"}[v4], word, text)
			}
		}
		if !ok {
			continue
		}
		verdict := map[bool]string{true: "drop", false: "accept"}[r.Does == design.Refuse]
		if len(r.Services) == 0 {
			out = append(out, head+" "+verdict)
		}
		for _, t := range r.Services {
			out = append(out, fmt.Sprintf("%s %s %s", head, carried(t, r.Replies, v4), verdict))
		}
	}
	return out
}

// carried is the condition on what a packet carries.
func carried(t design.Traffic, replies, v4 bool) string {
	side := map[bool]string{true: "sport", false: "dport"}[replies]
	switch {
	case t.Proto == "icmp" && t.Message == design.EchoRequest:
		what := map[bool]string{true: "echo-reply", false: "echo-request"}[replies]
		return map[bool]string{true: "icmp type ", false: "icmpv6 type "}[v4] + what
	case t.Proto == "icmp" && t.Message != "": // RFC 792 and RFC 4443 number them
		return map[bool]map[string]string{
			true: {
				design.EchoReply: "icmp type 0", design.Unreachable: "icmp type 3",
				design.TooBig: "icmp type 3 icmp code 4", design.TimeExceeded: "icmp type 11",
			},
			false: {
				design.EchoReply: "icmpv6 type 129", design.Unreachable: "icmpv6 type 1",
				design.TooBig: "icmpv6 type 2", design.TimeExceeded: "icmpv6 type 3",
			},
		}[v4][t.Message]
	case t.Proto == "icmp":
		return "meta l4proto " + map[bool]string{true: "icmp", false: "ipv6-icmp"}[v4]
	case t.First == 0:
		return "meta l4proto " + t.Proto
	}
	if t.First == t.Last {
		return fmt.Sprintf("%s %s %d", t.Proto, side, t.First)
	}
	return fmt.Sprintf("%s %s %d-%d", t.Proto, side, t.First, t.Last)
}

// hosted sets a filter up where hosts are: for some addresses, or for all.
func (w *world) hosted(place design.ID, k int, b *design.PacketFilter, m manner, addresses []netip.Addr) {
	n := len(w.scripts[place]) // a place may have many
	in, out := []string{""}, []string{""}
	if addresses != nil {
		in, out = nil, nil
		for _, a := range addresses {
			f := map[bool]string{true: "ip", false: "ip6"}[a.Is4()]
			in, out = append(in, fmt.Sprintf("%s daddr %s", f, a)), append(out, fmt.Sprintf("%s saddr %s", f, a))
		}
	}
	for i := range in {
		w.hook(place, fmt.Sprintf("f%d_%d_%d_in", k, n, i), "input", design.Incoming, b, m, neighbours+in[i])
		w.hook(place, fmt.Sprintf("f%d_%d_%d_out", k, n, i), "output", design.Outgoing, b, m, neighbours+out[i])
	}
}

// neighbours leaves alone what stays within a host, and by what hosts find each other in IPv6.
const neighbours = "meta iifname lo accept; meta oifname lo accept; icmpv6 type { nd-neighbor-solicit, " +
	"nd-neighbor-advert, nd-router-solicit, nd-router-advert } accept; "

// outside sets a network's filter up at the hosts of a subnet, for what comes from without the network.
func (w *world) outside(place design.ID, k int, b *design.PacketFilter, m manner, ranges []netip.Prefix) {
	for _, v4 := range []bool{true, false} {
		f := map[bool]string{true: "ip", false: "ip6"}[v4]
		in, out := "meta nfproto "+map[bool]string{true: "ipv4", false: "ipv6"}[v4], ""
		out = in
		if own := setOf(ranges, v4); own != "" {
			in, out = fmt.Sprintf("%s saddr != %s", f, own), fmt.Sprintf("%s daddr != %s", f, own)
		}
		name := fmt.Sprintf("n%d_%s", k, f)
		w.hook(place, name+"_in", "input", design.Incoming, b, m, neighbours+in)
		w.hook(place, name+"_out", "output", design.Outgoing, b, m, neighbours+out)
	}
}

// besideBoxes sets a filter up where the fabric leads to the boxes in a subnet, and they into it; within the subnet it
// asks nothing. ranges are those of the network, within which its own filter asks nothing either.
func (w *world) besideBoxes(subnet *design.Object, k int, b *design.PacketFilter, m manner, ranges []netip.Prefix) {
	network := w.e.d.Get(subnet.Parent)
	fabric := w.devices[[2]design.ID{subnet.ID, network.ID}]
	for n, o := range w.e.d.Inside(network.ID, design.KindBox) {
		cable := w.devices[[2]design.ID{o.ID, network.ID}]
		if cable == "" || !prefix.Has(design.RangesOf(subnet), o.Body.(*design.Box).Addresses[0]) {
			continue
		}
		for _, v4 := range []bool{true, false} {
			f := map[bool]string{true: "ip", false: "ip6"}[v4]
			in, out := "meta nfproto "+map[bool]string{true: "ipv4", false: "ipv6"}[v4], ""
			out = in
			if own := setOf(ranges, v4); own != "" {
				in, out = fmt.Sprintf("%s saddr != %s", f, own), fmt.Sprintf("%s daddr != %s", f, own)
			}
			name := fmt.Sprintf("b%d_%d_%s", k, n, f)
			w.hook(
				network.ID, name+"_in", "forward", design.Incoming, b, m,
				fmt.Sprintf("oifname %s iifname != %s %s", cable, fabric, in),
			)
			w.hook(
				network.ID, name+"_out", "forward", design.Outgoing, b, m,
				fmt.Sprintf("iifname %s oifname != %s %s", cable, fabric, out),
			)
		}
	}
}

// added are the rules of groups that add up, by place and host.
type added struct {
	addresses []netip.Addr // nil: all of the place
	in, out   []string
}

// adds notes the rules of a group that only allows.
func (w *world) adds(place design.ID, b *design.PacketFilter, m manner, addresses []netip.Addr) {
	if w.sums == nil {
		w.sums = map[design.ID][]added{}
	}
	w.sums[place] = append(w.sums[place], added{
		addresses, rulesOf(b, m, design.Incoming), rulesOf(b, m, design.Outgoing),
	})
}

// addedUp sets up, for each host of a place, what its groups allow together.
func (w *world) addedUp(place design.ID) {
	for n, h := range w.e.d.Inside(place, design.KindEndpoint) {
		for _, a := range addressesOf(h) {
			var in, out []string
			any := false
			for _, x := range w.sums[place] {
				if x.addresses == nil || slices.Contains(x.addresses, a) {
					any = true
					in, out = append(in, x.in...), append(out, x.out...)
				}
			}
			if !any {
				continue
			}
			f := map[bool]string{true: "ip", false: "ip6"}[a.Is4()]
			w.table(
				place, fmt.Sprintf("g%d_in", n), "input", neighbours+fmt.Sprintf(
					"%s daddr %s", f, a,
				), append(in, "drop"),
			)
			w.table(
				place, fmt.Sprintf("g%d_out", n), "output", neighbours+fmt.Sprintf(
					"%s saddr %s", f, a,
				), append(out, "drop"),
			)
		}
	}
}
