package handover_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/status"
)

const throughATunnel = `
dravin: 1
name: huts
sites:
  - name: Rowan Hut
    gateways:
      - {name: gateway, addresses: [198.51.100.1], routes: [{prefix: 10.223.12.0/24, via: 10.212.0.7}]}
    lans: [{name: hut, prefixes: [10.212.0.0/23]}]
  - name: Alder Hut
    gateways: [{name: gateway, addresses: [198.51.100.2]}]
    lans: [{name: hut, prefixes: [10.212.0.0/24]}]
links:
  - name: huts
    routing: static
    ends: [{gateway: rowan-hut/gateway, routes: [10.212.0.0/24]}, {gateway: alder-hut/gateway, routes: [10.213.0.0/24]}]
    tunnels:
      - name: tunnel 1
        outside: [198.51.100.1, 198.51.100.2]
        inside: [169.254.128.1/30, 169.254.128.2/30]
`

// An entry whose next hop is met in a tunnel leads into the script's own interface: the script does not tidy it away.
func TestAnEntryIntoATunnelStays(t *testing.T) {
	d, err := design.Read([]byte(throughATunnel))
	require.NoError(t, err)
	hut := d.Find("rowan-hut", design.KindSite)[0].ID
	for _, f := range handover.Render(route.Solve(d, status.Condition{}), hut, nil) {
		if f.Path == "gateway/dravin/routes.sh" {
			assert.Regexp(t, `(?m)^tidy .*\|-4 main 10\.223\.12\.0/24 2["|]`, f.Content)
			return
		}
	}
	t.Fatal("there is no routes.sh")
}
