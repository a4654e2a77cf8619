package lab_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/prefix"
)

// Longest match, compared with the kernel's own table: 300 random routes
// and the addresses at their edges.
func TestLookupAgreesWithTheKernel(t *testing.T) {
	l := needs(t, "ip")
	n := node(t, l, "table")
	require.NoError(
		t,
		n.Script(
			"ip link add d0 type veth peer name d1", "ip link set d0 up", "ip link set d1 up",
			"ip address add 198.18.0.1/15 dev d0",
		),
	)
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 0))
	var table prefix.Table[string]
	var add strings.Builder
	var probes []netip.Addr
	seen := map[netip.Prefix]bool{}
	for i := range 300 {
		a := netip.AddrFrom4([4]byte{10, byte(r.IntN(4)), byte(r.IntN(256)), byte(r.IntN(256))})
		p := netip.PrefixFrom(a, 8+r.IntN(24)).Masked()
		if seen[p] {
			continue
		}
		seen[p] = true
		hop := fmt.Sprintf("198.18.%d.%d", 1+i/200, 1+i%200)
		table.Add(p, hop)
		fmt.Fprintf(&add, "route add %s via %s dev d0 onlink\n", p, hop)
		probes = append(probes, p.Addr(), prefix.Last(p), p.Addr().Prev(), prefix.Last(p).Next(), a)
	}
	var get strings.Builder
	for _, a := range probes {
		fmt.Fprintf(&get, "route get fibmatch %s\n", a)
	}
	dir := t.TempDir()
	for name, text := range map[string]string{"add": add.String(), "get": get.String()} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	require.NoError(t, n.Script("ip -batch "+dir+"/add"))
	// Addresses without a route are errors to ip; -force goes on, and prints nothing for them.
	out, _ := n.Output("ip -force -batch " + dir + "/get 2>/dev/null")
	var kernel []string
	for line := range strings.Lines(out) {
		if words := strings.Fields(line); len(words) > 2 && words[1] == "via" {
			kernel = append(kernel, words[2])
		}
	}
	var ours []string
	for _, a := range probes {
		if m := table.Matches(a); len(m) > 0 {
			ours = append(ours, m[0])
		}
	}
	require.Greater(t, len(ours), 500, "seed %d", seed)
	assert.Equal(t, kernel, ours, "seed %d", seed)
}
