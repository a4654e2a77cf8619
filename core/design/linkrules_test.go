package design

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/demo"
)

// What makes hubs, circuits, peerings, sessions and tunnels impossible is
// refused with the field, and the design stays as it was.
func TestLinkRulesNameTheFieldAndWhatWouldBeRight(t *testing.T) {
	for _, c := range []struct {
		name, path string
		kind       Kind
		change     func(d *Design, b Body)
		field, why string
	}{
		{
			"a hub attached to itself", "tarn-hub/catalogue", KindAttachment,
			func(d *Design, b Body) { b.(*Attachment).What = d.Find("tarn-hub", KindHub)[0].ID }, "what",
			"a hub can not attach to itself",
		},
		{"another network's subnet", "tarn-hub/catalogue", KindAttachment, func(d *Design, b Body) {
			b.(*Attachment).Subnets = []Ref{d.Find("herbarium-scans/racks-a")[0].ID}
		}, "subnets[0]", "name a subnet of catalogue"},
		{
			"another hub's table", "tarn-hub/catalogue", KindAttachment,
			func(d *Design, b Body) { b.(*Attachment).Bound = d.Find("visitor-hub/main")[0].ID }, "bound",
			"another hub's table",
		},
		{"another hub's attachment", "tarn-hub/main", KindHubTable, func(d *Design, b Body) {
			b.(*HubTable).Routes = []HubEntry{
				{
					Prefix: netip.MustParsePrefix("10.0.0.0/8"),
					Via:    d.Find("visitor-hub/ticketing", KindAttachment)[0].ID,
				},
			}
		}, "routes[0].via", "name an attachment of Tarn hub"},
		{
			"both ends of a circuit the same", "saltmarsh-station-circuit", KindCircuit,
			func(_ *Design, b Body) { b.(*Circuit).Ends[1].At = b.(*Circuit).Ends[0].At }, "ends[1].at",
			"both ends are the same",
		},
		{
			"a VLAN tag that is none", "saltmarsh-station-circuit", KindCircuit,
			func(_ *Design, b Body) { b.(*Circuit).Ends[0].VLAN = 4095 }, "ends[0].vlan", "from 1 to 4094",
		},
		{
			"a date that is none", "saltmarsh-station-circuit", KindCircuit,
			func(_ *Design, b Body) { b.(*Circuit).Expires = "2026-13-01" }, "expires", "is not a date",
		},
		{
			"a network peered with itself", "sequencing-with-image-analysis", KindPeering,
			func(_ *Design, b Body) { b.(*Peering).Halves[1].Network = b.(*Peering).Halves[0].Network },
			"halves[1].network", "name the other network",
		},
		{
			"a hold time of 2", "saltmarsh-station-circuit/session", KindSession,
			func(_ *Design, b Body) { b.(*Session).Ends[0].Hold = 2 }, "ends[0].hold", "3 s or more",
		},
		{
			"a filter's lengths", "saltmarsh-station-circuit/session", KindSession,
			func(_ *Design, b Body) { b.(*Session).Ends[0].Out[0].From, b.(*Session).Ends[0].Out[0].To = 28, 24 },
			"ends[0] filter", "make no range",
		},
		{
			"one end's settings alone", "peatside-to-marrow-hill/tunnel-1", KindTunnel,
			func(_ *Design, b Body) { b.(*Tunnel).Ends = []TunnelEnd{{Version: 1}} }, "ends",
			"give both ends' settings",
		},
		{"selectors in two places", "peatside-to-marrow-hill/tunnel-1", KindTunnel, func(_ *Design, b Body) {
			b.(*Tunnel).Ends = []TunnelEnd{{Local: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}}, {}}
		}, "ends[0].local", "at its own ends"},
		{
			"another network's gateway subnet", "image-analysis/twin-gateway", KindGateway,
			func(d *Design, b Body) { b.(*Gateway).Subnet = d.Find("sequencing/readers")[0].ID }, "subnet",
			"name a subnet of image analysis",
		},
		{"a table via a foreign attachment", "sequencing/main-table", KindTable, func(d *Design, b Body) {
			b.(*Table).Routes = []Entry{
				{Prefix: netip.MustParsePrefix("10.0.0.0/8"), Via: d.Find("tarn-hub/catalogue", KindAttachment)[0].ID},
			}
		}, "routes[0].via", "name a gateway, peering or attachment of sequencing"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := whole(t)
			o, err := d.Find(c.path, c.kind)[0].Remap(nil)
			require.NoError(t, err)
			c.change(d, o.Body)
			_, _, err = d.Apply([]Edit{PutEdit(o)})
			require.ErrorContains(t, err, c.why)
			var problems Problems
			require.ErrorAs(t, err, &problems)
			assert.True(
				t,
				slices.ContainsFunc(
					problems, func(p Problem) bool { return p.Object == o.ID && strings.Contains(p.Field, c.field) },
				),
				"%v", problems,
			)
		})
	}
}

// A state that a body has is read, written and changed in one way.
func TestStates(t *testing.T) {
	d := whole(t)
	for _, k := range []Kind{KindLink, KindPeering, KindCircuit, KindAttachment, KindHub, KindEdgeRouter} {
		o := d.Of(k)[0]
		for _, s := range []State{Waiting, Making, Ready, Refused, Gone} {
			assert.Equal(t, s, StateOf(o.InState(s)), k)
		}
		assert.Equal(t, Ready, StateOf(o.InState("")), k)
	}
	site := d.Of(KindSite)[0]
	assert.Same(t, site, site.InState(Gone))
}

// The whole trust, every kind of link included, survives being written.
func TestEveryKindOfLinkSurvivesTheFile(t *testing.T) {
	d := whole(t)
	for _, s := range specs {
		if s.kind != KindProfile && s.kind != KindMapping {
			assert.NotEmpty(t, d.Of(s.kind), "the demo has no %s", s.kind)
		}
	}
	file, err := d.Write()
	require.NoError(t, err)
	back, err := Read(file)
	require.NoError(t, err)
	assert.Empty(t, d.EditsTo(back))
}

func whole(t *testing.T) *Design {
	d, err := Read(demo.Thistledown)
	require.NoError(t, err)
	return d
}
