package walk_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/walk"
)

// filtered is a site with two LANs, and a network of each cloud, joined to the site by a static link, with filters.
func filtered(t *testing.T, cloud, filters string) *route.Tables {
	d, err := design.Read([]byte(strings.ReplaceAll(`
dravin: 1
name: filtered
sites:
  - name: Marrow Hill
    gateways:
      - name: gateway
        addresses: 198.51.100.10
    lans:
      - name: data room
        prefixes: 10.214.0.0/22
        endpoints:
          - {name: desk, addresses: 10.214.0.20}
      - name: store
        prefixes: 10.214.4.0/24
        endpoints:
          - {name: cabinet, addresses: 10.214.4.30}
networks:
  - name: catalogue
    cloud: CLOUD
    blocks: 10.208.0.0/16
    gateways:
      - name: cloud gateway
        addresses: [192.0.2.10]
    tables:
      - name: main
        routes:
          - {prefix: 10.214.0.0/20, via: catalogue/cloud-gateway}
    subnets:
      - name: shelf
        prefixes: 10.208.1.0/24
        table: catalogue/main
        public: true
        endpoints:
          - {name: logger, addresses: 10.208.1.10, public: 203.0.113.7}
links:
  - name: link
    routing: static
    ends:
      - {gateway: marrow-hill/gateway, routes: [10.208.0.0/16, 10.223.0.0/16]}
      - {gateway: catalogue/cloud-gateway, routes: 10.214.0.0/20}
    tunnels:
      - name: tunnel 1
        outside: [198.51.100.10, 192.0.2.10]
groups:
  - {name: loggers, members: catalogue/shelf/logger}
internets:
  - {name: the internet}
`+filters, "CLOUD", cloud)))
	require.NoError(t, err)
	return route.Solve(d, status.Condition{})
}

func TestFiltersLetPassWhatTheirPlatformWould(t *testing.T) {
	const desk, logger, cabinet = "marrow-hill/data-room/desk", "catalogue/shelf/logger", "marrow-hill/store/cabinet"
	for name, x := range map[string]struct {
		cloud, filters, from, to, service string
		stop                              walk.Code
		rule                              int
	}{
		"a group that remembers lets answers pass": {
			"Tarn", "filters: [{name: g, at: loggers, rules: [{from: 10.214.0.0/22, services: tcp/6514}]}]",
			desk, logger, "tcp/6514", "", 0,
		},
		"and nothing that no rule is for": {
			"Tarn", "filters: [{name: g, at: loggers, rules: [{from: 10.214.0.0/22, services: tcp/6514}]}]",
			desk, logger, "icmp", walk.Filtered, -1,
		},
		"a port shut and ping open": {
			"Tarn", "filters: [{name: g, at: loggers, rules: [{services: icmp/echo}]}]", desk, logger, "tcp/6514",
			walk.Filtered, -1,
		},
		"a subnet that remembers nothing needs a rule for answers": {
			"Osier", "filters: [{name: s, at: catalogue/shelf, default: allow, default_out: refuse, rules: []}]",
			desk, logger, "tcp/6514", walk.ReplyFiltered, -1,
		},
		"and has it": {
			"Osier", "filters: [{name: s, at: catalogue/shelf, default_out: refuse, " +
				"rules: [{direction: out, services: tcp/6514, replies: true}]}]", desk, logger, "tcp/6514", "", 0,
		},
		"of rules that are all asked one that refuses goes first": {
			"Osier", "filters: [{name: s, at: catalogue/shelf, rules: [{services: tcp}, {does: refuse, services: " +
				"tcp/6514}]}]",
			desk, logger, "tcp/6514", walk.Filtered, 1,
		},
		"of rules in order the first decides": {
			"Tarn", "filters: [{name: s, at: marrow-hill/gateway, " +
				"rules: [{services: tcp}, {does: refuse, services: tcp/6514}]}]",
			desk, logger, "tcp/6514", "", 0,
		},
		"a gateway that asks before it translates sees the mapped address": {
			"Osier", mapped + "filters: [{name: v, at: catalogue/cloud-gateway, rules: [{to: " +
				"10.223.0.0/16}]}]", desk, logger,
			"tcp/6514", "", 0,
		},
		"and not the real one": {
			"Osier", mapped + "filters: [{name: v, at: catalogue/cloud-gateway, rules: [{to: " +
				"10.208.0.0/16}]}]", desk, logger,
			"tcp/6514", walk.Filtered, -1,
		},
		"a box of one's own sees the real one": {
			"Osier", mappedHere + "filters: [{name: v, at: marrow-hill/gateway, rules: [{to: " +
				"10.214.0.0/22}]}]", logger, desk,
			"tcp/22", "", 0,
		},
		"a network is asked for what comes from without": {
			"Sedge", "filters: [{name: n, at: catalogue, rules: [{from: 10.214.4.0/24}]}]", desk, logger, "tcp/6514",
			walk.Filtered, -1,
		},
		"hosts beside each other meet each other's own filters": {
			"Tarn", "filters: [{name: h, at: marrow-hill/store/cabinet, rules: [{from_of: catalogue}]}]", desk, cabinet,
			"tcp/22", walk.Filtered, -1,
		},
	} {
		t.Run(name, func(t *testing.T) {
			tables := filtered(t, x.cloud, x.filters)
			d := tables.Design
			s, err := design.ParseService(x.service)
			require.NoError(t, err)
			f, err := walk.FlowBetween(tables, d.Find(x.from)[0].ID, d.Find(x.to)[0].ID, s)
			require.NoError(t, err)
			p := walk.Prove(tables, f)
			if x.stop == "" {
				assert.True(t, p.Works, "%+v", p.Stop)
				return
			}
			require.NotNil(t, p.Stop)
			assert.Equal(t, x.stop, p.Stop.Code, p.Stop.Why)
			require.NotNil(t, p.Stop.Decided)
			assert.Equal(t, x.rule, p.Stop.Decided.Rule)
		})
	}
}

// mapped and mappedHere map the network, and the site, toward the link.
const (
	mapped = "mappings: [{name: m, gateway: catalogue/cloud-gateway, link: link, real: 10.208.0.0/16, " +
		"mapped: 10.223.0.0/16}]\n"
	mappedHere = "mappings: [{name: m, gateway: marrow-hill/gateway, link: link, real: 10.214.0.0/22, " +
		"mapped: 10.214.8.0/22}]\n"
)

func TestTheInternetComesInByPublicAddressesAlone(t *testing.T) {
	tables := filtered(t, "Sedge", "filters: [{name: n, at: catalogue, rules: [{services: tcp/443}]}]")
	d := tables.Design
	internet, logger := d.Of(design.KindInternet)[0].ID, d.Find("catalogue/shelf/logger")[0].ID
	for service, works := range map[string]bool{"tcp/443": true, "tcp/22": false} {
		s, err := design.ParseService(service)
		require.NoError(t, err)
		f, err := walk.FlowBetween(tables, internet, logger, s)
		require.NoError(t, err)
		assert.Equal(t, "203.0.113.7", f.To.String())
		assert.Equal(t, works, walk.Prove(tables, f).Works, service)
	}
	f, err := walk.FlowBetween(
		tables, internet, d.Find("marrow-hill/data-room/desk")[0].ID, design.Service{Proto: "icmp"},
	)
	require.NoError(t, err)
	p := walk.Prove(tables, f)
	require.NotNil(t, p.Stop)
	assert.Equal(t, walk.NoRoute, p.Stop.Code)
	assert.Contains(t, p.Stop.Why, "no public address leads to")
}

// What never works is shown for every port of both ends: held against every one of a small number of ports.
func TestClassesOfPacketsStandForAllPorts(t *testing.T) {
	found := map[bool]int{}
	for seed := range uint64(150) {
		r := rand.New(rand.NewPCG(seed, 22))
		var rules []string
		for range 1 + r.IntN(4) {
			first := 1 + r.IntN(6)
			rules = append(rules, fmt.Sprintf(
				"{does: %s, services: %s/%d-%d, replies: %t}", []string{"allow", "refuse"}[r.IntN(2)],
				[]string{"tcp", "udp"}[r.IntN(2)], first, first+r.IntN(3), r.IntN(2) == 0,
			))
		}
		tables := filtered(t, "Tarn", fmt.Sprintf(
			"filters: [{name: s, at: marrow-hill/gateway, stateless: true, default: refuse, rules: [%s]}]",
			strings.Join(rules, ", "),
		))
		d := tables.Design
		f, err := walk.FlowBetween(
			tables, d.Find("marrow-hill/data-room/desk")[0].ID, d.Find("marrow-hill/store/cabinet")[0].ID,
			design.Service{Proto: "tcp", Port: 1},
		)
		require.NoError(t, err)
		some := false
		for _, proto := range []string{"tcp", "udp"} {
			for dport := uint16(1); dport < 12; dport++ {
				for sport := uint16(1); sport < 12; sport++ {
					f.Service, f.SPort = design.Service{Proto: proto, Port: dport}, sport
					some = some || walk.Prove(tables, f).Delivered
				}
			}
		}
		f.Service, f.SPort = design.Service{}, 0
		p, err := walk.AnyPossibly(tables, f)
		require.NoError(t, err)
		require.Equal(t, some, p.Delivered, "seed %d: %v", seed, rules)
		found[some]++
	}
	assert.Positive(t, found[true])
	assert.Positive(t, found[false])
}
