package design_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
)

// two are two sites that are joined, and a third whose name comes first.
const two = `dravin: 1
name: Numbers
segments: [{name: science}]
sites:
  - {name: Alder Hut, gateways: [{name: gateway, addresses: 198.51.100.3}], lans: [{name: bench, prefixes: 10.214.3.0/24}]}
  - {name: Marrow Hill, gateways: [{name: gateway, addresses: 198.51.100.1}], lans: [{name: office, prefixes: 10.214.1.0/24}]}
  - {name: Old Orangery, gateways: [{name: gateway, addresses: 198.51.100.2}], lans: [{name: glasshouse, prefixes: 10.214.2.0/24}]}
links:
  - name: hill to orangery
    routing: static
    ends: [{gateway: marrow-hill/gateway, routes: 10.214.2.0/24}, {gateway: old-orangery/gateway, routes: 10.214.1.0/24}]
    tunnels: [{name: tunnel 1, outside: [0.0.0.0, 0.0.0.0]}]
`

// linked are the edits that join Marrow Hill with another site, under a name.
func linked(d *design.Design, name, far string) []design.Edit {
	body := &design.Link{Routing: design.RoutingStatic, Ends: []design.End{
		{Gateway: d.Find("marrow-hill/gateway")[0].ID, Routes: []netip.Prefix{netip.MustParsePrefix("10.214.3.0/24")}},
		{Gateway: d.Find(far + "/gateway")[0].ID, Routes: []netip.Prefix{netip.MustParsePrefix("10.214.1.0/24")}},
	}}
	link := &design.Object{ID: design.ID("link " + name), Kind: design.KindLink, Name: name, Body: body}
	none := netip.IPv4Unspecified()
	tunnel := &design.Object{
		ID: design.ID("tunnel " + name), Kind: design.KindTunnel, Parent: link.ID, Name: "tunnel 1",
		Body: &design.Tunnel{Outside: []netip.Addr{none, none}},
	}
	return []design.Edit{design.PutEdit(link), design.PutEdit(tunnel)}
}

// What runs keeps its number when something with an earlier name comes, when something goes, and when either is undone;
// the next free one is given, and the file says it.
func TestNumbersAreForLife(t *testing.T) {
	d, err := design.Read([]byte(two))
	require.NoError(t, err)
	hill := d.Find("marrow-hill/gateway")[0].ID
	old := d.Find("hill-to-orangery/tunnel-1")[0].ID
	require.Equal(t, map[design.ID]int{old: 1}, d.NumbersAt(hill, design.KindTunnel))

	next, back, err := d.Apply(linked(d, "alder to hill", "alder-hut"))
	require.NoError(t, err)
	assert.Equal(t, map[design.ID]int{old: 1, "tunnel alder to hill": 2}, next.NumbersAt(hill, design.KindTunnel))
	undone, _, err := next.Replay(back)
	require.NoError(t, err)
	assert.Empty(t, d.EditsTo(undone))

	text, err := next.Write()
	require.NoError(t, err)
	again, err := design.Read(text)
	require.NoError(t, err, "%s", text)
	gateway, first := again.Find("marrow-hill/gateway")[0], again.Find("hill-to-orangery/tunnel-1")[0]
	assert.Equal(t, 1, again.NumbersAt(gateway.ID, design.KindTunnel)[first.ID])

	gone := next.Removal(next.Find("hill-to-orangery")[0].ID).Edits
	less, _, err := next.Apply(gone)
	require.NoError(t, err)
	assert.Equal(t, map[design.ID]int{"tunnel alder to hill": 2}, less.NumbersAt(hill, design.KindTunnel))
	more, _, err := less.Apply(linked(less, "a third", "old-orangery"))
	require.NoError(t, err)
	assert.Equal(t, 3, more.NumbersAt(hill, design.KindTunnel)["tunnel a third"], "what runs has its number until it goes")
	for n := range gone {
		gone[n].Side = design.Built
	}
	less, _, err = less.Apply(gone)
	require.NoError(t, err)
	more, _, err = less.Apply(linked(less, "a third", "old-orangery"))
	require.NoError(t, err)
	assert.Equal(t, 1, more.NumbersAt(hill, design.KindTunnel)["tunnel a third"], "the next free one")
}

// What is copied with the number of another gets its own; one that is typed for a second time is refused.
func TestNumbersAreNobodyElses(t *testing.T) {
	d, err := design.Read([]byte(two))
	require.NoError(t, err)
	d, _, err = d.Apply(linked(d, "alder to hill", "alder-hut"))
	require.NoError(t, err)
	copied := linked(d, "b third", "old-orangery")
	copied[1].Object.Body.(*design.Tunnel).Numbers = []uint16{2, 1}
	next, _, err := d.Apply(copied)
	require.NoError(t, err)
	assert.Equal(t, []uint16{3, 2}, next.Get("tunnel b third").Body.(*design.Tunnel).Numbers)

	typed := design.Edited(next.Get("tunnel b third"), func(b *design.Tunnel) { b.Numbers = []uint16{1, 2} })
	_, _, err = next.Apply([]design.Edit{design.PutEdit(typed)})
	assert.ErrorContains(t, err, "is that of the tunnel hill-to-orangery/tunnel-1, too")

	earlier := &design.Object{ID: "grounds", Kind: design.KindSegment, Name: "grounds", Body: &design.Segment{}}
	next, _, err = d.Apply([]design.Edit{design.PutEdit(earlier)})
	require.NoError(t, err)
	assert.Equal(t, map[design.ID]int{"grounds": 2, d.Find("science", design.KindSegment)[0].ID: 1}, next.SegmentNumbers())
}
