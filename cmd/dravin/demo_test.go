package main_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// output collects what a running program says.
type output struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.Write(p)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.String()
}

// start runs dravin demo on a state folder until the test ends.
func start(t *testing.T, state, listen string) (*exec.Cmd, *output) {
	cmd, out := exec.Command(binary, "demo", "--state", state, "--listen", listen), &output{}
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + t.TempDir()}
	cmd.Stdout, cmd.Stderr = out, out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	})
	require.Eventually(
		t, func() bool { return strings.Contains(out.String(), "Dravin is ready at http://"+listen) }, 2*time.Minute,
		50*time.Millisecond, "%s", out,
	)
	return cmd, out
}

func designs(t *testing.T, listen string) (list []map[string]any) {
	answer, err := http.Get("http://" + listen + "/api/designs")
	require.NoError(t, err)
	defer answer.Body.Close()
	require.NoError(t, json.NewDecoder(answer.Body).Decode(&list))
	return list
}

func postTo(t *testing.T, url, body string) int {
	answer, err := http.Post(url, "application/json", strings.NewReader(body))
	require.NoError(t, err)
	defer answer.Body.Close()
	_, _ = io.Copy(io.Discard, answer.Body)
	return answer.StatusCode
}

func answersOn(address string) bool {
	c, err := net.DialTimeout("tcp", address, 200*time.Millisecond)
	if err == nil {
		c.Close()
	}
	return err == nil
}

// postmaster is the process and port of the private PostgreSQL.
func postmaster(t *testing.T, state string) (pid, port string) {
	files, err := filepath.Glob(filepath.Join(state, "postgres", "data", "postmaster.pid"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	text, err := os.ReadFile(files[0])
	require.NoError(t, err)
	lines := strings.Split(string(text), "\n")
	return lines[0], lines[3]
}

func TestDemoStartsStopsAndKeepsWhatWasEdited(t *testing.T) {
	mustBeBuilt(t)
	state, err := os.MkdirTemp("", "dravin-demo-*")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(state, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(state) })
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	listen := free.Addr().String()
	require.NoError(t, free.Close())

	first, out := start(t, state, listen)
	list := designs(t, listen)
	require.Len(t, list, 1)
	assert.Equal(t, "Thistledown Botanic Trust", list[0]["name"])
	id := list[0]["id"].(string)
	put := `{"base":0,"reason":"a new hut","edits":[{"op":"put","id":"newhut","object":{"id":"newhut","kind":"site","name":"Yew Hut","body":{}}}]}`
	require.Equal(t, 200, postTo(t, "http://"+listen+"/api/designs/"+id+"/changes", put))

	// A second one on the same folder is told so; it harms nothing.
	second := exec.Command(binary, "demo", "--state", state, "--listen", "127.0.0.1:0")
	said, err := second.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(said), "a Dravin demo runs from this folder already")

	// Ctrl-C ends the server and its database, with an event stream open.
	stream, err := http.Get("http://" + listen + "/api/designs/" + id + "/events")
	require.NoError(t, err)
	defer stream.Body.Close()
	_, port := postmaster(t, state)
	require.NoError(t, first.Process.Signal(os.Interrupt))
	require.NoError(t, first.Wait(), "%s", out)
	assert.Contains(t, out.String(), "Dravin and its database have stopped.")
	assert.False(t, answersOn(listen))
	assert.False(t, answersOn("127.0.0.1:"+port))

	// The edit is there after a restart.
	again, _ := start(t, state, listen)
	assert.InDelta(t, 1, designs(t, listen)[0]["position"], 0)

	// Killed outright, it leaves its database running; the next start copes.
	pid, port := postmaster(t, state)
	require.NoError(t, again.Process.Kill())
	_ = again.Wait()
	assert.True(t, answersOn("127.0.0.1:"+port), "the database of the killed server runs on as process %s", pid)
	third, _ := start(t, state, listen)
	assert.False(t, answersOn("127.0.0.1:"+port), "the left-over database was stopped")
	assert.InDelta(t, 1, designs(t, listen)[0]["position"], 0)

	// Reset starts over.
	require.NoError(t, third.Process.Signal(syscall.SIGTERM))
	require.NoError(t, third.Wait())
	code, _, stderr := run(t, "demo", "--state", state, "--reset")
	require.Equal(t, 0, code, stderr)
	_, _ = start(t, state, listen)
	assert.InDelta(t, 0, designs(t, listen)[0]["position"], 0)
}
