package lab_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/box"
	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/sheet"
	"dravin/core/status"
	"dravin/core/topology"
	"dravin/demo"
	"dravin/lab"
)

// printed are the files of all parties of a design for a target, by path.
func printed(t *testing.T, tables *route.Tables, target handover.Target) map[string]string {
	out := map[string]string{}
	for _, o := range tables.Design.Inside("", handover.Parties...) {
		for _, f := range handover.As(box.PartyOf(tables, o.ID), []handover.Target{target}, nil, 1) {
			out[tables.Design.Path(o.ID)+"/"+f.Path] = f.Content
		}
	}
	require.NotEmpty(t, out)
	return out
}

// several are designs that targets are tried on: the demo estate, and random ones with translations of every kind.
func several(t *testing.T) (out []*route.Tables) {
	for _, file := range [][]byte{demo.Thistledown, demo.TwoGardens} {
		d, err := design.Read(file)
		require.NoError(t, err)
		out = append(out, route.Solve(d, status.Condition{}))
	}
	for seed := range uint64(8) {
		out = append(out, route.Solve(newEstate(seed, true).d, status.Condition{}))
	}
	return append(out, mapped(t))
}

// The open models are valid against their modules, as the RFCs have these.
func TestModelsAreValid(t *testing.T) {
	needs(t, "yanglint")
	valid := func(module, path, content string) {
		file := filepath.Join(t.TempDir(), "model.json")
		require.NoError(t, os.WriteFile(file, []byte(content), 0o644))
		args := []string{"-p", "testdata/yang", "-t", "config", "testdata/yang/" + module, file}
		if strings.HasPrefix(module, "ietf-nat") {
			args = append([]string{"-F", "ietf-nat:basic-nat44,napt44,dst-nat,nptv6"}, args...)
		}
		out, err := exec.Command("yanglint", args...).CombinedOutput()
		assert.NoError(t, err, "%s: %s\n%s", path, out, content)
	}
	models := map[string]int{}
	for _, tables := range several(t) {
		list := map[string]string{}
		for _, o := range tables.Design.Inside("", handover.Parties...) {
			for _, f := range handover.As(box.PartyOf(tables, o.ID), []handover.Target{handover.Models}, nil, 1) {
				list[f.Path] = f.Content
			}
		}
		for path, content := range list {
			models[filepath.Base(path)]++
			module := map[string]string{
				"nat.json": "ietf-nat@2019-01-10.yang", "ipsec.json": "ietf-i2nsf-ike@2021-07-14.yang",
			}[filepath.Base(path)]
			valid(module, path, content)
		}
		text, err := json.Marshal(topology.Model(tables.Design))
		require.NoError(t, err)
		valid("ietf-network-topology@2018-02-26.yang", "topology", string(text))
	}
	assert.Greater(t, models["nat.json"], 5)
	assert.Greater(t, models["ipsec.json"], 10)
}

// Zone files are loaded by a name server's own check, and hold the names.
func TestZonesLoad(t *testing.T) {
	needs(t, "named-checkzone")
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	for path, content := range printed(t, route.Solve(d, status.Condition{}), handover.Zones) {
		file := filepath.Join(t.TempDir(), "zone")
		require.NoError(t, os.WriteFile(file, []byte(content), 0o644))
		out, err := exec.Command("named-checkzone", "-D", "gardens.example", file).CombinedOutput()
		assert.NoError(t, err, "%s: %s", path, out)
		assert.Regexp(t, `controller\.gardens\.example\.\s+300\s+IN\s+A\s+192\.168\.216\.17`, string(out))
	}
}

// The older style says what the other one does: it is read back to the same, and the daemon's own starter loads each
// connection.
func TestOlderStyleSaysTheSame(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	tables := route.Solve(d, status.Condition{})
	files := printed(t, tables, handover.Keyed)
	tried := 0
	for _, o := range tables.Design.Inside("", handover.Parties...) {
		for _, f := range handover.Render(tables, o.ID, nil) {
			folder, ok := strings.CutSuffix(f.Path, "/swanctl/conf.d/dravin.conf")
			older := files[d.Path(o.ID)+"/"+folder+"/ipsec.conf"]
			if !ok || older == "" {
				continue
			}
			for _, m := range regexp.MustCompile(`(?m)^conn (\S+__\S+)$`).FindAllStringSubmatch(older, -1) {
				one, err := sheet.ReadSent(f.Content, netip.Addr{}, netip.Addr{}, m[1][:strings.LastIndex(m[1], "__")])
				require.NoError(t, err)
				two, err := sheet.ReadSent(older, netip.Addr{}, netip.Addr{}, m[1])
				require.NoError(t, err)
				require.Empty(t, two.Decides, m[1])
				assert.Equal(t, one.Settings, two.Settings, m[1])
				tried++
			}
		}
	}
	assert.Greater(t, tried, 5)

	l := needs(t, "/usr/lib/ipsec/starter", "/usr/lib/ipsec/stroke")
	n := node(t, l, "older")
	conf := files["marrow-hill/gateway/ipsec.conf"]
	out := started(t, n, conf)
	for _, m := range regexp.MustCompile(`(?m)^conn (\S+)$`).FindAllStringSubmatch(conf, -1) {
		assert.Contains(t, out, m[1]+":", "the daemon has %s", m[1])
	}
}

// started is what the daemon's starter says of its connections.
func started(t *testing.T, n *lab.Node, conf string) string {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/ipsec.conf", []byte(conf), 0o644))
	settings := "charon {\nload = random nonce aes sha1 sha2 hmac kdf gcm openssl kernel-libipsec kernel-netlink " +
		"socket-default stroke\n}\n"
	require.NoError(t, os.WriteFile(dir+"/strongswan.conf", []byte(settings), 0o644))
	script := fmt.Sprintf("mount -t tmpfs tmpfs /run\nexport STRONGSWAN_CONF=%[1]s/strongswan.conf\n"+
		"/usr/lib/ipsec/starter --conf %[1]s/ipsec.conf --nofork >%[1]s/log 2>&1 &\nstarter=$!\n"+
		"for n in $(seq 100); do /usr/lib/ipsec/stroke statusall >%[1]s/out 2>/dev/null && "+
		"grep -q tunnel %[1]s/out && break; sleep 0.1; done\nsleep 0.5\n/usr/lib/ipsec/stroke statusall\n"+
		"kill $starter; wait $starter || true\n", dir)
	out, err := n.Output("unshare -m /bin/sh <<'END'\nmount --make-rprivate /\n" + script + "END")
	log, _ := os.ReadFile(dir + "/log")
	require.NoError(t, err, "%s", log)
	return out
}

// systemd-networkd comes to the same addresses and routes as the script does.
func TestNetworkdDoesWhatTheScriptDoes(t *testing.T) {
	l := needs(t, "/lib/systemd/systemd-networkd")
	tried := 0
	for seed := range uint64(40) {
		if tried == 3 {
			break
		}
		e := newEstate(seed, true)
		tables := route.Solve(e.d.On(e.side), status.Condition{})
		for _, g := range e.d.Of(design.KindGateway) {
			p := e.d.Party(g.ID)
			if p.Kind != design.KindSite || tried == 3 {
				continue
			}
			var files []handover.File
			for _, f := range handover.As(box.PartyOf(tables, p.ID), []handover.Target{handover.Networkd}, nil, 1) {
				if strings.HasPrefix(f.Path, handover.Folder(g.Name)+"/") && strings.HasSuffix(f.Path, ".network") {
					files = append(files, f)
				}
			}
			if len(files) < 2 {
				continue
			}
			tried++
			var devices []string
			for _, d := range handover.Devices(tables, g.ID) {
				devices = append(devices, d)
			}
			slices.Sort(devices)
			_, scripts := renderedFiles(t, tables, g.ID)
			a, b := node(t, l, fmt.Sprint("script", tried)), node(t, l, fmt.Sprint("networkd", tried))
			for _, n := range []*lab.Node{a, b} {
				for k, d := range devices {
					require.NoError(t, n.Script(fmt.Sprintf("ip link add %s type veth peer name p%d", d, k),
						fmt.Sprintf("ip link set p%d up; ip link set %s up", k, d)))
				}
			}
			require.NoError(t, a.Script(scripts[1]))
			want := leads(t, a, devices)
			got := networkdLeads(t, b, files, devices, want)
			assert.Equal(t, want, got, "seed %d, %s", seed, e.d.Title(g.ID))
		}
	}
	assert.Equal(t, 3, tried)
}

const leadScript = "ip -o -4 address show; ip -4 route show; ip -6 route show"

// leads are the addresses of devices and the routes that lead into them.
func leads(t *testing.T, n *lab.Node, devices []string) []string {
	out, err := n.Output(leadScript)
	require.NoError(t, err)
	return leadsOf(out, devices)
}

var address4 = regexp.MustCompile(`^\d+: (\S+)\s+inet (\S+)`)

func leadsOf(out string, devices []string) (list []string) {
	prefix := ""
	for _, line := range strings.Split(out, "\n") {
		if m := address4.FindStringSubmatch(line); m != nil && slices.Contains(devices, m[1]) {
			list = append(list, m[1]+" has "+m[2])
			continue
		}
		words := strings.Fields(line)
		if len(words) < 2 || strings.Contains(line, "proto kernel") {
			continue
		}
		if words[0] != "nexthop" {
			prefix = words[0]
		}
		if k := slices.Index(words, "dev"); k >= 0 && slices.Contains(devices, words[k+1]) {
			list = append(list, prefix+" by "+words[k+1])
		}
	}
	slices.Sort(list)
	return list
}

// networkdLeads runs systemd-networkd on files until it has come to what is wanted, or for a while.
func networkdLeads(t *testing.T, n *lab.Node, files []handover.File, devices, want []string) (got []string) {
	dir := t.TempDir()
	for _, f := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, filepath.Base(f.Path)), []byte(f.Content), 0o644))
	}
	require.NoError(t, os.Chmod(dir, 0o755))
	script := "mount --make-rprivate / && mkdir -p /run/systemd/netif/links /run/systemd/netif/leases " +
		"/run/systemd/netif/lldp && chown -R systemd-network:systemd-network /run/systemd/netif && " +
		"mount --bind " + dir + " /etc/systemd/network && mount -o remount,ro /sys && exec /lib/systemd/systemd-networkd"
	require.NoError(t, n.Start(nil, filepath.Join(t.TempDir(), "log"), "/bin/sh", "-c", script))
	for deadline := time.Now().Add(15 * time.Second); time.Now().Before(deadline); time.Sleep(200 * time.Millisecond) {
		if got = leads(t, n, devices); slices.Equal(got, want) {
			break
		}
	}
	return got
}
