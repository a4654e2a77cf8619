package remedy_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/remedy"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/demo"
)

func proofs(t *testing.T, text string) (*design.Design, *proof.Proofs) {
	d, err := design.Read([]byte(text))
	require.NoError(t, err)
	return d, proof.Of(route.Solve(d, status.Condition{}))
}

// What is offered for a flow that nobody asked for works, leaves no intent behind, and breaks nothing.
func TestRemediesOfAFlow(t *testing.T) {
	d, p := proofs(t, string(demo.Thistledown))
	from, to := d.Find("tide recorder")[0].ID, d.Find("plate server")[0].ID
	service := design.Service{Proto: "tcp", Port: 443}
	list, err := remedy.ForFlow(context.Background(), p, from, to, service)
	require.NoError(t, err)
	require.NotEmpty(t, list)
	for _, r := range list {
		next, _, err := d.Apply(r.Edits)
		require.NoError(t, err)
		assert.Len(t, next.Of(design.KindIntent), len(d.Of(design.KindIntent)), r.Title)
		after := proof.Of(route.Solve(next, status.Condition{}))
		f, err := walk.FlowBetween(after.Tables(), from, to, service)
		require.NoError(t, err)
		assert.True(t, walk.Prove(after.Tables(), f).Works, r.Title)
		for _, x := range p.All() {
			assert.True(t, !x.Holds || after.Intent(x.Intent).Holds, "%s breaks %s", r.Title, x.Name)
		}
	}
}

// A link of one tunnel is survived with a second one; the plan is tried on the very failure.
func TestRemediesOfAFailure(t *testing.T) {
	second := `      - name: tunnel 2
        outside: [203.0.113.80, 192.0.2.61]
        inside: [169.254.142.6/30, 169.254.142.5/30]
`
	text := string(demo.Thistledown)
	i := strings.Index(text, second)
	j := i + strings.Index(text[i:], "  - name: Thornfield to seed logs")
	d, p := proofs(t, text[:i]+text[j:])
	x, err := proof.DrillsOf(context.Background(), p)
	require.NoError(t, err)
	thing, err := status.ParseThing(d, "thornfield-to-field-exchange/tunnel-1")
	require.NoError(t, err)
	failed, err := x.Without(context.Background(), thing)
	require.NoError(t, err)
	require.Len(t, failed.Dies, 1)
	list, err := remedy.ForFailure(context.Background(), p, failed)
	require.NoError(t, err)
	require.NotEmpty(t, list)
	assert.Contains(t, list[0].Title, "second tunnel")
}
