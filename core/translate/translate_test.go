package translate_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/ledger"
	"dravin/core/overlap"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/snapshot"
	"dravin/core/status"
	"dravin/core/translate"
	"dravin/core/walk"
	"dravin/demo"
)

func thistledown(t *testing.T) *design.Design {
	d, err := design.Read(demo.TwoGardens)
	require.NoError(t, err)
	return d
}

func stops(results []proof.Result) map[string]walk.Code {
	out := map[string]walk.Code{}
	for _, r := range results {
		out[r.Name] = ""
		if r.Proof.Stop != nil {
			out[r.Name] = r.Proof.Stop.Code
		}
	}
	return out
}

func best(t *testing.T, d *design.Design) translate.Option {
	groups := overlap.Find(d)
	require.Len(t, groups, 1)
	all, err := translate.ForGroup(t.Context(), proof.Of(route.Solve(d, status.Condition{})), groups[0])
	require.NoError(t, err)
	require.NotEmpty(t, all)
	return all[0]
}

func TestTheCaseBeforeAndAfterMapping(t *testing.T) {
	d := thistledown(t)
	g := overlap.Find(d)
	require.Len(t, g, 1)
	assert.Equal(t, overlap.Breaks, g[0].Weight)
	assert.Equal(
		t,
		"Peatside Nursery glasshouse 192.168.216.0/24 is the same range as Marrow Hill museum store 192.168.216.0/24",
		g[0].Sentence,
	)

	p := best(t, d)
	assert.Equal(t, map[string]walk.Code{
		"logger polls the controller":      walk.OnLinkElsewhere,
		"data room polls the controller":   walk.OnLinkElsewhere,
		"controller reports to the logger": walk.SelectorMiss,
	}, stops(proof.Intents(route.Solve(d, status.Condition{}))))
	assert.Equal(t, "Map Peatside Nursery glasshouse one to one", p.Title)
	assert.Equal(t, 3, p.Holding)

	next, _, err := d.Apply(p.Edits)
	require.NoError(t, err)
	results := proof.Intents(route.Solve(next, status.Condition{}))
	assert.Equal(t, 3, proof.Holding(results), stops(results))
	assert.Equal(t, overlap.Answered, overlap.Find(next)[0].Weight)
	for _, f := range snapshot.Of(next, status.Condition{}).Findings.All() {
		assert.Contains(t, []finding.Severity{finding.Settled, finding.Untidy}, f.Severity, f.Sentence)
	}
	names := ledger.Of(route.Solve(next, status.Condition{})).Ranges[0].Hosts[0].Names
	require.Len(t, names, 2)
	assert.Equal(t, "192.168.216.17", names[0].Address.String())
	assert.Equal(t, "Peatside Nursery", names[0].Seen)
	assert.Equal(t, "10.223.0.17", names[1].Address.String())
	assert.Equal(t, "Marrow Hill, catalogue", names[1].Seen)
}

// Every edit of the proposal is needed: without any one of them something that
// it promises fails, or the design says that it disagrees with itself.
func TestEveryChangeIsNeeded(t *testing.T) {
	d := thistledown(t)
	p := best(t, d)
	for n, left := range p.Edits {
		without := append(append([]design.Edit{}, p.Edits[:n]...), p.Edits[n+1:]...)
		next, _, err := d.Apply(without)
		require.NoError(t, err)
		worst := snapshot.Of(next, status.Condition{}).Findings.All()[0]
		assert.Contains(
			t, []finding.Severity{finding.Broken, finding.Risk}, worst.Severity, "left out %s: %s", left.Object.Name,
			worst.Sentence,
		)
	}
}

// Many others with the same range must not crowd out the one that matters.
func TestTheRangeThatIntentsNeedIsAmongManyAlike(t *testing.T) {
	d := thistledown(t)
	var edits []design.Edit
	for n := range 12 {
		site := design.ID(fmt.Sprint("annex", n))
		edits = append(
			edits,
			design.PutEdit(&design.Object{ID: site, Kind: design.KindSite, Name: string(site), Body: &design.Site{}}),
			design.PutEdit(
				&design.Object{
					ID:     site + "lan",
					Kind:   design.KindLAN,
					Parent: site,
					Name:   "lan",
					Body:   &design.LAN{Prefixes: []netip.Prefix{netip.MustParsePrefix("192.168.216.0/24")}},
				},
			),
		)
	}
	d, _, err := d.Apply(edits)
	require.NoError(t, err)
	assert.Equal(t, "Map Peatside Nursery glasshouse one to one", best(t, d).Title)
}

func TestWalkStages(t *testing.T) {
	d := thistledown(t)
	next, _, err := d.Apply(best(t, d).Edits)
	require.NoError(t, err)
	tables := route.Solve(next, status.Condition{})
	flow, err := walk.ParseFlow(tables, "logger", "10.223.0.17", design.Service{Proto: "tcp", Port: 502})
	require.NoError(t, err)
	p := walk.Prove(tables, flow)
	require.True(t, p.Works, p.Stop)
	last := p.Forward[len(p.Forward)-1].Header
	assert.Equal(
		t,
		walk.Header{
			Src: netip.MustParseAddr("10.208.1.10"), Dst: netip.MustParseAddr("192.168.216.17"), Proto: "tcp",
			SPort: 49152, DPort: 502,
		},
		last,
	)
	home := p.Reply[len(p.Reply)-1].Header
	assert.Equal(
		t,
		walk.Header{
			Src: netip.MustParseAddr("10.223.0.17"), Dst: netip.MustParseAddr("10.208.1.10"), Proto: "tcp", SPort: 502,
			DPort: 49152,
		},
		home,
	)
}

func TestStops(t *testing.T) {
	put := func(d *design.Design, path string, change func(design.Body) design.Body) *design.Design {
		o := d.Find(path)[0]
		next, _, err := d.Apply([]design.Edit{design.PutEdit(o.With(change(o.Body)))})
		require.NoError(t, err)
		return next
	}
	mapped := func(d *design.Design) *design.Design {
		next, _, err := d.Apply(best(t, d).Edits)
		require.NoError(t, err)
		return next
	}
	for name, c := range map[string]struct {
		change   func(*design.Design) *design.Design
		from, to string
		port     uint16
		stop     walk.Code
		way      string
	}{
		"the real address from a host beside it": {nil, "humidity-cabinet", "192.168.216.17", 502, walk.OnLinkElsewhere,
			"forward"},
		"an address that nobody routes":  {nil, "logger", "10.210.0.1", 80, walk.NoRoute, "forward"},
		"a block without a subnet there": {nil, "data-room", "10.208.200.1", 80, walk.NoNeighbour, "forward"},
		"a broadcast address":            {nil, "logger", "10.214.3.255", 80, walk.NoNeighbour, "forward"},
		"a port that is not answered":    {mapped, "logger", "controller", 80, walk.NotAnswered, "forward"},
		"one of the subnet tables was not edited": {func(d *design.Design) *design.Design {
			return put(
				mapped(d), "catalogue/table-a",
				func(b design.Body) design.Body { c := *b.(*design.Table); c.Routes = c.Routes[:1]; return &c },
			)
		}, "controller", "logger", 6514, walk.ReplyNoRoute, "reply"},
		"the far selectors were not mirrored": {func(d *design.Design) *design.Design {
			return put(mapped(d), "peatside-to-marrow-hill", func(b design.Body) design.Body {
				c := *b.(*design.Link)
				c.Ends = append([]design.End{}, c.Ends...)
				c.Ends[0].Remote = c.Ends[0].Remote[:1]
				return &c
			})
		}, "logger", "controller", 502, walk.SelectorMiss, "forward"},
		"the museum store can not be told from it": {nil, "controller", "192.168.216.30", 443, walk.OnLinkElsewhere,
			"forward"},
	} {
		t.Run(name, func(t *testing.T) {
			d := thistledown(t)
			if c.change != nil {
				d = c.change(d)
			}
			tables := route.Solve(d, status.Condition{})
			flow, err := walk.ParseFlow(tables, c.from, c.to, design.Service{Proto: "tcp", Port: c.port})
			require.NoError(t, err)
			p := walk.Prove(tables, flow)
			require.NotNil(t, p.Stop)
			assert.Equal(t, c.stop, p.Stop.Code, p.Stop.Why)
			assert.Equal(t, c.way, p.Stop.Way)
			assert.NotEmpty(t, p.Stop.Fix)
		})
	}
}

func TestARouteThatGoesRoundIsALoop(t *testing.T) {
	d := thistledown(t)
	o := d.Find("marrow-hill-to-catalogue", design.KindLink)[0]
	l := *o.Body.(*design.Link)
	l.Ends = append([]design.End{}, l.Ends...)
	far := netip.MustParsePrefix("10.222.0.0/16")
	for n := range l.Ends {
		l.Ends[n].Routes = append(append([]netip.Prefix{}, l.Ends[n].Routes...), far)
	}
	d, _, err := d.Apply([]design.Edit{design.PutEdit(o.With(&l))})
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	flow, err := walk.ParseFlow(tables, "data-room", "10.222.0.1", design.Service{Proto: "udp", Port: 53})
	require.NoError(t, err)
	assert.Equal(t, walk.Loop, walk.Prove(tables, flow).Stop.Code)
}

func TestMappingBothSidesLetsThemTalkToEachOther(t *testing.T) {
	d := thistledown(t)
	cabinet, controller := d.Find("humidity-cabinet")[0], d.Find("controller")[0]
	wanted := &design.Object{ID: "i", Kind: design.KindIntent, Name: "cabinet asks the controller",
		Body: &design.Intent{From: cabinet.ID, To: controller.ID, Service: design.Service{Proto: "tcp", Port: 502}}}
	d, _, err := d.Apply([]design.Edit{design.PutEdit(wanted)})
	require.NoError(t, err)
	p := best(t, d)
	assert.Equal(t, "Map Marrow Hill museum store and Peatside Nursery glasshouse one to one", p.Title)
	assert.Equal(t, 4, p.Holding, p.Stays)
}
