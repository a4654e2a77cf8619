package lab_test

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/negotiate"
	"dravin/lab"
)

// pairCase is what the two ends are changed to from an agreeing pair.
type pairCase struct {
	name            string
	starts, answers func(*negotiate.Settings)
}

func ike(list ...string) func(*negotiate.Settings) {
	return func(s *negotiate.Settings) { s.IKE = list }
}
func esp(list ...string) func(*negotiate.Settings) {
	return func(s *negotiate.Settings) { s.ESP = list }
}
func version(v uint8) func(*negotiate.Settings) { return func(s *negotiate.Settings) { s.Version = v } }
func key(k string) func(*negotiate.Settings)    { return func(s *negotiate.Settings) { s.Key = k } }

func identity(own, peer string) func(*negotiate.Settings) {
	return func(s *negotiate.Settings) {
		if own != "" {
			s.Identity = own
		}
		if peer != "" {
			s.PeerIdentity = peer
		}
	}
}

func selectors(local, remote string) func(*negotiate.Settings) {
	return func(s *negotiate.Settings) { s.Local, s.Remote = prefixes(local), prefixes(remote) }
}

func prefixes(text string) (out []netip.Prefix) {
	for _, p := range strings.Fields(text) {
		out = append(out, netip.MustParsePrefix(p))
	}
	return out
}

func all(changes ...func(*negotiate.Settings)) func(*negotiate.Settings) {
	return func(s *negotiate.Settings) {
		for _, change := range changes {
			change(s)
		}
	}
}

var same = func(*negotiate.Settings) {}

var pairCases = []pairCase{
	{"all agrees", same, same},
	{
		"one stronger IKE proposal at the first end", ike("aes256gcm16-prfsha384-ecp384", "aes256-sha256-ecp256"),
		ike("aes256-sha256-ecp256"),
	},
	{
		"the second end's order decides, IKE", ike("aes256-sha256-ecp256", "aes128-sha256-modp2048"),
		ike("aes128-sha256-modp2048", "aes256-sha256-ecp256"),
	},
	{"the second end's order decides, ESP", esp("aes256gcm16", "aes128-sha256"), esp("aes128-sha256", "aes256gcm16")},
	{
		"several algorithms in one proposal", ike("aes256-aes128-sha512-sha256-ecp384-ecp256"),
		ike("aes128-sha256-ecp256"),
	},
	{
		"several algorithms at both, the second prefers", ike("aes256-aes128-sha512-sha256-ecp384-ecp256"),
		ike("aes128-aes256-sha256-sha512-ecp256-ecp384"),
	},
	{
		"group guessed wrong at first", ike("aes256-sha256-modp2048", "aes256-sha256-ecp256"),
		ike("aes256-sha256-ecp256"),
	},
	{
		"AEAD beside CBC", ike("aes128gcm16-prfsha256-ecp256", "aes256-sha256-ecp256"),
		ike("aes256-sha256-ecp256", "aes128gcm16-prfsha256-ecp256"),
	},
	{
		"chacha20", all(ike("chacha20poly1305-prfsha256-curve25519"), esp("chacha20poly1305")),
		all(ike("chacha20poly1305-prfsha256-curve25519"), esp("chacha20poly1305")),
	},
	{"curve25519 under its other name", ike("aes256-sha256-x25519"), ike("aes256-sha256-curve25519")},
	{"sha384 and modp3072", ike("aes192-sha384-modp3072"), ike("aes192-sha384-modp3072")},
	{
		"old algorithms on both sides", all(ike("3des-sha1-modp1024"), esp("3des-sha1")),
		all(ike("3des-sha1-modp1024"), esp("3des-sha1")),
	},
	{
		"explicit pseudo-random function that follows anyway", ike("aes256-sha256-prfsha256-ecp256"),
		ike("aes256-sha256-ecp256"),
	},
	{"IKE encryption differs", ike("aes256-sha256-ecp256"), ike("aes128-sha256-ecp256")},
	{"IKE integrity differs", ike("aes256-sha256-ecp256"), ike("aes256-sha512-ecp256")},
	{"IKE group differs", ike("aes256-sha256-ecp256"), ike("aes256-sha256-ecp384")},
	{"IKE pseudo-random function differs", ike("aes256gcm16-prfsha256-ecp256"), ike("aes256gcm16-prfsha384-ecp256")},
	{"IKE AEAD against CBC", ike("aes256gcm16-prfsha256-ecp256"), ike("aes256-sha256-ecp256")},
	{"ESP encryption differs", esp("aes256gcm16"), esp("aes128gcm16")},
	{"ESP integrity differs", esp("aes256-sha256"), esp("aes256-sha512")},
	{"ESP AEAD against CBC", esp("aes256gcm16"), esp("aes256-sha256")},
	{"ESP group at both", esp("aes256gcm16-ecp384"), esp("aes256gcm16-ecp384")},
	{"ESP group differs: shows at the first renewal only", esp("aes256gcm16-ecp384"), esp("aes256gcm16-ecp256")},
	{"ESP group at one end only", esp("aes256gcm16-ecp384"), esp("aes256gcm16")},
	{"ESP group at the other end only", esp("aes256-sha256"), esp("aes256-sha256-modp2048")},
	{"ESP second proposal in common", esp("aes256gcm16", "aes256-sha256"), esp("aes256-sha256")},
	{"key differs in one character", key("glasshouse-40-b"), key("glasshouse-40-d")},
	{"names as identities", identity("orangery.example", "hill.example"), identity("hill.example", "orangery.example")},
	{
		"a name with and without an @ in front", identity("@orangery.example", "hill.example"),
		identity("@hill.example", "orangery.example"),
	},
	{"key IDs as identities", identity("keyid:orangery/1", "keyid:hill"), identity("keyid:hill", "keyid:orangery/1")},
	{"a key ID where a name is expected", identity("keyid:orangery", ""), identity("", "orangery")},
	{"first end's identity not expected", identity("orangery.example", ""), same},
	{"second end's identity not expected", same, identity("hill.example", "")},
	{"first end expects another identity", identity("", "hill.example"), same},
	{"second end expects another identity", same, identity("", "orangery.example")},
	{"identity differs in one character", identity("orangery.example", ""), identity("", "0rangery.example")},
	{"first end sends elsewhere", func(s *negotiate.Settings) { s.Peer = netip.MustParseAddr("198.51.100.99") }, same},
	{
		"second end expects another address", same,
		func(s *negotiate.Settings) { s.Peer = netip.MustParseAddr("203.0.113.99") },
	},
	{"both IKEv1", version(1), version(1)},
	{"IKEv2 against IKEv1", version(2), version(1)},
	{"IKEv1 against IKEv2", version(1), version(2)},
	{"either against IKEv2", version(0), version(2)},
	{"either against either", version(0), version(0)},
	{"either against IKEv1", version(0), version(1)},
	{"IKEv1 against either", version(1), version(0)},
	{
		"IKEv1, group differs", all(version(1), esp("aes256-sha256-ecp384")),
		all(version(1), esp("aes256-sha256-ecp256")),
	},
	{"everything to everything", selectors("0.0.0.0/0", "0.0.0.0/0"), selectors("0.0.0.0/0", "0.0.0.0/0")},
	{
		"second end has half the first's range", selectors("10.221.0.0/16", "10.222.0.0/16"),
		selectors("10.222.0.0/16", "10.221.0.0/17"),
	},
	{
		"first end has half the second's range", selectors("10.221.0.0/17", "10.222.0.0/16"),
		selectors("10.222.0.0/16", "10.221.0.0/16"),
	},
	{"both narrow", selectors("10.221.0.0/17", "10.222.0.0/16"), selectors("10.222.0.0/17", "10.221.0.0/16")},
	{"everything against one range", selectors("0.0.0.0/0", "0.0.0.0/0"), selectors("10.222.0.0/16", "10.221.0.0/16")},
	{"nothing in common", selectors("10.221.0.0/16", "10.222.0.0/16"), selectors("10.222.0.0/16", "10.218.0.0/16")},
	{
		"not mirrored but copied", selectors("10.221.0.0/16", "10.222.0.0/16"),
		selectors("10.221.0.0/16", "10.222.0.0/16"),
	},
	{
		"two ranges at one end", selectors("10.221.0.0/24 10.221.8.0/24", "10.222.0.0/16"),
		selectors("10.222.0.0/16", "10.221.0.0/24 10.221.8.0/24"),
	},
	{
		"one of two ranges in common", selectors("10.221.0.0/24 10.221.8.0/24", "10.222.0.0/16"),
		selectors("10.222.0.0/16", "10.221.0.0/24"),
	},
	{
		"two ranges inside one", selectors("10.221.0.0/24 10.221.8.0/24", "10.222.0.0/16"),
		selectors("10.222.0.0/16", "10.221.0.0/16"),
	},
	{
		"neighbouring ranges stay apart", selectors("10.221.0.0/24 10.221.1.0/24", "10.222.0.0/16"),
		selectors("10.222.0.0/16", "10.221.0.0/24 10.221.1.0/24"),
	},
	{
		"neighbouring ranges inside one that holds both", selectors("10.221.0.0/24 10.221.1.0/24", "10.222.0.0/16"),
		selectors("10.222.0.0/16", "10.221.0.0/23"),
	},
	{
		"a range and one inside it", selectors("10.221.0.0/16 10.221.8.0/24", "10.222.0.0/16"),
		selectors("10.222.0.0/16", "10.221.0.0/16"),
	},
	{
		"the real range where the mapped one is meant", selectors("10.221.0.0/16", "10.222.0.0/16"),
		selectors("192.168.216.0/24", "10.221.0.0/16"),
	},
	{"lifetimes differ", func(s *negotiate.Settings) { s.ChildLife = 1800 }, same},
	{
		"key and ESP proposal differ: the key shows first", all(key("one-key-of-two"), esp("aes256gcm16")),
		all(key("the-other-key"), esp("aes128gcm16")),
	},
	{
		"selectors and ESP proposal differ", all(selectors("10.221.0.0/16", "10.222.0.0/16"), esp("aes256gcm16")),
		all(selectors("10.222.0.0/16", "10.218.0.0/16"), esp("aes128gcm16")),
	},
	{
		"IPv6 inside IPv4", selectors("2001:db8:1::/48", "2001:db8:2::/48"),
		selectors("2001:db8:2::/48", "2001:db8:1::/64"),
	},
}

// conf writes an end's settings for the daemon.
func conf(s negotiate.Settings) string {
	return fmt.Sprintf(`connections {
	c {
		version = %d
		local_addrs = %s
		remote_addrs = %s
		proposals = %s
		local {
			auth = psk
			id = %s
		}
		remote {
			auth = psk
			id = %s
		}
		children {
			c {
				local_ts = %s
				remote_ts = %s
				esp_proposals = %s
				life_time = %ds
				rekey_time = %ds
			}
		}
	}
}
secrets {
	ike-c {
		secret = "%s"
	}
}
`, s.Version, s.Address, s.Peer, strings.Join(s.IKE, ","), s.Identity, s.PeerIdentity, words(s.Local), words(s.Remote), strings.Join(s.ESP, ","), s.ChildLife*11/10, s.ChildLife, s.Key)
}

func words(ps []netip.Prefix) string {
	return strings.Join(strings.Fields(strings.Trim(fmt.Sprint(ps), "[]")), ",")
}

// observed is what a daemon says of the one SA it may have.
type observed struct {
	ikeUp, up     bool
	version       string
	ike, esp      string
	local, remote []netip.Prefix
	spi           string
}

var (
	fieldOf = regexp.MustCompile(`([a-z-]+)=([^\s\[\]{}]*)`)
	listOf  = regexp.MustCompile(`(local|remote)-ts=\[([^\]]*)\]`)
)

// observe reads swanctl --list-sas --raw.
func observe(raw string) (o observed) {
	ikePart, childPart, _ := strings.Cut(raw, "child-sas")
	fields := func(text string) map[string]string {
		m := map[string]string{}
		for _, f := range fieldOf.FindAllStringSubmatch(text, -1) {
			m[f[1]] = f[2]
		}
		return m
	}
	chosen := func(m map[string]string, keys ...string) string {
		enc := m["encr-alg"]
		if size := m["encr-keysize"]; size != "" && enc != "CHACHA20_POLY1305" {
			enc += "-" + size
		}
		out := []string{enc}
		for _, k := range keys {
			if m[k] != "" {
				out = append(out, m[k])
			}
		}
		return strings.Join(out, ", ")
	}
	i, c := fields(ikePart), fields(childPart)
	o.version, o.ikeUp = i["version"], i["state"] == "ESTABLISHED"
	o.ike = chosen(i, "integ-alg", "prf-alg", "dh-group")
	o.up, o.spi = c["state"] == "INSTALLED", c["spi-in"]
	o.esp = chosen(c, "integ-alg")
	for _, l := range listOf.FindAllStringSubmatch(childPart, -1) {
		if l[1] == "local" {
			o.local = prefixes(l[2])
		} else {
			o.remote = prefixes(l[2])
		}
	}
	return o
}

// Two real daemons, one tunnel: core/link predicts how every pair of settings
// ends up. Run with -v for the table.
func TestAgreementIsWhatDaemonsDo(t *testing.T) {
	l := needs(t, "swanctl", "/usr/lib/ipsec/charon")
	first, second := node(t, l, "first"), node(t, l, "second")
	require.NoError(t, l.Join(first, "wan", "203.0.113.30/32", second, "wan", "198.51.100.10/32"))
	for n, addresses := range map[*lab.Node]string{
		first:  "10.221.0.1 10.221.1.1 10.221.8.1 2001:db8:1::1",
		second: "10.222.0.1 2001:db8:2::1 10.221.0.9 192.168.216.1",
	} {
		require.NoError(t, n.Script("ip route add default dev wan"))
		for _, a := range strings.Fields(addresses) {
			require.NoError(t, n.Script("ip address add "+a+" dev lo"))
		}
	}
	// A lost packet is given up on soon, and routes are no part of the question.
	const options = "install_routes = no\n\tretransmit_tries = 2\n\tretransmit_timeout = 0.4\n\tretransmit_base = 1"
	swanctl := [2]func(string) (string, error){charon(t, first, options), charon(t, second, options)}
	file := filepath.Join(t.TempDir(), "swanctl.conf")
	agreeing := [2]negotiate.Settings{
		{Address: netip.MustParseAddr("203.0.113.30"), Peer: netip.MustParseAddr("198.51.100.10")},
		{Address: netip.MustParseAddr("198.51.100.10"), Peer: netip.MustParseAddr("203.0.113.30")},
	}
	for n := range agreeing {
		s := &agreeing[n]
		s.Identity, s.PeerIdentity = s.Address.String(), s.Peer.String()
		s.Version, s.Key, s.IKE, s.ESP, s.IKELife, s.ChildLife = 2, "a key of the test", []string{
			"aes256-sha256-ecp256",
		}, []string{"aes256-sha256"}, 14400, 3600
	}
	selectors("10.221.0.0/16", "10.222.0.0/16")(&agreeing[0])
	selectors("10.222.0.0/16", "10.221.0.0/16")(&agreeing[1])

	require.GreaterOrEqual(t, len(pairCases), 40)
	for _, c := range pairCases {
		ends := agreeing
		c.starts(&ends[0])
		c.answers(&ends[1])
		for n, s := range ends {
			require.NoError(t, os.WriteFile(file, []byte(conf(s)), 0o600))
			out, err := swanctl[n]("--load-all --clear --noprompt --file " + file)
			require.NoError(t, err, "%s: %s", c.name, out)
		}
		_, _ = swanctl[0]("--initiate --child c --timeout 6")
		raw, err := swanctl[0]("--list-sas --raw")
		require.NoError(t, err)
		got, want := observe(raw), negotiate.Agree(ends[0], ends[1])
		t.Logf("%-55s %-22s %s", c.name, orUp(want.Cause), want.Why)
		assert.Equal(t, want.Up, got.up, "%s: carries packets: %s\n%s", c.name, want.Why, raw)
		assert.Equal(t, want.IKEUp, got.ikeUp, "%s: IKE SA: %s\n%s", c.name, want.Why, raw)
		if want.IKEUp && got.ikeUp {
			assert.Equal(t, fmt.Sprint(want.Version), got.version, c.name)
			assert.Equal(t, want.IKE.String(), got.ike, c.name)
		}
		if want.Up && got.up {
			assert.Equal(
				t, negotiate.Chosen{Encryption: want.ESP.Encryption, Integrity: want.ESP.Integrity}.String(), got.esp,
				c.name,
			)
			assert.ElementsMatch(t, want.Local, got.local, c.name)
			assert.ElementsMatch(t, want.Remote, got.remote, c.name)
			assert.Equal(t, want.Renews, renews(t, swanctl[0], got.spi), "%s: new keys", c.name)
		}
		for _, ctl := range swanctl {
			_, _ = ctl("--terminate --ike c --force --timeout 2")
		}
	}
}

// renews asks for new keys and reports whether they come.
func renews(t *testing.T, swanctl func(string) (string, error), spi string) bool {
	out, err := swanctl("--rekey --child c")
	require.NoError(t, err, out)
	for range 10 {
		raw, err := swanctl("--list-sas --raw")
		require.NoError(t, err)
		for _, f := range fieldOf.FindAllStringSubmatch(raw, -1) {
			if f[1] == "spi-in" && f[2] != spi {
				return true
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	return false
}

func orUp(c negotiate.Cause) string {
	if c == negotiate.NoCause {
		return "up"
	}
	return string(c)
}
