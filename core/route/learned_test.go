package route_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
)

func halts(t *testing.T, d *design.Design, prefix string) map[route.StopCode][]string {
	out := map[route.StopCode][]string{}
	for _, h := range route.Solve(d, status.Condition{}).Spread(netip.MustParsePrefix(prefix)).Halts {
		out[h.Code] = append(out[h.Code], d.Title(h.To))
	}
	return out
}

// What the demo estate is there to show.
func TestWhereRangesStop(t *testing.T) {
	d := thistledown(t)
	got := halts(t, d, "10.215.16.0/23")
	assert.Contains(t, got[route.StopTransitive], "specimen loans", "no transit over peerings")
	assert.Contains(t, got[route.StopEntry], "field notes table b", "one table lacks the entry")
	assert.Contains(t, got[route.StopUnfed], "grove hub visitors", "the hub keeps its tables apart")
	assert.Contains(t, halts(t, d, "10.210.16.0/20")[route.StopLoop], "seed logs cloud gateway", "an ASN met twice")
	assert.Contains(t, halts(t, d, "10.209.0.0/16")[route.StopOutFilter], "image analysis twin gateway")
}

// A circuit is preferred; its tunnel takes over.
func TestCircuitBeforeTunnel(t *testing.T) {
	d := thistledown(t)
	assert.Equal(t, route.CircuitBGP, winner(t, d, "thornfield-station/gateway", "10.210.64.9").Source)
	assert.Equal(t, route.CircuitBGP, winner(t, d, "seed-logs/main-table", "10.215.16.9").Source)
	gone := with(
		t, d, "thornfield-circuit", design.KindCircuit, func(b design.Body) { b.(*design.Circuit).State = design.Gone },
	)
	assert.Equal(t, route.VPNBGP, winner(t, gone, "thornfield-station/gateway", "10.210.64.9").Source)
	assert.Equal(t, route.VPNBGP, winner(t, gone, "seed-logs/main-table", "10.215.16.9").Source)

	before, after := route.Solve(d, status.Condition{}), route.Solve(gone, status.Condition{})
	changed := after.Changed(before)
	n := slices.IndexFunc(changed, func(c route.TableChange) bool { return c.Title == "Thornfield Station gateway" })
	require.GreaterOrEqual(t, n, 0)
	require.Len(t, changed[n].Moved, 1)
	assert.Equal(t, "Thornfield to seed logs", changed[n].Moved[0].Now.Via)
	assert.Empty(t, before.Changed(before))
}

// An entry that is withdrawn is nobody's, and everybody's once it is published.
func TestPublishedEntries(t *testing.T) {
	d := thistledown(t)
	assert.NotZero(t, winner(t, d, "grove-hub/science", "10.215.16.9").Via)
	withdrawn := with(
		t, d, "seed-logs/published", design.KindTable,
		func(b design.Body) { b.(*design.Table).Routes[0].Publish = design.Withdrawn },
	)
	assert.Zero(t, winner(t, withdrawn, "grove-hub/science", "10.215.16.9").Via)
}

// A limit counts what the filter let through, and the session is then down for
// everyone.
func TestLimitsDropSessions(t *testing.T) {
	d := thistledown(t)
	const session = "saltmarsh-station-to-image-analysis/tunnel-1/session"
	tight := with(
		t, d, session, design.KindSession, func(b design.Body) { b.(*design.Session).Ends[1].MaxPrefixes = 1 },
	)
	tables := route.Solve(tight, status.Condition{})
	v := tables.Status.Of(d.Find(session)[0].ID)
	assert.False(t, v.Up)
	assert.Equal(t, "bgp-max", v.Line)
	assert.Contains(t, v.Why, "takes 1 routes of IPv4 at most, and there are 2")
	r := winner(t, tight, "saltmarsh-station/gateway", "10.211.1.9")
	assert.Len(t, r.Tunnels, 1, "the other tunnel's session stays")
}

// A box that carries two segments has a table for each, and one for what is in
// none.
func TestSegmentsAreInstances(t *testing.T) {
	d := thistledown(t)
	tables := route.Solve(d, status.Condition{})
	gateway := d.Find("saltmarsh-station/gateway", design.KindGateway)[0]
	require.Len(t, route.Instances(d, gateway), 3)
	for _, c := range []struct {
		segment, to string
		knows       bool
	}{{"science", "10.215.0.9", true}, {"science", "10.215.2.9", false}, {"grounds", "10.215.2.9", true}, {"grounds",
		"10.211.1.9", true}, {"", "10.215.2.9", true}} {
		segment := design.ID("")
		if c.segment != "" {
			segment = d.Find(c.segment, design.KindSegment)[0].ID
		}
		w := tables.PointIn(gateway.ID, segment).Lookup(netip.MustParseAddr(c.to)).Winner
		assert.Equal(t, c.knows, w != nil && w.Source != route.Implied, "%s in %q", c.to, c.segment)
	}
}

// Entries of a box lead on through others, and not through themselves.
func TestEntriesOfABoxAreLookedUp(t *testing.T) {
	d := thistledown(t)
	d = with(t, d, "saltmarsh-station/gateway", design.KindGateway, func(b design.Body) {
		b.(*design.Gateway).Routes = []design.BoxRoute{
			{Prefix: netip.MustParsePrefix("10.223.0.0/24"), Via: netip.MustParseAddr("10.223.1.1")},
			{Prefix: netip.MustParsePrefix("10.223.1.0/24"), Via: netip.MustParseAddr("10.211.1.1")},
			{
				Prefix: netip.MustParsePrefix("10.223.2.0/24"),
				Via:    netip.MustParseAddr("10.223.2.1"),
			},
			{Prefix: netip.MustParsePrefix("10.223.3.0/24")},
		}
	})
	assert.Equal(t, route.Tunnel, winner(t, d, "saltmarsh-station/gateway", "10.223.0.9").Hop.Kind, "at two removes")
	assert.Equal(t, route.Implied, winner(t, d, "saltmarsh-station/gateway", "10.223.2.9").Source, "never by itself")
	assert.Equal(t, route.BlackHole, winner(t, d, "saltmarsh-station/gateway", "10.223.3.9").Hop.Kind)
}
