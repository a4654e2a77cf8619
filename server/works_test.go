package server_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/change"
	"dravin/server"
	"dravin/store"
)

// What is planned is listed by change. One is proven alone with what it needs, set aside with what needs it and taken
// up again, and taken back; its steps alone are done, and those of the other are left, under their numbers.
func TestTheWorkIsChanges(t *testing.T) {
	at := fresh(t)
	position := func() int64 { return call[store.Info](t, "GET", at, nil, 200).Position }
	call[store.Info](t, "POST", at+"/built", doc{"base": 0, "there": true}, 200)
	plan := func(reason, of, id, kind, parent, name string, body doc) {
		object := doc{"id": id, "kind": kind, "name": name, "body": body}
		if parent != "" {
			object["parent"] = parent
		}
		call[store.Info](t, "POST", at+"/changes", doc{
			"base": position(), "reason": reason, "change": of,
			"edits": []doc{{"op": "put", "id": id, "object": object}},
		}, 200)
	}
	list := func() map[string]server.WorkChange {
		out := map[string]server.WorkChange{}
		for _, c := range call[[]server.WorkChange](t, "GET", at+"/work/changes", nil, 200) {
			out[c.Title] = c
		}
		return out
	}
	act := func(id change.ID, do string, with bool, status int) {
		call[doc](t, "POST", at+"/work/changes/"+string(id), doc{"base": position(), "do": do, "with": with}, status)
	}
	require.Empty(t, list())
	plan("Alder Hut joins", "new", "alder", "site", "", "Alder Hut", doc{})
	plan("New LAN", "", "house", "lan", "alder", "house", doc{"prefixes": []string{"10.212.61.0/24"}})
	plan("A door to the world", "new", "door", "gateway", "alder", "gateway", doc{"addresses": []string{"203.0.113.61"}})

	all := list()
	require.Len(t, all, 2, "who edits what a change makes edits that change")
	joins, door := all["Alder Hut joins"], all["A door to the world"]
	assert.Equal(t, []any{server.WorkState("open"), 0, 2}, []any{joins.State, joins.Done, joins.Of})
	assert.Equal(t, "makes Alder Hut", joins.Does)
	assert.Equal(t, []change.ID{joins.ID}, door.Needs)
	assert.Equal(t, []change.ID{door.ID}, joins.Needed)
	alone := call[server.Alone](t, "GET", at+"/work/changes/"+string(door.ID), nil, 200)
	assert.Equal(t, []change.ID{joins.ID}, alone.With)
	assert.Len(t, alone.Changes, 3)
	call[doc](t, "GET", at+"/work/changes/rhubarb", nil, 404)

	act(joins.ID, "back", false, 422)
	act(joins.ID, "up", false, 422)
	act(joins.ID, "aside", true, 200)
	assert.Equal(t, server.WorkState("aside"), list()["A door to the world"].State)
	assert.Empty(t, call[server.Runbook](t, "GET", at+"/runbook", nil, 200).Steps)
	act(door.ID, "up", false, 200)
	assert.Equal(t, all, list(), "it is what it was")
	call[store.Info](t, "POST", at+"/undo", doc{"base": position()}, 200)
	assert.Equal(t, server.WorkState("aside"), list()["Alder Hut joins"].State)
	call[store.Info](t, "POST", at+"/redo", doc{"base": position()}, 200)
	assert.Equal(t, all, list())

	book := call[server.Runbook](t, "GET", at+"/runbook?change="+string(joins.ID), nil, 200)
	require.NotEmpty(t, book.Steps)
	left := call[server.Runbook](t, "GET", at+"/runbook", nil, 200)
	for len(book.Steps) > 0 {
		s := book.Steps[0]
		call[store.Info](t, "POST", at+"/runbook/done", doc{"base": position(), "step": s.ID, "change": joins.ID}, 200)
		then := call[server.Runbook](t, "GET", at+"/runbook?change="+string(joins.ID), nil, 200)
		assert.Equal(t, len(book.Steps)-1, len(then.Steps))
		for n := range then.Steps {
			assert.Equal(t, book.Steps[n+1], then.Steps[n], "what is left says what it said")
		}
		book = then
	}
	all = list()
	assert.Equal(t, server.WorkState("done"), all["Alder Hut joins"].State)
	assert.Equal(t, server.WorkState("open"), all["A door to the world"].State)
	then := call[server.Runbook](t, "GET", at+"/runbook", nil, 200)
	require.NotEmpty(t, then.Steps)
	for _, s := range then.Steps {
		assert.Equal(t, []change.ID{door.ID}, then.Changes[s.ID])
		for _, was := range left.Steps {
			if was.ID == s.ID {
				assert.Equal(t, was.N, s.N)
			}
		}
	}
	done := then.Done[0]
	call[store.Info](t, "POST", at+"/runbook/undone", doc{"base": position(), "step": done.Step}, 200)
	call[doc](t, "POST", at+"/runbook/undone", doc{"base": position(), "step": done.Step}, 404)
	assert.Equal(t, server.WorkState("open"), list()["Alder Hut joins"].State, "what is not done is to be done")

	call[store.Info](t, "POST", at+"/built", doc{"base": position(), "there": false}, 200)
	rest := list()["What no change tells of"]
	assert.Equal(t, change.Rest, rest.ID, "what was said not to be there is told of, too")
	call[store.Info](t, "POST", at+"/undo", doc{"base": position()}, 200)
	var garden any
	for _, h := range call[[]doc](t, "GET", at+"/handover", nil, 200) {
		if h["name"] == "Peatside Nursery" {
			garden = h["party"]
		}
	}
	call[store.Info](t, "POST", at+"/built", doc{"base": position(), "there": false, "objects": []any{garden}}, 200)
	assert.Equal(t, change.Rest, list()["What no change tells of"].ID, "though intents name what stands there")
	call[store.Info](t, "POST", at+"/undo", doc{"base": position()}, 200)
	act(door.ID, "back", false, 200)
	call[store.Info](t, "POST", at+"/work/changes/"+string(joins.ID), doc{
		"base": position(), "do": "call", "title": "A hut", "why": "for the tools",
	}, 200)
	assert.Equal(t, "for the tools", list()["A hut"].Why)
	assert.Equal(t, server.WorkState("back"), list()["A door to the world"].State)
}
