package main_test

import (
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/store/cluster"
	"dravin/web"
)

// database is a PostgreSQL of the test's own.
func database(t *testing.T) *cluster.Cluster {
	dir, err := os.MkdirTemp("", "dravin-serve-*")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	pg, err := cluster.Start(t.Context(), filepath.Join(dir, "pg"))
	require.NoError(t, err)
	t.Cleanup(func() {
		_ = pg.Stop(context.Background())
		_ = cluster.Remove(filepath.Join(dir, "pg"))
		_ = os.RemoveAll(dir)
	})
	return pg
}

func freeAddress(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// serve starts a server and returns what it says; the test ends it.
func serve(t *testing.T, listen, database, key string, more ...string) (*exec.Cmd, *output) {
	cmd, out := exec.Command(
		binary, append([]string{"serve", "--listen", listen, "--database", database, "--key-file", key}, more...)...,
	), &output{}
	cmd.Stdout, cmd.Stderr = out, out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	})
	require.Eventually(
		t, func() bool { return strings.Contains(out.String(), "Dravin serves") }, 2*time.Minute, 20*time.Millisecond,
		"%s", out,
	)
	return cmd, out
}

func get(t *testing.T, url string) string {
	answer, err := http.Get(url)
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return string(text)
}

func mustBeBuilt(t *testing.T) {
	if !web.Built() {
		require.Empty(t, os.Getenv("CI"), "the front end must be built before the tests run")
		t.Skip("NOT CHECKED: the front end is not built; run make build")
	}
}

// Off loopback it serves only when told to, and then says so everywhere. Numbers
// are on a listener of their own. A lost key file is said, and what to do.
func TestServing(t *testing.T) {
	mustBeBuilt(t)
	pg := database(t)
	key := filepath.Join(t.TempDir(), "key")
	for _, listen := range []string{"0.0.0.0:0", "[::]:0", ":0"} {
		code, _, said := run(t, "serve", "--listen", listen, "--database", pg.URL, "--key-file", key)
		assert.Equal(t, 2, code)
		assert.Contains(t, said, "--open-to-everyone")
	}
	code, _, said := run(
		t, "serve", "--listen", "127.0.0.1:0", "--metrics", "0.0.0.0:0", "--database", pg.URL, "--key-file", key,
	)
	assert.Equal(t, 2, code)
	assert.Contains(t, said, "--open-to-everyone")

	_, port, err := net.SplitHostPort(freeAddress(t))
	require.NoError(t, err)
	numbers := freeAddress(t)
	server, out := serve(t, "0.0.0.0:"+port, pg.URL, key, "--open-to-everyone", "--metrics", numbers)
	assert.Contains(t, out.String(), "open to everyone who reaches")
	at := "http://127.0.0.1:" + port
	assert.Contains(t, get(t, at+"/api/about"), "no login and is open to everyone")
	assert.Contains(t, get(t, at+"/healthz"), "ok")
	assert.Contains(t, get(t, "http://"+numbers+"/metrics"), "dravin_request_seconds_count")
	require.Equal(t, 201, postTo(t, at+"/api/designs", `{"from":"demo"}`))
	list := designs(t, "127.0.0.1:"+port)
	id := list[0]["id"].(string)
	var handed []struct{ Party, Name string }
	require.NoError(t, json.Unmarshal([]byte(get(t, at+"/api/designs/"+id+"/handover")), &handed))
	i := slices.IndexFunc(handed, func(p struct{ Party, Name string }) bool { return p.Name == "Marrow Hill" })
	party := handed[i].Party
	require.Equal(t, 200, postTo(t, at+"/api/designs/"+id+"/handover/"+party+"/reveal", ""))
	require.NoError(t, server.Process.Signal(os.Interrupt))
	require.NoError(t, server.Wait())

	require.NoError(t, os.Rename(key, key+".kept"))
	listen := freeAddress(t)
	_, out = serve(t, listen, pg.URL, key)
	assert.Contains(t, out.String(), "there is no key file")
	assert.Contains(t, out.String(), "this key can not be opened: Thistledown Botanic Trust: ")
	assert.NoFileExists(t, key)
	assert.Contains(t, get(t, "http://"+listen+"/api/about"), "Keys can not be opened")
	code, listed, _ := run(t, "keys", "--database", pg.URL, "--key-file", key)
	assert.Equal(t, 1, code)
	assert.Contains(t, listed, "can not be opened")
	code, listed, _ = run(t, "keys", "--database", pg.URL, "--key-file", key+".kept")
	assert.Equal(t, 0, code)
	assert.Contains(t, listed, "every key is opened")
	code, listed, _ = run(t, "keys", "--database", pg.URL, "--key-file", key, "--forget")
	assert.Equal(t, 0, code)
	assert.Contains(t, listed, "is forgotten")
}

// A dump of the database, restored elsewhere, holds every design with its history,
// and the same key file opens its keys.
func TestADumpIsRestored(t *testing.T) {
	mustBeBuilt(t)
	pg := database(t)
	key := filepath.Join(t.TempDir(), "key")
	listen := freeAddress(t)
	server, _ := serve(t, listen, pg.URL, key)
	at := "http://" + listen
	require.Equal(t, 201, postTo(t, at+"/api/designs", `{"from":"demo"}`))
	id := designs(t, listen)[0]["id"].(string)
	require.Equal(
		t,
		200,
		postTo(
			t,
			at+"/api/designs/"+id+"/changes",
			`{"base":0,"reason":"a hut","edits":[{"op":"put","id":"yew","object":{"id":"yew","kind":"site","name":"Yew Hut","body":{}}}]}`,
		),
	)
	paths := []string{"/file?format=yaml", "/history", "/findings", "/handover"}
	before := map[string]string{}
	for _, p := range paths {
		before[p] = get(t, at+"/api/designs/"+id+p)
	}
	require.NoError(t, server.Process.Signal(os.Interrupt))
	require.NoError(t, server.Wait())

	dump := filepath.Join(t.TempDir(), "dump")
	out, err := exec.Command("pg_dump", "--format=custom", "--no-owner", "--file="+dump, pg.URL).CombinedOutput()
	require.NoError(t, err, "%s", out)
	elsewhere := database(t)
	out, err = exec.Command("pg_restore", "--no-owner", "--dbname="+elsewhere.URL, dump).CombinedOutput()
	require.NoError(t, err, "%s", out)
	listen = freeAddress(t)
	_, said := serve(t, listen, elsewhere.URL, key)
	assert.NotContains(t, said.String(), "can not be opened")
	for _, p := range paths {
		assert.Equal(t, before[p], get(t, "http://"+listen+"/api/designs/"+id+p), p)
	}
	assert.Equal(t, 200, postTo(t, "http://"+listen+"/api/designs/"+id+"/undo", `{"base":1}`))
}
