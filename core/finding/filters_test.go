package finding_test

import (
	"cmp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/finding"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
)

// gardens is a site joined to a network of a cloud, with an intent, to which filters are added.
const gardens = `
dravin: 1
name: gardens
owners: [{name: Partner, outside: true}, {name: Gardens}]
sites:
  - name: Marrow Hill
    owner: OWNER
    gateways: [{name: gateway, addresses: 198.51.100.10}]
    lans: [{name: data room, prefixes: 10.214.0.0/22, endpoints: [{name: desk, addresses: 10.214.0.20}]}]
networks:
  - name: catalogue
    cloud: CLOUD
    blocks: 10.208.0.0/16
    gateways: [{name: cloud gateway, addresses: [192.0.2.10, 192.0.2.11]}]
    tables: [{name: main, routes: [{prefix: 10.214.0.0/20, via: catalogue/cloud-gateway}]}]
    subnets:
      - {name: shelf, prefixes: 10.208.1.0/24, table: catalogue/main, endpoints: [{name: logger, addresses: 10.208.1.10}]}
links:
  - name: link
    routing: static
    ends:
      - {gateway: marrow-hill/gateway, routes: 10.208.0.0/16}
      - {gateway: catalogue/cloud-gateway, routes: 10.214.0.0/20}
    tunnels: [{name: tunnel 1, outside: [198.51.100.10, 192.0.2.10]}]
groups: [{name: loggers, members: catalogue/shelf/logger}]
intents: [{name: report, from: marrow-hill/data-room/desk, to: catalogue/shelf/logger, service: tcp/6514}]
`

func TestFindingsOfFilters(t *testing.T) {
	for code, x := range map[string]struct{ cloud, owner, filters string }{
		"rule-unneeded":   {"Tarn", "", "[{name: f, at: loggers, rules: [{services: tcp/6514}, {services: tcp/22}]}]"},
		"rule-never-fits": {"Tarn", "", "[{name: f, at: loggers, rules: [{services: tcp/6514}, {to: 10.208.2.0/24}]}]"},
		"rule-shadowed": {
			"Tarn", "", "[{name: f, at: loggers, rules: [{services: tcp}, {from: 10.214.0.0/24, services: tcp/6514}]}]",
		},
		"rule-contradicted": {
			"Tarn", "", "[{name: f, at: loggers, rules: [{services: tcp}, {does: refuse, services: tcp/22}]}]",
		},
		"ping-open-port-shut": {"Tarn", "", "[{name: f, at: loggers, rules: [{services: icmp/echo}]}]"},
		"port-open-ping-shut": {"Tarn", "", "[{name: f, at: loggers, rules: [{services: tcp/6514}]}]"},
		"everything-open":     {"Tarn", "", "[{name: f, at: loggers, rules: [{}]}]"},
		"filter-default":      {"Tarn", "", "[{name: f, at: loggers, default: allow, rules: [{services: tcp/6514}]}]"},
		"filter-nearly-full": {
			"Tarn", "", "[{name: f, at: loggers, rules: [" + strings.Repeat("{services: tcp/6514}, ", 30) + "]}]",
		},
		"errors-refused": {
			"Osier", "", "[{name: f, at: catalogue/shelf, default: refuse, rules: [{services: tcp/6514}]}]",
		},
		"more-than-agreed": {
			"Tarn", "partner", "[{name: f, at: loggers, rules: [{from: 10.214.0.0/22, services: [tcp/6514, tcp/22]}]}]",
		},
	} {
		t.Run(code, func(t *testing.T) {
			fill := strings.NewReplacer("CLOUD", x.cloud, "OWNER", cmp.Or(x.owner, "gardens"))
			endedByItsFix(t, code, fill.Replace(gardens)+"filters: "+x.filters+"\n")
		})
	}
}

// endedByItsFix reads a design in which something is found that its fix, if it has one, ends.
func endedByItsFix(t *testing.T, code, file string) {
	d, err := design.Read([]byte(file))
	require.NoError(t, err)
	find := func(d *design.Design) *finding.Finding {
		for _, f := range finding.All(proof.Of(route.Solve(d, status.Condition{}))) {
			if f.Code == code {
				return &f
			}
		}
		return nil
	}
	f := find(d)
	require.NotNil(t, f)
	if len(f.Fixes) > 0 {
		next, _, err := d.Apply(f.Fixes[0].Edits)
		require.NoError(t, err)
		assert.Nil(t, find(next), "its fix ends it")
	}
}

// crossed is a site of two segments, and a partner's in a third.
const crossed = `
dravin: 1
name: crossed
owners: [{name: Partner, outside: true}]
segments: [{name: science}, {name: grounds}, {name: members}, {name: quiet}]
sites:
  - name: Marrow Hill
    gateways: [{name: gateway, addresses: 198.51.100.10}]
    lans:
      - {name: laboratory, prefixes: 10.214.0.0/24, segment: science, vlan: 10}
      - {name: boilers, prefixes: 10.214.1.0/24, segment: grounds, vlan: 11, endpoints: [{name: valve, addresses: 10.214.1.9}]}
      - {name: guests, prefixes: 10.214.2.0/24, segment: members, vlan: 12}
  - name: Reading Room
    owner: partner
    gateways: [{name: gateway, addresses: 198.51.100.11}]
    lans: [{name: desks, prefixes: RANGE, segment: members}]
`

func TestFindingsOfCrossingsAndNames(t *testing.T) {
	for code, x := range map[string]struct{ ranges, more string }{
		"crossing-unfiltered": {"10.219.0.0/24", "crossings: [{name: c, from: members, to: science, does: open}]"},
		"crossing-collides":   {"10.214.0.0/24", "crossings: [{name: c, from: members, to: science, does: open}]"},
		"crossing-nowhere":    {"10.219.0.0/24", "crossings: [{name: c, from: quiet, to: science, does: open}]"},
		"service-uncrossed": {
			"10.219.0.0/24", "published_services: [{name: s, at: marrow-hill/gateway, address: 10.214.0.5, " +
				"service: tcp/502, target: marrow-hill/boilers/valve}]",
		},
		"mapping-uncrossed": {
			"10.219.0.0/24", "links: [{name: l, segment: members, routing: static, ends: [{gateway: marrow-hill/gateway}, " +
				"{gateway: reading-room/gateway}]}]\nmappings: [{name: m, gateway: marrow-hill/gateway, link: l, " +
				"real: 10.214.1.0/24, mapped: 10.223.1.0/24}]",
		},
		"name-leads-elsewhere": {
			"10.214.1.0/24", "names: [{name: gardens.example, for: reading-room, " +
				"records: [{name: valve, address: 10.214.1.9, host: marrow-hill/boilers/valve}]}]",
		},
	} {
		t.Run(code, func(t *testing.T) {
			endedByItsFix(t, code, strings.Replace(crossed, "RANGE", x.ranges, 1)+x.more+"\n")
		})
	}
}
