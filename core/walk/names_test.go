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

// Two gardens with one range, each reached in a segment of its own: what an address is
// called, and whose it is, depends on the segment that it is called from.
func TestNamesAreThoseOfTheCallersSegment(t *testing.T) {
	d := design.New("segments", nil)
	var edits []design.Edit
	add := func(k design.Kind, parent design.ID, name string, b design.Body) design.ID {
		id := design.IDFor(k, string(parent)+name)
		edits = append(edits, design.PutEdit(&design.Object{ID: id, Kind: k, Parent: parent, Name: name, Body: b}))
		return id
	}
	same := netip.MustParsePrefix("192.168.216.0/24")
	hill := add(design.KindSite, "", "hill", &design.Site{})
	gate := add(
		design.KindGateway, hill, "gateway",
		&design.Gateway{Addresses: []netip.Addr{netip.MustParseAddr("198.51.100.1")}},
	)
	lans, hosts := map[string]design.ID{}, map[string]design.ID{}
	for n, name := range []string{"grounds", "science"} {
		s := add(design.KindSegment, "", name, &design.Segment{})
		own := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 214, byte(n), 0}), 24)
		lans[name] = add(design.KindLAN, hill, name, &design.LAN{Prefixes: []netip.Prefix{own}, Segment: s})
		site := add(design.KindSite, "", "garden of "+name, &design.Site{})
		far := add(
			design.KindGateway, site, "gateway",
			&design.Gateway{Addresses: []netip.Addr{netip.AddrFrom4([4]byte{203, 0, 113, byte(n + 1)})}},
		)
		lan := add(design.KindLAN, site, "house", &design.LAN{Prefixes: []netip.Prefix{same}, Segment: s})
		hosts[name] = add(
			design.KindEndpoint, lan, "controller",
			&design.Endpoint{Addresses: []netip.Addr{netip.MustParseAddr("192.168.216.17")}},
		)
		link := add(
			design.KindLink, "", "link of "+name,
			&design.Link{
				Routing: design.RoutingStatic, Segment: s,
				Ends: []design.End{
					{Gateway: gate, Routes: []netip.Prefix{same}}, {Gateway: far, Routes: []netip.Prefix{own}},
				},
			},
		)
		add(
			design.KindTunnel,
			link,
			"tunnel 1",
			&design.Tunnel{
				Outside: []netip.Addr{
					netip.MustParseAddr("198.51.100.1"),
					netip.AddrFrom4([4]byte{203, 0, 113, byte(n + 1)}),
				},
				Inside: []netip.Prefix{
					netip.PrefixFrom(netip.AddrFrom4([4]byte{169, 254, 140, byte(4*n + 1)}), 30),
					netip.PrefixFrom(netip.AddrFrom4([4]byte{169, 254, 140, byte(4*n + 2)}), 30),
				},
			},
		)
	}
	d, _, err := d.Apply(edits)
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	a := netip.MustParseAddr("192.168.216.17")
	for name, lan := range lans {
		for other, host := range hosts {
			names := walk.NamesFor(tables, lan, d.Get(host), a)
			if name == other {
				require.Len(t, names, 1, "%s calls the controller of %s by its address", name, other)
				f, err := walk.FlowBetween(tables, lan, host, design.Service{Proto: "icmp"})
				require.NoError(t, err)
				assert.True(t, walk.Prove(tables, f).Works)
			} else {
				assert.Empty(t, names, "%s does not know the controller of %s", name, other)
			}
		}
	}
	for name, host := range hosts {
		seen := walk.IdentityOf(tables, d.Get(host), a).Names[0]
		assert.Contains(t, seen.Parties, hill, "%s is seen from the hill, in its segment", name)
	}
}

// A published service that does not answer now is dialled all the same: its caller knows
// no other address.
func TestAListenerThatIsDownIsStillWhatIsDialled(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	service := design.Service{Proto: "tcp", Port: 502}
	gauge := d.Find("rain-gauge", design.KindEndpoint)[0]
	logger := d.Find("marrow-hill/data-room", design.KindLAN)[0]
	tables := route.Solve(d, status.Condition{})
	f, err := walk.FlowBetween(tables, logger.ID, gauge.ID, service)
	require.NoError(t, err)
	require.Equal(t, "10.214.1.250", f.To.String())
	relay := d.Find("rowan-hut/relay", design.KindGateway)[0]
	tables = route.Solve(d, status.Condition{Without: []status.Thing{{Object: relay.ID}}})
	f, err = walk.FlowBetween(tables, logger.ID, gauge.ID, service)
	require.NoError(t, err)
	assert.Equal(t, "10.214.1.250", f.To.String())
	p := walk.Prove(tables, f)
	require.NotNil(t, p.Stop)
	assert.Equal(t, walk.Code(status.LinkDown), p.Stop.Code, p.Stop.Why)
}
