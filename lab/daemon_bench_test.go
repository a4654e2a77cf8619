package lab_test

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dravin/core/bgp"
	"dravin/lab"
)

// passed is how many prefixes the first of three speakers in a row passes on.
const passed = 100_000

func passedPrefix(k int) netip.Prefix {
	return netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(208 + k>>14), byte(k >> 6), byte(k << 2)}), 30)
}

// The real daemon, from its start until the third of three in a row has heard
// all.
func BenchmarkDaemonPassesOn(b *testing.B) {
	for b.Loop() {
		b.StopTimer()
		l, err := lab.New()
		require.NoError(b, err)
		var nodes []*lab.Node
		for k := range 3 {
			n, err := l.Node(fmt.Sprint("n", k))
			require.NoError(b, err)
			nodes = append(nodes, n)
		}
		for k := range 2 {
			require.NoError(
				b,
				l.Join(
					nodes[k], fmt.Sprint("r", k), fmt.Sprintf("169.254.140.%d/30", 4*k+1), nodes[k+1],
					fmt.Sprint("l", k), fmt.Sprintf("169.254.140.%d/30", 4*k+2),
				),
			)
		}
		dir := b.TempDir()
		b.StartTimer()
		for k := range 3 {
			var c strings.Builder
			fmt.Fprintf(&c, "router id 192.0.2.%d;\nprotocol device { }\nprotocol static { ipv4;\n", k+1)
			for n := range passed {
				if k == 0 {
					fmt.Fprintf(&c, "route %s unreachable;\n", passedPrefix(n))
				}
			}
			c.WriteString("}\n")
			session := func(own, far int, peer int) {
				fmt.Fprintf(
					&c,
					"protocol bgp { local 169.254.140.%d as %d; neighbor 169.254.140.%d as %d; connect delay time 1; connect "+
						"retry time 1; ipv4 { import all; export all; }; }\n",
					own,
					64501+k,
					far,
					64501+peer,
				)
			}
			if k > 0 {
				session(4*(k-1)+2, 4*(k-1)+1, k-1)
			}
			if k < 2 {
				session(4*k+1, 4*k+2, k+1)
			}
			file := filepath.Join(dir, fmt.Sprint(k, ".conf"))
			require.NoError(b, os.WriteFile(file, []byte(c.String()), 0o600))
			require.NoError(
				b, nodes[k].Start(nil, file+".log", "bird", "-f", "-c", file, "-s", file+".ctl", "-P", file+".pid"),
			)
		}
		for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(20 * time.Millisecond) {
			out, _ := nodes[2].Output("birdc -s " + filepath.Join(dir, "2.conf.ctl") + " show route count")
			if strings.Contains(out, fmt.Sprintf("%d of %d routes", passed, passed)) {
				break
			}
			require.True(b, time.Now().Before(deadline), out)
		}
		b.StopTimer()
		require.NoError(b, l.Close())
		b.StartTimer()
	}
}

// The same three, computed.
func BenchmarkComputedPassesOn(b *testing.B) {
	all := []bgp.Rule{{}}
	n := &bgp.Network{}
	for k := range 3 {
		s := &bgp.Speaker{Key: fmt.Sprint(k), RouterID: netip.AddrFrom4([4]byte{192, 0, 2, byte(k + 1)})}
		for p := range passed {
			if k == 0 {
				s.Own = append(s.Own, bgp.Originated{Prefix: passedPrefix(p)})
			}
		}
		n.Speakers = append(n.Speakers, s)
	}
	for k := range 2 {
		end := func(x int) bgp.End {
			return bgp.End{
				Speaker: fmt.Sprint(k + x), Into: []string{fmt.Sprint(k + x)}, ASN: uint32(64501 + k + x),
				Address: netip.AddrFrom4([4]byte{169, 254, 140, byte(4*k + x + 1)}), Families: [2]bool{true}, Out: all,
			}
		}
		n.Sessions = append(n.Sessions, &bgp.Session{Key: fmt.Sprint(k), Ends: [2]bgp.End{end(0), end(1)}})
	}
	for b.Loop() {
		require.Len(b, bgp.Solve(n).Table("2"), passed)
	}
}
