package lab_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"

	"dravin/core/design"
	"dravin/core/prefix"
)

// estate is a random design with what its maker knows of it: what it broke.
type estate struct {
	d       *design.Design
	side    design.Side
	up      map[design.ID]bool // links' tunnels, sessions, peerings and attachments, as they were made
	rules   bool               // gateways may have rules beside mappings
	r       *rand.Rand
	n       int
	objects []*design.Object
	mapped  int
	first   []flow // sent before the random ones
}

func pick[T any](r *rand.Rand, list []T) T { return list[r.IntN(len(list))] }

func (e *estate) chance(percent int) bool { return e.r.IntN(100) < percent }

func (e *estate) add(k design.Kind, parent design.ID, b design.Body) *design.Object {
	e.n++
	o := &design.Object{
		ID: design.ID(fmt.Sprintf("%s%03d", k, e.n)), Kind: k, Parent: parent, Name: fmt.Sprintf("%s %d", k, e.n),
		Body: b,
	}
	e.objects = append(e.objects, o)
	return o
}

func (e *estate) of(k design.Kind, parent design.ID) (out []*design.Object) {
	for _, o := range e.objects {
		if o.Kind == k && (parent == "" || o.Parent == parent) {
			out = append(out, o)
		}
	}
	return out
}

// The ranges of sites and networks: few, nested and the same here and there.
var (
	siteRanges = prefixesOf(
		"10.212.0.0/24", "10.212.1.0/24", "10.212.0.0/23", "10.213.0.0/24", "192.168.216.0/24", "192.168.211.0/24",
		"10.214.8.0/22", "10.214.10.0/23",
	)
	siteRanges6 = prefixesOf("2001:db8:1::/64", "2001:db8:2::/64", "2001:db8:3::/64")
	blocks      = prefixesOf("10.208.0.0/16", "10.209.0.0/16", "10.212.0.0/16", "10.208.128.0/17", "192.168.208.0/20")
	blocks6     = prefixesOf("2001:db8:a::/48", "2001:db8:b::/48")
)

func prefixesOf(texts ...string) (out []netip.Prefix) {
	for _, t := range texts {
		out = append(out, netip.MustParsePrefix(t))
	}
	return out
}

// newEstate makes the estate of a seed. It is the same each time.
func newEstate(seed uint64, rules bool) *estate {
	return drawn(seed, func(e *estate) {
		e.rules, e.side = rules, pick(e.r, []design.Side{design.Built, design.Planned})
		e.make()
		if seed%2 == 1 {
			e.filters(seed)
		}
	})
}

// drawn makes estates until one is valid.
func drawn(seed uint64, fill func(*estate)) *estate {
	for try := uint64(0); ; try++ {
		e := &estate{r: rand.New(rand.NewPCG(seed, try)), up: map[design.ID]bool{}}
		fill(e)
		var edits []design.Edit
		for _, o := range e.objects {
			edits = append(edits, design.PutEdit(o))
		}
		d, _, err := design.New("truth", nil).Apply(edits)
		if err == nil {
			e.d = design.Divided(d).On(e.side)
			return e
		}
		if try > 200 {
			panic(err)
		}
	}
}

func (e *estate) make() {
	sites := 1 + e.r.IntN(4)
	for range sites {
		e.site()
	}
	cloud := pick(e.r, []string{"Tarn", "Osier", "Sedge"})
	for range e.r.IntN(min(4, 7-sites)) {
		e.network(cloud)
	}
	if len(e.of(design.KindNetwork, "")) > 0 && cloud != "Osier" && e.chance(60) {
		e.hub(cloud)
	}
	gateways := slices.DeleteFunc(
		e.of(design.KindGateway, ""),
		func(o *design.Object) bool { return len(o.Body.(*design.Gateway).Addresses) == 0 },
	)
	for range len(gateways) + e.r.IntN(2) {
		a, b := pick(e.r, gateways), pick(e.r, gateways)
		if a.Parent != b.Parent && e.partyOf(a).Kind != design.KindHub {
			e.link(a, b)
		}
	}
	e.peerings()
	e.entries()
}

func (e *estate) get(id design.ID) *design.Object {
	for _, o := range e.objects {
		if o.ID == id {
			return o
		}
	}
	return nil
}

func (e *estate) partyOf(o *design.Object) *design.Object { return e.get(o.Parent) }

func (e *estate) address() netip.Addr {
	e.n++
	return netip.AddrFrom4([4]byte{198, 51, 100, byte(e.n%250 + 1)})
}

func (e *estate) site() {
	site := e.add(design.KindSite, "", &design.Site{})
	var gateways []design.ID
	for range 1 + e.r.IntN(2) {
		g := &design.Gateway{Addresses: []netip.Addr{e.address()}, ASN: 4200000000 + uint32(e.n)}
		if e.chance(8) {
			g.Faults = []string{pick(e.r, []string{design.ForwardingOff, design.StrictReversePath, design.SourceCheck})}
		}
		gateways = append(gateways, e.add(design.KindGateway, site.ID, g).ID)
	}
	free := slices.Clone(siteRanges)
	take := func() netip.Prefix {
		p := pick(e.r, free)
		free = slices.DeleteFunc(free, p.Overlaps)
		return p
	}
	six := e.r.Perm(len(siteRanges6))
	for n := range 1 + e.r.IntN(2) {
		lan := &design.LAN{Prefixes: []netip.Prefix{take()}}
		if e.chance(50) {
			lan.Prefixes = append(lan.Prefixes, siteRanges6[six[n]])
		}
		if e.chance(50) {
			lan.Gateways = []design.Ref{pick(e.r, gateways)}
		}
		o := e.add(design.KindLAN, site.ID, lan)
		e.hosts(o)
		if e.chance(30) {
			inner := &design.InnerRoute{Prefixes: []netip.Prefix{take()}, Via: nth(lan.Prefixes[0], 5)}
			e.hosts(e.add(design.KindInnerRoute, site.ID, inner))
		}
	}
}

// hosts gives a place two hosts in each of its ranges.
func (e *estate) hosts(place *design.Object) {
	for _, p := range design.RangesOf(place) {
		for _, n := range []int{10, 11} {
			e.add(design.KindEndpoint, place.ID, &design.Endpoint{Addresses: []netip.Addr{nth(p, n)}})
		}
	}
}

func nth(p netip.Prefix, n int) netip.Addr {
	a := p.Masked().Addr()
	for range n {
		a = a.Next()
	}
	return a
}

func (e *estate) network(cloud string) {
	block := pick(e.r, blocks)
	b := &design.Network{Cloud: cloud, Region: "one", Blocks: []netip.Prefix{block}}
	if e.chance(40) {
		b.Blocks = append(b.Blocks, pick(e.r, blocks6))
	}
	network := e.add(design.KindNetwork, "", b)
	var tables []design.ID
	for range 1 + e.r.IntN(2) {
		tables = append(tables, e.add(design.KindTable, network.ID, &design.Table{}).ID)
	}
	e.add(
		design.KindGateway, network.ID,
		&design.Gateway{Addresses: []netip.Addr{e.address()}, ASN: 4200000000 + uint32(e.n)},
	)
	for n := range 1 + e.r.IntN(2) {
		s := &design.Subnet{Zone: fmt.Sprintf("zone-%d", n), Table: pick(e.r, tables)}
		for _, whole := range b.Blocks {
			bits := 24
			if whole.Addr().Is6() {
				bits = 64
			}
			var used []netip.Prefix
			for _, have := range e.of(design.KindSubnet, network.ID) {
				used = append(used, design.RangesOf(have)...)
			}
			p, _ := prefix.Carve([]netip.Prefix{whole}, used, bits)
			s.Prefixes = append(s.Prefixes, p)
		}
		e.hosts(e.add(design.KindSubnet, network.ID, s))
	}
}

// state draws how far something has come, and whether that counts.
func (e *estate) state() (design.State, bool) {
	switch n := e.r.IntN(100); {
	case n < 75:
		return design.Ready, true
	case n < 90:
		return design.Making, e.side == design.Planned
	case n < 95:
		return design.Gone, false
	}
	return design.Waiting, false
}

func (e *estate) hub(cloud string) {
	h := &design.Hub{Cloud: cloud, Region: "one", ASN: 4200000900}
	there := true
	if e.chance(10) {
		h.State, there = e.state()
	}
	hub := e.add(design.KindHub, "", h)
	e.up[hub.ID] = there
	var tables []design.ID
	for range 1 + e.r.IntN(2) {
		tables = append(tables, e.add(design.KindHubTable, hub.ID, &design.HubTable{}).ID)
	}
	if e.chance(50) {
		e.add(design.KindGateway, hub.ID, &design.Gateway{Addresses: []netip.Addr{e.address()}, ASN: 4200000900})
	}
	for _, n := range e.of(design.KindNetwork, "") {
		if e.chance(85) {
			a := e.attach(hub, n.ID, tables)
			for _, s := range e.of(design.KindSubnet, n.ID) {
				if cloud == "Tarn" && e.chance(80) {
					a.Body.(*design.Attachment).Subnets = append(a.Body.(*design.Attachment).Subnets, s.ID)
				}
			}
		}
	}
	for _, t := range e.of(design.KindHubTable, hub.ID) {
		if all := e.of(design.KindAttachment, hub.ID); len(all) > 0 && e.chance(40) {
			b := t.Body.(*design.HubTable)
			b.Routes = append(
				b.Routes,
				design.HubEntry{Prefix: pick(e.r, siteRanges), Via: pick(e.r, []design.Ref{"", pick(e.r, all).ID})},
			)
		}
	}
}

func (e *estate) attach(hub *design.Object, what design.ID, tables []design.ID) *design.Object {
	a := &design.Attachment{What: what, Bound: pick(e.r, tables)}
	for _, t := range tables {
		if e.chance(75) {
			a.Feeds = append(a.Feeds, t)
		}
	}
	state, ok := e.state()
	a.State = state
	o := e.add(design.KindAttachment, hub.ID, a)
	e.up[o.ID] = ok && e.up[hub.ID]
	return o
}

// exports are what a party would be sent, now and then less or more than that.
func (e *estate) exports(party *design.Object) []netip.Prefix {
	var out []netip.Prefix
	switch b := party.Body.(type) {
	case *design.Network:
		out = append(out, b.Blocks...)
	case *design.Hub:
		for _, n := range e.of(design.KindNetwork, "") {
			out = append(out, n.Body.(*design.Network).Blocks...)
		}
	default:
		for _, k := range []design.Kind{design.KindLAN, design.KindInnerRoute} {
			for _, o := range e.of(k, party.ID) {
				out = append(out, design.RangesOf(o)...)
			}
		}
	}
	out = slices.DeleteFunc(out, func(netip.Prefix) bool { return e.chance(15) })
	if e.chance(15) {
		out = append(out, pick(e.r, siteRanges))
	}
	if e.chance(8) {
		out = append(out, netip.MustParsePrefix("0.0.0.0/0"))
	}
	slices.SortFunc(out, prefix.Compare)
	return slices.Compact(out)
}

func (e *estate) link(a, b *design.Object) {
	routing := pick(
		e.r, []string{design.RoutingStatic, design.RoutingStatic, design.RoutingSelectors, design.RoutingBGP},
	)
	l := &design.Link{Routing: routing, Ends: []design.End{{Gateway: a.ID}, {Gateway: b.ID}}}
	state, counts := e.state()
	l.State = state
	mine, theirs := e.exports(e.partyOf(a)), e.exports(e.partyOf(b))
	o := e.add(design.KindLink, "", l)
	mine, theirs = e.mappings(o, a, mine), e.mappings(o, b, theirs)
	if routing == design.RoutingSelectors {
		fours := func(p netip.Prefix) bool { return p.Bits() == 0 }
		mine, theirs = slices.DeleteFunc(mine, fours), slices.DeleteFunc(theirs, fours)
		if len(mine) == 0 || len(theirs) == 0 {
			mine, theirs = siteRanges[:1], siteRanges[3:4]
		}
		l.Ends[0].Local, l.Ends[0].Remote = mine, theirs
		l.Ends[1].Local, l.Ends[1].Remote = theirs, mine
		if end := &l.Ends[e.r.IntN(2)]; e.chance(30) { // one end lacks a pair
			for _, list := range []*[]netip.Prefix{&end.Local, &end.Remote} {
				if n := len(*list); n > 1 && e.chance(60) {
					*list = (*list)[:n-1]
				}
			}
		}
	} else {
		l.Ends[0].Routes, l.Ends[1].Routes = theirs, mine
	}
	for n := range []int{1, 1, 2, 0}[e.r.IntN(4)] {
		e.tunnel(o, l, a, b, n, counts)
	}
	if hub := e.partyOf(b); hub.Kind == design.KindHub {
		var tables []design.ID
		for _, t := range e.of(design.KindHubTable, hub.ID) {
			tables = append(tables, t.ID)
		}
		e.attach(hub, o.ID, tables)
	}
}

// tunnel adds a tunnel, now and then one whose ends differ.
func (e *estate) tunnel(link *design.Object, l *design.Link, a, b *design.Object, n int, counts bool) {
	e.n++
	inside := netip.PrefixFrom(netip.AddrFrom4([4]byte{169, 254, byte(130 + e.n/60), byte(e.n%60) * 4}), 30)
	clouds := [2]string{design.CloudOf(e.partyOf(a)), design.CloudOf(e.partyOf(b))}
	if clouds[0] == "Osier" || clouds[1] == "Osier" { // it takes inside addresses from there only
		inside = netip.PrefixFrom(netip.AddrFrom4([4]byte{169, 254, byte(141 + e.n/60%2), byte(e.n%60) * 4}), 30)
	}
	t := &design.Tunnel{
		Outside: []netip.Addr{a.Body.(*design.Gateway).Addresses[0], b.Body.(*design.Gateway).Addresses[0]},
	}
	t.Inside = []netip.Prefix{netip.PrefixFrom(nth(inside, 1), 30), netip.PrefixFrom(nth(inside, 2), 30)}
	if l.Routing == design.RoutingSelectors {
		t.Inside = nil
	}
	waits := func(cloud string) bool { return cloud == "Tarn" || cloud == "Sedge" }
	good := !(waits(clouds[0]) && waits(clouds[1])) // each would leave it to the other to start
	switch e.r.IntN(12) {
	case 0:
		t.Ends, good = []design.TunnelEnd{
			{IKE: []string{"aes256-sha384-ecp384"}}, {IKE: []string{"aes128-sha256-ecp256"}},
		}, false
	case 1:
		t.Ends, good = []design.TunnelEnd{{PeerIdentity: "keyid:other"}, {}}, false
	case 2:
		t.Ends, good = []design.TunnelEnd{{}, {State: design.Making}}, good && e.side == design.Planned
	}
	if hub := e.partyOf(b); hub.Kind == design.KindHub && !e.up[hub.ID] {
		good = false
	}
	o := e.add(design.KindTunnel, link.ID, t)
	o.Name = fmt.Sprintf("tunnel %d", n+1)
	e.up[o.ID] = good && counts
	if l.Routing != design.RoutingBGP {
		return
	}
	s := &design.Session{Ends: []design.SessionEnd{
		{ASN: a.Body.(*design.Gateway).ASN, Address: t.Inside[0].Addr(), Families: []string{"ipv4", "ipv6"}},
		{ASN: b.Body.(*design.Gateway).ASN, Address: t.Inside[1].Addr(), Families: []string{"ipv4", "ipv6"}}}}
	sound := true
	if e.chance(15) {
		s.Ends[0].PeerASN, sound = 4200000999, false
	}
	session := e.add(design.KindSession, o.ID, s)
	e.up[session.ID] = sound && e.up[o.ID]
}

// mappings map some ranges of a site toward a link; what the far end is told is
// the mapped range, or now and then still the real one.
func (e *estate) mappings(link, gateway *design.Object, told []netip.Prefix) []netip.Prefix {
	if e.partyOf(gateway).Kind != design.KindSite {
		return told
	}
	out := slices.Clone(told)
	for n, real := range told {
		if !e.chance(30) || real.Bits() == 0 {
			continue
		}
		e.mapped++
		a := netip.AddrFrom4([4]byte{10, 223, byte(e.mapped * 4), 0})
		if real.Addr().Is6() {
			a = netip.MustParseAddr(fmt.Sprintf("2001:db8:f%02x::", e.mapped))
		}
		mapped := netip.PrefixFrom(a, real.Bits())
		e.add(design.KindMapping, "", &design.Mapping{Gateway: gateway.ID, Link: link.ID, Real: real, Mapped: mapped})
		if e.chance(85) {
			out[n] = mapped
		}
	}
	if g := gateway.Body.(*design.Gateway); e.rules && e.chance(25) &&
		link.Body.(*design.Link).Routing != design.RoutingSelectors {
		g.Translate = append(g.Translate, e.rule(link, told))
	}
	return out
}

// rule is a translation of any kind.
func (e *estate) rule(link *design.Object, ranges []netip.Prefix) design.Rule {
	e.mapped++
	pool := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 223, byte(e.mapped * 4), 4}), 32)
	hosts := e.of(design.KindEndpoint, "")
	switch e.r.IntN(4) {
	case 0:
		return design.Rule{Hook: design.Postrouting, Toward: link.ID, Does: design.FromPool, Into: pool}
	case 1:
		return design.Rule{Hook: design.Postrouting, Toward: link.ID, Does: design.Nothing, Source: fours(ranges)}
	case 2:
		target := pick(e.r, hosts).Body.(*design.Endpoint).Addresses[0]
		if target.Is6() {
			target = netip.MustParseAddr("10.212.0.10")
		}
		return design.Rule{
			Hook: design.Prerouting, From: link.ID, Does: design.ToTarget, Target: target,
			Services: []design.Service{{Proto: "udp", Port: port}},
		}
	}
	return design.Rule{
		Hook: design.Postrouting, From: link.ID, Does: design.FromPool, Into: pool,
		Services: []design.Service{{Proto: "tcp", Port: port}},
	}
}

func fours(ps []netip.Prefix) []netip.Prefix {
	return slices.DeleteFunc(slices.Clone(ps), func(p netip.Prefix) bool { return p.Addr().Is6() })
}

func (e *estate) peerings() {
	networks := e.of(design.KindNetwork, "")
	for n := 1; n < len(networks); n++ {
		if !e.chance(60) {
			continue
		}
		p := &design.Peering{
			Halves: []design.Half{{Network: networks[n-1].ID, Made: true}, {Network: networks[n].ID, Made: true}},
		}
		ok := true
		switch e.r.IntN(6) {
		case 0:
			p.Halves[1].Made, p.State, ok = false, design.Waiting, false
		case 1:
			p.Halves[0].Made, p.Halves[1].Made, p.State, ok = false, false, design.Making, e.side == design.Planned
		case 2:
			p.State, ok = design.Gone, false
		}
		for _, a := range design.RangesOf(networks[n-1]) {
			for _, b := range design.RangesOf(networks[n]) {
				ok = ok && !a.Overlaps(b)
			}
		}
		o := e.add(design.KindPeering, "", p)
		e.up[o.ID] = ok
	}
}

// entries fill the tables of networks: some right, some wrong, some missing.
func (e *estate) entries() {
	for _, t := range e.of(design.KindTable, "") {
		b := t.Body.(*design.Table)
		var vias []design.ID
		for _, g := range e.of(design.KindGateway, t.Parent) {
			vias = append(vias, g.ID)
		}
		for _, o := range slices.Concat(e.of(design.KindPeering, ""), e.of(design.KindAttachment, "")) {
			if j, ok := design.JointOf(o); ok {
				if _, _, at := j.Far(t.Parent); at {
					vias = append(vias, o.ID)
				}
			}
		}
		for _, to := range slices.Concat(siteRanges, siteRanges6, blocks, blocks6) {
			if e.chance(30) {
				b.Routes = append(b.Routes, design.Entry{Prefix: to, Via: pick(e.r, vias)})
			}
		}
		for _, o := range e.of(design.KindMapping, "") {
			if e.chance(40) {
				b.Routes = append(b.Routes, design.Entry{Prefix: o.Body.(*design.Mapping).Mapped, Via: pick(e.r, vias)})
			}
		}
	}
}
