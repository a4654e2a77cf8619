package translate_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/ledger"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/snapshot"
	"dravin/core/status"
	"dravin/core/translate"
	"dravin/core/walk"
	"dravin/demo"
)

// applied is the story with its first remedy of a kind.
func applied(t *testing.T, name string, remedy translate.Remedy) *design.Design {
	d := remedies(t, name)
	for _, o := range planFor(t, d).Options {
		if o.Remedy == remedy && o.Refused == "" {
			next, _, err := d.Apply(o.Edits)
			require.NoError(t, err)
			return next
		}
	}
	t.Fatalf("%s has no such answer", name)
	return nil
}

func put(t *testing.T, d *design.Design, o *design.Object, b design.Body) *design.Design {
	next, _, err := d.Apply([]design.Edit{design.PutEdit(o.With(b))})
	require.NoError(t, err)
	return next
}

func walked(t *testing.T, d *design.Design, from, to, service string) walk.Proof {
	s, err := design.ParseService(service)
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	f, err := walk.ParseFlow(tables, from, to, s)
	require.NoError(t, err)
	return walk.Prove(tables, f)
}

// A box that is faulty, and a second that takes over from one that is gone.
func TestABoxThatFailsAndOneBesideIt(t *testing.T) {
	d := applied(t, "two-stages", translate.TwoStages)
	assert.True(t, walked(t, d, "tide-recorder", "10.223.1.40", "tcp/443").Works)
	box := d.Of(design.KindBox)[0]
	faulty := *box.Body.(*design.Box)
	faulty.Faults = []string{design.SourceCheck}
	p := walked(t, put(t, d, box, &faulty), "tide-recorder", "10.223.1.40", "tcp/443")
	require.NotNil(t, p.Stop)
	assert.Equal(t, walk.Code(status.DoesNotForward), p.Stop.Code)
	assert.Equal(t, "faults", p.Stop.Line)

	second := *box.Body.(*design.Box)
	second.Addresses = []netip.Addr{netip.MustParseAddr("10.209.0.3")}
	table := d.Find("from-saltmarsh-circuit", design.KindTable)[0]
	b := *table.Body.(*design.Table)
	b.Routes = append(b.Routes, design.Entry{Prefix: b.Routes[0].Prefix, Via: "second"})
	d, _, err := d.Apply(
		[]design.Edit{
			design.PutEdit(
				&design.Object{
					ID: "second", Kind: design.KindBox, Parent: box.Parent, Name: "second box", Body: &second,
				},
			),
			design.PutEdit(table.With(&b)),
		},
	)
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{Without: []status.Thing{{Object: box.ID}}})
	f, err := walk.ParseFlow(tables, "tide-recorder", "10.223.1.40", design.Service{Proto: "tcp", Port: 443})
	require.NoError(t, err)
	gone := walk.Prove(tables, f)
	// Tarn's tables swallow what is for something that is gone: somebody must move
	// the entry. Where the cloud passes it over, the second takes it.
	require.NotNil(t, gone.Stop)
	profile := *d.ProfileOf(box.Parent)
	profile.DeadNextHop = "inactive"
	own := design.Profile(profile)
	d, _, err = d.Apply(
		[]design.Edit{design.PutEdit(&design.Object{ID: "tarn", Kind: design.KindProfile, Name: "Tarn", Body: &own})},
	)
	require.NoError(t, err)
	assert.True(t, walk.Prove(route.Solve(d, status.Condition{Without: []status.Thing{{Object: box.ID}}}), f).Works)
}

// Who may not call is kept out, and what nobody listens for is told.
func TestCallersAndPortsOfAListener(t *testing.T) {
	d := applied(t, "partner", translate.Publish)
	o := d.Of(design.KindListener)[0]
	l := *o.Body.(*design.Listener)
	assert.True(t, walked(t, d, "reader", l.Address.String(), "tcp/8443").Works)
	assert.Equal(t, walk.NotAnswered, walked(t, d, "reader", l.Address.String(), "tcp/22").Stop.Code)
	l.Callers = []netip.Prefix{netip.MustParsePrefix("10.219.9.0/24")}
	assert.Equal(t, walk.CallerRefused, walked(t, put(t, d, o, &l), "reader", l.Address.String(), "tcp/8443").Stop.Code)
	l.Callers, l.Port = nil, 9
	assert.Equal(t, walk.NotAnswered, walked(t, put(t, d, o, &l), "reader", l.Address.String(), "tcp/8443").Stop.Code)
}

// A listener's address must be nobody's.
func TestAListenerTakesNobodysAddress(t *testing.T) {
	d := remedies(t, "relay")
	listener := func(at, address, target string) error {
		l := &design.Listener{
			At: d.Find(at, design.KindGateway)[0].ID, Address: netip.MustParseAddr(address),
			Service: design.Service{Proto: "tcp", Port: 502}, Target: d.Find(target, design.KindEndpoint)[0].ID,
		}
		_, _, err := d.Apply(
			[]design.Edit{design.PutEdit(&design.Object{ID: "l", Kind: design.KindListener, Name: "machine", Body: l})},
		)
		return err
	}
	assert.NoError(t, listener("alder-hut/gateway", "192.168.211.60", "weather-machine"))
	assert.ErrorContains(
		t, listener("alder-hut/gateway", "192.168.211.5", "weather-machine"), "is the address of Alder Hut hut panel",
	)
	taken := applied(t, "relay", translate.Relay)
	first := taken.Of(design.KindListener)[0]
	again := *first.Body.(*design.Listener)
	_, _, err := taken.Apply(
		[]design.Edit{
			design.PutEdit(&design.Object{ID: "again", Kind: design.KindListener, Name: "again", Body: &again}),
		},
	)
	assert.ErrorContains(t, err, "listens on")
	host := taken.Find("alder-hut/hut/panel")[0]
	for _, o := range taken.Of(design.KindListener) {
		if l := o.Body.(*design.Listener); taken.Title(l.At) == "Alder Hut gateway" {
			_, _, err = taken.Apply(
				[]design.Edit{design.PutEdit(host.With(&design.Endpoint{Addresses: []netip.Addr{l.Address}}))},
			)
			assert.ErrorContains(t, err, "listens on")
		}
	}
}

// Zone files name every host as its viewer knows it, and the reverse agrees.
func TestZonesFollowTheLedger(t *testing.T) {
	d := applied(t, "huts", translate.Map)
	tables := route.Solve(d, status.Condition{})
	zone := ledger.Zone(tables, d.Find("marrow-hill", design.KindSite)[0].ID, "internal")
	assert.Contains(t, zone, "elder-sensor.hut.elder-hut\t3600\tIN\tA\t10.223.3.9\n")
	assert.Contains(t, zone, "9.3.223.10.in-addr.arpa.\t3600\tIN\tPTR\telder-sensor.hut.elder-hut.internal.\n")
	own := ledger.Zone(tables, d.Find("elder-hut", design.KindSite)[0].ID, "internal")
	assert.Contains(t, own, "elder-sensor.hut.elder-hut\t3600\tIN\tA\t192.168.211.9\n")
	assert.NotContains(t, own, "birch-sensor", "whom it does not reach it has no name for")
	for _, line := range strings.Split(zone, "\n") {
		assert.LessOrEqual(t, len(line), 255)
	}
	a, err := ledger.Ask(tables, "10.223.3.0/28")
	require.NoError(t, err)
	require.Len(t, a.Part, 1)
	assert.Equal(t, "192.168.211.0/28", a.Part[0].Is.String())
	_, err = ledger.Ask(tables, "nobody")
	assert.ErrorContains(t, err, "write one such as")
}

// One more hut: only what it needs changes, and what was given stays.
func TestTheNextOneChangesLittle(t *testing.T) {
	d := applied(t, "huts", translate.Map)
	var before []netip.Prefix
	for _, o := range d.Of(design.KindMapping) {
		before = append(before, o.Body.(*design.Mapping).Mapped)
	}
	add := func(k design.Kind, parent design.ID, id design.ID, b design.Body) design.Edit {
		return design.PutEdit(&design.Object{ID: id, Kind: k, Parent: parent, Name: string(id), Body: b})
	}
	public, main := netip.MustParseAddr("203.0.113.99"), d.Find("marrow-hill/gateway")[0]
	d, _, err := d.Apply([]design.Edit{
		add(design.KindSite, "", "yew hut", &design.Site{}), add(
			design.KindGateway, "yew hut", "yew gateway", &design.Gateway{Addresses: []netip.Addr{public}},
		),
		add(
			design.KindLAN, "yew hut", "yew lan",
			&design.LAN{Prefixes: []netip.Prefix{netip.MustParsePrefix("192.168.211.0/24")}, Fixed: true},
		),
		add(
			design.KindEndpoint, "yew lan", "yew sensor",
			&design.Endpoint{Addresses: []netip.Addr{netip.MustParseAddr("192.168.211.9")}},
		),
		add(
			design.KindLink, "", "yew link",
			&design.Link{
				Routing: design.RoutingStatic, Ends: []design.End{{Gateway: main.ID}, {Gateway: "yew gateway"}},
			},
		),
		add(
			design.KindTunnel, "yew link", "tunnel 1",
			&design.Tunnel{
				Outside: []netip.Addr{netip.MustParseAddr("198.51.100.10"), public},
				Inside: []netip.Prefix{
					netip.MustParsePrefix("169.254.142.1/30"), netip.MustParsePrefix("169.254.142.2/30"),
				},
			},
		),
		add(
			design.KindIntent, "", "yew is read",
			&design.Intent{
				From: d.Find("recorder")[0].ID, To: "yew sensor", Service: design.Service{Proto: "tcp", Port: 443},
			},
		),
	})
	require.NoError(t, err)
	plan := planFor(t, d)
	o := plan.Options[0]
	require.Empty(t, o.Refused)
	require.Len(t, o.Maps, 1)
	assert.LessOrEqual(t, len(o.Edits), 3, "a mapping and the link, at two ends")
	assert.NotContains(t, before, o.Maps[0].Mapped)
}

// A cloud's filter leads to a target and hides the source, where the profile says
// so; a cloud without one does nothing of the kind.
func TestACloudsFilterHides(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	o := d.Find("image-analysis/twin-gateway", design.KindGateway)[0]
	g := *o.Body.(*design.Gateway)
	g.Translate = []design.Rule{
		{
			Hook:        design.Prerouting,
			From:        d.Find("saltmarsh-station-to-image-analysis", design.KindLink)[0].ID,
			Destination: []netip.Prefix{netip.MustParsePrefix("10.211.9.9/32")},
			Services: []design.Service{
				{Proto: "tcp", Port: 443},
			},
			Does:   design.ToTarget,
			Target: netip.MustParseAddr("10.211.1.20"),
			Port:   8443,
		},
	}
	d = put(t, d, o, &g)
	p := walked(t, d, "tide-recorder", "10.211.9.9", "tcp/443")
	require.True(t, p.Works, p.Stop)
	last := p.Forward[len(p.Forward)-1].Header
	assert.Equal(t, "10.211.0.1", last.Src.String(), "its own subnet's first address")
	assert.Equal(t, uint16(8443), last.DPort)
	profile := *d.ProfileOf(o.ID)
	profile.Translation.Filter = false
	own := design.Profile(profile)
	d, _, err = d.Apply(
		[]design.Edit{design.PutEdit(&design.Object{ID: "osier", Kind: design.KindProfile, Name: "Osier", Body: &own})},
	)
	require.NoError(t, err)
	assert.Equal(t, walk.NoNeighbour, walked(t, d, "tide-recorder", "10.211.9.9", "tcp/443").Stop.Code)
}

// The way out: hidden, the internet answers; what is hidden toward a link fits no
// selector and works from the far side only, until it is exempt.
func TestTheWayOutAndItsTrap(t *testing.T) {
	d := remedies(t, "way-out")
	out := walked(t, d, "desk", "192.0.2.80", "tcp/443")
	require.True(t, out.Works, out.Stop)
	assert.Equal(t, "198.51.100.10", out.Forward[len(out.Forward)-1].Header.Src.String())
	assert.Equal(t, walk.NoWayBack, walked(t, d, "till", "192.0.2.80", "tcp/443").Stop.Code, "nobody hides Peatside")
	assert.False(t, walked(t, d, "desk", "10.210.9.9", "tcp/443").Works, "a private address is nowhere on the internet")
	trapped := walked(t, d, "desk", "till", "tcp/443")
	require.NotNil(t, trapped.Stop)
	assert.Equal(t, walk.SelectorMiss, trapped.Stop.Code)
	assert.Contains(t, trapped.Stop.Fix, "exempt 10.215.4.0/24")
	assert.True(t, walked(t, d, "till", "desk", "tcp/443").Works)
	o := d.Find("marrow-hill/gateway", design.KindGateway)[0]
	g := *o.Body.(*design.Gateway)
	g.Translate = append(
		[]design.Rule{
			{
				Hook: design.Postrouting, Does: design.Nothing,
				Destination: []netip.Prefix{netip.MustParsePrefix("10.215.4.0/24")},
			},
		},
		g.Translate...,
	)
	assert.True(t, walked(t, put(t, d, o, &g), "desk", "till", "tcp/443").Works)
}

// A relay is put where nobody joins the two, and where nobody may touch the far
// gateway; what is drawn for it holds by itself.
func TestARelayDialsOut(t *testing.T) {
	d := remedies(t, "relay")
	p := proof.Of(route.Solve(d, status.Condition{}))
	dunmoss := d.Find("dunmoss-arboretum", design.KindSite)[0].ID
	q := translate.Question{
		Places: []design.ID{d.Find("alder-hut", design.KindSite)[0].ID, dunmoss}, Closed: []design.ID{dunmoss},
	}
	o := planned(t, p, q).Options[0]
	require.Equal(t, translate.Relay, o.Remedy)
	require.Empty(t, o.Refused)
	q.Closed = append(q.Closed, q.Places[0])
	for _, o := range planned(t, p, q).Options {
		if o.Remedy == translate.Relay {
			assert.Contains(t, o.Refused, "which is not to be touched", "the caller's gateway would have to listen")
		}
	}
	next, _, err := d.Apply(o.Edits)
	require.NoError(t, err)
	assert.Len(t, next.Of(design.KindGateway), len(d.Of(design.KindGateway))+1)
	assert.Equal(t, 2, proof.Holding(proof.Intents(route.Solve(next, status.Condition{}))))
	for _, f := range snapshot.Of(next, status.Condition{}).Findings.All() {
		assert.NotEqual(t, finding.Broken, f.Severity, f.Sentence)
	}
}

// Names are asked for where an address lies in a block and in no subnet, too.
func TestABlockWithoutASubnetHasNoBearer(t *testing.T) {
	d := applied(t, "hub-alike", translate.Map)
	tables := route.Solve(d, status.Condition{})
	for _, o := range d.Of(design.KindEndpoint) {
		for _, a := range o.Body.(*design.Endpoint).Addresses {
			assert.NotEmpty(t, walk.IdentityOf(tables, o, a).Names)
		}
	}
	host := d.Find("plate-server", design.KindEndpoint)[0]
	seen := walk.SeenAs(
		tables, d.Find("catalogue", design.KindNetwork)[0].ID, host.Parent, host.Body.(*design.Endpoint).Addresses[0],
	)
	assert.Equal(t, "10.223.1.40", seen.Address.String(), "mapped at a box of its network")
}

// Over circuits with sessions and an edge router, where two circuits stand side by
// side: what is mapped or hidden is announced over both, so that one may fail.
func TestOverCircuitsSideBySide(t *testing.T) {
	file := string(demo.Thistledown)
	for _, change := range [][2]string{
		{"      - name: station house\n        prefixes: 10.215.2.0/24\n", "      - name: instrument room\n        " +
			"prefixes: 10.209.1.0/24\n        fixed: true\n        segment: science\n        endpoints:\n          - name: " +
			"plotter\n            addresses: 10.209.1.77\n      - name: station house\n        prefixes: 10.215.2.0/24\n"},
		{"        prefixes: 10.209.1.0/24\n        table: herbarium-scans/main-table\n", "        prefixes: " +
			"10.209.1.0/24\n        table: herbarium-scans/main-table\n        endpoints:\n          - name: scan server\n " +
			"           addresses: 10.209.1.30\n"},
	} {
		require.Contains(t, file, change[0])
		file = strings.Replace(file, change[0], change[1], 1)
	}
	file += "  - name: plotter fetches scans\n    from: saltmarsh-station/instrument-room/plotter\n    to: " +
		"herbarium-scans/racks-a/scan-server\n    service: tcp/443\n"
	d, err := design.Read([]byte(file))
	require.NoError(t, err)
	p := proof.Of(route.Solve(d, status.Condition{}))
	q := translate.Question{
		Places: []design.ID{
			d.Find("saltmarsh-station", design.KindSite)[0].ID, d.Find("herbarium-scans", design.KindNetwork)[0].ID,
		},
	}
	answered := map[translate.Remedy]bool{}
	circuit := d.Find("herbarium scans circuit 1", design.KindCircuit)[0].ID
	wanted := d.Find("plotter fetches scans", design.KindIntent)[0].Body.(*design.Intent)
	for _, o := range planned(t, p, q).Options {
		if o.Refused != "" {
			continue
		}
		answered[o.Remedy] = true
		next, _, err := d.Apply(o.Edits)
		require.NoError(t, err)
		tables := route.Solve(next, status.Condition{Without: []status.Thing{{Object: circuit}}})
		f, err := walk.FlowBetween(tables, wanted.From, wanted.To, wanted.Service)
		require.NoError(t, err)
		w := walk.Prove(tables, f)
		assert.True(t, w.Works, "%s, by the second circuit: %+v", o.Title, w.Stop)
	}
	assert.Equal(
		t, map[translate.Remedy]bool{translate.Map: true, translate.Hide: true, translate.Publish: true}, answered,
	)
}

// Two inner networks behind one box: what they send out is hidden, and named ranges
// leave as they are.
func TestInnerNetworksBehindABox(t *testing.T) {
	d := applied(t, "hub-alike", translate.Map)
	box := d.Find("herbarium-scans/translating-box", design.KindBox)[0]
	b := *box.Body.(*design.Box)
	far := d.Find("catalogue/shelf", design.KindSubnet)[0]
	b.Translate = append(
		[]design.Rule{{Hook: design.Postrouting, Does: design.Nothing, Destination: design.RangesOf(far)}},
		b.Translate...,
	)
	d = put(t, d, box, &b)
	kept := walked(t, d, "scanner", "logger", "tcp/6514")
	require.NotNil(t, kept.Stop, "untranslated, it is answered by the other that has its range, or by nobody")
	assert.Equal(t, "reply", kept.Stop.Way)
	assert.Equal(t, "10.209.1.10", kept.Forward[len(kept.Forward)-1].Header.Src.String())
	assert.True(t, walked(t, d, "scanner", "plate-server", "tcp/443").Works, "and what no rule exempts is mapped")
}

// One more network at the hub, with the range of two that are mapped already: it alone
// is mapped, hidden or published for, and nothing that was given is given anew.
func TestTheNextNetworkChangesLittle(t *testing.T) {
	d := applied(t, "hub-alike", translate.Map)
	hub, table := d.Find("tarn-hub", design.KindHub)[0].ID, d.Find("tarn-hub/main", design.KindHubTable)[0].ID
	add := func(k design.Kind, parent design.ID, id design.ID, b design.Body) design.Edit {
		return design.PutEdit(&design.Object{ID: id, Kind: k, Parent: parent, Name: string(id), Body: b})
	}
	wide, part := netip.MustParsePrefix("10.209.0.0/16"), netip.MustParsePrefix("10.209.1.0/24")
	d, _, err := d.Apply([]design.Edit{
		add(
			design.KindNetwork, "", "seed logs",
			&design.Network{Cloud: "Tarn", Region: "tarn-north", Blocks: []netip.Prefix{wide}},
		),
		add(design.KindTable, "seed logs", "logs table", &design.Table{}),
		add(
			design.KindSubnet, "seed logs", "logs",
			&design.Subnet{Zone: "tarn-north-a", Prefixes: []netip.Prefix{part}, Table: "logs table"},
		),
		add(
			design.KindEndpoint, "logs", "keeper",
			&design.Endpoint{Addresses: []netip.Addr{netip.MustParseAddr("10.209.1.55")}},
		),
		add(
			design.KindAttachment, hub, "seed logs there",
			&design.Attachment{
				What: "seed logs", Subnets: []design.Ref{"logs"}, Bound: table, Feeds: []design.Ref{table},
			},
		),
		add(
			design.KindIntent, "", "the keeper logs",
			&design.Intent{
				From: "keeper", To: d.Find("logger")[0].ID, Service: design.Service{Proto: "tcp", Port: 6514},
			},
		),
		add(
			design.KindIntent, "", "the keeper files plates",
			&design.Intent{
				From: "keeper", To: d.Find("plate-server")[0].ID, Service: design.Service{Proto: "tcp", Port: 443},
			},
		),
	})
	require.NoError(t, err)
	plan := planFor(t, d)
	assert.Len(t, plan.Places, 3, "all hold the range")
	o := plan.Options[0]
	require.Empty(t, o.Refused)
	require.Len(t, o.Maps, 1)
	assert.Equal(t, "seed logs", o.Maps[0].Title)
	for _, o := range plan.Options {
		for _, m := range o.Maps {
			assert.Equal(t, "seed logs", m.Title, o.Title)
		}
		for _, c := range o.Changes {
			if c.Stage == translate.Names {
				assert.NotEmpty(t, o.Maps, "%s: who is hidden is not called", o.Title)
			}
		}
	}
	for _, e := range o.Edits {
		if e.Object.Kind == design.KindBox {
			assert.Equal(t, design.ID("seed logs"), e.Object.Parent)
		}
	}
}

// Two who call the same service over boxes between two networks share both boxes and
// their listeners, and nobody is told to change what stays as it is. In another region
// the subnet between has no zone of the far side.
func TestTwoCallersShareTheBoxesBetween(t *testing.T) {
	d := remedies(t, "peers")
	second := design.PutEdit(
		&design.Object{
			ID: "second scanner", Kind: design.KindEndpoint, Parent: d.Find("racks-a", design.KindSubnet)[0].ID,
			Name: "second scanner", Body: &design.Endpoint{Addresses: []netip.Addr{netip.MustParseAddr("10.209.1.11")}},
		},
	)
	asks := design.PutEdit(
		&design.Object{
			ID: "it files, too", Kind: design.KindIntent, Name: "it files, too",
			Body: &design.Intent{
				From: "second scanner", To: d.Find("plate-server")[0].ID,
				Service: design.Service{Proto: "tcp", Port: 443},
			},
		},
	)
	d = apply(t, d, second, asks)
	far := d.Find("plate-archive", design.KindNetwork)[0]
	body := *far.Body.(*design.Network)
	body.Region = "tarn-south"
	apart := put(t, d, far, &body)
	for name, c := range map[string]struct {
		d     *design.Design
		zones []string
	}{
		"one region":  {d, []string{"tarn-north-a", "tarn-north-a"}},
		"two regions": {apart, []string{"tarn-north-a", ""}},
	} {
		t.Run(name, func(t *testing.T) {
			var o *translate.Option
			for _, x := range planFor(t, c.d).Options {
				if x.Remedy == translate.TwoStages {
					o = &x
					break
				}
			}
			require.NotNil(t, o)
			require.Empty(t, o.Refused)
			var zones []string
			listeners := 0
			for _, e := range o.Edits {
				if e.Object == nil {
					continue
				}
				switch b := e.Object.Body.(type) {
				case *design.Subnet:
					zones = append(zones, b.Zone)
				case *design.Listener:
					listeners++
				}
			}
			assert.Equal(t, c.zones, zones)
			assert.Equal(t, 2, listeners)
			for _, x := range o.Changes {
				assert.NotContains(t, x.Text, ", too")
			}
		})
	}
}
