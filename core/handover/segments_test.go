package handover_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/demo"
)

// ruleset is the ruleset that a box is handed.
func ruleset(d *design.Design, party string) (out string) {
	for _, f := range handover.Render(route.Solve(d, status.Condition{}), d.Find(party)[0].ID, nil) {
		if strings.HasSuffix(f.Path, "nftables.d/dravin.nft") {
			out += f.Content
		}
	}
	return out
}

// An MTU that is set reaches the files: a policy-based link has no interface, so TCP is told; a route-based one has.
func TestAnMTUThatIsSetReachesTheFiles(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	assert.NotContains(t, ruleset(d, "peatside-nursery"), "maxseg size >")
	link := d.Find("peatside-to-marrow-hill", design.KindLink)[0]
	tunnel := d.Inside(link.ID, design.KindTunnel)[0]
	set := design.PutEdit(
		design.Edited(tunnel, func(b *design.Tunnel) { b.Ends = []design.TunnelEnd{{MTU: 1380}, {}} }),
	)
	next, _, err := d.Apply([]design.Edit{set})
	require.NoError(t, err)
	peatside := ruleset(next, "peatside-nursery")
	for _, side := range []string{"daddr", "saddr"} {
		assert.Contains(
			t, peatside, "ip "+side+" 10.214.0.0/22 tcp flags & (syn | rst) == syn tcp option maxseg size > 1340 tcp "+
				"option maxseg size set 1340",
		)
	}
	assert.NotContains(t, ruleset(next, "marrow-hill"), "maxseg size >", "the far end has set none")
}

// Of ranges that hold each other each has its own interface: a script that took either for both would not go on. The
// function of the script itself runs here, with an `ip` that knows three interfaces.
func TestNestedRangesHaveTheirOwnInterfaces(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	script := ""
	for _, f := range handover.Render(
		route.Solve(d, status.Condition{}), d.Find("marrow-hill", design.KindSite)[0].ID, nil,
	) {
		if strings.HasSuffix(f.Path, "gateway/dravin/routes.sh") && script == "" {
			_, from, there := strings.Cut(f.Content, "device() {\n")
			require.True(t, there, f.Path)
			body, _, _ := strings.Cut(from, "\n}\n")
			script = "device() {\n" + body + "\n}\n"
		}
	}
	require.NotEmpty(t, script)
	bin := t.TempDir()
	ip := `#!/bin/sh
case "$*" in
*"to 10.214.0.0/16 "*) echo '1: lo    inet 10.214.9.9/32 scope global lo'
  echo '2: lan0    inet 10.214.8.1/24 scope global lan0'
  echo '3: lan1    inet 10.214.0.1/16 scope global lan1' ;;
*"to 10.214.8.0/24 "*) echo '2: lan0    inet 10.214.8.1/24 scope global lan0' ;;
*"to 10.215.0.0/22 "*) echo '4: lan2    inet 10.215.0.1/23 scope global lan2' ;;
*"link show dev lan1"*) echo '3: lan1: <UP> vlan protocol 802.1Q id 30 <REORDER_HDR>' ;;
esac
`
	require.NoError(t, os.WriteFile(filepath.Join(bin, "ip"), []byte(ip), 0o700))
	for asked, want := range map[string]string{
		"10.214.0.0/16":    "lan1", // the LAN inside it comes first, and is another one's
		"10.214.8.0/24":    "lan0",
		"10.215.0.0/22":    "lan2", // a part of it, since nothing has all of it
		"10.214.0.0/16 30": "lan1",
		"10.214.8.0/24 30": "",
		"10.216.0.0/24":    "",
	} {
		cmd := exec.Command("sh", "-euc", script+"device -4 "+asked)
		cmd.Env = []string{"PATH=" + bin + ":" + os.Getenv("PATH")}
		got, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", asked, got)
		assert.Equal(t, want, strings.TrimSpace(string(got)), asked)
	}
}
