package runbook_test

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/lifecycle"
	"dravin/core/runbook"
	"dravin/lab/estates"
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

// What is left of a runbook keeps its numbers and windows whatever of it is done, and in whatever order.
func TestStepsAreNumberedOnce(t *testing.T) {
	first := drawnFrom(t)
	kept := 0
	for seed := first; seed < first+10; seed++ {
		r := rand.New(rand.NewPCG(seed, 3))
		d := estates.Worked(seed)
		book := written(t, d)
		for n := range book.Steps {
			assert.Equal(t, n+1, book.Steps[n].N)
		}
		next := len(book.Steps) + 1
		told := map[string]runbook.Told{}
		for range 4 {
			if len(book.Steps) == 0 {
				break
			}
			s := book.Steps[r.IntN(len(book.Steps))]
			edits := slices.Clone(s.Edits)
			for n := range edits {
				edits[n].Side = design.Built
			}
			then, _, err := d.Apply(edits)
			if err != nil {
				continue // it needs what another step makes
			}
			for _, x := range book.Steps {
				told[x.ID] = runbook.Told{N: x.N, Window: x.Window}
			}
			d = then
			book, err = runbook.Of(t.Context(), solved(d.Built()), d, nil, nil, book.Since)
			require.NoError(t, err)
			for _, x := range book.Steps {
				if was, known := told[x.ID]; known {
					kept++
					assert.Equal(t, was, runbook.Told{N: x.N, Window: x.Window}, "seed %d: %s", seed, x.Does)
				} else {
					assert.GreaterOrEqual(t, x.N, next, "seed %d: %s has a number that another had", seed, x.Does)
				}
			}
		}
	}
	assert.NotZero(t, kept)
}

const fixedRanges = `dravin: 1
name: Fixed ranges
sites:
  - {name: Fern Lodge, gateways: [{name: gateway, addresses: 203.0.113.10}], lans: [{name: house, prefixes: 10.212.1.0/24}]}
networks:
  - name: seed bank
    cloud: Sedge
    region: sedge-coast
    blocks: 10.208.16.0/20
    tables: [{name: main}]
    subnets: [{name: main, table: seed-bank/main, prefixes: 10.208.16.0/24}]
    gateways: [{name: gateway, addresses: 198.51.100.7, vpn: plain}]
links:
  - name: Fern Lodge to seed bank
    routing: static
    ends: [{gateway: fern-lodge/gateway, routes: 10.208.16.0/20}, {gateway: seed-bank/gateway, routes: 10.212.1.0/24}]
    tunnels: [{name: tunnel 1, outside: [203.0.113.10, 198.51.100.7], inside: [169.254.130.1/30, 169.254.130.2/30]}]
`

// What a cloud can not change once it is made is made a second time, moved to, and then the first is taken away.
func TestWhatCanNotBeChangedIsMadeASecondTime(t *testing.T) {
	type replaced [][2]string
	three := func(where, what, name string) []string {
		return []string{
			where + ": make a second " + what + " beside the first: " + name,
			where + ": enter " + name,
			where + ": take the first " + what + " away: " + name,
		}
	}
	tests := map[string]struct {
		base   replaced // of the design as built
		plan   replaced
		does   []string
		enters string // a line of the step that moves
		needs  string // what that step brings
	}{
		"static ranges of a tunnel": {
			nil, replaced{{"routes: 10.212.1.0/24}", "routes: 10.212.0.0/22}"}},
			three("seed bank, gateway", "connection", "Fern Lodge to seed bank"), "  send 10.212.0.0/22 into it", "",
		},
		"kind of a gateway": {
			nil, replaced{{"vpn: plain", "vpn: doubled"}}, three("seed bank, gateway", "gateway", "gateway gateway"),
			"  a VPN gateway of the kind doubled", lifecycle.NeedsAddress,
		},
		"ASN of a gateway": {
			replaced{{"Sedge", "Tarn"}, {"sedge-coast", "tarn-north"}, {"vpn: plain", "vpn: braided, asn: 64613"}},
			replaced{{"64613", "64614"}}, three("seed bank, gateway", "gateway", "gateway gateway"),
			"  ASN: 64614", lifecycle.NeedsAddress,
		},
		"range of a subnet": {
			nil, replaced{{"prefixes: 10.208.16.0/24", "prefixes: 10.208.17.0/24"}},
			three("seed bank", "subnet", "subnet main"), "the subnet main, 10.208.17.0/24: it uses the table main", "",
		},
		"block of a network": {
			nil, replaced{
				{"blocks: 10.208.16.0/20", "blocks: 10.208.64.0/20"}, {"prefixes: 10.208.16", "prefixes: 10.208.64"},
			},
			[]string{
				"seed bank: make a second block beside the first: network seed bank",
				"seed bank: enter network seed bank, subnet main",
				"seed bank: take the first block away: network seed bank",
			}, "a network in Sedge, sedge-coast with 10.208.64.0/20", "",
		},
		"region of a network": {
			nil, replaced{{"region: sedge-coast", "region: sedge-inland"}},
			three("seed bank", "network", "network seed bank"), "a network in Sedge, sedge-inland with 10.208.16.0/20", "",
		},
		"a block that is added": {
			nil, replaced{{"blocks: 10.208.16.0/20", "blocks: [10.208.16.0/20, 10.208.64.0/20]"}},
			[]string{"seed bank: enter network seed bank"},
			"a network in Sedge, sedge-coast with 10.208.16.0/20, 10.208.64.0/20", "",
		},
	}
	for name, tt := range tests {
		t.Run(name, func(t *testing.T) {
			text := fixedRanges
			read := func(by replaced) *design.Design {
				for _, r := range by {
					text = strings.ReplaceAll(text, r[0], r[1])
				}
				d, err := design.Read([]byte(text))
				require.NoError(t, err)
				return d
			}
			was := read(tt.base)
			steps := written(t, read(tt.plan).WithBuilt(was.Built())).Steps
			var does []string
			for _, s := range steps {
				does = append(does, s.Where+": "+s.Does)
			}
			assert.Equal(t, tt.does, does)
			moves := steps[len(steps)/2]
			assert.Contains(t, moves.Enter, tt.enters)
			assert.Equal(t, tt.needs, moves.Needs)
		})
	}
}
