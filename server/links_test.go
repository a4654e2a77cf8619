package server_test

import (
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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

func verdict(s linkSheet, strand int, key string) string {
	for _, l := range s.Tunnels[strand].Lines {
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
		body := map[string]any{"end": 1, "text": "pre-shared key: badgers and moss", "record": record, "base": position()}
		call[any](t, "POST", path+"/tunnels/"+sheet.Tunnels[0].ID+"/sent", body, http.StatusOK)
	}
	read := func(link string) linkSheet {
		return call[linkSheet](t, "GET", path+"/links/"+links[link], nil, http.StatusOK)
	}
	const first, second = "Peatside to Marrow Hill", "Marrow Hill to catalogue"
	send(first, false)
	assert.Equal(t, "agrees", verdict(read(first), 0, "key"), "comparing alone keeps nothing")
	for _, link := range []string{first, second} {
		send(link, true)
		require.Equal(t, "differs", verdict(read(link), 0, "key"))
		call[store.Info](t, "POST", path+"/tunnels/"+read(link).Tunnels[0].ID+"/key", map[string]any{"take": "theirs"}, http.StatusOK)
		require.Equal(t, "agrees", verdict(read(link), 0, "key"))
	}
	findings := text(t, path+"/findings")
	assert.Contains(t, findings, `"key-reused"`)
	for _, view := range []string{"/findings", "/links", "/links/" + links[first], "/history", "/handover"} {
		assert.NotContains(t, text(t, path+view), "badgers", view)
	}
	assert.Contains(t, text(t, path+"/history"), "Use the far end's key for Peatside to Marrow Hill")
	call[store.Info](t, "POST", path+"/tunnels/"+read(second).Tunnels[0].ID+"/key", map[string]any{"take": "new"}, http.StatusOK)
	assert.NotContains(t, text(t, path+"/findings"), `"key-reused"`)
	refusal := call[map[string]any](t, "POST", path+"/tunnels/"+read(second).Tunnels[0].ID+"/key", map[string]any{"take": "theirs"}, http.StatusUnprocessableEntity)
	assert.Contains(t, refusal["detail"], "has sent no other key")
}

func TestRequestsAreAnsweredOnceAndWithAReason(t *testing.T) {
	path, position, links := trust(t)
	sheet := call[linkSheet](t, "GET", path+"/links/"+links["seed bank index at visitor hub"], nil, http.StatusOK)
	require.Len(t, sheet.Requests, 1)
	answer := path + "/requests/" + sheet.Requests[0].ID + "/answer"
	no := call[map[string]any](t, "POST", answer, map[string]any{"base": position(), "accept": true, "reason": ""}, http.StatusUnprocessableEntity)
	assert.Contains(t, no["detail"], "a reason is missing")
	base := position()
	call[store.Info](t, "POST", answer, map[string]any{"base": base, "accept": false, "reason": "not this year"}, http.StatusOK)
	again := call[map[string]any](t, "POST", answer, map[string]any{"base": position(), "accept": true, "reason": "yes"}, http.StatusUnprocessableEntity)
	assert.Contains(t, again["detail"], "was refused already: not this year")
	assert.Equal(t, "refused", call[linkSheet](t, "GET", path+"/links/"+links["seed bank index at visitor hub"], nil, http.StatusOK).State)
	code := call[map[string]any](t, "POST", path+"/links/"+links["herbarium scans circuit 2"]+"/code", map[string]any{"base": position(), "code": "K7", "expires": "next week"}, http.StatusUnprocessableEntity)
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
