package walk_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/lifecycle"
	"dravin/core/prefix"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/demo"
)

// host is an address in the first place of a party that no range of the other
// party overlaps.
func host(d *design.Design, party, other *design.Object) (walk.Host, bool) {
	for _, place := range d.Inside(party.ID, design.KindLAN, design.KindSubnet) {
		for _, p := range d.Ranges(place.ID) {
			clash := !p.Addr().Is4() || place.Name == "gateway subnet"
			for _, far := range d.Exports(other.ID) {
				clash = clash || far.Overlaps(p)
			}
			if lan, ok := place.Body.(*design.LAN); ok && len(lan.Gateways) > 0 &&
				d.Get(lan.Gateways[0]).Name != "gateway" {
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
	var filters []design.ID
	for _, o := range d.Of(design.KindFilter) {
		filters = append(filters, o.ID)
	}
	d, _, err = d.Apply(d.Removal(filters...).Edits) // what they refuse is no matter of shapes
	require.NoError(t, err)
	carried := map[string]int{}
	for _, a := range d.Inside("", design.KindSite, design.KindNetwork) {
		for _, b := range d.Inside("", design.KindSite, design.KindNetwork) {
			if a == b {
				continue
			}
			list, err := draft.Shapes(allocation.NewBooks(d), draft.Options{A: a.ID, B: b.ID, GB: 100})
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
				p := walk.Prove(
					route.Solve(next, status.Condition{}),
					walk.Flow{From: from, To: to.Address, Service: design.Service{Proto: "tcp", Port: 443}},
				)
				assert.True(t, p.Works, "%s to %s by %s: %+v", a.Name, b.Name, s.Title, p.Stop)
				kind, _, _ := strings.Cut(s.Key, "-")
				carried[kind]++
			}
		}
	}
	for _, key := range []string{"peering", "hub", "circuit", "vpn"} {
		assert.NotZero(t, carried[key], key)
	}
	t.Log("drafts proven there and back:", carried)
}

// leftOut tells whether a shape says that it leaves a host's range out.
func leftOut(d *design.Design, s draft.Shape, h walk.Host) bool {
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
		edits, err := lifecycle.Answer(d, r, true, "it is wanted")
		require.NoError(t, err)
		d, _, err = d.Apply(edits)
		require.NoError(t, err)
	}
	return d
}

func stopOf(t *testing.T, d *design.Design, f walk.Flow, edits ...design.Edit) *walk.Stop {
	next, _, err := d.Apply(edits)
	require.NoError(t, err)
	return walk.Prove(route.Solve(next, status.Condition{}), f).Stop
}

func ping(t *testing.T, d *design.Design, place, from, to string) walk.Flow {
	return walk.Flow{
		From: walk.Host{Place: d.Find(place)[0].ID, Address: netip.MustParseAddr(from)}, To: netip.MustParseAddr(to),
		Service: design.Service{Proto: "icmp"},
	}
}

func TestHalfAPeeringCarriesNothing(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	f := ping(t, d, "sequencing/readers", "10.219.1.9", "10.211.1.9")
	stop := stopOf(t, d, f)
	require.NotNil(t, stop)
	assert.Equal(t, walk.Code(status.HalfMade), stop.Code, "the cloud would route it by itself")
	peering := d.Find("sequencing-with-image-analysis", design.KindPeering)[0]
	whole := design.PutEdit(lifecycle.WithHalf(peering, 1, true))
	assert.Nil(t, stopOf(t, d, f, whole))
	// What lies beyond the peered network is not reached, unless it lends its
	// gateway.
	f.To = netip.MustParseAddr("10.215.0.15")
	assert.Equal(t, walk.NoRoute, stopOf(t, d, f, whole).Code)
	lent := lifecycle.WithHalf(peering, 1, true)
	b := *lent.Body.(*design.Peering)
	b.Halves[0].UsesGateway, b.Halves[1].LendsGateway = true, true
	stop = stopOf(t, d, f, design.PutEdit(lent.With(&b)))
	require.NotNil(t, stop)
	assert.Equal(
		t, walk.ReplyNoRoute, stop.Code,
		"the packet gets there over the lent gateway; the station does not know the way back",
	)
	assert.Equal(t, "Saltmarsh Station gateway", stop.At.Title)
}

func TestAttachmentCutsOffZonesItSkips(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	f := ping(t, d, "herbarium-scans/racks-a", "10.209.1.9", "10.208.2.20")
	assert.Nil(t, stopOf(t, d, f))
	a := d.Find("tarn-hub/catalogue", design.KindAttachment)[0]
	body := *a.Body.(*design.Attachment)
	body.Subnets = body.Subnets[:1]
	stop := stopOf(t, d, f, design.PutEdit(a.With(&body)))
	require.NotNil(t, stop)
	assert.Equal(t, walk.ZoneCutOff, stop.Code)
	assert.Contains(t, stop.Why, "shelf b")
}

func TestWaitingAttachmentAndCircuitsInWalks(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	f := ping(t, d, "seed-bank-index/racks-a", "172.29.48.9", "172.29.16.9")
	assert.Equal(
		t, walk.Code(status.NotAccepted), stopOf(t, d, f).Code, "a request that nobody answered joins nothing",
	)
	assert.Nil(t, stopOf(t, accepted(t, d), f))
	// from the station to the scans over two circuits and the edge router
	p := walk.Prove(
		route.Solve(d, status.Condition{}),
		ping(t, d, "saltmarsh-station/tide-laboratory", "10.215.0.15", "10.209.2.9"),
	)
	require.True(t, p.Works, p.Stop)
	var seen []string
	for _, s := range p.Forward {
		if s.At.Kind == design.KindEdgeRouter {
			seen = append(seen, s.At.Title)
		}
	}
	assert.Equal(t, []string{"Millrace"}, seen)
}

func TestProfilesDecideWhatAnEntryDoes(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	// A longer entry beats the block's local route in Osier and not in Tarn.
	for table, taken := range map[string]bool{"image-analysis/main-table": true, "catalogue/table-a": false} {
		o := d.Find(table, design.KindTable)[0]
		network := d.Get(o.Parent)
		inside := d.Find(map[bool]string{true: "image-analysis/workers-one", false: "catalogue/shelf-b"}[taken])[0]
		body := *o.Body.(*design.Table)
		body.Routes = append(
			body.Routes,
			design.Entry{Prefix: d.Ranges(inside.ID)[0], Via: d.Inside(network.ID, design.KindGateway)[0].ID},
		)
		next, _, err := d.Apply([]design.Edit{design.PutEdit(o.With(&body))})
		require.NoError(t, err)
		hop := route.Solve(next, status.Condition{}).Point(o.ID).Lookup(
			prefix.FirstHost(d.Ranges(inside.ID)[0]),
		).Winner.Hop.Kind
		assert.Equal(t, taken, hop == route.Gateway, table)
	}
	// A gateway that can not forward stops what goes through it.
	g := d.Find("saltmarsh-station/gateway", design.KindGateway)[0]
	b := *g.Body.(*design.Gateway)
	b.Faults = []string{"forwarding-off"}
	f := ping(t, d, "saltmarsh-station/tide-laboratory", "10.215.0.15", "10.211.1.9")
	assert.Nil(t, stopOf(t, d, f))
	assert.Equal(t, walk.Code(status.DoesNotForward), stopOf(t, d, f, design.PutEdit(g.With(&b))).Code)
}

// A gateway of a network or of a hub sends into a policy-based link what its own selectors name,
// whatever those of the far end would take.
func TestACloudsGatewayAsksItsOwnSelectors(t *testing.T) {
	list := func(text string) []netip.Prefix { return []netip.Prefix{netip.MustParsePrefix(text)} }
	gateways := "    gateways:\n      - name: cloud gateway\n        addresses: [192.0.2.10, 192.0.2.11]\n"
	atHub := strings.NewReplacer(
		gateways, "",
		"via: catalogue/cloud-gateway", "via: tarn-hub/catalogue",
		"gateway: catalogue/cloud-gateway", "gateway: tarn-hub/cloud-gateway",
		"    hub_tables:\n      - name: main\n    attachments:\n      - name: catalogue\n",
		gateways+"    hub_tables:\n      - name: main\n    attachments:\n      - name: hill\n"+
			"        what: marrow-hill-to-catalogue\n        bound: tarn-hub/main\n        feeds: tarn-hub/main\n"+
			"      - name: catalogue\n",
	).Replace(string(demo.Thistledown))
	for gateway, text := range map[string]string{
		"catalogue cloud gateway": string(demo.Thistledown), "Tarn hub cloud gateway": atHub,
	} {
		d, err := design.Read([]byte(text))
		require.NoError(t, err)
		d, _, err = d.Apply([]design.Edit{design.PutEdit(design.Edited(
			d.Find("marrow-hill-to-catalogue", design.KindLink)[0], func(b *design.Link) {
				b.Routing = design.RoutingSelectors
				site, cloud := b.Ends[0].Gateway, b.Ends[1].Gateway
				b.Ends = []design.End{
					{Gateway: site, Local: list("10.214.0.0/22"), Remote: list("10.208.0.0/16")},
					{Gateway: cloud, Local: list("10.208.1.0/24"), Remote: list("10.214.0.0/22")},
				}
			},
		))})
		require.NoError(t, err)
		tables := route.Solve(d, status.Condition{})
		for from, stopped := range map[string]bool{
			"catalogue/shelf-a/logger": false, "catalogue/shelf-b/search": true,
		} {
			f, err := walk.ParseFlow(tables, from, "controls-desk", design.Service{Proto: "icmp"})
			require.NoError(t, err)
			p := walk.Prove(tables, f)
			require.Equal(t, !stopped, p.Works, "%s by %s: %v", from, gateway, p.Stop)
			if stopped {
				assert.Equal(t, walk.SelectorMiss, p.Stop.Code)
				assert.Equal(t, gateway, p.Stop.At.Title)
			}
		}
	}
}
