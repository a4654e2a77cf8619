package handover_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
)

const saltWorks = `
dravin: 1
name: told
sites:
  - name: Salt Works
    gateways: [{name: edge, addresses: [198.51.100.40], asn: 64711}]
    lans: [{name: lab, prefixes: [10.215.8.0/22]}]
networks:
  - name: vault
    cloud: Osier
    region: osier-west
    blocks: [10.203.0.0/16]
    gateways:
      - {name: twin gateway, addresses: [192.0.2.61, 192.0.2.62], asn: 64712}
      - {name: circuit gateway, addresses: [], asn: 64713}
    tables: [{name: main table}]
    subnets:
      - name: store
        prefixes: [10.203.1.0/24]
        table: vault/main-table
        endpoints: [{name: shelf, addresses: [10.203.1.14], answers: [tcp/443]}]
    boxes:
      - name: fold box
        addresses: [10.203.1.4]
        translate: [{hook: leaving, does: pool, into: 10.203.1.24/31, destination: 10.215.8.0/22}]
  - name: lych
    cloud: Osier
    region: osier-west
    blocks: [10.210.64.0/24]
    tables: [{name: main table}]
links:
  - name: salt works to vault
    routing: static
    state: drafted
    ends: [{gateway: salt-works/edge, routes: [10.203.0.0/16]}, {gateway: vault/twin-gateway, routes: [10.215.8.0/22]}]
    tunnels:
      - {name: tunnel 1, outside: [198.51.100.40, 192.0.2.61]}
      - {name: tunnel 2, outside: [198.51.100.40, 192.0.2.62], ends: [{state: gone}, {state: ready}]}
peerings:
  - {name: vault with lych, halves: [{network: vault}, {network: lych}], state: drafted}
published_services:
  - {name: shelf, at: vault/fold-box, address: 10.203.1.20, service: tcp/443, target: vault/store/shelf, does: rewriting}
`

// Each party is told what it must do itself: of what is gone at the far end, too, and what its cloud wants to be told.
func TestPartiesAreToldTheirOwnPart(t *testing.T) {
	d, err := design.Read([]byte(saltWorks))
	require.NoError(t, err)
	vault, site := fileOf(t, d, "vault", "-sheet.txt"), fileOf(t, d, "salt-works", "-sheet.txt")
	assert.Contains(t, vault, "tunnel 2 of salt works to vault", "the cloud has it whether the site has set it up or not")
	assert.NotContains(t, site, "tunnel 2 of salt works to vault")
	assert.Contains(t, vault, "give 10.203.1.20 to fold box as an address of its own")
	assert.Contains(t, vault, "give 10.203.1.24/31 to it as addresses of its own")
	assert.Contains(t, vault, "the other is the network lych in Osier, osier-west: 10.210.64.0/24")
	assert.Regexp(t, `the twin gateway at [^\n]*\n +a VPN gateway of the kind`, vault)
	assert.NotRegexp(t, `the circuit gateway[^\n]*\n +a VPN gateway of the kind`, vault)
}
