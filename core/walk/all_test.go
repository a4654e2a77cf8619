package walk_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/prefix"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
)

// Every field of every kind that may hold a range or an address is among what tells
// packets apart: each is set to a value of its own, and must be found.
func TestEveryRangeOfAnyBodyTellsPacketsApart(t *testing.T) {
	for kind, body := range design.Bodies() {
		n := 0
		want := map[netip.Prefix]string{}
		var fill func(v reflect.Value, path string)
		fill = func(v reflect.Value, path string) {
			n++
			p := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 208, byte(n), 4}), 30)
			switch v.Interface().(type) {
			case netip.Prefix:
				v.Set(reflect.ValueOf(p))
				want[p] = path
				return
			case netip.Addr:
				v.Set(reflect.ValueOf(p.Addr()))
				want[prefix.Alone(p.Addr())] = path
				return
			}
			switch v.Kind() {
			case reflect.Slice:
				v.Set(reflect.MakeSlice(v.Type(), 1, 1))
				fill(v.Index(0), path)
			case reflect.Struct:
				for k := range v.NumField() {
					if f := v.Type().Field(k); f.IsExported() {
						fill(v.Field(k), path+"."+f.Name)
					}
				}
			}
		}
		fill(reflect.ValueOf(body).Elem(), string(kind))
		found := design.PrefixesOf(body)
		for p, path := range want {
			if path != "endpoint.Addresses" { // hosts, each of which is looked at
				assert.Contains(t, found, p, path)
			}
		}
	}
}

// What is said to never work does not work from any host to any address, for all the
// black holes, selectors, rules and routes that may stand anywhere.
func TestNeverIsNever(t *testing.T) {
	held, failed := 0, 0
	for seed := range uint64(150) {
		d := small(t, rand.New(rand.NewPCG(seed, 7)))
		tables := route.Solve(d, status.Condition{})
		r := proof.Of(tables).Intent(d.Of(design.KindIntent)[0].ID)
		if !r.Holds {
			failed++
			continue
		}
		held++
		from, to := d.Find("near/lan", design.KindLAN)[0], d.Find("far/lan", design.KindLAN)[0]
		for _, a := range addressesIn("10.214.0.0/28") {
			for _, b := range slices.Concat(addressesIn("10.215.0.0/28"), addressesIn("10.223.0.0/28")) {
				for _, port := range []uint16{22, 443} {
					p := walk.Prove(
						tables,
						walk.Flow{
							From: walk.Host{Place: from.ID, Address: a}, To: b,
							Service: design.Service{Proto: "tcp", Port: port},
						},
					)
					reached := p.Works && len(p.Forward) > 0 && d.Get(p.Forward[len(p.Forward)-1].At.ID) != nil &&
						(p.To.ID == to.ID || d.Get(p.To.ID).Parent == to.ID)
					require.False(t, reached, "seed %d: %s to %s port %d", seed, a, b, port)
				}
			}
		}
	}
	assert.Greater(t, held, 10)
	assert.Greater(t, failed, 10)
}

func addressesIn(text string) (out []netip.Addr) {
	p := netip.MustParsePrefix(text)
	for a := p.Addr().Next(); p.Contains(a.Next()); a = a.Next() {
		out = append(out, a)
	}
	return out
}

// small is two sites with a link, whose gateways have entries, rules and selectors that
// name parts of the two ranges at random.
func small(t *testing.T, r *rand.Rand) *design.Design {
	var edits []design.Edit
	add := func(k design.Kind, parent, name string, b design.Body) design.ID {
		id := design.IDFor(k, parent+name)
		edits = append(
			edits, design.PutEdit(&design.Object{ID: id, Kind: k, Parent: design.ID(parent), Name: name, Body: b}),
		)
		return id
	}
	part := func(whole string) netip.Prefix {
		p := netip.MustParsePrefix(whole)
		a := p.Addr()
		for range r.IntN(16) {
			a = a.Next()
		}
		return netip.PrefixFrom(a, 28+r.IntN(5)).Masked()
	}
	near := string(add(design.KindSite, "", "near", &design.Site{}))
	far := string(add(design.KindSite, "", "far", &design.Site{}))
	own, theirs := netip.MustParsePrefix("10.214.0.0/28"), netip.MustParsePrefix("10.215.0.0/28")
	mapped := netip.MustParsePrefix("10.223.0.0/28")
	a := &design.Gateway{Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.1")}}
	b := &design.Gateway{Addresses: []netip.Addr{netip.MustParseAddr("203.0.113.1")}}
	ga, gb := design.IDFor(design.KindGateway, near+"gateway"), design.IDFor(design.KindGateway, far+"gateway")
	link := design.IDFor(design.KindLink, "link")
	for range 1 + r.IntN(3) {
		a.Routes = append(a.Routes, design.BoxRoute{Prefix: part("10.215.0.0/28")})
		b.Routes = append(b.Routes, design.BoxRoute{Prefix: part("10.214.0.0/28")})
	}
	if r.IntN(3) == 0 {
		b.Translate = append(
			b.Translate,
			design.Rule{
				Hook: design.Prerouting, Does: design.ToTarget, From: link, Target: netip.MustParseAddr("10.215.0.5"),
				Destination: []netip.Prefix{part("10.223.0.0/28")}, Source: []netip.Prefix{part("10.214.0.0/28")},
			},
		)
	}
	if r.IntN(3) == 0 {
		b.Translate = append(
			b.Translate,
			design.Rule{
				Hook: design.Prerouting, Does: design.OneToOne, From: link, Real: theirs, Into: mapped,
				Source: []netip.Prefix{part("10.214.0.0/28")},
			},
		)
	}
	add(design.KindGateway, near, "gateway", a)
	add(design.KindGateway, far, "gateway", b)
	from := add(design.KindLAN, near, "lan", &design.LAN{Prefixes: []netip.Prefix{own}})
	to := add(design.KindLAN, far, "lan", &design.LAN{Prefixes: []netip.Prefix{theirs}})
	l := &design.Link{
		Routing: design.RoutingStatic,
		Ends: []design.End{
			{Gateway: ga, Routes: []netip.Prefix{part("10.215.0.0/28"), part("10.223.0.0/28")}},
			{Gateway: gb, Routes: []netip.Prefix{part("10.214.0.0/28")}},
		},
	}
	if r.IntN(3) == 0 {
		x, y := part("10.214.0.0/28"), part("10.215.0.0/28")
		l = &design.Link{
			Routing: design.RoutingSelectors,
			Ends: []design.End{
				{Gateway: ga, Local: []netip.Prefix{x}, Remote: []netip.Prefix{y}},
				{Gateway: gb, Local: []netip.Prefix{y}, Remote: []netip.Prefix{x}},
			},
		}
	}
	add(design.KindLink, "", "link", l)
	edits[len(edits)-1].ID, edits[len(edits)-1].Object.ID = link, link
	add(
		design.KindTunnel, string(link), "tunnel 1",
		&design.Tunnel{Outside: []netip.Addr{a.Addresses[0], b.Addresses[0]}},
	)
	add(design.KindIntent, "", "never", &design.Intent{From: from, To: to, Never: true})
	d, _, err := design.New("small", nil).Apply(edits)
	require.NoError(t, err, fmt.Sprint(l))
	return d
}
