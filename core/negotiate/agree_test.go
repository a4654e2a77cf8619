package negotiate_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"dravin/core/negotiate"
)

func TestSessionsAgree(t *testing.T) {
	a := negotiate.BGPEnd{
		ASN: 64501, PeerASN: 64502, Address: netip.MustParseAddr("169.254.140.2"),
		Peer: netip.MustParseAddr("169.254.140.1"), Hold: 90, Families: []string{"ipv4"},
	}
	b := negotiate.BGPEnd{
		ASN: 64502, PeerASN: 64501, Address: a.Peer, Peer: a.Address, Hold: 30, Families: []string{"ipv4", "ipv6"},
	}
	out := negotiate.AgreeSession(a, b)
	assert.True(t, out.Up)
	assert.Equal(t, uint32(30), out.Hold)
	assert.Equal(t, []string{"ipv4"}, out.Families)
	for why, change := range map[string]func(*negotiate.BGPEnd){
		"expects ASN 64501": func(e *negotiate.BGPEnd) { e.ASN = 64503 },
		"looks for 169.254.140.2, and the other end is at 169.254.140.1": func(e *negotiate.BGPEnd) { e.Peer = a.Address },
		"passwords differ":  func(e *negotiate.BGPEnd) { e.Password = "x" },
		"no address family": func(e *negotiate.BGPEnd) { e.Families = nil },
		"and the other end is at 169.254.140.9": func(e *negotiate.BGPEnd) {
			e.Address = netip.MustParseAddr("169.254.140.9")
		},
	} {
		x, y := a, b
		change(&x)
		out := negotiate.AgreeSession(x, y)
		assert.False(t, out.Up, why)
		assert.Contains(t, out.Why, why)
	}
}

// What fits, as kernels compute it for the same algorithms.
func TestWhatFitsInside(t *testing.T) {
	a := negotiate.Settings{
		Version: 2, IKE: []string{"aes256-sha256-ecp256"}, Local: []netip.Prefix{netip.MustParsePrefix("0.0.0.0/0")},
		Remote: []netip.Prefix{netip.MustParsePrefix("0.0.0.0/0")},
	}
	for esp, want := range map[string][2]int{
		"aes256gcm16": {1446, 1438}, "aes256-sha256": {1438, 1422}, "chacha20poly1305": {1446, 1438},
		"3des-sha1": {1446, 1438},
	} {
		b := a
		b.ESP, a.ESP = []string{esp}, []string{esp}
		assert.Equal(t, want[0], negotiate.Agree(a, b).MTU, esp)
		b.NAT = true
		out := negotiate.Agree(a, b)
		assert.True(t, out.UDP)
		assert.Equal(t, want[1], out.MTU, "%s in UDP", esp)
	}
	assert.Equal(t, 1406, negotiate.MSS(1446, false))
	a.ESP, a.Address = []string{"aes256gcm16"}, netip.MustParseAddr("2001:db8::1")
	assert.Equal(t, 1426, negotiate.Agree(a, a).MTU, "over IPv6")
}
