package lab_test

import (
	"encoding/hex"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/negotiate"
	"dravin/core/route"
	"dravin/core/settings"
	"dravin/core/status"
	"dravin/demo"
	"dravin/lab"
)

// payloads try to leave the place in a file where they are put. CANARY is a file
// that none may make.
var payloads = []string{
	`"} evil { remote_addrs = 203.0.113.66 children { evil { updown = CANARY } } } x {"`,
	"x\"\n}\nplanted {\n local_addrs = 203.0.113.66\n children {\n  planted {\n   updown = CANARY\n  }\n }\n}\n",
	"x\r\n} }\r\nconnections { planted { version = 2 } }",
	"# } {", "$(touch CANARY)", "`touch CANARY`", `'; touch CANARY; '`, "\\", "a\\", "x\n touch CANARY",
	"}; protocol device evil { }", "/* x",
	"include CANARY", "\u2028touch CANARY", "%s %[1]d", "Süd 名", `\" \n \x41`, "x; accept; }",
}

// hostile puts a payload into every text of every object, names included: each
// text gets another, and every text gets each as turn goes on. Texts with a
// grammar of their own get one only if past is true, past the door.
func hostile(d *design.Design, turn int, canary string, past bool) *design.Design {
	count := turn
	next := func() string {
		count++
		return strings.ReplaceAll(payloads[count%len(payloads)], "CANARY", canary)
	}
	var fill func(v reflect.Value, tag reflect.StructTag)
	fill = func(v reflect.Value, tag reflect.StructTag) {
		switch v.Kind() {
		case reflect.String:
			if v.Type() != reflect.TypeFor[design.Ref]() && tag.Get("enum") == "" &&
				(past || tag.Get("form") == "" || tag.Get("form") == "free") {
				v.SetString(next())
			}
		case reflect.Slice:
			if past && v.Len() == 0 && tag.Get("form") != "" {
				v.Set(reflect.MakeSlice(v.Type(), 2, 2))
			}
			copied := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
			reflect.Copy(copied, v)
			for n := range copied.Len() {
				fill(copied.Index(n), tag)
			}
			v.Set(copied)
		case reflect.Struct:
			if v.Type() == reflect.TypeFor[netip.Addr]() || v.Type() == reflect.TypeFor[netip.Prefix]() ||
				v.Type() == reflect.TypeFor[design.Service]() {
				return
			}
			for n := range v.NumField() {
				fill(v.Field(n), v.Type().Field(n).Tag)
			}
		}
	}
	var out []*design.Object
	for _, o := range d.All() {
		body := reflect.New(reflect.TypeOf(o.Body).Elem())
		body.Elem().Set(reflect.ValueOf(o.Body).Elem())
		if t, ok := body.Interface().(*design.Tunnel); ok && len(t.Ends) == 0 {
			t.Ends = []design.TunnelEnd{{Identity: "keyid:hut/" + fmt.Sprint(turn)}, {Identity: "gardener@hut.example"}}
		}
		if o.Kind != design.KindProfile && o.Kind != design.KindNetwork &&
			o.Kind != design.KindHub { // these name profiles
			fill(body.Elem(), "")
		}
		c := *o.With(body.Interface().(design.Body))
		c.Name = []string{"", "3"}[turn%2] + c.Name + " " + next() // also with a digit in front
		out = append(out, &c)
	}
	return design.New(d.Name+next(), out)
}

// stubbed runs a script with programs that only write down how they are called; what
// sleeps is ended.
func stubbed(t *testing.T, n *lab.Node, script string) string {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "sleep"), []byte("#!/bin/sh\nkill $PPID\n"), 0o755))
	for _, program := range []string{"ip", "sysctl", "ping", "swanctl"} {
		stub := "#!/bin/sh\nprintf '%s' \"" + program + "\" >> " + dir + "/calls\nfor a in \"$@\"; do printf ' [%s]' " +
			"\"$a\" >> " + dir + "/calls; done\necho >> " + dir + "/calls\ncase \"$*\" in *show*) exit 1;; esac\n"
		require.NoError(t, os.WriteFile(filepath.Join(dir, program), []byte(stub), 0o755))
	}
	file := filepath.Join(dir, "script")
	require.NoError(t, os.WriteFile(file, []byte(script), 0o644))
	out, err := n.Output("PATH=" + dir + ":$PATH /bin/sh " + file + " || [ $? = 143 ]")
	require.NoError(t, err, "%s\n%s", out, script)
	calls, err := os.ReadFile(dir + "/calls")
	require.NoError(t, err)
	return string(calls)
}

var (
	connID = regexp.MustCompile(`-1 \{id=(.*?) class=`)
	// intoTunnels are the routes into tunnels: they are left out while the texts at the two
	// ends differ, so that these do not agree.
	intoTunnels = regexp.MustCompile(`(?m)^ip \[-[46]\] \[route\] \[replace\].*\[dravin[0-9]+\]\n`)
	neighbor    = regexp.MustCompile(`Neighbor (?:address|AS|range):.*`)
)

// held is what programs hold of a gateway's files.
type held struct {
	calls, ruleset, connections string
	protocols                   []string
	loaded                      string
}

// Whatever stands in the texts of a design, sh, nft, the IPsec daemon and the BGP
// daemon hold what they hold of the same design with harmless texts.
func TestHostileTextsStayTexts(t *testing.T) {
	l := needs(t, "nft", "bird", "birdc", "swanctl", "/usr/lib/ipsec/charon")
	box, speaker := node(t, l, "box"), node(t, l, "speaker")
	swanctl := charon(t, box, "")
	whole, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	canary := filepath.Join(t.TempDir(), "canary")
	sites := []string{"marrow-hill", "saltmarsh-station"}

	read := func(d *design.Design, site *design.Object) (h held) {
		keys := handover.Keys{}
		for n, tunnel := range d.Of(design.KindTunnel) {
			keys[tunnel.ID] = strings.ReplaceAll(payloads[n%len(payloads)], "CANARY", canary)
		}
		dir := t.TempDir()
		conf := ""
		for n, f := range handover.Render(route.Solve(d, status.Condition{}), site.ID, keys) {
			require.Equal(t, f.Path, filepath.Clean(f.Path))
			switch filepath.Base(f.Path) {
			case "dravin.conf", "dravin-keys.conf":
				conf += f.Content
			case "routes.sh":
				h.calls += intoTunnels.ReplaceAllString(stubbed(t, box, f.Content), "")
			case "watch.sh": // what it asks for is named as connections are
				require.Contains(t, stubbed(t, box, f.Content), "swanctl [--list-sas]")
			case "dravin.nft":
				file := filepath.Join(dir, fmt.Sprint(n, ".nft"))
				require.NoError(t, os.WriteFile(file, []byte(f.Content), 0o644))
				require.NoError(t, box.Script("nft flush ruleset", "nft -f "+file), f.Content)
				out, err := box.Output("nft list ruleset")
				require.NoError(t, err)
				h.ruleset += out
			case "bird.conf":
				birdc := bird(t, speaker, f.Content)
				require.Eventually(
					t, func() bool { return strings.Contains(birdc("show protocols"), "BGP") }, 2*time.Minute,
					50*time.Millisecond,
				)
				shown := birdc("show protocols all")
				h.protocols = append(h.protocols, neighbor.FindAllString(shown, -1)...)
				h.protocols = append(
					h.protocols,
					fmt.Sprint(
						strings.Count(shown, "BGP "), strings.Count(shown, "Device "), strings.Count(shown, "Static "),
						strings.Count(shown, "Kernel "),
					),
				)
				l.End(speaker)
			}
		}
		file := filepath.Join(dir, "swanctl.conf")
		require.NoError(t, os.WriteFile(file, []byte(conf), 0o600))
		out, _ := swanctl("--load-all --clear --noprompt --file " + file)
		require.NotContains(t, out, "syntax", conf)
		h.loaded = out // an error is one of a value: counted below
		h.connections, err = swanctl("--list-conns --raw")
		require.NoError(t, err)
		return h
	}
	for _, name := range sites {
		site := whole.Find(name, design.KindSite)[0]
		plain := read(whole, site)
		require.NotEmpty(t, plain.calls)
		for turn := range payloads {
			for _, past := range []bool{false, true} {
				d := hostile(whole, turn, canary, past)
				got := read(d, d.Get(site.ID))
				assert.Equal(t, plain.calls, got.calls, "what sh does, turn %d", turn)
				assert.Equal(t, plain.ruleset, got.ruleset, "what nft holds, turn %d", turn)
				assert.Equal(t, plain.protocols, got.protocols, "what the BGP daemon holds, turn %d", turn)
				assert.NotRegexp(
					t, `updown=|[ {](evil|planted) \{|[=\[]203\.0\.113\.66`, got.connections, "turn %d", turn,
				)
				assert.NoFileExists(t, canary)
				if past {
					continue // the daemon refuses what the door would have
				}
				for _, part := range []string{"list-conn event", "local_addrs="} {
					assert.Equal(
						t, strings.Count(plain.connections, part), strings.Count(got.connections, part),
						"%s in what the IPsec daemon holds, turn %d\n%s", part, turn, got.connections,
					)
				}
				assert.Equal(
					t, strings.Count(plain.loaded, "loaded ike secret"), strings.Count(got.loaded, "loaded ike secret"),
					"turn %d", turn,
				)
				assert.ElementsMatch(t, identitiesMeant(d, site.ID), identitiesHeld(got.connections), "turn %d", turn)
			}
		}
	}
}

// identitiesMeant are the identities of all tunnels at a site, as set.
func identitiesMeant(d *design.Design, site design.ID) (out []string) {
	for _, tunnel := range d.Of(design.KindTunnel) {
		l := d.Get(tunnel.Parent)
		for n, e := range l.Body.(*design.Link).Ends {
			if d.Get(e.Gateway).Parent == site && status.Exists(l) {
				s := settings.SettingsOf(d, tunnel, "")[n]
				out = append(
					out, strings.TrimPrefix(s.Identity, "keyid:"), strings.TrimPrefix(s.PeerIdentity, "keyid:"),
				)
			}
		}
	}
	return out
}

func identitiesHeld(raw string) (out []string) {
	for _, m := range connID.FindAllStringSubmatch(raw, -1) {
		out = append(out, m[1])
	}
	return out
}

// A key with everything that a file could trip over is the key that was meant: a
// daemon that was given its bytes by another way agrees with it. The identities
// are of every type that is allowed.
func TestKeysAndIdentitiesAreHeldAsMeant(t *testing.T) {
	l := needs(t, "swanctl", "/usr/lib/ipsec/charon")
	d, _, _ := drafted(t, "vpn-selectors-")
	tunnel := d.Find("saltmarsh-station-to-dunmoss-arboretum/tunnel-1", design.KindTunnel)[0]
	near, far := node(t, l, "near"), node(t, l, "far")
	plain := settings.SettingsOf(d, tunnel, "")
	require.NoError(
		t, l.Join(near, "wan", plain[0].Address.String()+"/32", far, "wan", plain[1].Address.String()+"/32"),
	)
	for _, n := range []*lab.Node{near, far} {
		require.NoError(t, n.Script("ip route add default dev wan"))
	}
	require.NoError(t, near.Script("ip address add 10.215.0.1 dev lo", "ip address add 10.215.2.1 dev lo"))
	require.NoError(t, far.Script("ip address add 192.168.211.1 dev lo"))
	file := filepath.Join(t.TempDir(), "swanctl.conf")
	ours, theirs := charon(t, near, ""), charon(t, far, "")
	load := func(swanctl func(string) (string, error), conf string) {
		require.NoError(t, os.WriteFile(file, []byte(conf), 0o600))
		out, err := swanctl("--load-all --clear --noprompt --file " + file)
		require.NoError(t, err, "%s\n%s", out, conf)
	}

	for key, identities := range map[string][2]string{
		`a"b\c#d{e}f=g $h 'i' ;j`: {"saltmarsh.example", "@dunmoss.example"},
		`\n\t\"`:                  {"keyid:salt-marsh/1", "keyid:dun:moss"},
		" spaces at both ends ":   {"gardener@saltmarsh.example", "2001:db8::7"},
		"Schlüssel 名":             {"198.51.100.40", "dunmoss"},
	} {
		for n := range identities {
			i, err := negotiate.ParseIdentity(identities[n])
			require.NoError(t, err)
			identities[n] = i.String()
		}
		b := *tunnel.Body.(*design.Tunnel)
		b.Ends = []design.TunnelEnd{
			{Identity: identities[0], PeerIdentity: identities[1]},
			{Identity: identities[1], PeerIdentity: identities[0]},
		}
		changed, _, err := d.Apply([]design.Edit{design.PutEdit(tunnel.With(&b))})
		require.NoError(t, err)
		s := settings.SettingsOf(changed, changed.Get(tunnel.ID), "0x"+hex.EncodeToString([]byte(key)))[1]
		load(theirs, conf(s))
		rendered := ""
		site := changed.Find("saltmarsh-station", design.KindSite)[0]
		for _, f := range handover.Render(
			route.Solve(changed, status.Condition{}), site.ID, handover.Keys{tunnel.ID: key},
		) {
			if strings.Contains(f.Path, "swanctl") {
				rendered += f.Content
			}
		}
		load(ours, rendered) // it starts by itself
		assert.Eventually(t, func() bool {
			sas, err := theirs("--list-sas --raw")
			return err == nil && strings.Contains(sas, "state=ESTABLISHED") &&
				strings.Contains(sas, "remote-id="+strings.TrimPrefix(identities[0], "keyid:")+" ")
		}, 2*time.Minute, 100*time.Millisecond, "%q %v", key, identities)
		_, _ = theirs("--terminate --ike c --force --timeout 2")
		_, _ = ours("--terminate --ike saltmarsh-station-to-dunmoss-arboretum__tunnel-1 --force --timeout 2")
	}
}
