package lab_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/ingest"
)

// What a real box says of itself is read as what it is.
func TestRealRouterOutputIsRead(t *testing.T) {
	l := needs(t, "ip")
	box, inner := node(t, l, "box"), node(t, l, "inner")
	require.NoError(t, l.Join(box, "lan0", "10.215.0.1/23", inner, "up0", "10.215.0.2/23"))
	require.NoError(t, box.Script(
		"ip address add 2001:db8:30::1/64 dev lan0 nodad",
		"ip route add 10.217.0.0/16 via 10.215.0.2",
		"ip route add 10.218.0.7 via 10.215.0.2",
		"ip route add blackhole 10.210.0.0/16",
		"ip route add default via 10.215.0.2"))
	d := design.New("", nil)
	for _, command := range []string{"ip -j address", "ip -j route"} {
		out, err := box.Output(command)
		require.NoError(t, err)
		table, err := ingest.Read(t.Context(), strings.NewReader(out), ingest.Options{})
		require.NoError(t, err)
		plan, err := ingest.Make(t.Context(), d, table, ingest.How{Party: "Saltmarsh Station"})
		require.NoError(t, err)
		assert.Zero(t, plan.Counts[ingest.Refused], "%v", plan.Items)
		d, _, err = d.Apply(plan.Edits)
		require.NoError(t, err)
	}
	lan := d.Find("saltmarsh-station/lan0", design.KindLAN)[0].Body.(*design.LAN)
	assert.Equal(t, "[10.215.0.0/23 2001:db8:30::/64]", fmt.Sprint(lan.Prefixes))
	assert.Len(t, d.Of(design.KindInnerRoute), 2, "neither the default route nor the black hole")
}
