package prefix_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"dravin/core/prefix"
)

// What nobody on the internet routes, and what stands for public addresses.
func TestInternet(t *testing.T) {
	for text, want := range map[string]bool{
		"10.255.0.1": false, "172.16.0.9": false, "192.168.216.5": false, "100.64.3.1": false, "198.18.0.1": false,
		"240.0.0.1": false, "255.255.255.255": false, "fd00::1": false, "fe80::1": false, "ff02::1": false,
		"198.51.100.40": true, "203.0.113.5": true, "2001:db8::1": true, "172.32.0.1": true, "100.128.0.1": true,
	} {
		assert.Equal(t, want, prefix.Internet(netip.MustParseAddr(text)), text)
	}
	assert.False(t, prefix.Internet(netip.Addr{}))
}
