package prefix

import (
	"encoding/binary"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// checksum is the sum of an address's words as checksums take it (RFC 1071),
// slowly; 0 and 0xffff are one.
func checksum(a netip.Addr) uint32 {
	b := a.As16()
	sum := uint32(0)
	for k := range 8 {
		sum += uint32(binary.BigEndian.Uint16(b[2*k:]))
	}
	return sum % 0xffff
}

// The example of RFC 6296 section 3.1, within our own ranges: /48 to /48 changes the
// subnet, and nothing else of the rest.
func TestNeutralExamples(t *testing.T) {
	to := TranslateNeutral(
		netip.MustParseAddr("fd01:203:405:1::1234"), netip.MustParsePrefix("fd01:203:405::/48"),
		netip.MustParsePrefix("2001:db8:1::/48"),
	)
	assert.Equal(t, "2001:db8:1:d550::1234", to.String())
	for _, bad := range []struct{ a, from, to string }{
		{"2001:db8:1::1", "2001:db8:2::/48", "2001:db8:3::/48"},                    // not in it
		{"2001:db8:2:ffff::1", "2001:db8:2::/48", "2001:db8:3::/48"},               // no word is left
		{"2001:db8:2::1", "2001:db8:2::/48", "2001:db8:3::/56"},                    // another length
		{"2001:db8:2:0:ffff:ffff:ffff:ffff", "2001:db8:2::/64", "2001:db8:3::/64"}, // all words of the host are full
		{"10.223.0.1", "10.223.0.0/24", "10.223.1.0/24"},
	} {
		assert.False(
			t,
			TranslateNeutral(
				netip.MustParseAddr(bad.a), netip.MustParsePrefix(bad.from), netip.MustParsePrefix(bad.to),
			).IsValid(),
			bad,
		)
	}
}

func TestNeutralKeepsChecksumsAndComesBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		bits := rapid.IntRange(16, 112).Draw(t, "bits")
		draw := func(label string) netip.Addr {
			var b [16]byte
			copy(b[:], rapid.SliceOfN(rapid.Byte(), 16, 16).Draw(t, label))
			b[0], b[1] = 0x20, 0x01
			return netip.AddrFrom16(b)
		}
		a := draw("address")
		from, to := netip.PrefixFrom(a, bits).Masked(), netip.PrefixFrom(draw("to"), bits).Masked()
		there := TranslateNeutral(a, from, to)
		if !there.IsValid() {
			return // RFC 6296 section 3.5 leaves some out
		}
		assert.True(t, to.Contains(there))
		assert.Equal(t, checksum(a), checksum(there))
		assert.Equal(t, a, TranslateNeutral(there, to, from))
	})
}
