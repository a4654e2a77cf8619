package plan_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/plan"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
)

// answered is the best answer for all that does not hold in a file.
func answered(t *testing.T, file string) (plan.Option, *design.Design) {
	d, err := design.Read([]byte(file))
	require.NoError(t, err)
	proofs := proof.Of(route.Solve(d, status.Condition{}))
	q := plan.Question{}
	for _, r := range proofs.All() {
		if !r.Holds {
			q.Intents = append(q.Intents, r.Intent)
		}
	}
	p, err := plan.For(context.Background(), proofs, q, nil)
	require.NoError(t, err)
	require.NotEmpty(t, p.Options)
	next, _, err := d.Apply(p.Options[0].Edits)
	require.NoError(t, err)
	return p.Options[0], next
}

func TestAPlanLetsSegmentsCrossAndOpensFilters(t *testing.T) {
	o, next := answered(t, `
dravin: 1
name: two segments
segments: [{name: science}, {name: grounds}]
sites:
  - name: Marrow Hill
    gateways: [{name: gateway, addresses: 198.51.100.10}]
    lans:
      - {name: laboratory, prefixes: 10.214.0.0/24, segment: science, vlan: 10, endpoints: [{name: desk, addresses: 10.214.0.9}]}
      - {name: boilers, prefixes: 10.214.1.0/24, segment: grounds, vlan: 11, endpoints: [{name: valve, addresses: 10.214.1.9}]}
intents:
  - {name: desk turns the valve, from: marrow-hill/laboratory/desk, to: marrow-hill/boilers/valve, service: tcp/502}
  - {name: the valve starts nothing, from: marrow-hill/boilers, to: marrow-hill/laboratory, never: true}
filters:
  - {name: own, at: marrow-hill/boilers/valve}
`)
	assert.Empty(t, o.Refused)
	require.Len(t, next.Of(design.KindCrossing), 1)
	c := next.Of(design.KindCrossing)[0].Body.(*design.Crossing)
	assert.Equal(t, design.CrossingOneWay, c.Does)
	assert.Equal(t, next.Find("marrow-hill/gateway")[0].ID, c.At[0])
	rules := next.Of(design.KindFilter)[0].Body.(*design.PacketFilter).Rules
	require.Len(t, rules, 1)
	assert.Equal(t, "tcp/502", rules[0].Services[0].String())
	boilers := next.Ranges(next.Find("marrow-hill/boilers")[0].ID)[0]
	for _, p := range rules[0].From { // as who it comes: the box, in the valve's own LAN
		assert.True(t, p.IsSingleIP() && boilers.Contains(p.Addr()))
	}
}
