package ingest_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/ingest"
)

// What is not read of a file is told, and what a box says of hosts, interfaces and its own routes is taken for no more.
func TestWhatIsNotReadIsTold(t *testing.T) {
	d, err := design.Read([]byte(`dravin: 1
name: Stock
sites: [{name: Fern Lodge, lans: [{name: house, prefixes: [192.168.210.0/24]}]}]
`))
	require.NoError(t, err)
	for name, c := range map[string]struct {
		text    string
		columns []ingest.Column
		rows    int // that are new
		notes   []string
	}{
		"a second family": {
			"Site;IPv4;IPv6\nPier;10.212.0.0/24;2001:db8:130::/64\nPier;10.212.1.0/24;2001:db8:131::/64\n", nil, 2,
			[]string{"Column 3 (IPv6) holds ranges"},
		},
		"a management net": {
			"Site,Network,Management\nPier,10.212.0.0/24,172.29.1.0/24\nDock,10.213.0.0/24,172.29.2.0/24\n", nil, 2,
			[]string{"Column 3 (Management) holds ranges"},
		},
		"a table beside": {
			"Head garden,,,Nursery,\nName,Network,,Name,Network\nStaff,10.212.0.0/24,,Dock,10.213.0.0/24\n", nil, 1,
			[]string{"named in line 2", "Column 5 (Network) holds ranges"},
		},
		"an address of an interface is nobody's name": {
			"name;address;mac\nyard camera;192.168.210.12;00:00:5e:00:53:0c\nporch camera;192.168.210.13;00:00:5e:00:53:0d\n",
			nil, 2, nil,
		},
		"neighbours": {
			"192.168.210.12 dev eth1 lladdr 00:00:5e:00:53:0c REACHABLE\n192.168.210.14 dev eth1  FAILED\n" +
				"fe80::1 dev eth1 lladdr 00:00:5e:00:53:0d router STALE\n",
			nil, 1, []string{"1 addresses for which nobody answered"},
		},
		"leases": {"1764600000 00:00:5e:00:53:0c 192.168.210.12 yard-camera 01:00\n", nil, 1, nil},
		"leases in blocks": {
			"lease 192.168.210.12 {\n  starts 1 2026/11/30 08:00:00;\n  client-hostname \"yard-camera\";\n}\n" +
				"lease 192.168.210.13 {\n}\n", nil, 2, nil,
		},
		"routes with details": {
			"unicast 192.168.211.0/24 via 192.168.210.2 dev eth0 proto boot scope global\n" +
				"local 192.168.210.1 dev eth0 table local proto kernel scope host src 192.168.210.1\n" +
				"unicast fe80::/64 dev eth0 proto kernel scope global metric 256 pref medium\n", nil, 1, nil,
		},
	} {
		table, err := ingest.Read(context.Background(), strings.NewReader(c.text), ingest.Options{})
		require.NoError(t, err, name)
		plan, err := ingest.Make(context.Background(), d, table, ingest.How{Party: "Fern Lodge", Columns: c.columns})
		require.NoError(t, err, name)
		assert.Equal(t, c.rows, plan.Counts[ingest.New], "%s: %+v", name, plan.Items)
		assert.Zero(t, plan.Counts[ingest.Refused], "%s: %+v", name, plan.Items)
		require.Len(t, plan.Notes, len(c.notes), "%s: %v", name, plan.Notes)
		for n, note := range c.notes {
			assert.Contains(t, plan.Notes[n], note, name)
		}
	}
}
