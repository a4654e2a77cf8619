package lab_test

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/overlap"
	"dravin/core/proof"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/core/translate"
	"dravin/core/walk"
	"dravin/demo"
	"dravin/lab"
)

// needs skips loudly where the machine can not do it, and fails in CI.
func needs(t *testing.T, programs ...string) *lab.Lab {
	l, err := lab.New()
	for _, p := range programs {
		if err == nil {
			_, err = exec.LookPath(p)
		}
	}
	if err != nil && os.Getenv("CI") == "" {
		t.Skipf("NOT CHECKED AGAINST REALITY: %v", err)
	}
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, l.Close()) })
	return l
}

func node(t *testing.T, l *lab.Lab, name string) *lab.Node {
	n, err := l.Node(name)
	require.NoError(t, err)
	return n
}

// mapped is the demo estate with the best remedy applied.
func mapped(t *testing.T) *route.Tables {
	d, err := design.Read(demo.TwoGardens)
	require.NoError(t, err)
	options, err := translate.ForGroup(t.Context(), proof.Of(route.Solve(d, status.Condition{})), overlap.Find(d)[0])
	require.NoError(t, err)
	d, _, err = d.Apply(options[0].Edits)
	require.NoError(t, err)
	return route.Solve(d, status.Condition{})
}

// rendered writes a site's files to a folder and returns where they are.
func rendered(t *testing.T, tables *route.Tables, site string) string {
	keys := handover.Keys{}
	for _, tunnel := range tables.Design.Of(design.KindTunnel) {
		keys[tunnel.ID] = "key of " + tables.Design.Path(tunnel.ID)
	}
	dir := t.TempDir()
	for _, f := range handover.Render(tables, tables.Design.Find(site, design.KindSite)[0].ID, keys) {
		path := filepath.Join(dir, f.Path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(f.Content), 0o600))
	}
	return filepath.Join(dir, "gateway")
}

// renderedFor is as [rendered], for one gateway.
func renderedFor(t *testing.T, tables *route.Tables, gateway design.ID) string {
	d := tables.Design
	return filepath.Join(filepath.Dir(rendered(t, tables, d.Party(gateway).Name)), handover.Folder(d.Get(gateway).Name))
}

func TestRenderedRulesetsLoad(t *testing.T) {
	l := needs(t, "nft")
	n := node(t, l, "nft")
	for _, site := range []string{"marrow-hill", "peatside-nursery"} {
		file := filepath.Join(rendered(t, mapped(t), site), "nftables.d/dravin.nft")
		require.NoError(t, n.Script("nft -c -f "+file, "nft -f "+file, "nft -f "+file))
		once, err := n.Output("nft list ruleset")
		require.NoError(t, err)
		require.NoError(t, n.Script("nft -f "+file))
		again, err := n.Output("nft list ruleset")
		require.NoError(t, err)
		assert.Equal(t, once, again, "loading twice changes nothing")
	}
}

// daemon starts an IPsec daemon on the rendered files, and the watcher that goes with it.
func daemon(t *testing.T, n *lab.Node, files string) (swanctl func(args string) (string, error)) {
	bin := t.TempDir()
	swanctl = charonIn(t, n, bin, "")
	all := filepath.Join(t.TempDir(), "swanctl.conf")
	require.NoError(t, os.WriteFile(all, []byte("include "+files+"/swanctl/conf.d/*.conf\n"), 0o600))
	out, err := swanctl("--load-all --noprompt --file " + all)
	require.NoError(t, err, out)
	if watcher := files + "/dravin/watch.sh"; exists(watcher) {
		require.NoError(
			t, n.Start([]string{"PATH=" + bin + ":" + os.Getenv("PATH")}, bin+"/watch.log", "/bin/sh", watcher),
		)
	}
	return swanctl
}

func exists(path string) bool { _, err := os.Stat(path); return err == nil }

// charon starts an IPsec daemon without connections.
func charon(t *testing.T, n *lab.Node, options string) (swanctl func(args string) (string, error)) {
	return charonIn(t, n, t.TempDir(), options)
}

// charonIn is as [charon], in a folder in which a swanctl is that speaks to it. The
// kernel may have no ESP, so the daemon does it in user space.
func charonIn(t *testing.T, n *lab.Node, dir, options string) (swanctl func(args string) (string, error)) {
	socket := "unix://" + dir + "/vici"
	conf := filepath.Join(dir, "strongswan.conf")
	require.NoError(t, os.WriteFile(conf, []byte(fmt.Sprintf(`charon {
	load = random nonce aes sha1 sha2 hmac kdf gcm openssl kernel-libipsec kernel-netlink socket-default vici
	%s
	filelog {
		log {
			path = %s/log
			default = 1
		}
	}
	plugins {
		vici {
			socket = %s
		}
	}
}
`, options, dir, socket)), 0o644))
	require.NoError(t, n.Start([]string{"STRONGSWAN_CONF=" + conf}, dir+"/out", "/usr/lib/ipsec/charon"))
	own := fmt.Sprintf("#!/bin/sh\nSTRONGSWAN_CONF=%s exec /usr/sbin/swanctl \"$@\" --uri %s\n", conf, socket)
	require.NoError(t, os.WriteFile(dir+"/swanctl", []byte(own), 0o755))
	swanctl = func(args string) (string, error) { return n.Output(dir + "/swanctl " + args + " 2>&1") }
	require.Eventually(
		t, func() bool { _, err := swanctl("--stats"); return err == nil }, 2*time.Minute, 100*time.Millisecond,
	)
	t.Cleanup(func() {
		if t.Failed() {
			log, _ := os.ReadFile(dir + "/log")
			sas, _ := swanctl("--list-sas")
			state, _ := n.Output("ip route show table all; ip -s link show ipsec0")
			t.Logf("%s\n%s\n%s", log[max(0, len(log)-20000):], sas, state)
		}
	})
	return swanctl
}

// serve answers every connection in the node with who it sees on both sides.
func serve(t *testing.T, n *lab.Node, address string) {
	var l net.Listener
	require.NoError(t, n.Do(func() (err error) { l, err = net.Listen("tcp", address); return err }))
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			fmt.Fprintf(c, "%s %s\n", host(c.RemoteAddr()), host(c.LocalAddr()))
			c.Close()
		}
	}()
}

func host(a net.Addr) string {
	h, _, _ := net.SplitHostPort(a.String())
	return h
}

// ask dials from the node and returns what the far end saw: caller and called.
func ask(t *testing.T, n *lab.Node, address string) (saw string) {
	require.NoError(t, n.Do(func() error {
		c, err := net.DialTimeout("tcp", address, 5*time.Second)
		if err != nil {
			return err
		}
		defer c.Close()
		if err := c.SetDeadline(time.Now().Add(5 * time.Second)); err != nil {
			return err
		}
		saw, err = bufio.NewReader(c).ReadString('\n')
		return err
	}), "dialling %s", address)
	return strings.TrimSpace(saw)
}

// predicted is what the walk says that the far end sees.
func predicted(t *testing.T, tables *route.Tables, from, to string, port uint16) (dialled, saw string) {
	flow, err := walk.ParseFlow(tables, from, to, design.Service{Proto: "tcp", Port: port})
	require.NoError(t, err)
	p := walk.Prove(tables, flow)
	require.True(t, p.Works, p.Stop)
	last := p.Forward[len(p.Forward)-1].Header
	return fmt.Sprintf("%s:%d", p.Dialled, port), last.Src.String() + " " + last.Dst.String()
}

// The rendered files bring a real tunnel up, and real packets arrive under the
// addresses that the walk predicts. A host in the museum store has the
// controller's address, so a packet that went astray would be answered by it.
func TestRenderedFilesCarryRealPackets(t *testing.T) {
	l := needs(t, "nft", "swanctl", "/usr/lib/ipsec/charon")
	tables := mapped(t)
	marrow, peatside := node(t, l, "marrow"), node(t, l, "peatside")
	dataRoom, store, controller, logger := node(t, l, "dataroom"), node(t, l, "store"),
		node(t, l, "controller"), node(t, l, "logger")
	require.NoError(t, l.Join(marrow, "wan", "198.51.100.10/32", peatside, "wan", "203.0.113.20/32"))
	require.NoError(t, marrow.Script("ip route add default dev wan"))
	require.NoError(t, peatside.Script("ip route add default dev wan"))
	require.NoError(t, l.Join(marrow, "data", "10.214.0.1/22", dataRoom, "eth0", "10.214.0.20/22"))
	require.NoError(t, l.Join(marrow, "store", "192.168.216.1/24", store, "eth0", "192.168.216.17/24"))
	require.NoError(t, l.Join(peatside, "glass", "192.168.216.1/24", controller, "eth0", "192.168.216.17/24"))
	// A cable stands for the link to the cloud; its gateway end has an address
	// in the block because the user-space IPsec wants one for its selectors.
	require.NoError(t, l.Join(marrow, "tarn", "10.208.1.1/16", logger, "eth0", "10.208.1.10/16"))
	for n, via := range map[*lab.Node]string{
		dataRoom: "10.214.0.1", store: "192.168.216.1", controller: "192.168.216.1", logger: "10.208.1.1",
	} {
		require.NoError(t, n.Script("ip route add default via "+via))
	}

	filesM, filesP := rendered(t, tables, "marrow-hill"), rendered(t, tables, "peatside-nursery")
	require.NoError(t, marrow.Script("nft -f "+filesM+"/nftables.d/dravin.nft"))
	require.NoError(
		t,
		peatside.Script(
			"nft -f "+filesP+"/nftables.d/dravin.nft", "sh "+filesP+"/dravin/routes.sh",
			"sh "+filesP+"/dravin/routes.sh",
		),
	)
	daemon(t, marrow, filesM)
	swanctl := daemon(t, peatside, filesP)
	require.Eventually(t, func() bool {
		out, err := swanctl("--list-sas")
		if err == nil && strings.Count(out, "INSTALLED") < 2 {
			_, _ = swanctl("--initiate --child peatside-to-marrow-hill__tunnel-1__1 --timeout 2")
			_, _ = swanctl("--initiate --child peatside-to-marrow-hill__tunnel-1__2 --timeout 2")
		}
		return err == nil && strings.Count(out, "INSTALLED") >= 2
	}, 2*time.Minute, 250*time.Millisecond, "both children come up")

	serve(t, controller, ":502")
	serve(t, logger, ":6514")
	for _, c := range []struct {
		from     *lab.Node
		name, to string
		port     uint16
	}{
		{dataRoom, "controls-desk", "controller", 502},
		{logger, "logger", "controller", 502},
		{controller, "controller", "logger", 6514},
	} {
		dialled, saw := predicted(t, tables, c.name, c.to, c.port)
		assert.Equal(t, saw, ask(t, c.from, dialled), "%s to %s", c.name, c.to)
	}
}

// A Linux kernel puts a packet through a selector whatever its route says,
// unless a bypass comes first; the walk counts on the bypass that the rendered
// files install.
func TestKernelKeepsOwnRangesOutOfSelectorsWithABypass(t *testing.T) {
	l := needs(t, "ip")
	gateway, desk, store := node(t, l, "gateway"), node(t, l, "desk"), node(t, l, "store")
	require.NoError(t, l.Join(gateway, "data", "10.214.0.1/22", desk, "eth0", "10.214.0.20/22"))
	require.NoError(t, l.Join(gateway, "store", "192.168.216.1/24", store, "eth0", "192.168.216.17/24"))
	require.NoError(t, desk.Script("ip route add default via 10.214.0.1"))
	require.NoError(t, store.Script("ip route add default via 192.168.216.1"))
	serve(t, store, ":502")
	reach := func() error {
		return desk.Do(func() error {
			c, err := net.DialTimeout("tcp", "192.168.216.17:502", 700*time.Millisecond)
			if err == nil {
				c.Close()
			}
			return err
		})
	}
	require.NoError(t, reach(), "without selectors the route decides")
	require.NoError(
		t,
		gateway.Script(
			"ip xfrm policy add src 10.214.0.0/22 dst 192.168.216.0/24 dir out priority 200 tmpl src 198.51.100.10 dst "+
				"203.0.113.20 proto esp mode tunnel",
		),
	)
	require.Error(t, reach(), "the selector takes what the route would deliver")
	require.NoError(t, gateway.Script(
		// charon keeps one policy for equal selectors, the one that goes first
		"ip xfrm policy update src 10.214.0.0/22 dst 192.168.216.0/24 dir out priority 100",
		"ip xfrm policy add src 192.168.216.0/24 dst 10.214.0.0/22 dir out priority 100"))
	require.NoError(t, reach(), "the bypass comes first")
}
