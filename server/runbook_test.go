package server_test

import (
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/lifecycle"
	"dravin/lab/stage"
	"dravin/server"
	"dravin/store"
)

// Steps are ticked one after the other until none is left, each once and by who has seen the design as it is; what is
// undone is to be done again.
func TestStepsAreTicked(t *testing.T) {
	at, position, _ := trust(t)
	book := call[server.Runbook](t, "GET", at+"/runbook", nil, 200)
	require.NotEmpty(t, book.Steps)
	require.Empty(t, book.Done)
	tick := func(base int64, step, code string, status int) {
		call[doc](t, "POST", at+"/runbook/done", doc{"base": base, "step": step, "code": code}, status)
	}

	tick(0, "rhubarb", "", 404)
	tick(7, book.Steps[0].ID, "", 422)
	all, coded := len(book.Steps), 0
	var done []string
	for len(book.Steps) > 0 && len(done) < 200 {
		s := book.Steps[0]
		base := position()
		if s.Needs == lifecycle.NeedsCode {
			coded++
			tick(base, s.ID, "", 422)
			assert.Equal(t, base, position(), "a step that needs a code is not done without")
		}
		tick(base, s.ID, "GARDEN-214", 200)
		tick(position(), s.ID, "GARDEN-214", 404)
		if base > 0 {
			tick(base-1, s.ID, "", 404)
		}
		done = append(done, s.ID)
		book = call[server.Runbook](t, "GET", at+"/runbook", nil, 200)
		var ticked []string
		for _, d := range book.Done {
			ticked = append(ticked, d.Step)
			assert.NotEmpty(t, d.Author)
			assert.False(t, d.At.IsZero())
		}
		assert.Contains(t, ticked, s.ID)
		for _, left := range book.Steps {
			assert.NotEqual(t, s.ID, left.ID, "what is done is not asked for again")
		}
	}
	assert.GreaterOrEqual(t, len(done), all)
	assert.Equal(t, book.Then, book.Holds, "today is what was planned")

	call[store.Info](t, "POST", at+"/undo", doc{"base": position()}, 200)
	book = call[server.Runbook](t, "GET", at+"/runbook", nil, 200)
	require.Len(t, book.Steps, 1)
	assert.Equal(t, done[len(done)-1], book.Steps[0].ID)
	for _, d := range book.Done {
		assert.NotEqual(t, book.Steps[0].ID, d.Step)
	}
	t.Logf("%d steps, %d of them with a code", len(done), coded)
}

// A server tells whether it can rehearse, and with which command somebody else can; what was never played or captured
// is not there.
func TestRehearsalsOverHTTP(t *testing.T) {
	at := fresh(t)
	list := call[server.Rehearsals](t, "GET", at+"/rehearsals", nil, 200)
	assert.Empty(t, list.List)
	assert.True(t, strings.HasPrefix(list.Command, "sudo dravin rehearse "))
	call[doc](t, "GET", "/api/designs/none/rehearsals", nil, 404)
	call[doc](t, "GET", at+"/rehearsals/1", nil, 404)
	call[doc](t, "POST", at+"/rehearsals/1/cancel", doc{}, 404)
	call[doc](t, "GET", at+"/rehearsals/1/captures/1", nil, 404)
	if stage.Possible() != nil && os.Getenv("CI") == "" {
		assert.NotEmpty(t, list.Possible)
		call[doc](t, "POST", at+"/rehearsals", doc{"base": 0, "side": "planned"}, 422)
		return
	}
	assert.Empty(t, list.Possible)
	for _, bad := range []doc{
		{"base": 3, "side": "planned"}, {"base": 0, "side": "once-upon"},
		{"base": 0, "side": "built", "drills": 1000}, {"base": 0, "side": "built", "sample": -1},
	} {
		call[doc](t, "POST", at+"/rehearsals", bad, 422)
	}
	assert.Empty(t, call[server.Rehearsals](t, "GET", at+"/rehearsals", nil, 200).List, "nothing was begun")

	// No player runs beside this server, so that it waits until somebody ends it.
	asked := call[server.Rehearsed](t, "POST", at+"/rehearsals", doc{"base": 0, "side": "planned"}, 200)
	assert.Equal(t, store.Waiting, asked.State)
	call[doc](t, "POST", at+"/rehearsals", doc{"base": 0, "side": "planned"}, http.StatusUnprocessableEntity)
	list = call[server.Rehearsals](t, "GET", at+"/rehearsals", nil, 200)
	require.Len(t, list.List, 1)
	assert.Nil(t, list.List[0].Report)
	one := fmt.Sprintf("%s/rehearsals/%d", at, asked.ID)
	call[doc](t, "GET", one+"/captures/1", nil, 404)
	call[doc](t, "GET", fresh(t)+fmt.Sprintf("/rehearsals/%d", asked.ID), nil, 404)
	assert.Empty(t, call[server.Rehearsing](t, "GET", one, nil, 200).Events)
	ended := call[server.Rehearsed](t, "POST", one+"/cancel", doc{}, 200)
	assert.Equal(t, store.Cancelled, ended.State)
	require.NotNil(t, ended.EndedAt)
	again := call[server.Rehearsed](t, "POST", one+"/cancel", doc{}, 200)
	assert.Equal(t, ended.EndedAt, again.EndedAt, "it has ended once")
	asked = call[server.Rehearsed](t, "POST", at+"/rehearsals", doc{"base": 0, "side": "built", "steps": true}, 200)
	assert.True(t, asked.Steps)
	call[server.Rehearsed](t, "POST", fmt.Sprintf("%s/rehearsals/%d/cancel", at, asked.ID), doc{}, 200)
}
