package walk_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/link"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/walk"
	"dravin/demo"
)

// host is an address in the first place of a party that no range of the other
// party overlaps.
func host(d *design.Design, party, other *design.Object) (walk.Host, bool) {
	for _, place := range d.Inside(party.ID, design.KindLAN, design.KindSubnet) {
		for _, p := range d.Ranges(place.ID) {
			clash := !p.Addr().Is4() || place.Name == "gateway subnet"
			for _, far := range link.Exports(d, other.ID) {
				clash = clash || far.Overlaps(p)
			}
			if lan, ok := place.Body.(*design.LAN); ok && len(lan.Gateways) > 0 && d.Get(lan.Gateways[0]).Name != "gateway" {
				clash = true // behind a gateway of its own
			}
			if !clash {
				return walk.Host{Place: place.ID, Address: prefix.FirstHost(p).Next().Next()}, true
			}
		}
	}
	return walk.Host{}, false
}

// What is drafted carries a packet there and back, whatever the shape.
func TestDraftedShapesCarryPackets(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	carried := map[string]int{}
	for _, a := range d.Inside("", design.KindSite, design.KindNetwork) {
		for _, b := range d.Inside("", design.KindSite, design.KindNetwork) {
			if a == b {
				continue
			}
			list, err := link.Shapes(d, link.Question{A: a.ID, B: b.ID, GB: 100})
			require.NoError(t, err)
			from, okA := host(d, a, b)
			to, okB := host(d, b, a)
			for _, s := range list {
				if len(s.Out) > 0 || !okA || !okB || leftOut(d, s, from) || leftOut(d, s, to) {
					continue
				}
				next, _, err := d.Apply(s.Edits)
				require.NoError(t, err)
				next = accepted(t, next)
				p := walk.Prove(route.Solve(next), walk.Flow{From: from, To: to.Address, Service: design.Service{Proto: "tcp", Port: 443}})
				assert.True(t, p.Works, "%s to %s by %s: %+v", a.Name, b.Name, s.Title, p.Stop)
				carried[s.Key]++
			}
		}
	}
	for _, key := range []string{"peering", "hub", "circuit", "vpn-bgp-paired", "vpn-selectors-single"} {
		assert.NotZero(t, carried[key], key)
	}
}

// leftOut tells whether a shape says that it leaves a host's range out.
func leftOut(d *design.Design, s link.Shape, h walk.Host) bool {
	for _, g := range s.Suggestions {
		for _, p := range d.Ranges(h.Place) {
			if g.What == "Left out" && strings.Contains(g.Value, p.String()) {
				return true
			}
		}
	}
	return false
}

// accepted answers every request.
func accepted(t *testing.T, d *design.Design) *design.Design {
	for _, r := range d.Of(design.KindRequest) {
		edits, err := link.Answer(d, r, true, "it is wanted")
		require.NoError(t, err)
		d, _, err = d.Apply(edits)
		require.NoError(t, err)
	}
	return d
}

func joined(t *testing.T, key string) (*design.Design, *design.Object, walk.Flow) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	a, b := d.Find("sequencing", design.KindNetwork)[0], d.Find("image-analysis", design.KindNetwork)[0]
	if key == "hub" {
		a, b = d.Find("ticketing", design.KindNetwork)[0], d.Find("public-site", design.KindNetwork)[0]
	}
	list, err := link.Shapes(d, link.Question{A: a.ID, B: b.ID})
	require.NoError(t, err)
	for _, s := range list {
		if s.Key == key {
			require.Empty(t, s.Out)
			d, _, err = d.Apply(s.Edits)
			require.NoError(t, err)
			from, _ := host(d, a, b)
			to, _ := host(d, b, a)
			return d, d.Get(s.Subject), walk.Flow{From: from, To: to.Address, Service: design.Service{Proto: "icmp"}}
		}
	}
	t.Fatal("no shape " + key)
	return nil, nil, walk.Flow{}
}

func stopOf(t *testing.T, d *design.Design, f walk.Flow, edits ...design.Edit) *walk.Stop {
	next, _, err := d.Apply(edits)
	require.NoError(t, err)
	return walk.Prove(route.Solve(next), f).Stop
}

func TestHalfAPeeringCarriesNothing(t *testing.T) {
	d, peering, f := joined(t, "peering")
	assert.Nil(t, stopOf(t, d, f))
	stop := stopOf(t, d, f, design.PutEdit(link.WithHalf(peering, 0, true)))
	require.NotNil(t, stop)
	assert.Equal(t, walk.NoRoute, stop.Code, "without its half the cloud gives no route")
	f.To = netip.MustParseAddr("10.99.0.7")
	assert.Equal(t, walk.NoRoute, stopOf(t, d, f).Code)
}

func TestAttachmentCutsOffZonesItSkips(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	marrow, catalogue := d.Find("saltmarsh-station", design.KindSite)[0], d.Find("catalogue", design.KindNetwork)[0]
	list, err := link.Shapes(d, link.Question{A: marrow.ID, B: catalogue.ID})
	require.NoError(t, err)
	for _, s := range list {
		if s.Key != "hub" {
			continue
		}
		d, _, err = d.Apply(s.Edits)
		require.NoError(t, err)
	}
	d = accepted(t, d)
	shelfB := d.Find("catalogue/shelf-b")[0]
	f := walk.Flow{From: walk.Host{Place: d.Find("saltmarsh-station/tide-laboratory")[0].ID, Address: netip.MustParseAddr("10.30.0.15")}, To: netip.MustParseAddr("10.61.2.20"), Service: design.Service{Proto: "icmp"}}
	assert.Nil(t, stopOf(t, d, f))
	for _, a := range d.Of(design.KindAttachment) {
		if a.Body.(*design.Attachment).What == catalogue.ID {
			body := *a.Body.(*design.Attachment)
			body.Subnets = []design.Ref{d.Find("catalogue/shelf-a")[0].ID}
			stop := stopOf(t, d, f, design.PutEdit(a.With(&body)))
			require.NotNil(t, stop)
			assert.Equal(t, walk.ZoneCutOff, stop.Code)
			assert.Contains(t, stop.Why, shelfB.Name)
		}
	}
}
