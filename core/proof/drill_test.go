package proof_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/demo"
	"dravin/lab/estates"
)

func thistledown(t testing.TB) *design.Design {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	return d
}

// Tables from which something is taken away are those that are solved without it from the start, as far as packets
// can tell.
func TestDrillsAreSolvedAsFromTheStart(t *testing.T) {
	d := thistledown(t)
	whole := proof.Of(route.Solve(d, status.Condition{}))
	whole.All()
	for _, thing := range status.Single(d) {
		after := whole.Without(thing)
		anew := route.Solve(d, status.Condition{Without: []status.Thing{thing}})
		for n, p := range anew.Points() {
			ranges, other := after.Tables().Points()[n].Differs(p)
			assert.Empty(t, ranges, "%s at %s", thing.Title(d), p.Title)
			assert.False(t, other, "%s at %s", thing.Title(d), p.Title)
		}
		holds := map[design.ID]bool{}
		for _, r := range proof.Of(anew).All() {
			holds[r.Intent] = r.Holds
		}
		for _, r := range after.All() {
			assert.Equal(t, holds[r.Intent], r.Holds, "%s: %s", thing.Title(d), r.Name)
		}
	}
}

func TestDrills(t *testing.T) {
	d := thistledown(t)
	x, err := proof.DrillsOf(context.Background(), proof.Of(route.Solve(d, status.Condition{})))
	require.NoError(t, err)
	for _, c := range []struct {
		name, thing string
		dies        []string
		moves       []string
		until       int
		by          string
	}{
		{"a circuit, of which a tunnel takes over", "thornfield-circuit", nil, nil, 0, ""},
		{"a tunnel of two with sessions", "thornfield-to-field-exchange/tunnel-1", nil,
			[]string{"weather mast sends plates"}, 30, "hold time"},
		{
			"the gateway that stands alone", "thornfield-station/gateway", []string{"weather mast sends plates"}, nil,
			0, "",
		},
		{"a hub", "grove-hub", []string{"sample clerk reads the notes"}, nil, 0, ""},
		{"a zone", "osier-west-1", []string{"weather mast sends plates"}, nil, 0, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			thing, err := status.ParseThing(d, c.thing)
			require.NoError(t, err)
			got, err := x.Without(context.Background(), thing)
			require.NoError(t, err)
			var dies, moves []string
			for _, h := range got.Dies {
				dies = append(dies, h.Name)
			}
			for _, m := range got.Moves {
				moves = append(moves, m.Name)
				assert.Equal(t, c.until, m.Until.Seconds)
				assert.Contains(t, m.Until.Why, c.by)
			}
			assert.Equal(t, c.dies, dies)
			assert.Equal(t, c.moves, moves)
		})
	}
}

// What survives any single failure is what no drill on its way kills.
func TestSurvivalIsProvenByDrills(t *testing.T) {
	for seed := range uint64(20) {
		d := estates.Make(seed, estates.Options{Intents: true, Joined: true, Segments: seed%2 == 0})
		all := proof.Of(route.Solve(d, status.Condition{}))
		x, err := proof.DrillsOf(context.Background(), all)
		require.NoError(t, err)
		drills, err := x.Each(context.Background(), status.Single(d), nil)
		require.NoError(t, err)
		for _, in := range d.Of(design.KindIntent) {
			if in.Body.(*design.Intent).Never {
				continue
			}
			next, _, err := d.Apply(
				[]design.Edit{design.PutEdit(design.Edited(in, func(b *design.Intent) { b.Survives = true }))},
			)
			require.NoError(t, err)
			r := proof.Of(route.Solve(next, status.Condition{})).Intent(in.ID)
			if r.Without != "" {
				assert.True(t, diesWithout(drills, r.Without, in.ID), "%s without %s", in.Name, r.WithoutTitle)
				assert.True(t, r.Proof.Works, "the proof is that of the flow")
			}
		}
	}
}

func diesWithout(drills []proof.Drill, thing, intent design.ID) bool {
	for _, x := range drills {
		for _, h := range x.Dies {
			if x.Things[0].Object == thing && h.Intent == intent {
				return true
			}
		}
	}
	return false
}

// All single failures of the demo, and of 300 sites with 300 intents.
func BenchmarkDrills(b *testing.B) {
	large, err := estates.Large(300, 60, 360)
	require.NoError(b, err)
	hosts := large.Of(design.KindEndpoint)
	edits := []design.Edit{}
	for n := range 300 {
		edits = append(edits, design.PutEdit(&design.Object{
			ID: design.IDFor(design.KindIntent, hosts[n].Name+string(hosts[n].Parent)), Kind: design.KindIntent,
			Name: "from " + large.Title(hosts[n].Parent) + " on", Body: &design.Intent{
				From: hosts[n].ID, To: hosts[300+n%60].ID, Service: design.Service{Proto: "tcp", Port: 443},
			},
		}))
	}
	large, _, err = large.Apply(edits)
	require.NoError(b, err)
	for name, d := range map[string]*design.Design{"demo": thistledown(b), "300 sites": large} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				x, err := proof.DrillsOf(context.Background(), proof.Of(route.Solve(d, status.Condition{})))
				require.NoError(b, err)
				all, err := x.Each(context.Background(), status.Single(d), nil)
				require.NoError(b, err)
				b.ReportMetric(float64(len(all)), "drills")
			}
		})
	}
}
