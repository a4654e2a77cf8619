package lab_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/route"
	"dravin/core/snapshot"
	"dravin/core/status"
	"dravin/core/walk"
	"dravin/demo"
)

// TestTheWayOut hides a garden toward the internet with the rendered ruleset. What
// answers there sees the gateway, as the walk says; what a link should take is hidden,
// too, until it is exempt.
func TestTheWayOut(t *testing.T) {
	l := needs(t, "ip", "nft")
	desk, gateway, beyond := node(t, l, "desk"), node(t, l, "gateway"), node(t, l, "beyond")
	require.NoError(t, l.Join(desk, "lan", "10.214.0.20/22", gateway, "lan", "10.214.0.1/22"))
	require.NoError(t, l.Join(gateway, "out", "198.51.100.10/24", beyond, "in", "198.51.100.1/24"))
	require.NoError(t, desk.Script("ip route add default via 10.214.0.1"))
	require.NoError(t, gateway.Script("ip route add default via 198.51.100.1"))
	// The far garden's address stands here for what leaves toward it, seen as it leaves.
	require.NoError(
		t,
		beyond.Script(
			"ip address add 192.0.2.80/32 dev lo", "ip address add 10.215.4.9/32 dev lo",
			"ip route add 10.214.0.0/22 via 198.51.100.10",
		),
	)
	serve(t, beyond, "192.0.2.80:443")
	serve(t, beyond, "10.215.4.9:443")

	file, err := demo.Remedies.ReadFile("remedies/way-out.yaml")
	require.NoError(t, err)
	d, err := design.Read(file)
	require.NoError(t, err)
	source := func(d *design.Design, to string) string {
		tables := route.Solve(d, status.Condition{})
		f, err := walk.ParseFlow(tables, "desk", to, design.Service{Proto: "tcp", Port: 443})
		require.NoError(t, err)
		for _, s := range walk.Prove(tables, f).Forward {
			if s.Act == walk.MapsSource {
				return s.Header.Src.String()
			}
		}
		return "10.214.0.20"
	}
	load := func(d *design.Design) {
		require.NoError(
			t,
			gateway.Script(
				"nft -f "+filepath.Join(
					rendered(t, route.Solve(d, status.Condition{}), "marrow-hill"), "nftables.d/dravin.nft",
				),
			),
		)
		for _, to := range []string{"192.0.2.80", "10.215.4.9"} {
			assert.Equal(t, source(d, to)+" "+to, ask(t, desk, to+":443"), "as the walk says, to %s", to)
		}
	}
	load(d)
	assert.Equal(t, "198.51.100.10", source(d, "10.215.4.9"), "the trap: what the link should take is hidden")
	fixed := false
	for _, f := range snapshot.Of(d, status.Condition{}).Findings.All() {
		if f.Code == "hides-link-traffic" {
			require.Equal(t, finding.Risk, f.Severity)
			d, _, err = d.Apply(f.Fixes[0].Edits)
			require.NoError(t, err)
			fixed = true
		}
	}
	require.True(t, fixed)
	load(d)
	assert.Equal(t, "10.214.0.20", source(d, "10.215.4.9"), "and exempt, it is not")
}
