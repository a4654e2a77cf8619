package stage_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/rehearsal"
	"dravin/lab/stage"
)

// Files that are tampered with.
const (
	script  = "dravin/routes.sh"
	rules   = "nftables.d/dravin.nft"
	ipsec   = "swanctl/conf.d/dravin.conf"
	keys    = "swanctl/conf.d/dravin-keys.conf"
	bgp     = "bird/bird.conf"
	unit    = "systemd/system/dravin.service"
	watcher = "dravin/watch.sh"
)

// The boxes whose files they are, with their estates.
var (
	learns = [2]string{"learned", "Marrow Hill gateway"}
	maps   = [2]string{"mapped", "Peatside Nursery gateway"}
	relays = [2]string{"mapped", "Marrow Hill gateway"}
)

// mutations are ways in which files may be wrong: each does something else than what the design says.
var mutations = []struct {
	name     string
	at       [2]string
	path     string
	old, new string
	drill    string // what must be taken away for it to show; empty: nothing
}{
	{"it does not forward", learns, script, `sysctl -qw net\.ipv4\.ip_forward=1`, "", ""},
	{"it does not forward IPv6", learns, script, `sysctl -qw net\.ipv6\.conf\.all\.forwarding=1`, "", ""},
	{"no setting of the kernel", maps, script, `(?m)^sysctl -qw net\.ipv4\.ip_forward=1\n.*\n.*\n`, "", ""},
	{"the interface has another if_id", learns, script, `if_id 1`, "if_id 7", ""},
	{"the SA has another if_id", learns, ipsec, `if_id_in = 1`, "if_id_in = 7", ""},
	{"the SA has no if_id to send by", learns, ipsec, `if_id_out = 1\n`, "\n", ""},
	{"no interface is made", learns, script, `(?m)^ip link show dravin1 .*$`, "", ""},
	{"no inside address", learns, script, `(?m)^ip address replace 169\.254\.140\.2.*$`, "", ""},
	{"an interface is not up", learns, script, `ip link set dravin2 up`, "", ""},
	{"no MTU", learns, script, `ip link set dravin1 mtu 1400`, "", ""},
	{"another MTU", learns, script, `ip link set dravin2 mtu 1400`, "ip link set dravin2 mtu 1280", ""},
	{"the script ends at once", maps, script, `set -eu`, "exit 0", ""},
	{"no counterpart in the mapped range", maps, script, `(?m)^a=\$\(own -4 192.*$`, "", ""},
	{"a route into a link is left out", relays, watcher, `h=\$\(over dravin1 dravin2\)`, "h=", ""},
	{"a route takes one tunnel of two", relays, watcher, `over dravin1 dravin2`, "over dravin1", ""},

	{"a weaker IKE proposal goes first", learns, ipsec, `(?m) proposals = .*$`, " proposals = aes256-sha256-modp2048", ""},
	{"weaker ESP", learns, ipsec, `esp_proposals = .*`, "esp_proposals = aes256-sha256-modp2048", ""},
	{"ESP without a group fails when it is renewed", learns, ipsec, `esp_proposals = .*`, "esp_proposals = aes256gcm16", ""},
	{"the IKE SA lives longer", learns, ipsec, `rekey_time = 14400s`, "rekey_time = 86400s", ""},
	{"the ESP SA lives longer", maps, ipsec, `rekey_time = 3600s`, "rekey_time = 28800s", ""},
	{"nobody asks whether the far end lives", learns, ipsec, `dpd_delay = 10s`, "dpd_delay = 0s", ""},
	{"the same at a policy-based tunnel", maps, ipsec, `(?m)^ +dpd_delay = 10s\n`, "", ""},
	{"it does not start again after silence", learns, ipsec, `dpd_action = restart`, "dpd_action = clear", ""},
	{"it does not start again once closed", maps, ipsec, `close_action = start`, "close_action = none", ""},
	{"another version of IKE", maps, ipsec, `version = 2`, "version = 1", ""},
	{"it calls itself something else", learns, ipsec, `id = 198\.51\.100\.10`, "id = hill.example", ""},
	{"it dials somebody else", maps, ipsec, `remote_addrs = 198\.51\.100\.10`, "remote_addrs = 198.51.100.11", ""},
	{"a selector is half as wide", maps, ipsec, `local_ts = 10\.223\.0\.0/24`, "local_ts = 10.223.0.0/25", ""},
	{"a selector is left out", relays, ipsec, `(?m)local_ts = 10\.208\.0\.0/16$`, "local_ts = 10.209.0.0/16", ""},
	{"another key", learns, keys, `secret = "`, `secret = "x`, ""},

	{"the session takes any number of routes", learns, bgp, `import limit 50 action disable;`, "", ""},
	{"the session waits for less", learns, bgp, `hold time 30;`, "hold time 9;", ""},
	{"the session is with another system", learns, bgp, `as 4200000311;`, "as 4200000312;", ""},
	{"one family is left out", learns, bgp, `(?s)    ipv6 \{\n        import filter.*?\n    \};\n`, "", ""},
	{"a filter takes nothing", learns, bgp, `net ~ \[ 10\.208\.0\.0/16\{16,24\} \]`, "false", ""},
	{"a filter takes what is longer", learns, bgp, `10\.208\.0\.0/16\{16,24\}`, "10.208.0.0/16{24,24}", ""},
	{"a range is not announced", learns, bgp, `, 10\.223\.8\.0/28 \] then accept`, " ] then accept", ""},
	{"nothing that is learned goes into the kernel", learns, bgp, `export where source = RTS_BGP`, "export none", ""},
	{"equal routes are not used side by side", learns, bgp, `merge paths on;`, "", ""},

	{"TCP is told of no largest segment", learns, rules, `(?m)^ +tcp flags .* maxseg size set rt mtu$`, "", ""},
	{"callers are not hidden", learns, rules, `oifname .* snat to .*`, "", ""},
	{"callers are hidden by other addresses", learns, rules, `10\.223\.8\.1-10\.223\.8\.14`, "10.223.9.1-10.223.9.14", ""},
	{"replies are refused", learns, rules, `ct state established,related accept`, "", ""},
	{"a rule is left out", learns, rules, `(?m)^.*tcp dport 6514 accept$`, "", ""},
	{"a rule is wider", learns, rules, `ip saddr 10\.214\.0\.20/32 .* accept`, "ip saddr 10.214.0.0/22 accept", ""},
	{"what no rule lets pass is let pass", learns, rules, `(?s)        drop\n.*?ip6`, "        accept\n    }\n}\ntable ip6", ""},
	{"a mapping leads elsewhere", maps, rules, `10\.223\.0\.0/24 : 192\.168\.216\.0/24`, "10.223.0.0/24 : 192.168.217.0/24", ""},
	{"one way of a mapping is left out", maps, rules, `(?m)^.*snat ip prefix to.*$`, "", ""},
	{"what calls is not mapped back", maps, rules, `(?m)^.*dnat ip prefix to.*$`, "", ""},

	{"a condition of the unit is not met", learns, unit, `\[Unit\]`, "[Unit]\nConditionPathExists=/etc/dravin/no", ""},
	{"the unit loads no rules", maps, unit, `ExecStart=/usr/sbin/nft .*`, "", ""},
	{"the unit runs no script", maps, unit, `ExecStart=/bin/sh .*`, "", ""},
	{"the watcher ends", relays, watcher, `sleep 1`, "exit 0", "marrow-hill-to-catalogue/tunnel-1"},
	{"the watcher never gives up", relays, watcher, `-ge 3 \]; then lost="\$\{lost\}dravin1`, `-ge 300 ]; then lost="${lost}dravin1`,
		"marrow-hill-to-catalogue/tunnel-1"},
}

// least is the share of mutations that a rehearsal must notice; what it does not is in docs/proof.md, as not rehearsed.
const least = 0.95

// A rehearsal notices what is wrong with files: all mutations in make truth, else four that are drawn anew in each run.
func TestMutationsAreNoticed(t *testing.T) {
	possible(t)
	list := rand.Perm(len(mutations))
	if os.Getenv("DRAVIN_REHEARSE") != "all" {
		list = list[:4]
	}
	t.Logf("%d of %d mutations: %v", len(list), len(mutations), list)
	var noticed atomic.Int64
	t.Run("each", func(t *testing.T) {
		for _, n := range list {
			m := mutations[n]
			t.Run(m.name, func(t *testing.T) {
				t.Parallel()
				says := tampered(t, m.at[0], m.drill, rehearsal.Tampering{Box: m.at[1], Path: m.path, Old: m.old, New: m.new})
				if len(says) > 0 {
					noticed.Add(1)
				}
				t.Logf("%d noticed: %.300s", n, strings.Join(says, "\n"))
			})
		}
	})
	share := float64(noticed.Load()) / float64(len(list))
	assert.GreaterOrEqual(t, share, least, fmt.Sprintf("%d of %d were noticed", noticed.Load(), len(list)))
}

// The estates of the mutations differ in nothing while nobody tampers with them, or a share would mean nothing; nor
// does one with next hops that are kept.
func TestEstatesOfMutationsAreRehearsed(t *testing.T) {
	possible(t)
	for _, name := range []string{learns[0], maps[0], "kept"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			assert.Empty(t, tampered(t, name, ""))
		})
	}
}

// tampered are the differences of a rehearsal, or why it could not be played to its end.
func tampered(t *testing.T, estate, drill string, x ...rehearsal.Tampering) (out []string) {
	text, err := os.ReadFile("testdata/" + estate + ".yaml")
	require.NoError(t, err)
	o := order(text)
	o.Options.Captures, o.Options.Sample, o.Options.Settle, o.Tampered = false, 60, 20*time.Second, x
	if drill != "" {
		o.Options.Drills = []string{drill}
	}
	r, err := stage.Rehearse(t.Context(), o, func(stage.Event) {}, nil)
	require.NoError(t, err)
	for _, c := range r.Differences() {
		out = append(out, fmt.Sprintf("%s %s: %s", c.Kind, c.Name, c.Rehearsed))
	}
	return out
}
