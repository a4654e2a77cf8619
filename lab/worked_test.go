package lab_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/passes"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
)

// closed puts a filter at every host and wherever else one can be, with nothing in it.
func closed(t *testing.T, d *design.Design) *design.Design {
	var edits []design.Edit
	put := func(id design.ID, k design.Kind, name string, b design.Body) {
		edits = append(edits, design.PutEdit(&design.Object{ID: id, Kind: k, Name: name, Body: b}))
	}
	for _, o := range slices.Concat(d.Of(design.KindEndpoint), d.Of(design.KindGateway), d.Of(design.KindSubnet)) {
		cloud := design.CloudOf(d.Party(o.ID))
		switch {
		case o.Kind == design.KindGateway && d.Party(o.ID).Kind != design.KindSite && cloud != "Osier":
			continue
		case o.Kind == design.KindSubnet && cloud != "Osier":
			g := design.ID("group-" + o.ID)
			put(g, design.KindGroup, "group of "+string(o.ID), &design.Group{Members: []design.Ref{o.ID}})
			put("filter-"+o.ID, design.KindFilter, "at "+string(g), &design.PacketFilter{At: g})
			continue
		}
		put("filter-"+o.ID, design.KindFilter, "at "+string(o.ID), &design.PacketFilter{
			At: o.ID, Stateless: o.Kind == design.KindEndpoint && len(edits)%3 == 0,
		})
	}
	next, _, err := d.Apply(edits)
	require.NoError(t, err)
	return next
}

// wanted draws flows between hosts that work while nothing filters, as intents.
func wanted(e *estate, d *design.Design, most int) (edits []design.Edit, flows []flow) {
	t := route.Solve(d.On(e.side), status.Condition{})
	r := rand.New(rand.NewPCG(uint64(e.n), 23))
	hosts := d.Of(design.KindEndpoint)
	for n := 0; n < 300 && len(edits) < most; n++ {
		a, b := pick(r, hosts), pick(r, hosts)
		s := design.Service{Proto: pick(r, []string{"tcp", "udp"}), Port: port}
		f, err := walk.FlowBetween(t, a.ID, b.ID, s)
		if err != nil || a.Parent == b.Parent || f.From.Address == f.To || !walk.Prove(t, f).Works {
			continue
		}
		edits = append(edits, design.PutEdit(&design.Object{
			ID: design.ID(fmt.Sprint("intent-", n)), Kind: design.KindIntent, Name: fmt.Sprint("intent ", n),
			Body: &design.Intent{From: a.ID, To: b.ID, Service: s},
		}))
		flows = append(flows, flow{id: fmt.Sprint("intent-", n), from: f.From, to: f.To, proto: s.Proto, port: port})
	}
	return edits, flows
}

// TestTruthOfWorkedRules lets the rules that are worked out from random intents be loaded: every intent passes in the
// kernel, and random flows that no intent asks for do not.
func TestTruthOfWorkedRules(t *testing.T) {
	needs(t, "ip", "nft")
	intents, others := 0, 0
	for n := range number("DRAVIN_TRUTH_WORKED", 2) {
		seed := uint64(2 * (firstSeed + n)) // those without filters of their own
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			e := newEstate(seed, n%2 == 1)
			edits, flows := wanted(e, e.d, 8)
			d, _, err := e.d.Apply(edits)
			require.NoError(t, err)
			d = closed(t, d)
			plan := passes.Of(route.Solve(d.On(e.side), status.Condition{})).FromIntents(passes.Wish{})
			d, _, err = d.Apply(plan.Edits)
			require.NoError(t, err)
			tables := route.Solve(d.On(e.side), status.Condition{})
			e.d = d
			for k, f := range flows {
				unmet := func(u passes.Unmet) bool { return string(u.Intent) == f.id }
				if slices.ContainsFunc(plan.Unmet, unmet) {
					continue // its ways differ there and back, which no rule helps
				}
				p := walk.Prove(tables, flowOf(f))
				assert.True(t, p.Works, "%s: %+v", f.id, p.Stop)
				e.first = append(e.first, flows[k])
			}
			intents += len(e.first)
			asked := func(f flow) bool {
				return slices.ContainsFunc(flows, func(x flow) bool {
					return x.from.Address == f.from.Address && x.to == f.to && x.proto == f.proto
				})
			}
			for _, f := range e.flows(400) {
				if p := walk.Prove(tables, flowOf(f)); !asked(f) && f.from.Address != f.to && f.port == port {
					others++
					same := lastStage(p)
					within := slices.ContainsFunc(flows, func(x flow) bool { // the same hosts, by another name
						q := lastStage(walk.Prove(tables, flowOf(x)))
						return q.At.ID == same.At.ID && x.from.Endpoint == f.from.Endpoint && x.proto == f.proto
					})
					assert.False(t, p.Works && delivers(e, p) && !within, "%+v passes, and no intent asks for it", f)
				}
			}
			all := differences(t, e, fmt.Sprint("worked ", seed), n%2 == 1, 400)
			assert.Empty(t, all, "%d differences:\n%s", len(all), strings.Join(all, "\n"))
		})
	}
	t.Logf("%d intents, %d other flows", intents, others)
}
