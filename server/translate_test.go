package server_test

import (
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/ledger"
	"dravin/core/plan"
	"dravin/core/proof"
	"dravin/demo"
	"dravin/server"
	"dravin/store"
)

// told is a story of the remedies as a design of its own, with the IDs of its parties
// and intents by name.
func told(t *testing.T, name string) (at string, ids map[string]string) {
	file, err := demo.Remedies.ReadFile("remedies/" + name + ".yaml")
	require.NoError(t, err)
	at = "/api/designs/" + call[store.Info](
		t, "POST", "/api/designs", doc{"from": "file", "file": string(file)}, 201,
	).ID
	ids = map[string]string{}
	for _, p := range call[server.Overlaps](t, "GET", at+"/overlaps", nil, 200).Parties {
		ids[p.Name] = string(p.ID)
	}
	for _, i := range call[[]server.IntentRow](t, "GET", at+"/intent-list", nil, 200) {
		ids[i.Name] = string(i.Intent)
	}
	return at, ids
}

// A plan is asked for by what collides, by who, and by what must work; what is fixed is
// kept to, and what can not be used is told.
func TestPlansAreAskedFor(t *testing.T) {
	at, ids := told(t, "huts")
	whole := call[plan.Plan](
		t, "GET",
		at+"/plan?group="+url.QueryEscape(call[server.Overlaps](t, "GET", at+"/overlaps", nil, 200).Groups[0].Key), nil,
		200,
	)
	assert.Len(t, whole.Places, 9)
	assert.Equal(t, 8, whole.Least.Mapped)
	alone := call[plan.Plan](t, "GET", at+"/plan?place="+ids["Alder Hut"], nil, 200)
	assert.Len(t, alone.Places, 9, "one alone is planned for with all that it collides with")
	two := call[plan.Plan](t, "GET", at+"/plan?place="+ids["Alder Hut"]+"&place="+ids["Birch Hut"], nil, 200)
	assert.Len(t, two.Places, 2)
	wanted := call[plan.Plan](t, "GET", at+"/plan?intent="+ids["the elder sensor reports"], nil, 200)
	assert.Equal(t, 1, wanted.Intents)

	kept := call[plan.Plan](
		t, "GET", at+"/plan?place="+ids["Alder Hut"]+"&place="+ids["Birch Hut"]+"&keep="+ids["Alder Hut"], nil, 200,
	)
	for _, o := range kept.Options {
		for _, m := range o.Maps {
			assert.NotContains(t, m.Title, "Alder Hut")
		}
	}
	pooled := call[plan.Plan](
		t, "GET", at+"/plan?place="+ids["Alder Hut"]+"&place="+ids["Birch Hut"]+"&pool=10.223.128.0/20", nil, 200,
	)
	assert.Contains(t, pooled.Options[0].Maps[0].Mapped.String(), "10.223.1")
	for query, says := range map[string]string{
		"pool=10.223.1.1/20":     "has host bits set",
		"intent=none":            "is not there now",
		"place=" + "none":        "nothing there collides",
		"place=x&no_boxes=maybe": "no_boxes",
	} {
		text := call[doc](t, "GET", at+"/plan?"+query, nil, 422)
		assert.Contains(t, text2(text), says, query)
	}
	gone := call[doc](t, "GET", at+"/plan?group=gone", nil, 404)
	assert.Equal(t, "missing", gone["code"])
	assert.Contains(t, text2(gone), "there is no such group now")
}

func text2(d doc) string {
	var out []string
	for _, v := range d {
		switch v := v.(type) {
		case string:
			out = append(out, v)
		case []any:
			for _, x := range v {
				if m, ok := x.(doc); ok {
					out = append(out, text2(m))
				}
			}
		}
	}
	return strings.Join(out, " ")
}

// A walk is tried with a remedy, and nothing is stored; the ledger is asked by one
// party's point of view, and taken away as files.
func TestTriedAndSeen(t *testing.T) {
	at, ids := told(t, "two-gardens-alike")
	plan := call[plan.Plan](t, "GET", at+"/plan?place="+ids["Old Orangery"], nil, 200)
	edits := plan.Options[0].Edits
	intent := ids["the orangery asks Peatside"]
	assert.False(t, call[proof.Result](t, "GET", at+"/intents/"+intent, nil, 200).Holds)
	tried := call[proof.Result](t, "POST", at+"/tried", doc{"intent": intent, "edits": edits}, 200)
	assert.True(t, tried.Holds)
	assert.Len(t, tried.Proof.Remembered, 2, "both gateways have translated")
	assert.Equal(t, int64(0), call[server.DesignState](t, "GET", at, nil, 200).Position)
	assert.False(
		t, call[proof.Result](t, "POST", at+"/tried", doc{"intent": intent, "edits": []design.Edit{}}, 200).Holds,
	)
	call[doc](t, "POST", at+"/tried", doc{"intent": "none", "edits": edits}, 404)
	call[doc](t, "POST", at+"/tried", doc{"intent": intent, "edits": []doc{{"op": "remove", "id": "gone"}}}, 422)

	call[store.Info](t, "POST", at+"/changes", doc{"base": 0, "reason": "map both", "edits": edits}, 200)
	view := call[ledger.View](t, "GET", at+"/ledger/view?viewer="+ids["Old Orangery"], nil, 200)
	require.Len(t, view.Hosts, 1)
	assert.Equal(t, "10.223.1.17", view.Hosts[0].Names[0].Address.String())
	call[doc](t, "GET", at+"/ledger/view?viewer=none", nil, 422)
	call[doc](t, "GET", at+"/ledger/view", nil, 422)
	found := call[ledger.Ledger](t, "GET", at+"/ledger", nil, 200)
	assert.Len(t, found.Ranges, 2)
	assert.Len(t, found.Parties, 2)
	for format, begins := range map[string]string{"csv": "seen by,host,party,real,seen " +
		"as,service,by", "xlsx": "PK", "zone": "; Hosts as Old Orangery knows them"} {
		r, err := http.Get(address + at + "/ledger/file?format=" + format + "&viewer=" + ids["Old Orangery"])
		require.NoError(t, err)
		body, err := io.ReadAll(r.Body)
		r.Body.Close()
		require.NoError(t, err)
		assert.Equal(t, 200, r.StatusCode)
		assert.True(t, strings.HasPrefix(string(body), begins), "%s: %.80q", format, body)
		assert.Contains(t, r.Header.Get("Content-Disposition"), "ledger."+format)
	}
	call[doc](t, "GET", at+"/ledger/file?format=zone&viewer="+ids["Old Orangery"]+"&origin=a%0Ab", nil, 422)
	call[store.Info](t, "POST", at+"/undo", doc{"base": 1}, 200)
	assert.Empty(t, call[ledger.Ledger](t, "GET", at+"/ledger", nil, 200).Ranges, "applied as one, undone as one")
}
