package runbook_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/runbook"
)

const twoDepots = `dravin: 1
name: Two depots
sites:
  - {name: Fern Lodge, gateways: [{name: gateway, addresses: 203.0.113.10}], lans: [{name: house, prefixes: 10.212.1.0/24}]}
  - {name: Rowan Hut, gateways: [{name: gateway, addresses: 203.0.113.20}], lans: [{name: hut, prefixes: 10.212.2.0/24}]}
links:
  - name: Fern Lodge to Rowan Hut
    routing: static
    ends: [{gateway: fern-lodge/gateway, routes: 10.212.2.0/24}, {gateway: rowan-hut/gateway, routes: 10.212.1.0/24}]
    tunnels: [{name: tunnel 1, outside: [203.0.113.10, 203.0.113.20], inside: [169.254.130.1/30, 169.254.130.2/30]}]
`

// A step says what it did when it was first written: what is done before it takes nothing of it away. The first files
// of a box are all of them, what is there is kept before anything is copied over it, and the way back takes all of it
// away.
func TestStepsSayTheSameOnceOthersAreDone(t *testing.T) {
	d, err := design.Read([]byte(twoDepots))
	require.NoError(t, err)
	d = unmade(d, func(*design.Object) bool { return true })
	book := written(t, d)
	require.Len(t, book.Steps, 2)
	for _, s := range book.Steps {
		for _, file := range []string{
			"dravin/routes.sh", "nftables.d/dravin.nft", "systemd/system/dravin.service", "swanctl/conf.d/dravin.conf",
		} {
			assert.Contains(t, s.Files, file)
		}
		line := func(part string) int {
			return slices.IndexFunc(s.Run, func(c runbook.Command) bool { return strings.HasPrefix(c.Line, part) })
		}
		assert.Less(t, line("apt-get install"), line("tar -C /etc"), "it is a fresh machine")
		assert.Equal(t, -1, line("apt-get install --yes --no-install-recommends bird2"), "it speaks no BGP")
		assert.Less(t, line("tar -C /etc"), line("cd /root/handed"))
		assert.Less(t, line("cd /root/handed"), line("nft -f"))
		for _, back := range []string{
			"sh /etc/dravin/routes.sh away", "nft delete table ip dravin", "systemctl disable --now dravin.service",
			"swanctl --terminate --ike fern-lodge-to-rowan-hut__tunnel-1 || true",
		} {
			assert.Contains(t, s.Back, back)
		}
	}
	next, _, err := d.Built().Apply(book.Steps[0].Edits)
	require.NoError(t, err)
	again := written(t, d.WithBuilt(next))
	require.Len(t, again.Steps, 1)
	first, now := book.Steps[1], again.Steps[0]
	assert.Equal(t, first.ID, now.ID)
	assert.Equal(t, first.Files, now.Files)
	assert.Equal(t, first.Run, now.Run)
	assert.Equal(t, first.Back, now.Back)
}
