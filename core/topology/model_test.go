package topology_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/topology"
	"dravin/demo"
	"dravin/lab/estates"
)

// model is what a reader of RFC 8345 takes of it.
type model struct {
	Networks struct {
		Network []struct {
			Node []struct {
				ID     string `json:"node-id"`
				Points []struct {
					ID string `json:"tp-id"`
				} `json:"ietf-network-topology:termination-point"`
			}
			Link []struct {
				ID     string `json:"link-id"`
				Source struct {
					Node  string `json:"source-node"`
					Point string `json:"source-tp"`
				}
				Destination struct {
					Node  string `json:"dest-node"`
					Point string `json:"dest-tp"`
				}
			} `json:"ietf-network-topology:link"`
		}
	} `json:"ietf-network:networks"`
}

// The model has each party once, and of each joint between two of them both directions, at points of their own.
func TestTheModelHasEachPartyAndJoint(t *testing.T) {
	designs := []*design.Design{design.New("nothing yet", nil)}
	for _, text := range [][]byte{demo.Thistledown, demo.TwoGardens} {
		d, err := design.Read(text)
		require.NoError(t, err)
		designs = append(designs, d)
	}
	for seed := range uint64(6) {
		designs = append(designs, estates.Make(seed, estates.Options{Joined: true}))
	}
	for _, d := range designs {
		text, err := json.Marshal(topology.Model(d))
		require.NoError(t, err)
		var m model
		require.NoError(t, json.Unmarshal(text, &m))
		require.Len(t, m.Networks.Network, 1)
		n := m.Networks.Network[0]
		points, left := map[string]bool{}, map[string]int{}
		assert.Len(t, n.Node, len(d.Inside("", design.Parties...)), d.Name)
		for _, x := range n.Node {
			assert.NotContains(t, left, x.ID, "%s: a node is there twice", d.Name)
			left[x.ID] = 0
			for _, p := range x.Points {
				assert.False(t, points[x.ID+" "+p.ID], "%s: %s is a point twice", d.Name, p.ID)
				points[x.ID+" "+p.ID] = true
				left[x.ID]++
			}
		}
		links := map[string]bool{}
		for _, l := range n.Link {
			assert.False(t, links[l.ID], l.ID)
			links[l.ID] = true
			assert.True(t, points[l.Source.Node+" "+l.Source.Point], l.ID)
			assert.True(t, points[l.Destination.Node+" "+l.Destination.Point], l.ID)
			left[l.Source.Node]--
			there, ok := strings.CutSuffix(l.ID, "/back")
			if ok {
				assert.True(t, links[there+"/there"], "%s leads only back", l.ID)
			}
		}
		for node, points := range left {
			assert.Zero(t, points, "%s: %s has points at which no link begins", d.Name, node)
		}
		joints := 0
		for j := range d.Joints() {
			if a, b := d.PartiesOf(j); d.Get(a) != nil && d.Get(b) != nil {
				joints++
			}
		}
		assert.Len(t, links, 2*joints, d.Name)
	}
}
