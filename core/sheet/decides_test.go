package sheet_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/negotiate"
	"dravin/core/sheet"
)

// What a far end has that no tunnel of ours comes up with is told, and so is every line that is not compared.
func TestWhatDecidesIsComparedAndTheRestIsTold(t *testing.T) {
	const braced = `connections { lodge {
  local_addrs = 203.0.113.20
  remote_addrs = 198.51.100.10
  unique = never
  local { auth = AUTH
    certs = lodge.pem }
  remote { auth = psk }
  children { net { local_ts = dynamic, 10.212.1.0/24
    remote_ts = 10.214.0.0/22
    mode = MODE
    AH
  } } } }`
	with := func(auth, mode, ah string) string {
		return strings.NewReplacer("AUTH", auth, "MODE", mode, "AH", ah).Replace(braced)
	}
	older := func(lines string) string {
		return "conn lodge\n  left=203.0.113.20\n  right=198.51.100.10\n  ike=aes256-sha256-ecp256\n" + lines
	}
	up := negotiate.Outcome{Up: true, IKEUp: true, Why: "it comes up"}
	for name, c := range map[string]struct {
		text    string
		decides string // empty: nothing does
		aside   []string
	}{
		"as ours": {
			with("psk", "tunnel", ""), "", []string{"unique = never", "local.certs = lodge.pem", "dynamic"},
		},
		"by certificates":      {with("pubkey", "tunnel", ""), "auth = pubkey", []string{"unique = never"}},
		"of transport":         {with("psk", "transport", ""), "mode = transport", nil},
		"signed only":          {with("psk", "tunnel", "ah_proposals = sha256"), "ah_proposals = sha256", nil},
		"the older style":      {older("  authby=secret\n  mobike=no\n"), "", []string{"does not end in !", "mobike = no"}},
		"older, of transport":  {older("  type=transport\n"), "type = transport", nil},
		"older, by signatures": {older("  leftauth=pubkey\n"), "leftauth = pubkey", nil},
	} {
		s, err := sheet.ReadSent(c.text, netip.MustParseAddr("198.51.100.10"), netip.MustParseAddr("203.0.113.20"), "")
		require.NoError(t, err, name)
		out := s.Decided(up)
		assert.Equal(t, c.decides == "", out.Up, "%s: %v", name, s.Decides)
		if c.decides != "" {
			assert.Contains(t, out.Why, c.decides, name)
		}
		said := ""
		for _, a := range s.Aside {
			said += a.Why + "\n"
		}
		for _, a := range c.aside {
			assert.Contains(t, said, a, name)
		}
	}
}

// A session without a name is a session.
func TestSessionsNeedNoName(t *testing.T) {
	s, err := sheet.ReadSent(
		"protocol bgp {\n local 169.254.128.2 as 64502;\n neighbor 169.254.128.1 as 64501;\n}\n",
		netip.Addr{}, netip.Addr{}, "",
	)
	require.NoError(t, err)
	assert.Equal(t, uint32(64502), s.BGP.ASN)
}
