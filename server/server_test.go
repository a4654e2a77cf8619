package server_test

import (
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/ingest"
	"dravin/core/ledger"
	"dravin/core/plan"
	"dravin/demo"
	"dravin/server"
	"dravin/store"
	"dravin/store/cluster"
)

var (
	address string
	db      *store.Store
	raw     *sql.DB // the database itself
	ours    *store.Vault
	frozen  func() (thaw func(), err error) // stops the database from answering
	page    = fstest.MapFS{"index.html": {Data: []byte("<!doctype html>app")}}
	quiet   = slog.New(slog.NewTextHandler(io.Discard, nil))
)

func TestMain(m *testing.M) {
	code, err := serveAndRun(m)
	if err != nil {
		fmt.Println("the server can not be tested:", err)
		code = 1
	}
	os.Exit(code)
}

func serveAndRun(m *testing.M) (int, error) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	dir, err := os.MkdirTemp("", "dravin-server-*")
	if err != nil {
		return 1, err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return 1, err
	}
	pg, err := cluster.Start(ctx, filepath.Join(dir, "pg"))
	if err != nil {
		return 1, err
	}
	defer func() { _ = pg.Stop(ctx); _ = cluster.Remove(filepath.Join(dir, "pg")) }()
	frozen = pg.Freeze
	db, err = store.Open(ctx, pg.URL)
	if err != nil {
		return 1, err
	}
	defer db.Close()
	if raw, err = sql.Open("pgx", pg.URL); err != nil {
		return 1, err
	}
	defer raw.Close()
	ours, _, err = db.OpenVault(ctx, filepath.Join(dir, "key"))
	if err != nil {
		return 1, err
	}
	s := server.New(db, ours, quiet)
	go s.Follow(ctx, pg.URL)
	h := httptest.NewServer(s.Handler(page))
	defer h.CloseClientConnections()
	address = h.URL
	return m.Run(), nil
}

// call sends JSON and reads JSON.
func call[T any](t *testing.T, method, path string, body any, status int) (out T) {
	var in io.Reader
	switch b := body.(type) {
	case nil:
	case string:
		in = strings.NewReader(b)
	default:
		text, err := json.Marshal(b)
		require.NoError(t, err)
		in = bytes.NewReader(text)
	}
	r, err := http.NewRequestWithContext(t.Context(), method, address+path, in)
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	require.Equal(t, status, answer.StatusCode, "%s", text)
	if status >= 400 {
		assert.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"))
	}
	if len(text) > 0 {
		require.NoError(t, json.Unmarshal(text, &out), "%s", text)
	}
	return out
}

func fresh(t *testing.T) string {
	return "/api/designs/" + call[store.Info](
		t, "POST", "/api/designs", map[string]string{"from": "file", "file": string(demo.TwoGardens)}, 201,
	).ID
}

type doc = map[string]any

func TestBadInputNamesThePlaceAndStoresNothing(t *testing.T) {
	at := fresh(t)
	edit := func(body string) string {
		return `{"base":0,"reason":"r","edits":[{"op":"put","id":"x","object":{"id":"x","kind":"lan","parent":"y","name":"n","body":` + body + `}}]}`
	}
	for name, c := range map[string]struct {
		path, body string
		status     int
		says       string
	}{
		"host bits":     {at + "/changes", edit(`{"prefixes":["10.220.0.1/8"]}`), 422, "edits[0].object.body.prefixes[0]"},
		"no parent":     {at + "/changes", edit(`{"prefixes":["10.0.0.0/8"]}`), 422, "parent"},
		"unknown field": {at + "/changes", edit(`{"prefixes":["10.0.0.0/8"],"hue":1}`), 422, "edits[0].object.body.hue"},
		"no reason":     {at + "/changes", `{"base":0,"reason":"","edits":[{"op":"remove","id":"x"}]}`, 422, "reason"},
		"not JSON":      {at + "/changes", `{`, 400, ""},
		"too large":     {at + "/undo", `{"base":` + strings.Repeat("1", 2<<20) + `}`, 413, ""},
		"bad file":      {"/api/designs", `{"from":"file","file":"dravin: 1\nsites: 7\n"}`, 422, `"line":2`},
		"bomb":          {"/api/designs", `{"from":"file","file":"a: &a [1]\nb: [*a,*a]\n"}`, 422, "anchors"},
		"no name":       {"/api/designs", `{"from":"nothing","name":" "}`, 422, "name"},
		"no design":     {"/api/designs/none/undo", `{"base":0}`, 404, "no such design"},
		"no text": {at + "/changes", `{"base":0,"reason":"a\u0000","edits":[{"op":"remove","id":"x"}]}`, 422,
			"control character"},
		"no text in it": {at + "/changes", strings.Replace(edit(`{"prefixes":["10.0.0.0/8"],"note":"\u0000"}`), `"y"`, `""`,
			1), 422, "control character"},
		"odd design":  {"/api/designs/a%00b/undo", `{"base":0}`, 422, "path.design"},
		"long design": {"/api/designs/" + strings.Repeat("a", 3000) + "/undo", `{"base":0}`, 422, "path.design"},
		"odd id": {at + "/changes",
			`{"base":0,"reason":"r","edits":[{"op":"put","id":"\u0000","object":{"id":"\u0000","kind":"site","name":"n","body":{}}}]}`, 422, "id: is too long or holds a control character"},
		"long id": {at + "/changes", strings.ReplaceAll(edit(`{"prefixes":["10.208.0.0/16"]}`), `"id":"x"`,
			`"id":"`+strings.Repeat("x", 3000)+`"`), 422, "edits[0].id"},
		"base below 0": {at + "/changes", strings.Replace(edit(`{"prefixes":["10.208.0.0/16"]}`), `"base":0`, `"base":-1`,
			1), 422, "base"},
		"undo below 0": {at + "/undo", `{"base":-1}`, 422, "base"},
		"unseen base":  {at + "/undo", `{"base":7}`, 422, "it is at 0"},
		"nothing":      {at + "/undo", `{"base":0}`, 409, "nothing to undo"},
	} {
		t.Run(name, func(t *testing.T) {
			text, err := json.Marshal(call[doc](t, "POST", c.path, c.body, c.status))
			require.NoError(t, err)
			assert.Contains(t, string(text), c.says)
		})
	}
	state := call[server.DesignState](t, "GET", at, nil, 200)
	assert.Equal(t, int64(0), state.Position)
}

func TestTheCaseOverHTTP(t *testing.T) {
	at := fresh(t)
	overlaps := call[server.Overlaps](t, "GET", at+"/overlaps", nil, 200)
	require.Len(t, overlaps.Groups, 1)
	plan := call[plan.Plan](t, "GET", at+"/plan?group="+overlaps.Groups[0].Key, nil, 200)
	edits := plan.Options[0].Edits
	preview := call[doc](t, "POST", at+"/preview", doc{"edits": edits}, 200)
	require.Len(t, preview["intents"], 3)
	assert.Equal(t, int64(0), call[server.DesignState](t, "GET", at, nil, 200).Position, "a preview stores nothing")

	call[store.Info](t, "POST", at+"/changes", doc{"base": 0, "reason": "map it", "edits": edits}, 200)
	asked := call[ledger.Asked](t, "GET", at+"/ledger/ask?q=10.223.0.17", nil, 200)
	require.Len(t, asked.Hosts, 1)
	assert.Equal(t, "192.168.216.17", asked.Hosts[0].Real.String())
	call[doc](t, "GET", at+"/ledger/file?format=zone", nil, 422)
	call[doc](t, "GET", at+"/plan", nil, 422)
	call[doc](t, "GET", at+"/plan?group=none", nil, 404)
	call[doc](t, "GET", at+"/plan?place=none&pool=x", nil, 422)
	assert.Equal(t, true, call[doc](t, "GET", at+"/walk?from=logger&to=controller&service=tcp/502", nil, 200)["works"])
	call[doc](t, "GET", at+"/walk?from=logger&to=nobody&service=tcp/502", nil, 422)

	stale := call[doc](t, "POST", at+"/changes", doc{"base": 0, "reason": "late", "edits": edits}, 409)
	assert.Equal(t, "map it", stale["since"].([]any)[0].(doc)["reason"])
	state := call[server.DesignState](t, "GET", at, nil, 200)
	assert.Equal(t, "map it", state.Undo)
	call[store.Info](t, "POST", at+"/undo", doc{"base": 1}, 200)
	assert.Empty(t, call[ledger.Ledger](t, "GET", at+"/ledger", nil, 200).Ranges)
}

// Clients are told that lists are lists; an empty one must not come as null.
func TestNoListComesAsNull(t *testing.T) {
	const odd = "dravin: 1\nsites:\n  - name: bare\n  - name: six\n    lans:\n      - name: l\n        prefixes: " +
		"2001:db8::/64\n        endpoints:\n          - {name: e, addresses: '2001:db8::2'}\n  - name: four\n    lans:\n" +
		"      - {name: l, prefixes: 10.220.0.0/24}\nintents:\n  - {name: i, from: four/l, to: six/l/e, service: icmp}\n"
	made := call[store.Info](t, "POST", "/api/designs", doc{"from": "file", "file": odd}, 201)
	for _, at := range []string{fresh(t), "/api/designs/" + made.ID} {
		paths := []string{
			"", "/estate", "/overlaps", "/ledger", "/findings", "/intents", "/handover", "/history", "/search?q=",
			"/ledger/ask?q=10.220.0.1",
		}
		for _, g := range call[server.Overlaps](t, "GET", at+"/overlaps", nil, 200).Groups {
			paths = append(paths, "/plan?group="+g.Key)
		}
		for _, o := range call[[]server.Found](t, "GET", at+"/search?q=", nil, 200) {
			paths = append(paths, "/objects/"+string(o.ID))
		}
		for _, p := range paths {
			text, err := json.Marshal(call[any](t, "GET", at+p, nil, 200))
			require.NoError(t, err)
			assert.False(t, strings.Contains(string(text), ":null"), p)
		}
	}
}

// bring sends a file and returns the last line of the answer.
func bring(t *testing.T, at string, how server.ImportHow, file string) server.ImportStep {
	var body bytes.Buffer
	form := multipart.NewWriter(&body)
	text, err := json.Marshal(how)
	require.NoError(t, err)
	require.NoError(t, form.WriteField("how", string(text)))
	part, err := form.CreateFormFile("file", "stock.csv")
	require.NoError(t, err)
	_, err = io.WriteString(part, file)
	require.NoError(t, err)
	require.NoError(t, form.Close())
	answer, err := http.Post(address+at+"/import", form.FormDataContentType(), &body)
	require.NoError(t, err)
	defer answer.Body.Close()
	lines, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	all := strings.Split(strings.TrimSpace(string(lines)), "\n")
	var step server.ImportStep
	require.NoError(t, json.Unmarshal([]byte(all[len(all)-1]), &step), "%s", lines)
	return step
}

func TestBringingInAndFindingRoom(t *testing.T) {
	at := fresh(t)
	const file = "party,name,prefix,segment\nOld Orangery,ticket desk,10.215.64.0/24,visitors\nOld " +
		"Orangery,shed,10.215.65.5/24,\nMarrow Hill,data room,10.214.0.0/22,\n"
	preview := bring(t, at, server.ImportHow{RefuseHosts: true}, file)
	require.NotNil(t, preview.Plan)
	assert.Equal(t, map[ingest.Outcome]int{"new": 1, "refused": 1, "same": 1}, preview.Plan.Counts)
	assert.Equal(t, int64(0), call[server.DesignState](t, "GET", at, nil, 200).Position, "a preview stores nothing")

	done := bring(t, at, server.ImportHow{RefuseHosts: true, Accept: true, Reason: "Bring in the orangery"}, file)
	require.NotNil(t, done.Stored)
	assert.Equal(t, int64(1), done.Stored.Position)
	stale := bring(t, at, server.ImportHow{Accept: true}, strings.Replace(file, "ticket desk", "kiosk", 1))
	require.NotNil(t, stale.Problem)
	assert.Equal(t, 409, stale.Problem.Status)
	assert.Equal(t, "Bring in the orangery", stale.Problem.Since[0].Reason)
	twice := bring(t, at, server.ImportHow{RefuseHosts: true, Accept: true, Base: 1}, file)
	assert.Nil(t, twice.Stored, "the same file twice changes nothing")
	bad := bring(t, at, server.ImportHow{}, "\x00\x01")
	require.NotNil(t, bad.Problem)
	assert.Equal(t, 422, bad.Problem.Status)

	stock := call[server.Stock](t, "GET", at+"/stock", nil, 200)
	assert.Equal(t, "visitors", stock.Segments[0].Name)
	free := call[[]server.FreeRange](t, "GET", at+"/free?size=24&within=10.215.64.0/23", nil, 200)
	require.Len(t, free, 1)
	assert.Equal(t, "10.215.65.0/24", free[0].Prefix.String())
	assert.Equal(t, "fills the gap exactly and leaves larger blocks whole", free[0].Why)
	orangery := call[[]server.Found](t, "GET", at+"/search?q=marrow", nil, 200)[0].ID
	theirs := call[[]server.FreeRange](
		t, "GET", at+"/free?size=24&within=10.215.64.0/23&for="+string(orangery), nil, 200,
	)
	assert.Equal(t, "10.215.64.0/24", theirs[0].Prefix.String(), "unused by Marrow Hill is enough")
	call[doc](t, "GET", at+"/free?size=24&within=tulips", nil, 422)
	for text, hint := range map[string]string{
		"192.168.216": "holds 192.168.216.0/24", "192.168.21": "holds 192.168.216.0/24", "10.214.": "holds 10.214.0.0/22",
	} {
		hints := ""
		for _, f := range call[[]server.Found](t, "GET", at+"/search?q="+text, nil, 200) {
			hints += f.Hint + "\n"
		}
		assert.Contains(t, hints, hint, text)
	}
	holders := call[[]server.Found](t, "GET", at+"/search?q=10.214.0.0/16", nil, 200)
	require.Len(t, holders, 1)
	assert.Equal(t, "holds 10.214.0.0/22", holders[0].Hint)
}

func TestKeysAreMaskedUntilAskedForAndTheHistoryKnows(t *testing.T) {
	at := fresh(t)
	handed := call[[]server.Handed](t, "GET", at+"/handover", nil, 200)
	keyFile := func(h server.Handed) string {
		for _, f := range h.Files {
			if f.Secret {
				return f.Content
			}
		}
		return ""
	}
	require.Len(t, handed, 3)
	assert.Contains(t, keyFile(handed[0]), `secret = "(masked)"`)
	shown := call[server.Handed](t, "POST", at+"/handover/"+string(handed[0].Party)+"/reveal", nil, 200)
	assert.NotContains(t, keyFile(shown), "masked")
	far := call[server.Handed](t, "POST", at+"/handover/"+string(handed[1].Party)+"/reveal", nil, 200)
	secret := strings.Split(keyFile(far)[strings.Index(keyFile(far), "secret = "):], "\n")[0]
	assert.Contains(t, keyFile(shown), secret, "both ends get the same key")
	history := call[[]store.Change](t, "GET", at+"/history", nil, 200)
	require.Len(t, history, 2)
	assert.Equal(t, "Show the keys of "+handed[0].Name, history[0].Reason)
}

func TestAnotherBrowserHearsOfAChange(t *testing.T) {
	at := fresh(t)
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, "GET", address+at+"/events", nil)
	require.NoError(t, err)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	site := design.PutEdit(&design.Object{ID: "s", Kind: design.KindSite, Name: "S", Body: &design.Site{}})
	call[store.Info](t, "POST", at+"/changes", doc{"base": 0, "reason": "r", "edits": []design.Edit{site}}, 200)
	lines := bufio.NewScanner(answer.Body)
	for lines.Scan() && lines.Text() != "event: changed" {
	}
	require.True(t, lines.Scan())
	assert.Equal(t, `data: {"position":1}`, lines.Text())
}

func TestBrowsersAreHeldBack(t *testing.T) {
	r, err := http.NewRequest("POST", address+"/api/designs", strings.NewReader(`{"from":"demo"}`))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Sec-Fetch-Site", "cross-site")
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, 403, answer.StatusCode)
	r, err = http.NewRequest("GET", address+"/api/designs", nil)
	require.NoError(t, err)
	r.Host = "garden.example" // a name that leads here without our knowing
	answer, err = http.DefaultClient.Do(r)
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, 421, answer.StatusCode)
	answer, err = http.Get(address + "/designs/whatever/estate")
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, 200, answer.StatusCode)
	assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "script-src 'self'")
	assert.NotContains(t, answer.Header.Get("Content-Security-Policy"), "unsafe-inline")
	answer, err = http.Get(address + "/healthz")
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, 200, answer.StatusCode)
}

func TestCheckedInDescriptionIsCurrent(t *testing.T) {
	want, err := server.Describe()
	require.NoError(t, err)
	have, err := os.ReadFile("../schema/openapi.yaml")
	require.NoError(t, err)
	assert.Equal(t, string(want), string(have), "run make generate")
}
