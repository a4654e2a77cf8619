package server_test

import (
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/draft"
	"dravin/server"
	"dravin/store"
)

func begin(t *testing.T, name string) string {
	return "/api/designs/" + call[store.Info](t, "POST", "/api/designs", doc{"from": "nothing", "name": name}, 201).ID
}

func TestSayingOverHTTP(t *testing.T) {
	at := begin(t, "Spoken")
	heard := call[server.Heard](
		t, "POST", at+"/say",
		doc{"text": "site Fern Lodge with lan 10.214.1.0/24, gateway 203.0.113.9", "line": "site Fern Lodge with la"},
		200,
	)
	require.False(t, heard.Wrong)
	assert.Equal(t, "lan", heard.Offers[0].Text)
	assert.Equal(t, int64(0), call[server.DesignState](t, "GET", at, nil, 200).Position, "nothing is stored")
	call[store.Info](t, "POST", at+"/changes", doc{"base": 0, "reason": heard.Reason, "edits": heard.Edits}, 200)

	heard = call[server.Heard](t, "POST", at+"/say", doc{"text": "remov it"}, 200)
	assert.True(t, heard.Wrong)
	assert.Empty(t, heard.Edits)
	call[doc](t, "POST", at+"/say", doc{"text": strings.Repeat("x", 1_000_001)}, 422)

	found := call[[]server.Found](t, "GET", at+"/search?q=lodge&kind=site", nil, 200)
	require.Len(t, found, 1)
	form := call[server.Form](t, "GET", at+"/form?kind=lan&parent="+string(found[0].ID), nil, 200)
	assert.Equal(t, "10.214.2.0/24", form.Suggestions["prefixes"][0].Value)
	form = call[server.Form](t, "GET", at+"/form?object="+string(found[0].ID), nil, 200)
	assert.Equal(t, "site Fern Lodge", form.Saying)
	call[doc](t, "GET", at+"/form?kind=castle", nil, 422)

	copies := call[draft.Copies](
		t, "GET", at+"/copies?source="+string(found[0].ID)+"&pattern="+url.QueryEscape("Lodge #")+"&count=3", nil, 200,
	)
	require.Len(t, copies.Made, 3)
	call[store.Info](t, "POST", at+"/changes", doc{"base": 1, "reason": "three more", "edits": copies.Edits}, 200)
	call[doc](t, "GET", at+"/copies?source=none", nil, 422)
	gone := call[design.Removal](t, "GET", at+"/removal?object="+string(found[0].ID), nil, 200)
	assert.Len(t, gone.Goes, 3)
}

func TestDesignsAreRenamedCopiedAndCompared(t *testing.T) {
	at := fresh(t)
	call[store.Info](t, "POST", at+"/rename", doc{"base": 0, "name": "Two of them"}, 200)
	assert.Equal(t, "Two of them", call[server.DesignState](t, "GET", at, nil, 200).Name)
	call[doc](t, "POST", at+"/rename", doc{"base": 1, "name": " "}, 422)
	call[doc](t, "POST", at+"/rename", doc{"base": 0, "name": "late"}, 409)

	made := call[store.Info](t, "POST", at+"/copy", doc{"name": "A copy"}, 201)
	other := "/api/designs/" + made.ID
	c := call[design.Comparison](
		t, "GET", "/api/compare?design="+strings.TrimPrefix(at, "/api/designs/")+"&with="+made.ID, nil, 200,
	)
	assert.Empty(t, c.Changed)
	heard := call[server.Heard](
		t, "POST", other+"/say",
		doc{"text": "set peatside-nursery/glasshouse no fixed\nowner Estates\nremove humidity cabinet"}, 200,
	)
	call[store.Info](t, "POST", other+"/changes", doc{"base": 0, "reason": "differ", "edits": heard.Edits}, 200)
	c = call[design.Comparison](
		t, "GET", "/api/compare?design="+strings.TrimPrefix(at, "/api/designs/")+"&with="+made.ID, nil, 200,
	)
	require.Len(t, c.Changed, 1)
	assert.Equal(t, "fixed: true, there none", c.Changed[0].Text)
	assert.Equal(t, "estates", c.There[0].Path)
	assert.Equal(t, "marrow-hill/museum-store/humidity-cabinet", c.Here[0].Path)

	for _, d := range call[[]store.Listed](t, "GET", "/api/designs", nil, 200) {
		if d.ID == made.ID {
			assert.Equal(t, "differ", d.Reason)
			assert.Equal(t, 3, d.Parties)
		}
	}
}

func TestWhatChangedSinceItWasHandedIsMarked(t *testing.T) {
	at := fresh(t)
	of := func(name string) server.Handed {
		for _, h := range call[[]server.Handed](t, "GET", at+"/handover", nil, 200) {
			if h.Name == name {
				return h
			}
		}
		t.Fatal(name)
		return server.Handed{}
	}
	h := of("Marrow Hill")
	assert.Nil(t, h.At)
	assert.Equal(t, 2, h.Joints)
	call[store.Info](t, "POST", at+"/handover/"+string(h.Party)+"/handed", doc{"base": 0}, 200)
	h = of("Marrow Hill")
	require.NotNil(t, h.At)
	assert.Empty(t, h.Changed)
	heard := call[server.Heard](t, "POST", at+"/say", doc{"text": "lan annexe in Marrow Hill 10.214.12.0/24"}, 200)
	call[store.Info](t, "POST", at+"/changes", doc{"base": 1, "reason": "annexe", "edits": heard.Edits}, 200)
	assert.NotEmpty(t, of("Marrow Hill").Changed)
	stale := call[doc](t, "POST", at+"/handover/"+string(h.Party)+"/handed", doc{"base": 1}, 409)
	assert.NotEmpty(t, stale, "files of another position were given to nobody")
	assert.NotEmpty(t, of("Marrow Hill").Changed)
}
