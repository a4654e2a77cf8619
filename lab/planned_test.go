package lab_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/lifecycle"
	"dravin/core/plan"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
	made "dravin/lab/estates"
)

// unplanned is a random estate in which little is joined, with everybody on the port of the answerers.
func unplanned(t *testing.T, seed uint64) (d *design.Design, intents []design.ID) {
	d = made.Make(seed, made.Options{Collisions: true, Intents: true, Joined: seed%2 == 0})
	var edits []design.Edit
	for o, e := range design.Each[design.Endpoint](d.Of(design.KindEndpoint)) {
		if len(e.Answers) > 0 {
			edits = append(edits, design.PutEdit(design.Edited(o, func(e *design.Endpoint) { e.Answers = nil })))
		}
	}
	for _, o := range slices.Concat(d.Of(design.KindLAN), d.Of(design.KindInnerRoute), d.Of(design.KindSubnet)) {
		// A place sends by its host.
		if len(d.Inside(o.ID, design.KindEndpoint)) == 0 {
			edits = append(edits, design.PutEdit(&design.Object{
				ID: "h" + o.ID, Kind: design.KindEndpoint, Parent: o.ID, Name: "logger",
				Body: &design.Endpoint{Addresses: []netip.Addr{nth(d.Ranges(o.ID)[0], 9)}},
			}))
		}
	}
	for o, in := range design.Each[design.Intent](d.Of(design.KindIntent)) {
		if in.Never {
			continue
		}
		intents = append(intents, o.ID)
		edits = append(edits, design.PutEdit(design.Edited(o, func(in *design.Intent) {
			in.Service = design.Service{Proto: "tcp", Port: port}
		})))
	}
	d, _, err := d.Apply(edits)
	require.NoError(t, err)
	return d, intents
}

// TestTruthOfRandomPlans plans what must talk in random estates in which little is joined, builds the first
// answer, and sends what its intents want and what they do not: the boxes load what is handed over for them.
// What a circuit carries is left to its walks, since its far address is in no design, and what a cloud offers by
// itself to rehearsals, which play it. DRAVIN_TRUTH is how many answers are built, DRAVIN_TRUTH_SEED the first estate.
func TestTruthOfRandomPlans(t *testing.T) {
	t.Parallel()
	needs(t, "ip", "nft", "socat")
	want := number("DRAVIN_TRUTH", 10)
	var all []string
	built := 0
	first := uint64(firstSeed)
	for seed := first; built < want && seed < first+uint64(want)*40; seed++ {
		d, intents := unplanned(t, seed)
		if len(intents) == 0 || alikeInside(d) {
			continue
		}
		p, err := plan.For(
			t.Context(), proof.Of(route.Solve(d, status.Condition{})), plan.Question{Intents: intents}, nil,
		)
		require.NoError(t, err)
		i := slices.IndexFunc(p.Options, func(o plan.Option) bool { return o.Refused == "" && len(o.Edits) > 0 })
		if i < 0 {
			continue
		}
		next := answered(t, d, p.Options[i].Edits)
		if len(next.Of(design.KindCircuit)) > 0 || len(next.Of(design.KindEdgeRouter)) > 0 || offered(next) {
			continue
		}
		built++
		name := fmt.Sprintf("%d %s", seed, p.Options[i].Key)
		t.Run(name, func(t *testing.T) {
			e := estateOf(next, seed)
			e.first = asked(t, next, route.Solve(next.On(e.side), status.Condition{}))
			all = append(all, differences(t, e, name, true, 12)...)
		})
	}
	assert.Equal(t, want, built)
	assert.Empty(t, all, "%d differences:\n%s", len(all), strings.Join(all, "\n"))
}

// offered reports whether a service is published by a cloud itself, in a network of it.
func offered(d *design.Design) bool {
	return slices.ContainsFunc(d.Of(design.KindListener), func(o *design.Object) bool {
		return d.Get(o.Body.(*design.Listener).At).Kind == design.KindNetwork
	})
}

// alikeInside reports whether a site has one range twice, which no kernel routes without instances.
func alikeInside(d *design.Design) bool {
	for _, s := range d.Of(design.KindSite) {
		var held []netip.Prefix
		for _, o := range d.Inside(s.ID, design.KindLAN, design.KindInnerRoute) {
			for _, p := range design.RangesOf(o) {
				if slices.ContainsFunc(held, p.Overlaps) {
					return true
				}
				held = append(held, p)
			}
		}
	}
	return false
}

// answered is a design with edits, and every request in it accepted: nothing is handed over for what nobody
// has.
func answered(t *testing.T, d *design.Design, edits []design.Edit) *design.Design {
	d, _, err := d.Apply(edits)
	require.NoError(t, err)
	for _, r := range d.Of(design.KindRequest) {
		if r.Body.(*design.Request).Answer == "" {
			edits, err := lifecycle.Answer(d, r, true, "welcome")
			require.NoError(t, err)
			d, _, err = d.Apply(edits)
			require.NoError(t, err)
		}
	}
	return d
}
