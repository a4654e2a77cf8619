package sheet_test

import (
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/sheet"
	"dravin/demo"
)

func thistledown(t testing.TB) *design.Design {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	return d
}

func find(t testing.TB, d *design.Design, path string, kind design.Kind) *design.Object {
	found := d.Find(path, kind)
	require.Len(t, found, 1, path)
	return found[0]
}

func FuzzReadSent(f *testing.F) {
	f.Add("connections { a { local { id = x } } }")
	f.Add(keyedFile)
	f.Add(bracedFile)
	f.Add(birdFile)
	f.Add(linesFile)
	f.Add(linksFile)
	f.Add(rulesFile)
	f.Add("our address: 203.0.113.20\nike: aes256-sha256-ecp256")
	f.Add("router bgp 64501\n neighbor 169.254.128.1 remote-as \n")
	f.Add("protocol bgp a protocol bgp b {")
	f.Add("conn a\n  also=b\nconn b\n  also=a\n  also=a\n")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := sheet.ReadSent(text, netip.Addr{}, netip.Addr{}, "")
		if err == nil && len(s.Given)+len(s.Aside)+len(s.Choices) == 0 {
			t.Fatal("nothing was understood and nobody was told")
		}
	})
}

// Every settings file in the sources of the daemons that is about a tunnel between two reads without an error:
// DRAVIN_SETTINGS names the folder that has them (make settings fetches them).
func TestSettingsInTheDaemonsOwnSources(t *testing.T) {
	root := os.Getenv("DRAVIN_SETTINGS")
	if root == "" {
		t.Skip("no sources: DRAVIN_SETTINGS names no folder")
	}
	files, connections, aside := 0, 0, map[string]int{}
	err := filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		name := filepath.Base(path)
		if err != nil || e.IsDir() || !slices.Contains([]string{"ipsec.conf", "swanctl.conf", "swanctl_base.conf"}, name) {
			return err
		}
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		if !aboutTunnels.Match(text) {
			return nil
		}
		files++
		s, err := sheet.ReadSent(string(text), netip.Addr{}, netip.Addr{}, "")
		if !assert.NoError(t, err, path) {
			return nil
		}
		all := []string{s.Connection}
		if len(s.Choices) > 0 {
			all = nil
			for _, c := range s.Choices {
				all = append(all, c.Name)
			}
		}
		for _, name := range all {
			one, err := sheet.ReadSent(string(text), netip.Addr{}, netip.Addr{}, name)
			assert.NoError(t, err, "%s: %s", path, name)
			assert.Empty(t, one.Problems, "%s: %s", path, name)
			connections++
			for _, a := range one.Aside {
				aside[a.Field]++
			}
		}
		return nil
	})
	require.NoError(t, err)
	t.Logf("%d files, %d connections, put aside: %v", files, connections, aside)
	assert.Greater(t, files, 800)
}

// aboutTunnels fits a file that has a connection with an end.
var aboutTunnels = regexp.MustCompile(`(?m)^\s*(left\w*|right\w*|local_addrs|remote_addrs|local_ts|remote_ts)\s*=`)
