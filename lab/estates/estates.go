// Package estates makes random estates in which little is joined yet: sites, networks, hubs and edge
// routers with ranges that are alike here and there, and intents between them. It is for tests of what
// is drafted, planned and copied; a seed makes the same estate each time.
package estates

import (
	"fmt"
	"math/rand/v2"
	"net/netip"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
)

// Options say what an estate has.
type Options struct {
	Collisions bool // ranges may be alike
	Segments   bool // some places are in segments
	Intents    bool // what must talk, and what must never
	Joined     bool // some joints are there
}

// estate is one that is being made.
type estate struct {
	Options
	r       *rand.Rand
	objects []*design.Object
	public  int
	range4  int
	segment []design.ID
	owners  []design.ID
}

// Make makes the estate of a seed.
func Make(seed uint64, o Options) *design.Design {
	for try := uint64(0); ; try++ {
		e := &estate{Options: o, r: rand.New(rand.NewPCG(seed, try))}
		e.make()
		if d := e.valid(); d != nil {
			return d
		}
		if try > 100 {
			panic(fmt.Sprintf("seed %d makes no valid estate", seed))
		}
	}
}

func (e *estate) valid() *design.Design {
	var edits []design.Edit
	for _, o := range e.objects {
		edits = append(edits, design.PutEdit(o))
	}
	d, _, err := design.New("estate", nil).Apply(edits)
	if err != nil {
		return nil
	}
	if e.Joined {
		d = e.join(d)
	}
	return d
}

func (e *estate) chance(percent int) bool { return e.r.IntN(100) < percent }

func pick[T any](r *rand.Rand, list []T) T { return list[r.IntN(len(list))] }

func (e *estate) add(k design.Kind, parent design.ID, name string, b design.Body) *design.Object {
	o := &design.Object{ID: design.IDFor(k, string(parent)+"/"+name), Kind: k, Parent: parent, Name: name, Body: b}
	e.objects = append(e.objects, o)
	return o
}

func (e *estate) of(kinds ...design.Kind) (out []*design.Object) {
	for _, o := range e.objects {
		for _, k := range kinds {
			if o.Kind == k {
				out = append(out, o)
			}
		}
	}
	return out
}

var siteNames = []string{
	"Old Orangery", "Peatside Nursery", "Dunmoss Arboretum", "Alder Hut", "Rowan Hut", "Thornfield Station", "Fern Lodge",
}

// alike are the ranges that boxes come with.
var alike = []netip.Prefix{
	netip.MustParsePrefix("192.168.216.0/24"), netip.MustParsePrefix("192.168.211.0/24"),
	netip.MustParsePrefix("192.168.216.128/25"),
}

func (e *estate) make() {
	if e.Segments {
		for _, name := range []string{"science", "grounds"} {
			e.segment = append(e.segment, e.add(design.KindSegment, "", name, &design.Segment{}).ID)
		}
	}
	for _, name := range []string{"Gardens", "Herbarium"} {
		e.owners = append(e.owners, e.add(design.KindOwner, "", name, &design.Owner{}).ID)
	}
	for _, name := range siteNames[:2+e.r.IntN(3)] {
		e.site(name)
	}
	for _, name := range []string{"catalogue", "sequencing", "ticketing"}[:e.r.IntN(4)] {
		e.network(name)
	}
	e.hub()
	if e.chance(40) {
		e.add(design.KindEdgeRouter, "", "Millrace", &design.EdgeRouter{Exchange: "Millrace", ASN: 4200000650})
	}
	if e.Intents {
		e.intents()
	}
}

// next is a /24 that nobody has.
func (e *estate) next(within netip.Addr) netip.Prefix {
	e.range4++
	b := within.As4()
	return netip.PrefixFrom(netip.AddrFrom4([4]byte{b[0], b[1], byte(e.range4 * 4), 0}), 24)
}

func (e *estate) owner() design.ID {
	if e.chance(70) {
		return e.owners[0]
	}
	return pick(e.r, append(e.owners, ""))
}

func (e *estate) inSegment() design.ID {
	if len(e.segment) == 0 || e.chance(50) {
		return ""
	}
	return pick(e.r, e.segment)
}

func (e *estate) address() netip.Addr {
	e.public++
	return netip.AddrFrom4([4]byte{203, 0, 113, byte(e.public)})
}

func (e *estate) site(name string) {
	site := e.add(design.KindSite, "", name, &design.Site{Owner: e.owner()})
	g := &design.Gateway{Addresses: []netip.Addr{e.address()}}
	if e.chance(30) {
		g.Addresses = append(g.Addresses, e.address())
	}
	if e.chance(50) {
		g.ASN = 4200000600 + uint32(e.public)
	}
	if e.chance(30) {
		g.Translate = []design.Rule{{Hook: design.Postrouting, Does: design.OwnAddress}}
	}
	e.add(design.KindGateway, site.ID, "gateway", g)
	for n := range 1 + e.r.IntN(2) {
		r := e.next(netip.MustParseAddr("10.212.0.0"))
		if e.Collisions && e.chance(55) {
			r = pick(e.r, alike)
		}
		lan := e.add(
			design.KindLAN, site.ID, []string{"glasshouse", "office"}[n],
			&design.LAN{Prefixes: []netip.Prefix{r}, Segment: e.inSegment(), Fixed: e.chance(50)},
		)
		if e.chance(60) {
			e.host(lan, r)
		}
	}
	if e.chance(25) {
		lan := e.of(design.KindLAN)
		last := lan[len(lan)-1]
		e.add(design.KindInnerRoute, site.ID, "store", &design.InnerRoute{
			Prefixes: []netip.Prefix{e.next(netip.MustParseAddr("10.213.0.0"))},
			Via:      design.RangesOf(last)[0].Addr().Next().Next().Next(), Segment: last.Body.(*design.LAN).Segment,
		})
	}
}

func (e *estate) host(place *design.Object, r netip.Prefix) {
	h := &design.Endpoint{Addresses: []netip.Addr{r.Addr().Next().Next().Next().Next()}}
	if e.chance(60) {
		h.Answers = []design.Service{{Proto: "tcp", Port: pick(e.r, []uint16{443, 502})}}
	}
	e.add(design.KindEndpoint, place.ID, "controller", h)
}

var clouds = []struct {
	name, region string
	zones        []string
}{
	{"Tarn", "tarn-north", []string{"tarn-north-a", "tarn-north-b"}},
	{"Osier", "osier-west", []string{"osier-west-1", "osier-west-2"}},
	{"Sedge", "sedge-coast", []string{"sedge-coast-a", "sedge-coast-b"}},
}

func (e *estate) network(name string) {
	c := pick(e.r, clouds)
	e.range4++
	block := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 208, byte(e.range4*16) & 0xf0, 0}), 20)
	if e.Collisions && e.chance(25) {
		block = netip.MustParsePrefix("192.168.208.0/20")
	}
	n := e.add(design.KindNetwork, "", name, &design.Network{
		Cloud: c.name, Region: c.region, Blocks: []netip.Prefix{block}, Owner: e.owner(), Segment: e.inSegment(),
	})
	var tables []design.ID
	tableCount := 1
	if c.name != "Sedge" {
		tableCount += e.r.IntN(2)
	}
	for k := range tableCount {
		tables = append(tables, e.add(design.KindTable, n.ID, fmt.Sprintf("table %d", k+1), &design.Table{}).ID)
	}
	at := block.Addr()
	for k := range 1 + e.r.IntN(2) {
		b := at.As4()
		r := netip.PrefixFrom(netip.AddrFrom4([4]byte{b[0], b[1], b[2] + byte(k*8), 0}), 24)
		s := e.add(design.KindSubnet, n.ID, fmt.Sprintf("racks %d", k+1), &design.Subnet{
			Zone: c.zones[k%2], Prefixes: []netip.Prefix{r}, Table: tables[k%len(tables)],
		})
		if e.chance(70) {
			e.host(s, r)
		}
	}
}

func (e *estate) hub() {
	for _, o := range e.of(design.KindNetwork) {
		n := o.Body.(*design.Network)
		if n.Cloud == "Osier" || !e.chance(45) {
			continue
		}
		h := e.add(design.KindHub, "", n.Cloud+" hub", &design.Hub{
			Cloud: n.Cloud, Region: n.Region, ASN: 4200000640, Owner: e.owner(),
		})
		if e.chance(50) {
			e.add(design.KindHubTable, h.ID, "main", &design.HubTable{Segment: n.Segment})
		}
		return
	}
}

// intents are a few that must hold between parties, and one that must never.
func (e *estate) intents() {
	ends := e.of(design.KindLAN, design.KindSubnet, design.KindEndpoint, design.KindInnerRoute)
	byID := map[design.ID]*design.Object{}
	for _, o := range e.objects {
		byID[o.ID] = o
	}
	party := func(o *design.Object) design.ID {
		for byID[o.Parent] != nil {
			o = byID[o.Parent]
		}
		return o.ID
	}
	for n := range 2 + e.r.IntN(4) {
		a, b := pick(e.r, ends), pick(e.r, ends)
		if party(a) == party(b) {
			continue
		}
		in := &design.Intent{From: a.ID, To: b.ID, Service: design.Service{Proto: "tcp", Port: 443}}
		if h, ok := b.Body.(*design.Endpoint); ok && len(h.Answers) > 0 {
			in.Service = h.Answers[0]
		} else if !ok {
			in.Service = design.Service{Proto: "icmp"}
		}
		e.add(design.KindIntent, "", fmt.Sprintf("intent %d", n+1), in)
	}
	if e.chance(30) {
		a, b := pick(e.r, ends), pick(e.r, ends)
		if party(a) != party(b) {
			e.add(design.KindIntent, "", "never", &design.Intent{From: a.ID, To: b.ID, Never: true})
		}
	}
}

// join drafts a few joints, as somebody has before.
func (e *estate) join(d *design.Design) *design.Design {
	parties := d.Inside("", design.KindSite, design.KindNetwork, design.KindHub, design.KindEdgeRouter)
	for range e.r.IntN(3) {
		a, b := pick(e.r, parties), pick(e.r, parties)
		shapes, err := draft.Shapes(allocation.NewBooks(d), draft.Options{A: a.ID, B: b.ID, GB: 100})
		if err != nil {
			continue
		}
		var can []draft.Shape
		for _, s := range shapes {
			if len(s.Out) == 0 {
				can = append(can, s)
			}
		}
		if len(can) == 0 {
			continue
		}
		if next, _, err := d.Apply(pick(e.r, can).Edits); err == nil {
			d = next
		}
	}
	return d
}
