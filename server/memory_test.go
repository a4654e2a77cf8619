package server_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/server"
	"dravin/store"
)

// A database that falls back, as a standby or a restored backup that takes its place
// does, is shown as it is: nothing is answered from what was remembered, not even at a
// position of the same number.
func TestADesignThatFallsBackIsShownAsItIs(t *testing.T) {
	at := fresh(t)
	id := strings.TrimPrefix(at, "/api/designs/")
	change := func(base int64, name string) {
		site := doc{
			"op": "put", "id": "site-" + name,
			"object": doc{"id": "site-" + name, "kind": "site", "name": name, "body": doc{}},
		}
		call[store.Info](
			t, "POST", at+"/changes", doc{"base": base, "reason": "new " + name, "edits": []any{site}}, 200,
		)
	}
	shows := func(name string) bool {
		for _, h := range call[[]server.Handed](t, "GET", at+"/handover", nil, 200) {
			if h.Name == name {
				return true
			}
		}
		return false
	}
	change(0, "fernery")
	change(1, "palm house")
	require.True(t, shows("palm house"))
	// the state before, as a backup has it, takes its place
	for _, q := range []string{
		`delete from objects where design = $1 and id = 'site-palm house'`,
		`delete from changes where design = $1 and position > 1`,
		`update designs set position = 1, updated_at = (select at from changes where design = $1 and position = 1) where id = $1`,
	} {
		_, err := raw.ExecContext(t.Context(), q, id)
		require.NoError(t, err)
	}
	assert.False(t, shows("palm house"))
	assert.True(t, shows("fernery"))
	change(1, "rockery")
	assert.True(t, shows("rockery"))
	assert.False(t, shows("palm house"), "it was at position 2 once, and never in this database")
}

func TestJunkParametersAreRefusedAndMarksAreOfOneAnswer(t *testing.T) {
	at := fresh(t)
	call[doc](t, "GET", at+"/findings?"+strings.Repeat("x", 2000)+"=1", nil, 422)
	r, err := http.Get(address + at + "/handover")
	require.NoError(t, err)
	_ = r.Body.Close()
	mark := r.Header.Get("ETag")
	require.NotEmpty(t, mark)
	status := func(path string) int {
		q, err := http.NewRequestWithContext(t.Context(), "GET", address+path, nil)
		require.NoError(t, err)
		q.Header.Set("If-None-Match", mark)
		r, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		_ = r.Body.Close()
		return r.StatusCode
	}
	assert.Equal(t, http.StatusNotModified, status(at+"/handover"))
	assert.NotEqual(t, http.StatusNotModified, status(at+"/intents/nothing"), "what is not there is not unchanged")
}

// Every look at keys is in the history, whenever that was read before, and however many
// there are they hide no change.
func TestLooksAreInTheHistory(t *testing.T) {
	at := fresh(t)
	var party design.ID
	for _, h := range call[[]server.Handed](t, "GET", at+"/handover", nil, 200) {
		if h.Name == "Marrow Hill" {
			party = h.Party
		}
	}
	history := func(query string) []store.Change {
		return call[[]store.Change](t, "GET", at+"/history"+query, nil, 200)
	}
	assert.Empty(t, history(""))
	for range 3 {
		call[server.Handed](t, "POST", at+"/handover/"+string(party)+"/reveal", nil, 200)
	}
	list := history("")
	require.Len(t, list, 3)
	assert.Len(t, history(fmt.Sprintf("?look=%d", list[1].Look)), 1)
	_, err := raw.ExecContext(
		t.Context(),
		`insert into audits (design, position, author, reason) select $1, 0, 'a', 'look' from generate_series(1, 1200)`,
		strings.TrimPrefix(at, "/api/designs/"),
	)
	require.NoError(t, err)
	site := doc{"op": "put", "id": "late", "object": doc{"id": "late", "kind": "site", "name": "late", "body": doc{}}}
	call[store.Info](t, "POST", at+"/changes", doc{"base": 0, "reason": "late", "edits": []any{site}}, 200)
	seen := 0
	for _, c := range history("") {
		if c.Reason == "late" {
			seen++
		}
	}
	assert.Equal(t, 1, seen, "the change after 1,200 looks")
}
