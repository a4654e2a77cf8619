package main_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// faults is how often a fault is tried: a few times in the suite, as often as
// FAULTS says in make faults.
func faults(few int) int {
	if n, err := strconv.Atoi(os.Getenv("FAULTS")); err == nil {
		return n
	}
	return few
}

// writers change a design over two servers and note what was acknowledged.
type writers struct {
	id      string
	listens [2]string
	mu      sync.Mutex
	names   map[string]bool // acknowledged
	client  http.Client
}

func (w *writers) run(ctx context.Context, number int) {
	for n := 0; ctx.Err() == nil; n++ {
		at := "http://" + w.listens[n%2] + "/api/designs/" + w.id
		var state struct{ Position int64 }
		if !w.call(ctx, "GET", at, "", &state) {
			time.Sleep(5 * time.Millisecond)
			continue
		}
		name := fmt.Sprintf("hut-%d-%d", number, n)
		body := fmt.Sprintf(
			`{"base":%d,"reason":"add %s","edits":[{"op":"put","id":"%s","object":{"id":"%s","kind":"site","name":"%s","body":{}}}]}`,
			state.Position,
			name,
			name,
			name,
			name,
		)
		if w.call(ctx, "POST", at+"/changes", body, &state) {
			w.mu.Lock()
			w.names[name] = true
			w.mu.Unlock()
		}
	}
}

func (w *writers) call(ctx context.Context, method, url, body string, out any) bool {
	r, err := http.NewRequestWithContext(ctx, method, url, strings.NewReader(body))
	if err != nil {
		return false
	}
	r.Header.Set("Content-Type", "application/json")
	answer, err := w.client.Do(r)
	if err != nil {
		return false
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	return err == nil && answer.StatusCode == 200 && json.Unmarshal(text, out) == nil
}

// Two servers share a database and are killed in turn under writers, and now and
// then the database with them: what was acknowledged is there, whole, once, and
// in the order of the history.
func TestKilledServersLoseNothing(t *testing.T) {
	mustBeBuilt(t)
	pg := database(t)
	key := filepath.Join(t.TempDir(), "key")
	w := &writers{
		listens: [2]string{freeAddress(t), freeAddress(t)}, names: map[string]bool{},
		client: http.Client{Timeout: 15 * time.Second},
	}
	start := func(n int) *exec.Cmd {
		cmd := exec.Command(binary, "serve", "--listen", w.listens[n], "--database", pg.URL, "--key-file", key)
		require.NoError(t, cmd.Start())
		return cmd
	}
	answers := func(n int) bool {
		answer, err := w.client.Get("http://" + w.listens[n] + "/healthz")
		if err != nil {
			return false
		}
		answer.Body.Close()
		return answer.StatusCode == 200
	}
	servers := [2]*exec.Cmd{start(0), start(1)}
	defer func() {
		for _, s := range servers {
			_ = s.Process.Kill()
			_ = s.Wait()
		}
	}()
	require.Eventually(t, func() bool { return answers(0) && answers(1) }, 2*time.Minute, 20*time.Millisecond)
	require.Equal(t, 201, postTo(t, "http://"+w.listens[0]+"/api/designs", `{"from":"nothing","name":"Huts"}`))
	w.id = designs(t, w.listens[0])[0]["id"].(string)
	ctx, stop := context.WithCancel(t.Context())
	var all sync.WaitGroup
	for n := range 4 {
		all.Go(func() { w.run(ctx, n) })
	}
	kills := faults(6)
	for n := range kills {
		time.Sleep(time.Duration(20+rand.IntN(120)) * time.Millisecond)
		at := n % 2
		require.NoError(t, servers[at].Process.Kill())
		_ = servers[at].Wait()
		if n%25 == 5 {
			require.NoError(t, pg.Kill(t.Context()))
			require.NoError(t, pg.Restart(t.Context()))
		}
		servers[at] = start(at)
		require.Eventually(t, func() bool { return answers(at) }, 2*time.Minute, 5*time.Millisecond)
	}
	time.Sleep(200 * time.Millisecond)
	stop()
	all.Wait()

	at := "http://" + w.listens[0] + "/api/designs/" + w.id
	history := historyOf(t, at)
	file := get(t, at+"/file?format=yaml")
	for range 20 { // a change whose writer went away may still be on its way
		now := historyOf(t, at)
		if len(now) == len(history) {
			break
		}
		history, file = now, get(t, at+"/file?format=yaml")
	}
	for name := range w.names {
		assert.Contains(t, file, "name: "+name+"\n", "acknowledged and lost")
	}
	for n, c := range history {
		assert.Equal(t, int64(n+1), c.Position, "no gap and no repetition")
		assert.Contains(t, file, "name: "+strings.TrimPrefix(c.Reason, "add ")+"\n", "no half of a change")
	}
	assert.Equal(t, len(history), strings.Count(file, "name: hut-"))
	t.Logf("%d kills, %d changes acknowledged, %d in the history", kills, len(w.names), len(history))
	assert.NotEmpty(t, w.names)
}

type change struct {
	Position int64
	Reason   string
}

// historyOf reads all of a design's history, part by part.
func historyOf(t *testing.T, at string) (all []change) {
	for after := int64(0); ; after = all[len(all)-1].Position {
		var part []change
		require.NoError(t, json.Unmarshal([]byte(get(t, fmt.Sprint(at, "/history?after=", after))), &part))
		if len(part) == 0 {
			return all
		}
		all = append(all, part...)
	}
}
