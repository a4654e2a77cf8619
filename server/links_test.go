package server_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/plan"
	"dravin/server"
	"dravin/store"
)

type linkRow struct {
	ID, Name, State, Verdict string
	Differing                int
}

type linkSheet struct {
	linkRow
	Tunnels []struct {
		ID, Name string
		Lines    []struct{ Key, Verdict string }
	}
	Requests []struct{ ID, Answer string }
}

// trust is the demo estate with the position it is at, and its links by name.
func trust(t *testing.T) (path string, position func() int64, links map[string]string) {
	in := call[store.Info](t, "POST", "/api/designs", map[string]any{"from": "demo"}, http.StatusCreated)
	path = "/api/designs/" + in.ID
	links = map[string]string{}
	for _, r := range call[[]linkRow](t, "GET", path+"/links", nil, http.StatusOK) {
		links[r.Name] = r.ID
	}
	return path, func() int64 { return call[store.Info](t, "GET", path, nil, http.StatusOK).Position }, links
}

func verdict(s linkSheet, tunnel int, key string) string {
	for _, l := range s.Tunnels[tunnel].Lines {
		if l.Key == key {
			return l.Verdict
		}
	}
	return ""
}

// A key that was sent is compared, kept sealed, and never given out; one key on
// two links is found.
func TestSentKeysAreComparedAndNeverShown(t *testing.T) {
	path, position, links := trust(t)
	send := func(link string, record bool) {
		sheet := call[linkSheet](t, "GET", path+"/links/"+links[link], nil, http.StatusOK)
		body := map[string]any{
			"end": 1, "text": "pre-shared key: badgers and moss", "record": record, "base": position(),
		}
		call[any](t, "POST", path+"/tunnels/"+sheet.Tunnels[0].ID+"/sent", body, http.StatusOK)
	}
	read := func(link string) linkSheet {
		return call[linkSheet](t, "GET", path+"/links/"+links[link], nil, http.StatusOK)
	}
	const first, second = "Peatside to Marrow Hill", "Marrow Hill to catalogue"
	send(first, false)
	assert.Equal(t, "agrees", verdict(read(first), 0, "key"), "comparing alone keeps nothing")
	stale := map[string]any{
		"end": 1, "text": "pre-shared key: badgers and moss\nmtu: 1300", "record": true, "base": position(),
	}
	hut := `{"base":0,"reason":"a hut","edits":[{"op":"put","id":"yew","object":{"id":"yew","kind":"site","name":"Yew Hut","body":{}}}]}`
	call[any](t, "POST", path+"/changes", hut, http.StatusOK)
	call[any](t, "POST", path+"/tunnels/"+read(first).Tunnels[0].ID+"/sent", stale, http.StatusConflict)
	assert.Equal(t, "agrees", verdict(read(first), 0, "key"), "what a stale writer sent leaves no key behind")
	for _, link := range []string{first, second} {
		send(link, true)
		require.Equal(t, "differs", verdict(read(link), 0, "key"))
		call[store.Info](
			t, "POST", path+"/tunnels/"+read(link).Tunnels[0].ID+"/key", map[string]any{"take": "theirs"},
			http.StatusOK,
		)
		require.Equal(t, "agrees", verdict(read(link), 0, "key"))
	}
	findings := text(t, path+"/findings")
	assert.Contains(t, findings, `"key-reused"`)
	for _, view := range []string{"/findings", "/links", "/links/" + links[first], "/history", "/handover"} {
		assert.NotContains(t, text(t, path+view), "badgers", view)
	}
	assert.Contains(t, text(t, path+"/history"), "Use the far end's key for Peatside to Marrow Hill")
	call[store.Info](
		t, "POST", path+"/tunnels/"+read(second).Tunnels[0].ID+"/key", map[string]any{"take": "new"}, http.StatusOK,
	)
	assert.NotContains(t, text(t, path+"/findings"), `"key-reused"`)
	refusal := call[map[string]any](
		t, "POST", path+"/tunnels/"+read(second).Tunnels[0].ID+"/key", map[string]any{"take": "theirs"},
		http.StatusUnprocessableEntity,
	)
	assert.Contains(t, refusal["detail"], "has sent no other key")
}

func TestRequestsAreAnsweredOnceAndWithAReason(t *testing.T) {
	path, position, links := trust(t)
	sheet := call[linkSheet](t, "GET", path+"/links/"+links["seed bank index at visitor hub"], nil, http.StatusOK)
	require.Len(t, sheet.Requests, 1)
	answer := path + "/requests/" + sheet.Requests[0].ID + "/answer"
	no := call[map[string]any](
		t, "POST", answer, map[string]any{"base": position(), "accept": true, "reason": ""},
		http.StatusUnprocessableEntity,
	)
	assert.Contains(t, no["detail"], "a reason is missing")
	base := position()
	call[store.Info](
		t, "POST", answer, map[string]any{"base": base, "accept": false, "reason": "not this year"}, http.StatusOK,
	)
	again := call[map[string]any](
		t, "POST", answer, map[string]any{"base": position(), "accept": true, "reason": "yes"},
		http.StatusUnprocessableEntity,
	)
	assert.Contains(t, again["detail"], "was refused already: not this year")
	assert.Equal(
		t, "refused",
		call[linkSheet](t, "GET", path+"/links/"+links["seed bank index at visitor hub"], nil, http.StatusOK).State,
	)
	code := call[map[string]any](
		t, "POST", path+"/links/"+links["herbarium scans circuit 2"]+"/code",
		map[string]any{"base": position(), "code": "K7", "expires": "next week"}, http.StatusUnprocessableEntity,
	)
	assert.Contains(t, code["detail"], "is not a date")
	assert.Contains(t, text(t, path+"/history"), "Refuse visitor hub seed bank index: not this year")
}

// text is an answer as it comes.
func text(t *testing.T, path string) string {
	resp, err := http.Get(address + path)
	require.NoError(t, err)
	defer resp.Body.Close()
	var b strings.Builder
	_, err = io.Copy(&b, resp.Body)
	require.NoError(t, err)
	return b.String()
}

// From the question to the link: a plan is asked for, one of its options is applied through the same
// change operation as everything else, and undone whole.
func TestAPlanIsAppliedAndUndone(t *testing.T) {
	path, position, _ := trust(t)
	ids := map[string]string{}
	for _, p := range call[struct{ Parties []struct{ ID, Name string } }](
		t, "GET", path+"/estate", nil, http.StatusOK,
	).Parties {
		ids[p.Name] = p.ID
	}
	p := call[plan.Plan](
		t, "GET", path+"/plan?party="+ids["Dunmoss Arboretum"]+"&party="+ids["sequencing"]+"&gb=500&by=vpn-bgp", nil,
		http.StatusOK,
	)
	require.NotEmpty(t, p.Options)
	chosen := p.Options[0]
	require.Empty(t, chosen.Refused)
	require.NotEmpty(t, chosen.Joints)
	before := text(t, path+"/links")
	call[store.Info](
		t, "POST", path+"/changes", map[string]any{"base": position(), "reason": "Join", "edits": chosen.Edits},
		http.StatusOK,
	)
	sheet := call[linkSheet](t, "GET", path+"/links/"+string(chosen.Joints[0].ID), nil, http.StatusOK)
	assert.Equal(t, "planned", sheet.State)
	assert.Len(t, sheet.Tunnels, 2)
	assert.Equal(t, "unknown", verdict(sheet, 0, "address-2"))
	again := call[map[string]any](
		t, "POST", path+"/changes", map[string]any{"base": 0, "reason": "Join", "edits": chosen.Edits},
		http.StatusConflict,
	)
	assert.NotEmpty(t, again["since"], "a second change from the same page is told of the first")
	call[store.Info](t, "POST", path+"/undo", map[string]any{"base": position()}, http.StatusOK)
	assert.Equal(t, before, text(t, path+"/links"))
}

// A plan that is watched tells how far it is, and ends with the plan or with what is wrong.
func TestAPlanTellsHowFarItIs(t *testing.T) {
	path, _, _ := trust(t)
	watched := func(ask map[string]any) (steps []server.PlanStep) {
		body, err := json.Marshal(ask)
		require.NoError(t, err)
		answer, err := http.Post(address+path+"/plan/steps", "application/json", bytes.NewReader(body))
		require.NoError(t, err)
		defer answer.Body.Close()
		lines := json.NewDecoder(answer.Body)
		for lines.More() {
			var step server.PlanStep
			require.NoError(t, lines.Decode(&step))
			steps = append(steps, step)
		}
		return steps
	}
	party := call[struct{ Parties []struct{ ID, Name string } }](t, "GET", path+"/estate", nil, http.StatusOK).Parties
	steps := watched(map[string]any{"party": []string{party[0].ID, party[1].ID}, "by": []string{"vpn"}})
	require.Greater(t, len(steps), 2)
	assert.NotEmpty(t, steps[0].Doing)
	assert.NotNil(t, steps[len(steps)-1].Plan)
	for _, ask := range []map[string]any{
		{}, {"party": []string{"none", "nobody"}}, {"party": []string{party[0].ID}, "budget": "lots"}, {"group": "gone"},
	} {
		steps := watched(ask)
		assert.NotNil(t, steps[len(steps)-1].Problem, ask)
	}
}

func TestProfilesOnTheAPI(t *testing.T) {
	path, position, _ := trust(t)
	type view struct {
		Name, ID, Text string
		Shipped        bool
		Used           int
	}
	named := func(name string) (out view) {
		for _, p := range call[[]view](t, "GET", path+"/profiles", nil, http.StatusOK) {
			if p.Name == name {
				out = p
			}
		}
		return out
	}
	sedge := named("Sedge")
	require.True(t, sedge.Shipped)
	assert.Equal(t, 4, sedge.Used, "three networks and a hub")
	bad := call[map[string]any](
		t, "POST", path+"/profiles",
		map[string]any{
			"text": strings.Replace(sedge.Text, "mbps: 2300", "mbps: fast", 1), "base": position(), "save": true,
		},
		http.StatusUnprocessableEntity,
	)
	assert.Contains(t, bad["detail"], "vpn[0].mbps")
	read := call[map[string]any](
		t, "POST", path+"/profiles", map[string]any{"text": sedge.Text, "base": position()}, http.StatusOK,
	)
	assert.Nil(t, read["info"], "reading alone stores nothing")
	assert.True(t, named("Sedge").Shipped)

	cheap := strings.Replace(sedge.Text, `attachment_hour: "0.09"`, `attachment_hour: "0.01"`, 1)
	require.NotEqual(t, sedge.Text, cheap)
	study := func() string { return text(t, path+"/study?cloud=Sedge&gb=1000") }
	before := study()
	for range 2 {
		call[map[string]any](
			t, "POST", path+"/profiles", map[string]any{"text": cheap, "base": position(), "save": true}, http.StatusOK,
		)
	}
	own := named("Sedge")
	assert.False(t, own.Shipped)
	assert.Equal(t, cheap, own.Text)
	assert.NotEqual(t, before, study(), "what is computed follows the design's own profile")
	call[store.Info](
		t, "POST", path+"/changes",
		map[string]any{
			"base": position(), "reason": "Away", "edits": []any{map[string]any{"op": "remove", "id": own.ID}},
		},
		http.StatusOK,
	)
	assert.Equal(t, before, study())
}
