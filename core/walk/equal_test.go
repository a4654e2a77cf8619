package walk_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/demo"
)

// estate collects the objects of a small design.
type estate struct{ edits []design.Edit }

func (e *estate) add(k design.Kind, parent design.ID, name string, b design.Body) design.ID {
	id := design.IDFor(k, string(parent)+name)
	e.edits = append(e.edits, design.PutEdit(&design.Object{ID: id, Kind: k, Parent: parent, Name: name, Body: b}))
	return id
}

func (e *estate) tables(t *testing.T) *route.Tables {
	d, _, err := design.New("small", nil).Apply(e.edits)
	require.NoError(t, err)
	return route.Solve(d, status.Condition{})
}

// Two gardens announce one range by paths as long: the box shares, so that some
// conversations go astray. The flow does not work, and it does not never work either.
func TestEqualRoutesAreAllWalked(t *testing.T) {
	var e estate
	same := netip.MustParsePrefix("192.168.216.0/24")
	hill := e.add(design.KindSite, "", "hill", &design.Site{})
	gate := e.add(
		design.KindGateway, hill, "gateway",
		&design.Gateway{ASN: 64501, Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.1")}},
	)
	lan := e.add(
		design.KindLAN, hill, "lan", &design.LAN{Prefixes: []netip.Prefix{netip.MustParsePrefix("10.214.0.0/24")}},
	)
	var hosts []design.ID
	for n, name := range []string{"orangery", "nursery"} {
		public := netip.AddrFrom4([4]byte{203, 0, 113, byte(n + 1)})
		in := netip.AddrFrom4([4]byte{169, 254, 140, byte(4 * n)})
		site := e.add(design.KindSite, "", name, &design.Site{})
		far := e.add(
			design.KindGateway, site, "gateway",
			&design.Gateway{ASN: uint32(64502 + n), Addresses: []netip.Addr{public}},
		)
		house := e.add(design.KindLAN, site, "house", &design.LAN{Prefixes: []netip.Prefix{same}})
		hosts = append(
			hosts,
			e.add(
				design.KindEndpoint, house, "controller",
				&design.Endpoint{Addresses: []netip.Addr{netip.MustParseAddr("192.168.216.17")}},
			),
		)
		link := e.add(
			design.KindLink, "", "to "+name,
			&design.Link{Routing: design.RoutingBGP, Ends: []design.End{{Gateway: gate}, {Gateway: far}}},
		)
		tunnel := e.add(
			design.KindTunnel, link, "tunnel 1",
			&design.Tunnel{
				Outside: []netip.Addr{netip.MustParseAddr("198.51.100.1"), public},
				Inside:  []netip.Prefix{netip.PrefixFrom(in.Next(), 30), netip.PrefixFrom(in.Next().Next(), 30)},
			},
		)
		e.add(
			design.KindSession, tunnel, "session",
			&design.Session{
				Ends: []design.SessionEnd{
					{ASN: 64501, Address: in.Next()}, {ASN: uint32(64502 + n), Address: in.Next().Next()},
				},
			},
		)
	}
	tables := e.tables(t)
	for _, host := range hosts {
		f := walk.Flow{
			From: walk.Host{Place: lan, Address: netip.MustParseAddr("10.214.0.9")},
			To:   netip.MustParseAddr("192.168.216.17"), Meant: host, Service: design.Service{Proto: "tcp", Port: 502},
		}
		assert.False(t, walk.Prove(tables, f).Works, "some conversations come to the other garden")
		assert.Contains(t, walk.Prove(tables, f).Forward[1].Text, "or as well by")
		assert.True(t, walk.Possibly(tables, f).Delivered, "and some to this one")
	}
	// A strict filter takes what comes by any of them, as the kernel does.
	e.edits = append(e.edits, design.PutEdit(design.Edited(
		tables.Design.Get(gate), func(g *design.Gateway) { g.Faults = []string{design.StrictReversePath} },
	)))
	strict := e.tables(t)
	for _, host := range hosts {
		p := walk.Possibly(strict, walk.Flow{
			From: walk.Host{Place: tables.Design.Get(host).Parent, Address: netip.MustParseAddr("192.168.216.17")},
			To:   netip.MustParseAddr("10.214.0.9"), Service: design.Service{Proto: "tcp", Port: 502},
		})
		assert.True(t, p.Delivered, "%v", p.Stop)
	}
}

// A box in a cloud's network has a table of its own: its black hole drops, though the
// range lies in the network's block. And nobody on the internet answers a private pool.
func TestBoxesEntriesAndPrivatePools(t *testing.T) {
	var e estate
	net := e.add(
		design.KindNetwork, "", "seed store",
		&design.Network{
			Cloud: "Tarn", Region: "tarn-north", Blocks: []netip.Prefix{netip.MustParsePrefix("10.208.0.0/16")},
		},
	)
	table := design.IDFor(design.KindTable, string(net)+"main")
	border := design.IDFor(design.KindTable, string(net)+"border")
	e.add(
		design.KindSubnet, net, "a",
		&design.Subnet{
			Zone: "tarn-north-a", Prefixes: []netip.Prefix{netip.MustParsePrefix("10.208.1.0/24")}, Table: table,
		},
	)
	e.add(
		design.KindSubnet, net, "b",
		&design.Subnet{
			Zone: "tarn-north-a", Prefixes: []netip.Prefix{netip.MustParsePrefix("10.208.2.0/24")}, Table: border,
		},
	)
	box := e.add(
		design.KindBox, net, "box",
		&design.Box{
			Addresses: []netip.Addr{netip.MustParseAddr("10.208.2.2")},
			Routes:    []design.BoxRoute{{Prefix: netip.MustParsePrefix("10.208.1.128/25")}},
		},
	)
	e.add(design.KindTable, net, "main", &design.Table{})
	e.add(design.KindTable, net, "border", &design.Table{})
	p := e.tables(t).Point(box)
	assert.Equal(t, route.BlackHole, p.Lookup(netip.MustParseAddr("10.208.1.200")).Winner.Hop.Kind)
	assert.NotEqual(t, route.BlackHole, p.Lookup(netip.MustParseAddr("10.208.1.20")).Winner.Hop.Kind)

	file, err := demo.Remedies.ReadFile("remedies/way-out.yaml")
	require.NoError(t, err)
	d, err := design.Read(file)
	require.NoError(t, err)
	o := d.Find("marrow-hill/gateway", design.KindGateway)[0]
	g := *o.Body.(*design.Gateway)
	g.Stands = []netip.Addr{netip.MustParseAddr("10.214.0.1")}
	g.Translate = []design.Rule{
		{Hook: design.Postrouting, Does: design.FromPool, Into: netip.MustParsePrefix("10.214.3.250/32")},
	}
	d, _, err = d.Apply([]design.Edit{design.PutEdit(o.With(&g))})
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	f, err := walk.ParseFlow(tables, "desk", "192.0.2.80", design.Service{Proto: "tcp", Port: 443})
	require.NoError(t, err)
	proof := walk.Prove(tables, f)
	require.NotNil(t, proof.Stop)
	assert.Equal(t, walk.NoWayBack, proof.Stop.Code, proof.Stop.Why)
}

// A gateway hides the source behind its own address toward a box that sends the packet
// back: the kernel takes nothing that comes from an address of its own. A pool that is
// routed to it is another matter.
func TestABoxTakesNothingFromItself(t *testing.T) {
	for into, want := range map[string]walk.Code{"": walk.OwnSource, "10.223.9.9/32": walk.NoRoute} {
		var e estate
		addr := netip.MustParseAddr
		hill := e.add(design.KindSite, "", "hill", &design.Site{})
		far := netip.MustParsePrefix("192.168.211.0/24")
		rule := design.Rule{Hook: design.Postrouting, Does: design.OwnAddress}
		if into != "" {
			rule.Does, rule.Into = design.FromPool, netip.MustParsePrefix(into)
		}
		gate := e.add(design.KindGateway, hill, "gateway", &design.Gateway{
			Stands: []netip.Addr{addr("10.214.0.1")}, Translate: []design.Rule{rule},
			Routes: []design.BoxRoute{{Prefix: far, Via: addr("10.214.0.7")}},
		})
		lan := e.add(design.KindLAN, hill, "lan", &design.LAN{
			Prefixes: []netip.Prefix{netip.MustParsePrefix("10.214.0.0/24")}, Gateways: []design.ID{gate},
		})
		e.add(design.KindBox, hill, "box", &design.Box{
			Addresses: []netip.Addr{addr("10.214.0.7")},
			Translate: []design.Rule{{Hook: design.Prerouting, Does: design.ToTarget, Target: addr("172.29.0.9")}},
			Routes:    []design.BoxRoute{{Prefix: netip.MustParsePrefix("0.0.0.0/0"), Via: addr("10.214.0.1")}},
		})
		p := walk.Prove(e.tables(t), walk.Flow{
			From: walk.Host{Place: lan, Address: addr("10.214.0.20")}, To: addr("192.168.211.20"),
			Service: design.Service{Proto: "tcp", Port: 443},
		})
		require.NotNil(t, p.Stop)
		assert.Equal(t, want, p.Stop.Code, p.Stop.Why)
	}
}

// A box's script gives it the counterpart of its own address in a mapped range: a packet that it sends from there, and
// that comes back to it, is one from an own address.
func TestTheCounterpartOfAnOwnAddressIsTheBoxs(t *testing.T) {
	d, err := design.Read([]byte(`dravin: 1
name: It dials its own mapped range
sites:
  - name: Fern Lodge
    gateways: [{name: gate, addresses: 203.0.113.12, stands: 10.214.64.2, routes: [{prefix: 10.223.2.0/24, via: 10.214.64.5}]}]
    lans: [{name: shed, prefixes: 10.214.64.0/24, endpoints: [{name: gauge, addresses: 10.214.64.17}]}]
    boxes:
      - name: mill
        addresses: 10.214.64.5
        translate:
          - {hook: arriving, does: one-to-one, real: 10.214.64.0/24, into: 10.223.2.0/24}
          - {hook: leaving, does: one-to-one, real: 10.214.64.0/24, into: 10.223.2.0/24}
`))
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	f, err := walk.ParseFlow(tables, "fern-lodge/mill", "10.223.2.17", design.Service{Proto: "icmp"})
	require.NoError(t, err)
	p := walk.Prove(tables, f)
	require.NotNil(t, p.Stop)
	assert.Equal(t, walk.OwnSource, p.Stop.Code, p.Stop.Why)
}

// Of a crossing for services what is rewritten stays in the caller's segment; what is said to mend it does.
func TestARewritingServiceAtACrossingIsToProxy(t *testing.T) {
	file := func(does string) []byte {
		return []byte(`dravin: 1
name: Services only
segments: [{name: science}, {name: grounds}]
crossings: [{name: hatch, from: science, to: grounds, does: services}]
sites:
  - name: Fern Lodge
    gateways: [{name: gate, addresses: 203.0.113.12, stands: [10.214.64.1, 10.214.65.1]}]
    lans:
      - {name: shed, prefixes: 10.214.64.0/24, segment: science, endpoints: [{name: gauge, addresses: 10.214.64.9}]}
      - {name: row, prefixes: 10.214.65.0/24, segment: grounds, endpoints: [{name: lamp, addresses: 10.214.65.9}]}
published_services:
  - {name: desk, at: fern-lodge/gate, address: 10.214.64.40, service: tcp/502, target: fern-lodge/row/lamp, ` + does + `}
`)
	}
	proof := func(does string) walk.Proof {
		d, err := design.Read(file(does))
		require.NoError(t, err)
		tables := route.Solve(d, status.Condition{})
		f, err := walk.ParseFlow(tables, "gauge", "10.214.64.40", design.Service{Proto: "tcp", Port: 502})
		require.NoError(t, err)
		return walk.Prove(tables, f)
	}
	p := proof("does: rewriting, hides: true")
	require.NotNil(t, p.Stop)
	assert.Contains(t, p.Stop.Fix, "set desk does proxying")
	assert.True(t, proof("does: proxying").Works)
}
