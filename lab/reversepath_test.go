package lab_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/lab"
)

// A strict reverse-path filter of the kernel takes what comes by any of equal routes back, and
// nothing that comes by another way: what walks say of one (walk TestEqualRoutesAreAllWalked).
func TestStrictFiltersKnowEqualRoutes(t *testing.T) {
	l := needs(t, "ip", "ping", "nstat")
	gate, orangery, nursery := node(t, l, "gate"), node(t, l, "orangery"), node(t, l, "nursery")
	require.NoError(t, l.Join(gate, "one", "169.254.140.1/30", orangery, "uplink", "169.254.140.2/30"))
	require.NoError(t, l.Join(gate, "two", "169.254.140.5/30", nursery, "uplink", "169.254.140.6/30"))
	for _, dev := range []string{"all", "one", "two"} {
		require.NoError(t, gate.Script("sysctl -qw net.ipv4.conf."+dev+".rp_filter=1"))
	}
	dropped := func() string {
		out, err := gate.Output("nstat -asz TcpExtIPReversePathFilter")
		require.NoError(t, err)
		words := strings.Fields(out)
		require.Greater(t, len(words), 2, out)
		return words[2] // below "#kernel" and the name
	}
	for _, back := range []struct{ by, dropped string }{
		{"nexthop via 169.254.140.2 nexthop via 169.254.140.6", "0"},
		{"via 169.254.140.2", "1"},
	} {
		require.NoError(t, gate.Script("ip route replace 192.168.216.0/24 "+back.by))
		for n, from := range []*lab.Node{orangery, nursery} {
			// Its answer may go by the other way: only what the filter counts is asked.
			require.NoError(t, from.Script(fmt.Sprintf(
				"ip address replace 192.168.216.17/32 dev lo; ping -nc1 -W1 -I 192.168.216.17 169.254.140.%d || true", 1+4*n,
			)))
		}
		assert.Equal(t, back.dropped, dropped(), back.by)
	}
}
