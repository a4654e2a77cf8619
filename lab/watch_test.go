package lab_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/handover"
	"dravin/core/route"
	"dravin/core/status"
	"dravin/demo"
)

// A tunnel of a static link dies without its interface going down: the watcher
// that is handed over moves the routes within the time that the sheet tells, takes them
// away with the last tunnel, as walks have it, and back when one lives again.
func TestStaticLinksLeaveADeadTunnel(t *testing.T) {
	l := needs(t, "ip", "ping")
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	site := d.Find("marrow-hill", design.KindSite)[0]
	dir := t.TempDir()
	files := map[string]string{}
	for _, f := range handover.Render(route.Solve(d, status.Condition{}), site.ID, nil) {
		if strings.HasPrefix(f.Path, "gateway/dravin/") {
			files[filepath.Base(f.Path)] = filepath.Join(dir, filepath.Base(f.Path))
			require.NoError(t, os.WriteFile(files[filepath.Base(f.Path)], []byte(f.Content), 0o600))
		}
	}
	a, err := l.Node("a")
	require.NoError(t, err)
	b, err := l.Node("b")
	require.NoError(t, err)
	require.NoError(t, l.Join(a, "dravin1", "169.254.140.2/30", b, "st1", "169.254.140.1/30"))
	require.NoError(t, l.Join(a, "dravin2", "169.254.140.6/30", b, "st2", "169.254.140.5/30"))
	require.NoError(t, l.Join(a, "dravin3", "169.254.140.17/30", b, "st3", "169.254.140.18/30")) // the relay's
	require.NoError(t, a.Script("sh "+files["routes.sh"], "sh -n "+files["watch.sh"]))
	require.NoError(t, a.Start(nil, filepath.Join(dir, "log"), "/bin/sh", files["watch.sh"]))
	ways := func() string {
		out, err := a.Output("ip -4 route show 10.208.0.0/16")
		require.NoError(t, err)
		return out
	}
	assert.Contains(t, ways(), "dravin1")
	assert.Contains(t, ways(), "dravin2")
	require.NoError(t, b.Script("ip address del 169.254.140.1/30 dev st1")) // nobody answers there any more
	began := time.Now()
	assert.Eventually(
		t, func() bool { return !strings.Contains(ways(), "dravin1") && strings.Contains(ways(), "dravin2") },
		2*time.Minute, 100*time.Millisecond,
	)
	t.Logf("the routes left the dead tunnel after %.1f s", time.Since(began).Seconds())
	require.NoError(t, b.Script("ip address del 169.254.140.5/30 dev st2"))
	assert.Eventually(t, func() bool { return ways() == "" }, 2*time.Minute, 100*time.Millisecond)
	require.NoError(t, b.Script("ip address add 169.254.140.1/30 dev st1"))
	assert.Eventually(
		t, func() bool { return strings.Contains(ways(), "dravin1") }, 2*time.Minute, 100*time.Millisecond,
	)
}
