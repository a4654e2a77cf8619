package server_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"mime/multipart"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/server"
	"dravin/store"
)

// another is a server of its own on the same database.
func another(t *testing.T, vault *store.Vault) (*server.Server, string) {
	if vault == nil {
		vault = ours
	}
	s := server.New(db, vault, quiet)
	h := httptest.NewUnstartedServer(s.Handler(page))
	h.Config.ConnState = func(_ net.Conn, state http.ConnState) {
		switch state {
		case http.StateNew:
			connections.Add(1)
		case http.StateClosed:
			connections.Add(-1)
		}
	}
	h.Start()
	t.Cleanup(func() { h.CloseClientConnections(); h.Close() })
	return s, h.URL
}

// connections are those that servers made by another hold.
var connections atomic.Int32

func send(t *testing.T, method, url string, header map[string]string, body io.Reader) *http.Response {
	r, err := http.NewRequestWithContext(t.Context(), method, url, body)
	require.NoError(t, err)
	for k, v := range header {
		if r.Header.Set(k, v); k == "Host" {
			r.Host = v
		}
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	t.Cleanup(func() { answer.Body.Close() })
	return answer
}

// Every number that the API takes has bounds, and every ID and query a length.
func TestEveryNumberOfTheAPIHasBounds(t *testing.T) {
	text, err := server.Describe()
	require.NoError(t, err)
	var d map[string]any
	require.NoError(t, yaml.Unmarshal(text, &d))
	schemas := d["components"].(map[string]any)["schemas"].(map[string]any)
	seen := 0
	var check func(schema map[string]any, where string, param bool)
	check = func(schema map[string]any, where string, param bool) {
		if ref, ok := schema["$ref"].(string); ok {
			check(schemas[ref[strings.LastIndexByte(ref, '/')+1:]].(map[string]any), where, param)
		}
		switch fmt.Sprint(schema["type"]) {
		case "integer", "number":
			seen++
			assert.Contains(t, schema, "minimum", where)
			assert.Contains(t, schema, "maximum", where)
		case "string":
			if param && schema["enum"] == nil {
				seen++
				assert.Contains(t, schema, "maxLength", where)
			}
		case "array":
			if param {
				assert.Contains(t, schema, "maxItems", where)
			}
		}
		if properties, ok := schema["properties"].(map[string]any); ok {
			for name, p := range properties {
				check(p.(map[string]any), where+"."+name, false)
			}
		}
		if items, ok := schema["items"].(map[string]any); ok {
			check(items, where+"[]", false)
		}
	}
	for path, operations := range d["paths"].(map[string]any) {
		for method, o := range operations.(map[string]any) {
			operation := o.(map[string]any)
			if list, ok := operation["parameters"].([]any); ok {
				for _, p := range list {
					p := p.(map[string]any)
					check(p["schema"].(map[string]any), method+" "+path+" "+fmt.Sprint(p["name"]), true)
				}
			}
			if body, ok := operation["requestBody"].(map[string]any); ok {
				check(
					body["content"].(map[string]any)["application/json"].(map[string]any)["schema"].(map[string]any),
					method+" "+path, false,
				)
			}
		}
	}
	assert.Greater(t, seen, 50)
}

func TestErrorsHaveOneForm(t *testing.T) {
	at := address + fresh(t)
	plain := map[string]string{"Content-Type": "text/plain"}
	JSON := map[string]string{"Content-Type": "application/json"}
	for name, c := range map[string]struct {
		method, url string
		header      map[string]string
		body        string
		status      int
		says        string
	}{
		"no such address":     {"GET", address + "/api/nothing", nil, "", 404, "nothing at this address"},
		"another method":      {"PUT", at + "/estate", nil, "", 405, "does not take"},
		"a page is posted to": {"POST", address + "/designs", JSON, "{}", 405, "only read"},
		"no type":             {"POST", at + "/undo", nil, `{"base":0}`, 415, "application/json"},
		"another type":        {"POST", at + "/undo", plain, `{"base":0}`, 415, "application/json"},
		"import as JSON":      {"POST", at + "/import", JSON, `{}`, 415, "multipart/form-data"},
		"another name":        {"GET", address + "/", map[string]string{"Host": "peatside.example"}, "", 421, "--name"},
		"another site": {"POST", at + "/undo", map[string]string{"Sec-Fetch-Site": "cross-site",
			"Content-Type": "application/json"}, `{"base":0}`, 403, "another site"},
		"events of nothing": {"GET", address + "/api/designs/none/events", nil, "", 404, "no such design"},
		"a large body":      {"POST", address + "/api/designs", JSON, strings.Repeat(" ", 17<<20), 413, "bytes"},
	} {
		t.Run(name, func(t *testing.T) {
			answer := send(t, c.method, c.url, c.header, strings.NewReader(c.body))
			assert.Equal(t, c.status, answer.StatusCode)
			assert.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"))
			var p server.ProblemDetails
			require.NoError(t, json.NewDecoder(answer.Body).Decode(&p))
			assert.Equal(t, c.status, p.Status)
			assert.Contains(t, p.Detail, c.says)
		})
	}
	for _, host := range []string{"LOCALHOST", "LocalHost:80", "localhost.", "127.0.0.1", "[::1]:80"} {
		assert.Equal(t, 200, send(t, "GET", address+"/", map[string]string{"Host": host}, nil).StatusCode, host)
	}
	s, _ := another(t, nil)
	for _, path := range []string{"", "*"} { // as no client of ours sends them
		w := httptest.NewRecorder()
		s.Handler(page).ServeHTTP(
			w,
			&http.Request{
				Method: "OPTIONS", Host: "localhost", URL: &url.URL{Path: path}, Header: http.Header{},
				Body: http.NoBody,
			},
		)
		assert.Equal(t, 405, w.Code)
		w = httptest.NewRecorder()
		s.Handler(page).ServeHTTP(
			w,
			&http.Request{
				Method: "GET", Host: "localhost", URL: &url.URL{Path: path}, Header: http.Header{}, Body: http.NoBody,
			},
		)
		assert.Equal(t, 200, w.Code)
	}
}

// large is a design whose stock is more than any socket takes at once.
func large(t *testing.T) string {
	var b strings.Builder
	b.WriteString("dravin: 1\nname: Large\nsites:\n")
	note := strings.Repeat("moss ", 3900)
	for n := range 390 {
		fmt.Fprintf(&b, "  - name: hut %d\n    note: %s\n", n, note)
	}
	return "/api/designs/" + call[store.Info](
		t, "POST", "/api/designs", map[string]string{"from": "file", "file": b.String()}, 201,
	).ID
}

// Clients that take no answer, or send no body, are given up on; the others do
// not notice.
func TestSilentClientsAreGivenUpOn(t *testing.T) {
	at := large(t)
	defer server.Hurry(700 * time.Millisecond)()
	_, mine := another(t, nil)
	host := strings.TrimPrefix(mine, "http://")
	form := "--x\r\nContent-Disposition: form-data; name=\"how\"\r\n\r\n{}\r\n--x\r\nContent-Disposition: form-data; " +
		"name=\"file\"\r\n\r\nparty,prefix\n"
	requests := map[string]string{
		"an answer that nobody takes": "GET " + at + "/stock HTTP/1.1\r\nHost: localhost\r\n\r\n",
		"a body that does not come": "POST " + at + "/undo HTTP/1.1\r\nHost: localhost\r\nContent-Type: " +
			"application/json\r\nContent-Length: 100\r\n\r\n{",
		"an import that stops": "POST " + at + "/import HTTP/1.1\r\nHost: localhost\r\nContent-Type: " +
			"multipart/form-data; boundary=x\r\nContent-Length: 100000\r\n\r\n" + form,
	}
	for name, request := range requests {
		t.Run(name, func(t *testing.T) {
			const many = 12
			before := connections.Load()
			for range many {
				conn, err := (&net.Dialer{}).DialContext(t.Context(), "tcp", host)
				require.NoError(t, err)
				defer conn.Close()
				_ = conn.(*net.TCPConn).SetReadBuffer(4 << 10)
				_, err = io.WriteString(conn, request)
				require.NoError(t, err)
			}
			require.Eventually(
				t, func() bool { return connections.Load() >= before+many }, 2*time.Minute, time.Millisecond,
			)
			start := time.Now()
			other := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
			answer, err := other.Get(mine + at)
			require.NoError(t, err)
			assert.Equal(t, 200, answer.StatusCode)
			answer.Body.Close()
			assert.Less(t, time.Since(start), 3*time.Second, "others do not notice")
			// They say and take nothing more.
			require.Eventually(
				t, func() bool { return connections.Load() <= before }, 2*time.Minute, 10*time.Millisecond,
				"the server lets go of them",
			)
		})
	}
}

// One client may watch only so much; what is not there is watched by nobody.
func TestEventStreamsAreBounded(t *testing.T) {
	at := fresh(t)
	s, mine := another(t, nil)
	s.Streams(3)
	for range 3 {
		assert.Equal(t, 200, send(t, "GET", mine+at+"/events", nil, nil).StatusCode)
	}
	refusal := send(t, "GET", mine+at+"/events", nil, nil)
	assert.Equal(t, 429, refusal.StatusCode)
	assert.NotEmpty(t, refusal.Header.Get("Retry-After"))
}

// upload begins an import whose file ends when finish is called.
func upload(t *testing.T, url string) (steps <-chan server.ImportStep, finish func()) {
	body, in := io.Pipe()
	form := multipart.NewWriter(in)
	r, err := http.NewRequestWithContext(t.Context(), "POST", url, body)
	require.NoError(t, err)
	r.Header.Set("Content-Type", form.FormDataContentType())
	out, ending := make(chan server.ImportStep, 100), make(chan struct{})
	go func() {
		how, _ := form.CreateFormField("how")
		_, _ = io.WriteString(how, "{}")
		file, _ := form.CreateFormFile("file", "stock.csv")
		_, _ = io.WriteString(file, "party,prefix\nYew Hut,10.213.8.0/24\n")
		<-ending
		_ = form.Close()
		_ = in.Close()
	}()
	go func() {
		defer close(out)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			return
		}
		defer answer.Body.Close()
		for lines := bufio.NewScanner(answer.Body); lines.Scan(); {
			var step server.ImportStep
			if json.Unmarshal(lines.Bytes(), &step) == nil {
				out <- step
			}
		}
	}()
	return out, sync.OnceFunc(func() { close(ending) })
}

// Two imports run; the others wait in their order and are told their place, and
// who leaves the queue makes room.
func TestImportsWaitInAQueue(t *testing.T) {
	at := fresh(t)
	s, mine := another(t, nil)
	var running []func()
	for n := range 2 {
		_, finish := upload(t, mine+at+"/import")
		running = append(running, finish)
		require.Eventually(
			t, func() bool { return gauge(t, s, "dravin_import_queue_seconds_count") == n+1 }, 2*time.Minute,
			5*time.Millisecond, "it has its place",
		)
	}
	third, finishThird := upload(t, mine+at+"/import")
	assert.Equal(t, 1, (<-third).Waiting)
	fourth, finishFourth := upload(t, mine+at+"/import")
	assert.Equal(t, 2, (<-fourth).Waiting)
	running[0]()
	assert.Equal(t, 1, (<-fourth).Waiting, "the place in the queue is told as it changes")
	finishThird()
	finishFourth()
	running[1]()
	for _, steps := range []<-chan server.ImportStep{third, fourth} {
		var last server.ImportStep
		for step := range steps {
			last = step
		}
		require.NotNil(t, last.Plan)
		assert.Equal(t, 1, last.Plan.Counts["new"])
	}
}

// An answer is made once for a position, comes packed, and not at all to who has
// it; after a change everybody gets the new one.
func TestAnswersAreRememberedForAPosition(t *testing.T) {
	at := fresh(t)
	get := func(header map[string]string) (*http.Response, string) {
		answer := send(t, "GET", address+at+"/estate", header, nil)
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer, string(text)
	}
	first, text := get(nil)
	mark := first.Header.Get("ETag")
	require.NotEmpty(t, mark)
	assert.True(t, send(t, "GET", address+at+"/handover", nil, nil).Uncompressed, "what is large came packed")
	again, same := get(nil)
	assert.Equal(t, text, same)
	assert.Equal(t, mark, again.Header.Get("ETag"))
	_, plain := get(map[string]string{"Accept-Encoding": "identity"})
	assert.Equal(t, text, plain)
	kept, none := get(map[string]string{"If-None-Match": mark})
	assert.Equal(t, http.StatusNotModified, kept.StatusCode)
	assert.Empty(t, none)
	for n := range 20 {
		name := fmt.Sprint("Yew Hut ", n)
		body := fmt.Sprintf(
			`{"base":%d,"reason":"r","edits":[{"op":"put","id":"h%d","object":{"id":"h%d","kind":"site","name":%q,"body":{}}}]}`,
			n,
			n,
			n,
			name,
		)
		call[store.Info](t, "POST", at+"/changes", body, 200)
		changed, now := get(map[string]string{"If-None-Match": mark})
		assert.Equal(t, 200, changed.StatusCode)
		assert.Contains(t, now, name)
		mark = changed.Header.Get("ETag")
	}
}

// With the key file lost everything works that needs no key, and what does says
// which file is missing; no answer with keys is kept by anyone.
func TestWithoutTheKeyFileTheRestWorks(t *testing.T) {
	at := fresh(t)
	handed := call[[]server.Handed](t, "GET", at+"/handover", nil, 200)
	reveal := "/handover/" + string(handed[0].Party) + "/reveal"
	shown := send(t, "POST", address+at+reveal, nil, nil)
	assert.Equal(t, 200, shown.StatusCode)
	assert.Equal(t, "no-store", shown.Header.Get("Cache-Control"))

	shut, unopened, err := db.OpenVault(t.Context(), filepath.Join(t.TempDir(), "lost"))
	require.NoError(t, err)
	require.NotEmpty(t, unopened)
	_, mine := another(t, shut)
	for _, path := range []string{at, at + "/links", at + "/findings", at + "/handover"} {
		assert.Equal(t, 200, send(t, "GET", mine+path, nil, nil).StatusCode, path)
	}
	refusal := send(t, "POST", mine+at+reveal, nil, nil)
	text, err := io.ReadAll(refusal.Body)
	require.NoError(t, err)
	assert.Equal(t, 503, refusal.StatusCode)
	assert.Contains(t, string(text), "there is no key file")
	about, err := io.ReadAll(send(t, "GET", mine+"/api/about", nil, nil).Body)
	require.NoError(t, err)
	assert.Contains(t, string(about), "Keys can not be opened")
}

// What a far end sent is nowhere in what is answered, in whatever way it is wrong.
func TestWhatWasSentIsNotEchoed(t *testing.T) {
	at := fresh(t)
	links := call[[]server.LinkRow](t, "GET", at+"/links", nil, 200)
	sheet := call[server.LinkSheet](t, "GET", at+"/links/"+string(links[0].ID), nil, 200)
	for _, text := range []string{
		"badgers and moss", "mtu: 1400\nbadgers", "secrets {\n ike {\n  secret badgers\n", "psk = badgers\x00",
		"connections {\n a {\n }\n}\nsecrets {\n ike {\n  secret = \"badgers\n }\n}",
	} {
		body, err := json.Marshal(map[string]any{"end": 1, "text": text})
		require.NoError(t, err)
		answer := send(
			t, "POST", address+at+"/tunnels/"+string(sheet.Tunnels[0].ID)+"/sent",
			map[string]string{"Content-Type": "application/json"}, bytes.NewReader(body),
		)
		said, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		assert.NotContains(t, string(said), "badgers")
	}
}

func TestNumbersAreTold(t *testing.T) {
	s, mine := another(t, nil)
	at := fresh(t)
	send(t, "GET", mine+at+"/findings", nil, nil)
	w := httptest.NewRecorder()
	s.Metrics().ServeHTTP(w, httptest.NewRequest("GET", "/metrics", nil))
	for _, name := range []string{`dravin_request_seconds_count{method="GET",route="/api/designs/{design}/findings",status="200"} 1`, `dravin_solving_seconds_count{what="findings"} 1`,
		"dravin_imports_waiting 0", "dravin_event_streams 0", `dravin_database_waits_total{part="write"}`,
		`dravin_answers_total{how="made"} 1`} {
		assert.Contains(t, w.Body.String(), name)
	}
	assert.Equal(
		t, 404, send(t, "GET", mine+"/api/metrics", nil, nil).StatusCode,
		"it is not on the listener of the application",
	)
}

// While the database is frozen every request is answered soon, and says what to
// do; afterwards all goes on. Deleting is taken back over the API.
func TestAFrozenDatabaseIsTold(t *testing.T) {
	at := fresh(t)
	call[any](t, "DELETE", at, nil, 204)
	call[any](t, "GET", at+"/estate", nil, 404)
	assert.Contains(
		t, fmt.Sprint(call[[]store.Info](t, "GET", "/api/deleted", nil, 200)), strings.TrimPrefix(at, "/api/designs/"),
	)
	call[store.Info](t, "POST", at+"/restore", nil, 200)

	thaw, err := frozen()
	require.NoError(t, err)
	defer thaw()
	start := time.Now()
	var wait sync.WaitGroup
	for _, path := range []string{"/healthz", "/api/designs", at, at + "/estate", at + "/events"} {
		for range 5 {
			wait.Go(func() {
				answer := send(t, "GET", address+path, nil, nil)
				text, _ := io.ReadAll(answer.Body)
				assert.Equal(t, 503, answer.StatusCode, path)
				assert.Contains(t, string(text), "see that PostgreSQL runs", path)
			})
		}
	}
	wait.Wait()
	assert.Less(t, time.Since(start), 25*time.Second)
	thaw()
	require.Eventually(
		t, func() bool { return send(t, "GET", address+at+"/estate", nil, nil).StatusCode == 200 }, 2*time.Minute,
		200*time.Millisecond,
	)
}

func TestRangesOfLines(t *testing.T) {
	assert.Nil(t, server.Only(nil))
	none := server.Only([][2]int{})
	in := server.Only([][2]int{{9, 12}, {2, 3}, {3, 5}, {11, 11}, {1 << 40, 1 << 50}})
	for line := range 20 {
		assert.False(t, none(line))
		assert.Equal(t, line >= 2 && line <= 5 || line >= 9 && line <= 12, in(line), line)
	}
	assert.True(t, in(1<<45))
}
