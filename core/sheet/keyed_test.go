package sheet_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/sheet"
)

// What a section takes along, what holds for all and what is said in place go before each other as the daemon has it:
// the section's own first, then what it takes along in the order in which it does, then the defaults.
func TestWhatASectionTakesAlong(t *testing.T) {
	near, far := netip.MustParseAddr("203.0.113.20"), netip.MustParseAddr("198.51.100.10")
	for name, c := range map[string]struct {
		text  string
		holds func(s sheet.Sent)
	}{
		"its own goes first": {
			"conn %default\n  dpddelay=10s\nconn base\n  dpddelay=20s\n" +
				"conn lodge\n  also=base\n  dpddelay=30s\n  right=203.0.113.20\n",
			func(s sheet.Sent) { assert.Equal(t, uint32(30), s.Settings.DPD) },
		},
		"then what it takes along": {
			"conn %default\n  dpddelay=10s\nconn base\n  dpddelay=20s\nconn lodge\n  also=base\n  right=203.0.113.20\n",
			func(s sheet.Sent) { assert.Equal(t, uint32(20), s.Settings.DPD) },
		},
		"then what holds for all": {
			"conn lodge\n  right=203.0.113.20\nconn %default\n  dpddelay=10s\n",
			func(s sheet.Sent) { assert.Equal(t, uint32(10), s.Settings.DPD) },
		},
		"what is taken along takes along": {
			"conn lodge\n  also=a\n  right=203.0.113.20\nconn a\n  also=b\nconn b\n  ikelifetime=3h\n",
			func(s sheet.Sent) { assert.Equal(t, uint32(10800), s.Settings.IKELife) },
		},
		"circles end": {
			"conn lodge\n  also=a\n  right=203.0.113.20\nconn a\n  also=lodge\n  dpddelay=7s\n",
			func(s sheet.Sent) { assert.Equal(t, uint32(7), s.Settings.DPD) },
		},
		"a section goes on": {
			"conn lodge\n  right=203.0.113.20\nconn other\n  right=203.0.113.99\nconn lodge\n  dpddelay=9s\n",
			func(s sheet.Sent) { assert.Equal(t, uint32(9), s.Settings.DPD) },
		},
		"our address on the left": {
			"conn lodge\n  left=203.0.113.20\n  leftsubnet=192.168.216.0/24\n" +
				"  right=198.51.100.10\n  rightsubnet=10.214.0.0/22\n",
			func(s sheet.Sent) {
				assert.Equal(t, far, s.Settings.Address, "theirs is the other side")
				assert.Equal(t, []netip.Prefix{netip.MustParsePrefix("10.214.0.0/22")}, s.Settings.Local)
			},
		},
		"what stands in quotes, and remarks": {
			"conn lodge # the lodge\n  right=203.0.113.20   # ours\n  rightid=\"@lodge.example\"\n# none\n\n",
			func(s sheet.Sent) { assert.Equal(t, "lodge.example", s.Settings.PeerIdentity) },
		},
	} {
		for _, text := range []string{c.text, strings.ReplaceAll(c.text, "\n", "\r\n")} {
			s, err := sheet.ReadSent(text, near, far, "lodge")
			require.NoError(t, err, name)
			assert.Equal(t, "lodge", s.Connection, name)
			c.holds(s)
		}
	}
}
