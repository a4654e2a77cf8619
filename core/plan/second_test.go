package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/allocation"
	"dravin/core/design"
	"dravin/core/draft"
	"dravin/core/plan"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
)

// Beside a circuit that stands alone a second can be put, in another zone, that carries what the first
// does when that has failed.
func TestASecondCircuitCarriesWhenTheFirstFails(t *testing.T) {
	d := said(t, `network catalogue in Tarn 10.208.0.0/20, subnet shelf 10.208.0.0/24
site Saltmarsh Station with lan laboratory 10.213.16.0/24, gateway 203.0.113.40 asn next
edge-router Millrace asn next
join catalogue and Saltmarsh Station by circuit`)
	for _, c := range d.Of(design.KindCircuit)[1:] {
		if design.StateOf(c) != "" && d.Party(c.Body.(*design.Circuit).Ends[0].At) != nil &&
			c.Name == "catalogue circuit 2" {
			d = apply(t, d, d.Removal(c.ID).Edits)
		}
	}
	first := d.Find("catalogue-circuit-1", design.KindCircuit)[0]
	list := draft.Second(allocation.NewBooks(d), first.ID)
	require.Len(t, list, 1)
	require.Empty(t, list[0].Out)
	assert.True(t, plan.Safe(t.Context(), proof.Of(route.Solve(d, status.Condition{})), list[0].Edits))
	next := apply(t, d, list[0].Edits)
	made := next.Get(list[0].Subject).Body.(*design.Circuit)
	assert.NotEqual(t, first.Body.(*design.Circuit).Ends[0].Zone, made.Ends[0].Zone)
	assert.NotEqual(t, first.Body.(*design.Circuit).Ends[0].VLAN, made.Ends[0].VLAN)
	failed := status.Condition{Without: []status.Thing{{Object: first.ID}}}
	p := planned(t, next, plan.Question{Parties: parties(t, next, "catalogue", "saltmarsh-station")})
	assert.Equal(t, "Leave it as it is", p.Options[0].Title, p.Options[0].Refused)
	tables := route.Solve(next, failed)
	lone := route.Solve(d, failed)
	shelf, lab := next.Find("catalogue/shelf")[0].ID, next.Find("laboratory")[0].ID
	assert.True(t, plan.Carries(proof.Of(tables), shelf, lab))
	assert.False(t, plan.Carries(proof.Of(lone), shelf, lab))
}

// An intent that must survive gets what lets it: the plan for it puts a second tunnel beside the first.
func TestWhatMustSurviveGetsASecond(t *testing.T) {
	d := said(t, `network catalogue in Tarn 10.208.0.0/20, subnet shelf 10.208.0.0/24
network sequencing in Osier 10.209.0.0/20, subnet racks 10.209.0.0/24
join catalogue and sequencing by vpn-bgp
catalogue shelf must reach sequencing racks on icmp still after any single failure`)
	tunnels := d.Of(design.KindTunnel)
	require.Greater(t, len(tunnels), 1)
	for _, o := range tunnels[1:] {
		d = apply(t, d, d.Removal(o.ID).Edits)
	}
	intent := d.Of(design.KindIntent)[0].ID
	require.False(t, proof.Of(route.Solve(d, status.Condition{})).Intent(intent).Holds)
	p := planned(t, d, plan.Question{Intents: []design.ID{intent}, Wish: plan.Cheapest})
	require.NotEmpty(t, p.Options)
	o := p.Options[0]
	require.Empty(t, o.Refused)
	assert.True(t, o.Survives)
	assert.Contains(t, o.Title, "second tunnel")
	assert.True(t, proof.Of(route.Solve(apply(t, d, o.Edits), status.Condition{})).Intent(intent).Holds)
}
