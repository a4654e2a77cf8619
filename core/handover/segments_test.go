package handover_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/demo"
)

// ruleset is the ruleset that a box is handed.
func ruleset(d *design.Design, party string) (out string) {
	for _, f := range handover.Render(route.Solve(d, status.Condition{}), d.Find(party)[0].ID, nil) {
		if strings.HasSuffix(f.Path, "nftables.d/dravin.nft") {
			out += f.Content
		}
	}
	return out
}

// An MTU that is set reaches the files: a policy-based link has no interface, so TCP is told; a route-based one has.
func TestAnMTUThatIsSetReachesTheFiles(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	assert.NotContains(t, ruleset(d, "peatside-nursery"), "maxseg size >")
	link := d.Find("peatside-to-marrow-hill", design.KindLink)[0]
	tunnel := d.Inside(link.ID, design.KindTunnel)[0]
	set := design.PutEdit(
		design.Edited(tunnel, func(b *design.Tunnel) { b.Ends = []design.TunnelEnd{{MTU: 1380}, {}} }),
	)
	next, _, err := d.Apply([]design.Edit{set})
	require.NoError(t, err)
	peatside := ruleset(next, "peatside-nursery")
	for _, side := range []string{"daddr", "saddr"} {
		assert.Contains(
			t, peatside, "ip "+side+" 10.214.0.0/22 tcp flags & (syn | rst) == syn tcp option maxseg size > 1340 tcp "+
				"option maxseg size set 1340",
		)
	}
	assert.NotContains(t, ruleset(next, "marrow-hill"), "maxseg size >", "the far end has set none")
}
