package sheet_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/sheet"
)

const keyedFile = `config setup
	strictcrlpolicy=no

conn %default
	ikelifetime=4h
	keylife=1h # of the child SAs
	ike=aes256-sha256-modp2048!

conn lodge
	also=both
	right=203.0.113.20
	rightid=@nursery.example
	rightsubnet=192.168.216.0/24
	dpddelay=20s
	auto=start

conn store
	also=both
	right=203.0.113.21
	auto=add

conn both
	left=198.51.100.10
	leftid=198.51.100.10
	leftsubnet=10.214.0.0/22
	esp=aes256-sha256
	auto=ignore

conn local
	type=passthrough
	left=10.214.0.1
	right=10.214.0.2
`

const bracedFile = `base {
    version = 2
    proposals = aes256-sha256-modp2048
}
connections {
    lodge : base {
        remote_addrs = 203.0.113.20
        local_addrs = 198.51.100.10
        children {
            lodge
            {
                local_ts = 10.214.0.0/22
                remote_ts = 192.168.216.0/24
            }
        }
    }
    store : connections.lodge {
        remote_addrs = store.example
    }
    include more/*.conf
}
`

const birdFile = `router id 198.51.100.40; # the station
protocol bgp station {
    local 169.254.141.2 as 64502;
    neighbor 169.254.141.1 as 64505; hold time 30;
    ipv4 { import limit 12 action disable; };
}
protocol bgp other { local as 64502; neighbor 169.254.141.5 as 64505; }
`

const linesFile = `router bgp 64505
 bgp router-id 192.0.2.40
 neighbor 169.254.141.2 remote-as 64502
 neighbor 169.254.141.2 timers 10 30
 address-family ipv4 unicast
  neighbor 169.254.141.2 maximum-prefix 2600
`

const linksFile = `[{"ifname":"lo","mtu":65536,"addr_info":[{"family":"inet","local":"127.0.0.1","prefixlen":8}]},
{"ifname":"dravin1","mtu":1400,"addr_info":[{"family":"inet","local":"169.254.141.2","prefixlen":30}]}]`

const rulesFile = `{"nftables":[{"rule":{"expr":[
	{"mangle":{"key":{"tcp option":{"name":"maxseg","field":"size"}},"value":1360}}]}}]}`

func TestFilesOfFarEnds(t *testing.T) {
	near, far := netip.MustParseAddr("203.0.113.20"), netip.MustParseAddr("198.51.100.10")
	for name, c := range map[string]struct {
		text, choice string
		given        []string
		holds        func(s sheet.Sent)
	}{
		"the older style": {keyedFile, "", []string{
			"address", "peer", "identity", "peer-identity", "ike", "esp", "ike-life", "child-life", "dpd", "local", "remote",
		}, func(s sheet.Sent) {
			assert.Equal(t, "lodge", s.Connection)
			assert.Equal(t, uint32(14400), s.Settings.IKELife)
			assert.Equal(t, uint32(3600), s.Settings.ChildLife)
			assert.Equal(t, "nursery.example", s.Settings.PeerIdentity)
			assert.Equal(t, []string{"aes256-sha256-modp2048"}, s.Settings.IKE)
		}},
		"the braced style": {bracedFile, "", []string{
			"address", "peer", "version", "ike", "local", "remote",
		}, func(s sheet.Sent) {
			assert.Equal(t, "lodge", s.Connection)
			assert.Equal(t, uint8(2), s.Settings.Version, "it inherits")
		}},
		"what it inherits of a connection": {bracedFile, "store", []string{"address", "version", "ike", "local", "remote"},
			func(s sheet.Sent) {
				require.Len(t, s.Aside, 1)
				assert.Contains(t, s.Aside[0].Why, `"store.example" is not an address`)
			}},
		"sessions in braces": {birdFile, "station", []string{
			"asn", "bgp-address", "bgp-peer", "peer-asn", "hold", "max-prefixes",
		}, func(s sheet.Sent) {
			assert.Equal(t, uint32(64502), s.BGP.ASN)
			assert.Equal(t, uint32(12), s.BGP.MaxPrefixes)
		}},
		"sessions in lines": {linesFile, "", []string{
			"asn", "bgp-peer", "peer-asn", "hold", "max-prefixes",
		}, func(s sheet.Sent) {
			assert.Equal(t, uint32(30), s.BGP.Hold)
			assert.Equal(t, uint32(64502), s.BGP.PeerASN)
		}},
		"interfaces": {linksFile, "", []string{"inside", "mtu"}, func(s sheet.Sent) {
			assert.Equal(t, "169.254.141.2/30", s.Settings.Inside.String())
		}},
		"rules": {rulesFile, "", []string{"mtu"}, func(s sheet.Sent) { assert.Equal(t, uint32(1400), s.Settings.MTU) }},
	} {
		s, err := sheet.ReadSent(c.text, near, far, c.choice)
		require.NoError(t, err, name)
		assert.Empty(t, s.Problems, name)
		assert.ElementsMatch(t, c.given, s.Given, name)
		c.holds(s)
	}

	s, err := sheet.ReadSent(birdFile, near, far, "")
	require.NoError(t, err)
	assert.Len(t, s.Choices, 2)
	assert.Empty(t, s.Given)
	for text, why := range map[string]string{
		"conn a\nleft=1\n":                        "neither a section nor a setting of one",
		"connections { a : b { } }\nb : a { x = ": "is not closed",
		"{\"nftables\": 3}":                       "JSON",
		"connections {\n a : connections.a.b {\n b : connections.a { } } }": "inherits from itself",
	} {
		_, err := sheet.ReadSent(text, near, far, "")
		assert.ErrorContains(t, err, why, text)
	}
}
