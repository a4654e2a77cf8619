package finding_test

import (
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

const joined = `dravin: 1
name: Answers
owners: [{name: Science}, {name: Public}]
segments: [{name: science}, {name: grounds}]
sites:
  - name: Fern Lodge
    gateways: [{name: gateway, addresses: 203.0.113.10}]
    lans:
      - {name: house, prefixes: 10.212.1.0/24, segment: science, gives_out: 10.212.1.128/25}
      - {name: shed, prefixes: 10.212.1.0/24, segment: grounds}
published_services:
  - {name: desk, at: fern-lodge/gateway, address: 10.212.1.200, service: tcp/443, does: rewriting, target: ticketing/shop/till}
networks:
  - name: ticketing
    cloud: Sedge
    region: sedge-coast
    blocks: 10.209.0.0/20
    tables: [{name: main}]
    subnets: [{name: shop, zone: sedge-coast-a, prefixes: 10.209.0.0/24, table: ticketing/main, endpoints: [{name: till, addresses: 10.209.0.10}]}]
  - name: archive
    cloud: Sedge
    region: sedge-coast
    blocks: 10.209.16.0/20
    tables: [{name: main}]
    subnets: [{name: shelf, zone: sedge-coast-a, prefixes: 10.209.16.0/24, table: archive/main, endpoints: [{name: reader, addresses: 10.209.16.10}]}]
hubs:
  - name: coast
    cloud: Sedge
    region: sedge-coast
    owner: science
    hub_tables: [{name: main}]
    attachments:
      - {name: ticketing, what: ticketing, bound: coast/main, feeds: coast/main}
      - {name: archive, what: archive, bound: coast/main, feeds: coast/main, state: STATE}
requests:
  - {name: join archive, for: coast/archive, from: public, to: science, answer: refused, reason: not before the audit}
intents:
  - {name: reads, from: ticketing/shop/till, to: archive/shelf/reader, service: tcp/443}
`

// A refusal is told with its reason wherever it stops something; one of what is ready is found, and the walk says that
// it believes the state.
func TestRefusalsAreToldWhereTheyStop(t *testing.T) {
	p := proof.Of(route.Solve(read(t, replaced(joined, "STATE", "refused")), status.Condition{}))
	r := p.All()[0]
	require.False(t, r.Holds)
	assert.Contains(t, r.Stop().Why, "refused by Science: not before the audit")
	assert.NotContains(t, r.Stop().Fix, "learn")

	p = proof.Of(route.Solve(read(t, replaced(joined, "STATE", "ready")), status.Condition{}))
	require.True(t, p.All()[0].Holds)
	said := ""
	for _, s := range p.All()[0].Proof.Reply {
		said += s.Text
	}
	assert.Contains(t, said, "although it was refused by Science")
	codes := map[string]finding.Finding{}
	for _, f := range finding.All(p) {
		codes[f.Code] = f
	}
	require.Contains(t, codes, "refused-and-ready")
	assert.Contains(t, codes, "lans-not-told-apart")
	assert.Contains(t, codes, "address-given-out")
	for _, fix := range codes["refused-and-ready"].Fixes {
		next, _, err := p.Tables().Design.Apply(fix.Edits)
		require.NoError(t, err, fix.Title)
		for _, f := range finding.All(proof.Of(route.Solve(next, status.Condition{}))) {
			assert.NotEqual(t, "refused-and-ready", f.Code, fix.Title)
		}
	}
}

// A tunnel without a session, of a link that learns its routes, is found and gets one.
func TestTunnelsWithoutSessionsAreFound(t *testing.T) {
	d := read(t, `dravin: 1
name: Unspoken
sites:
  - {name: Fern Lodge, gateways: [{name: gateway, addresses: 203.0.113.10, asn: 64501}], lans: [{name: house, prefixes: 10.212.1.0/24}]}
  - {name: Rowan Hut, gateways: [{name: gateway, addresses: 203.0.113.20, asn: 64502}], lans: [{name: hut, prefixes: 10.212.2.0/24}]}
links:
  - name: lodge to hut
    routing: bgp
    ends: [{gateway: fern-lodge/gateway}, {gateway: rowan-hut/gateway}]
    tunnels:
      - name: tunnel 1
        outside: [203.0.113.10, 203.0.113.20]
        inside: [169.254.130.1/30, 169.254.130.2/30]
        sessions: [{name: session, ends: [{asn: 64501, address: 169.254.130.1}, {asn: 64502, address: 169.254.130.2}]}]
      - {name: tunnel 2, outside: [203.0.113.10, 203.0.113.20], inside: [169.254.130.5/30, 169.254.130.6/30]}
`)
	found := func(d *design.Design) (out []finding.Finding) {
		for _, f := range finding.All(proof.Of(route.Solve(d, status.Condition{}))) {
			if f.Code == "tunnel-without-session" {
				out = append(out, f)
			}
		}
		return out
	}
	list := found(d)
	require.Len(t, list, 1)
	next, _, err := d.Apply(list[0].Fixes[0].Edits)
	require.NoError(t, err)
	assert.Empty(t, found(next))
}

func replaced(file, old, with string) string { return strings.ReplaceAll(file, old, with) }
