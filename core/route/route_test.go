package route_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/demo"
)

func thistledown(t *testing.T) *design.Design {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	return d
}

// with applies a change to copies of the objects at some paths.
func with(t *testing.T, d *design.Design, path string, kind design.Kind, change func(design.Body)) *design.Design {
	found := d.Find(path, kind)
	require.Len(t, found, 1, path)
	o, err := found[0].Remap(nil)
	require.NoError(t, err)
	change(o.Body)
	next, _, err := d.Apply([]design.Edit{design.PutEdit(o)})
	require.NoError(t, err)
	return next
}

func winner(t *testing.T, d *design.Design, point, address string) route.Route {
	for _, k := range []design.Kind{design.KindTable, design.KindGateway, design.KindHubTable, design.KindEdgeRouter} {
		if found := d.Find(point, k); len(found) == 1 {
			c := route.Solve(d, status.Condition{}).Point(found[0].ID).Lookup(netip.MustParseAddr(address))
			if c.Winner == nil {
				return route.Route{}
			}
			return *c.Winner
		}
	}
	t.Fatal("no point " + point)
	return route.Route{}
}

func prefixes(list ...string) (out []netip.Prefix) {
	for _, p := range list {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

// What every kind of join brings into whose table.
func TestJoinsFillTables(t *testing.T) {
	d := thistledown(t)
	for _, c := range []struct {
		point, to, via string
		hop            route.HopKind
		source         route.Source
	}{
		{"catalogue/table-a", "10.209.1.9", "catalogue", route.Attached, route.Static},
		{"tarn-hub/main", "10.209.1.9", "herbarium scans", route.Deliver, route.Hub},
		{"tarn-hub/main", "10.208.1.9", "catalogue", route.Deliver, route.Hub},
		{"saltmarsh-station/gateway", "10.209.1.9", "Saltmarsh Station circuit", route.Circuit, route.CircuitBGP},
		{"saltmarsh-station/gateway", "10.211.1.9", "Saltmarsh Station to image analysis", route.Tunnel, route.VPNBGP},
		{"millrace", "10.215.0.9", "Saltmarsh Station circuit", route.Circuit, route.CircuitBGP},
		{"image-analysis/main-table", "10.215.0.9", "twin gateway", route.Gateway, route.VPNBGP},     // Osier's gateways feed
		{"herbarium-scans/main-table", "10.215.0.9", "circuit gateway", route.Gateway, route.Static}, // Tarn's do not
		{"marrow-hill/gateway", "10.208.1.9", "Marrow Hill to catalogue", route.Tunnel, route.Static},
	} {
		r := winner(t, d, c.point, c.to)
		assert.Equal(t, c.hop, r.Hop.Kind, "%s to %s", c.point, c.to)
		assert.Equal(t, c.via, r.Via, "%s to %s", c.point, c.to)
		assert.Equal(t, c.source, r.Source, "%s to %s", c.point, c.to)
	}
	// The hub's tables of Sedge reach its networks without entries, once the join is there.
	assert.Zero(t, winner(t, d, "seed-bank-index/main-table", "172.29.16.9"), "nobody has accepted it yet")
	at := d.Find("visitor-hub/seed-bank-index", design.KindAttachment)[0]
	ready, _, err := d.Apply(d.Said([]design.Edit{
		{Side: design.Built, Op: design.Put, ID: at.ID, Object: at.InState(design.Ready)},
	}))
	require.NoError(t, err)
	assert.Equal(t, route.Attached, winner(t, ready, "seed-bank-index/main-table", "172.29.16.9").Hop.Kind)
	assert.Equal(t, route.Attached, winner(t, ready, "ticketing/main-table", "172.29.48.9").Hop.Kind)
}

func TestHubTablesFollowFeedsAndStaticEntries(t *testing.T) {
	d := thistledown(t)
	hub := d.Find("tarn-hub", design.KindHub)[0]
	other := &design.Object{
		ID: "other", Kind: design.KindHubTable, Parent: hub.ID, Name: "other", Body: &design.HubTable{},
	}
	d, _, err := d.Apply([]design.Edit{design.PutEdit(other)})
	require.NoError(t, err)
	assert.Zero(t, winner(t, d, "tarn-hub/other", "10.208.1.9"), "nothing feeds it")
	d = with(t, d, "tarn-hub/catalogue", design.KindAttachment, func(b design.Body) {
		a := b.(*design.Attachment)
		a.Feeds = append(a.Feeds, other.ID)
	})
	assert.Equal(t, route.Deliver, winner(t, d, "tarn-hub/other", "10.208.1.9").Hop.Kind)

	attachment := d.Find("tarn-hub/herbarium-scans", design.KindAttachment)[0]
	d = with(t, d, "tarn-hub/other", design.KindHubTable, func(b design.Body) {
		b.(*design.HubTable).Routes = []design.HubEntry{
			{Prefix: prefixes("10.208.2.0/24")[0]}, {Prefix: prefixes("10.223.0.0/16")[0], Via: attachment.ID},
		}
	})
	assert.Equal(t, route.BlackHole, winner(t, d, "tarn-hub/other", "10.208.2.9").Hop.Kind, "the longer entry wins")
	assert.Equal(t, "herbarium scans", winner(t, d, "tarn-hub/other", "10.223.1.1").Via)

	d = with(
		t, d, "tarn-hub/catalogue", design.KindAttachment,
		func(b design.Body) { b.(*design.Attachment).KeepOut = prefixes("10.208.0.0/16") },
	)
	assert.Zero(t, winner(t, d, "tarn-hub/main", "10.208.1.9"), "what is kept out of export is not known")
	assert.Equal(
		t, design.ID("other"),
		topology.BoundTable(d, &design.Object{Parent: hub.ID, Body: &design.Attachment{Bound: "other"}}),
	)
}

func TestPeeringGivesWhatItsProfileAndOptionsSay(t *testing.T) {
	d := thistledown(t)
	const peering = "sequencing-with-image-analysis"
	assert.Zero(t, winner(t, d, "sequencing/main-table", "10.211.1.9"), "half a peering brings nothing")
	whole := with(t, d, peering, design.KindPeering, func(b design.Body) {
		p := b.(*design.Peering)
		p.Halves[1].Made, p.State = true, design.Ready
	})
	assert.Equal(
		t, route.Peer, winner(t, whole, "sequencing/main-table", "10.211.1.9").Hop.Kind,
		"Osier routes peered blocks by itself",
	)
	assert.Zero(t, winner(t, whole, "sequencing/main-table", "10.215.0.9"), "and nothing beyond them")
	lent := with(t, whole, peering, design.KindPeering, func(b design.Body) {
		p := b.(*design.Peering)
		p.Halves[0].UsesGateway, p.Halves[1].LendsGateway = true, true
	})
	r := winner(t, lent, "sequencing/main-table", "10.215.0.9")
	assert.Equal(t, route.Peer, r.Hop.Kind)
	assert.Equal(t, route.Peered, r.Source)
	assert.Equal(
		t, route.Peer, winner(t, lent, "image-analysis/twin-gateway", "10.219.1.9").Hop.Kind,
		"the lent gateway knows the way back",
	)
}

// Between routes of equal length each cloud has an order of its own.
func TestPreferenceIsTheProfiles(t *testing.T) {
	own := "dravin: 1\nprofiles:\n  - name: Osier\n    preference: [local, vpn-bgp, entered]\n    networks: " +
		"{gateway_feeds: true}\n"
	_, err := design.Read([]byte(own))
	require.NoError(t, err)
	d := thistledown(t)
	d = with(t, d, "image-analysis/main-table", design.KindTable, func(b design.Body) {
		b.(*design.Table).Routes = []design.Entry{
			{Prefix: prefixes("10.215.0.0/23")[0], Via: d.Find(peeringPath, design.KindPeering)[0].ID},
		}
	})
	assert.Equal(
		t, route.Static, winner(t, d, "image-analysis/main-table", "10.215.0.9").Source,
		"Osier prefers what is entered",
	)
	o, err := design.Read([]byte(own))
	require.NoError(t, err)
	d, _, err = d.Apply([]design.Edit{design.PutEdit(o.Of(design.KindProfile)[0])})
	require.NoError(t, err)
	assert.Equal(
		t, route.VPNBGP, winner(t, d, "image-analysis/main-table", "10.215.0.9").Source,
		"unless the profile says otherwise",
	)
}

const peeringPath = "sequencing-with-image-analysis"

// An entry to something that is not there is passed over in one cloud and
// swallows in another.
func TestDeadNextHops(t *testing.T) {
	for cloud, passedOver := range map[string]bool{"Sedge": true, "Osier": false} {
		d := thistledown(t)
		for _, n := range []string{"sequencing", "image-analysis"} {
			d = with(t, d, n, design.KindNetwork, func(b design.Body) { b.(*design.Network).Cloud = cloud })
		}
		d = with(t, d, "sequencing/main-table", design.KindTable, func(b design.Body) {
			b.(*design.Table).Routes = []design.Entry{
				{Prefix: prefixes("10.211.0.0/16")[0], Via: d.Find(peeringPath, design.KindPeering)[0].ID},
			}
		})
		assert.Equal(t, passedOver, winner(t, d, "sequencing/main-table", "10.211.1.9").Via == "", cloud)
	}
}

func TestRefusedAndGoneLinksCarryNothing(t *testing.T) {
	d := thistledown(t)
	for _, state := range []design.State{design.Refused, design.Gone} {
		gone := with(
			t, d, "saltmarsh-station-to-image-analysis", design.KindLink,
			func(b design.Body) { b.(*design.Link).State = state },
		)
		assert.Equal(t, route.Implied, winner(t, gone, "saltmarsh-station/gateway", "10.211.1.9").Source)
		policy := with(
			t, d, "peatside-to-marrow-hill", design.KindLink, func(b design.Body) { b.(*design.Link).State = state },
		)
		assert.Empty(
			t, route.Solve(policy, status.Condition{}).Point(d.Find("peatside-nursery/gateway")[0].ID).Selectors,
		)
		for _, j := range topology.Of(policy, status.Condition{}).Meant().Legs() {
			assert.NotEqual(t, d.Find("peatside-to-marrow-hill", design.KindLink)[0].ID, j.By)
		}
	}
}

// What an attachment exports, whatever is attached.
func TestAttachmentExports(t *testing.T) {
	d := thistledown(t)
	assert.Equal(
		t, prefixes("10.208.0.0/16"), d.AttachmentExports(d.Find("tarn-hub/catalogue", design.KindAttachment)[0]),
	)
	assert.Equal(t, prefixes("10.208.0.0/16", "10.209.0.0/16"), d.Exports(d.Find("tarn-hub", design.KindHub)[0].ID))
	assert.Equal(
		t, prefixes("10.209.0.0/16", "10.215.0.0/23", "10.215.2.0/24"),
		d.Exports(d.Find("millrace", design.KindEdgeRouter)[0].ID),
	)
}
