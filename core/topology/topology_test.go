package topology_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/demo"
)

// Every kind of joint has its file of hooks, and each edge leads back by the other.
func TestEveryKindOfJointIsThere(t *testing.T) {
	require.Len(t, topology.Kinds, len(design.JointKinds))
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	whole := topology.Of(d, status.Condition{})
	met := map[design.Kind]int{}
	for n, k := range topology.Kinds {
		assert.Equal(t, design.JointKinds[n], k.Kind)
		require.NotNil(t, k.Judge, k.Kind)
		require.NotNil(t, k.Edge, k.Kind)
	}
	for j := range d.Joints() {
		met[j.Kind]++
		edges, ok := whole.Edges(j.ID)
		require.True(t, ok, j.Name)
		assert.Equal(t, [2]design.ID{edges[0].From, edges[1].From}, j.Ends)
		assert.Equal(t, edges[0].From, edges[1].To, j.Name)
		for _, e := range edges {
			again, ok := whole.From(j.ID, e.From)
			assert.True(t, ok)
			assert.Equal(t, e.From, again.From)
			if e.Enters != "" {
				assert.Contains(t, []design.Kind{design.KindTable, design.KindHubTable}, d.Get(e.Enters).Kind, j.Name)
			}
		}
	}
	for _, k := range design.JointKinds {
		assert.NotZero(t, met[k], "the demo estate has no %s", k)
	}
}

// Reach, components and shortest ways agree with what a slow closure of random graphs says.
func TestGraphsAreAsTheirClosure(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 1))
		n := 2 + r.IntN(9)
		var edits []design.Edit
		node := func(k int) design.ID { return design.IDFor(design.KindNetwork, fmt.Sprint(k)) }
		for k := range n {
			edits = append(edits, design.PutEdit(&design.Object{
				ID: node(k), Kind: design.KindNetwork, Name: fmt.Sprintf(
					"network %d", k,
				), Body: &design.Network{Cloud: "Tarn"},
			}))
		}
		far := make([][]int, n) // by pair the fewest legs; n: none
		for a := range n {
			far[a] = slices.Repeat([]int{n}, n)
			far[a][a] = 0
		}
		for k := range r.IntN(2 * n) {
			a, b := r.IntN(n), r.IntN(n)
			if a == b {
				continue
			}
			far[a][b], far[b][a] = 1, 1
			name := fmt.Sprintf("peering %d", k)
			edits = append(edits, design.PutEdit(&design.Object{
				ID: design.IDFor(design.KindPeering, name), Kind: design.KindPeering, Name: name,
				Body: &design.Peering{Halves: []design.Half{{Network: node(a)}, {Network: node(b)}}},
			}))
		}
		for c := range n {
			for a := range n {
				for b := range n {
					far[a][b] = min(far[a][b], far[a][c]+far[c][b])
				}
			}
		}
		objects := make([]*design.Object, len(edits))
		for k, e := range edits {
			objects[k] = e.Object
		}
		g := topology.Drawn(design.New("random", objects))
		components := g.Components()
		for a := range n {
			reach, ways := g.Reach(node(a)), g.Ways(node(a))
			for b := range n {
				joined := a != b && far[a][b] < n
				assert.Equal(t, joined, reach[node(b)], "seed %d: %d to %d", seed, a, b)
				if joined {
					assert.Len(t, topology.Way(ways, node(a), node(b)), far[a][b], "seed %d: %d to %d", seed, a, b)
					assert.Equal(t, components[node(a)], components[node(b)])
				}
			}
		}
	}
}
