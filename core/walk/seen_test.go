package walk_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
)

// hairpin is a site with a box beside the hosts: what is dialled by it passes the gateway before and after the box
// translates, and the box answers its neighbour directly.
const hairpin = `
dravin: 1
name: hairpin
sites:
  - name: Marrow Hill
    gateways:
      - name: gateway
        addresses: 198.51.100.10
        stands: [10.214.0.2, 10.214.8.2]
        routes: [{prefix: 10.223.1.0/24, via: 10.214.0.5}, {prefix: 10.215.0.0/16, via: 10.214.0.9}]
    lans:
      - {name: data room, prefixes: 10.214.0.0/22, endpoints: [{name: desk, addresses: 10.214.0.20}]}
      - {name: offices, prefixes: 10.214.8.0/22, endpoints: [{name: recorder, addresses: 10.214.8.9}]}
    inner_routes:
      - {name: stores, prefixes: [10.214.16.0/24, "2001:db8:20::/64"], via: 10.214.0.7, endpoints:
          [{name: scale, addresses: [10.214.16.9, "2001:db8:20::9"]}]}
    boxes:
      - name: turner
        addresses: 10.214.0.5
        translate:
          - {hook: arriving, does: target, target: 10.214.8.9, destination: 10.223.1.0/24}
          - {hook: leaving, does: own-address}
`

func TestWhatAGatewayHasSeenOfAConversation(t *testing.T) {
	const guard = "filters: [{name: guard, at: marrow-hill/gateway, default: allow}]\n"
	for name, c := range map[string]struct {
		more, from, to, service string
		code                    walk.Code
	}{
		"without a filter nothing remembers":       {"", "desk", "10.223.1.9", "tcp/7001", ""},
		"one way of the first half is seen":        {guard, "desk", "10.223.1.9", "tcp/7001", walk.NotSeenBegin},
		"a datagram needs no second":               {guard, "desk", "10.223.1.9", "udp/7001", ""},
		"both ways are seen":                       {guard, "desk", "10.214.8.9", "tcp/7001", ""},
		"an inner router of one family":            {"", "desk", "10.214.16.9", "tcp/7001", ""},
		"what is behind it in the other":           {"", "scale", "2001:db8:21::1", "tcp/7001", walk.NoRoute},
		"a next hop that nobody is known to have":  {"", "desk", "10.215.0.1", "tcp/7001", walk.NoNeighbour},
		"the inner router knows by its gateway":    {"", "scale", "10.214.8.9", "tcp/7001", ""},
		"and both ways of that by a filter, again": {guard, "scale", "10.214.8.9", "tcp/7001", ""},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := design.Read([]byte(hairpin + c.more))
			require.NoError(t, err)
			tables := route.Solve(d, status.Condition{})
			s, err := design.ParseService(c.service)
			require.NoError(t, err)
			from := map[string]string{"desk": "marrow-hill/data-room/desk", "scale": "marrow-hill/stores/scale"}[c.from]
			f, err := walk.ParseFlow(tables, from, c.to, s)
			require.NoError(t, err)
			p := walk.Prove(tables, f)
			if c.code == "" {
				require.Nil(t, p.Stop)
				return
			}
			require.NotNil(t, p.Stop)
			assert.Equal(t, c.code, p.Stop.Code, p.Stop.Why)
		})
	}
}
