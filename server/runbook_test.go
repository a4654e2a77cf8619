package server_test

import (
	"fmt"
	"net/http"
	"net/netip"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/lifecycle"
	"dravin/core/runbook"
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

const given = `dravin: 1
name: Given
sites:
  - name: Fern Lodge
    gateways: [{name: gateway, addresses: 203.0.113.10, asn: 4200000101}]
    lans: [{name: house, prefixes: 10.212.1.0/24}]
networks:
  - name: seed bank
    cloud: Osier
    region: osier-west
    blocks: 10.208.16.0/20
    tables: [{name: main}]
    subnets: [{name: main, table: seed-bank/main, prefixes: 10.208.16.0/24}]
    gateways: [{name: gateway, addresses: 0.0.0.0, asn: 4200000102}]
links:
  - name: Fern Lodge to seed bank
    routing: static
    ends: [{gateway: fern-lodge/gateway, routes: 10.208.16.0/20}, {gateway: seed-bank/gateway, routes: 10.212.1.0/24}]
    tunnels: [{name: tunnel 1, outside: [203.0.113.10, 0.0.0.0], inside: [169.254.130.1/30, 169.254.130.2/30]}]
circuits:
  - name: Fern Lodge circuit
    ends:
      - {at: seed-bank/gateway, mbps: 120, vlan: 214, inside: 169.254.141.1/30, routes: 10.212.1.0/24}
      - {at: fern-lodge/gateway, mbps: 120, vlan: 214, inside: 169.254.141.2/30, routes: 10.208.16.0/20}
built: nothing
`

// What only the doing brings is told with the step that brings it, and is in either design from then on: nothing that
// is handed over leaves a place for it.
func TestWhatStepsBringIsTold(t *testing.T) {
	at := "/api/designs/" + call[store.Info](t, "POST", "/api/designs", doc{"from": "file", "file": given}, 201).ID
	position := func() int64 { return call[store.Info](t, "GET", at, nil, 200).Position }
	values := map[string]string{"code": "GARDEN-61", "address": "198.51.100.7, 198.51.100.8", "port": "enp3s0"}
	wrong := map[string]string{"code": "", "address": "the first", "port": "a port; reboot"}
	brought := map[string]int{}
	for range 40 {
		book := call[server.Runbook](t, "GET", at+"/runbook", nil, 200)
		if len(book.Steps) == 0 {
			break
		}
		for _, s := range book.Steps {
			if len(s.After) > 0 {
				call[doc](t, "POST", at+"/runbook/done", doc{"base": position(), "step": s.ID}, 422)
			}
		}
		s := book.Steps[0]
		require.Empty(t, s.After)
		if s.Needs != "" {
			brought[s.Needs]++
			call[doc](t, "POST", at+"/runbook/done", doc{"base": position(), "step": s.ID, "code": wrong[s.Needs]}, 422)
		} else {
			assert.NotContains(t, fmt.Sprint(s.Enter), "FILL-IN", s.Does)
		}
		call[doc](t, "POST", at+"/runbook/done", doc{"base": position(), "step": s.ID, "code": values[s.Needs]}, 200)
	}
	assert.Equal(t, map[string]int{"code": 1, "address": 1, "port": 1}, brought)
	assert.Empty(t, call[design.Comparison](t, "GET", at+"/work", nil, 200).Changed)
	files := fmt.Sprint(call[[]doc](t, "GET", at+"/handover", nil, 200))
	assert.NotContains(t, files, "remote_addrs = FILL-IN")
	assert.Contains(t, files, "remote_addrs = 198.51.100.7")
	assert.Contains(t, files, "circuit1 enp3s0")
}

// What is made a second time is made, moved to and taken away in three steps, of which two say nothing of what is
// built: each is to be done once, until the same is to be done again.
func TestWhatIsMadeASecondTimeIsDoneStepByStep(t *testing.T) {
	text := strings.Replace(given, "addresses: 0.0.0.0, asn", "addresses: 198.51.100.7, vpn: lone, asn", 1)
	text = strings.Replace(text, "built: nothing\n", "", 1)
	at := "/api/designs/" + call[store.Info](t, "POST", "/api/designs", doc{"from": "file", "file": text}, 201).ID
	position := func() int64 { return call[store.Info](t, "GET", at, nil, 200).Position }
	steps := func() (out []runbook.Step) { return call[server.Runbook](t, "GET", at+"/runbook", nil, 200).Steps }
	does := func() (out []string) {
		for _, s := range steps() {
			out = append(out, strings.SplitN(s.Does, ":", 2)[0])
		}
		return out
	}
	d, err := design.Read([]byte(text))
	require.NoError(t, err)
	gateway := d.Inside(d.Of(design.KindNetwork)[0].ID, design.KindGateway)[0]
	second, move := "make a second gateway beside the first", "enter gateway gateway"
	first, follow := "take the first gateway away", "load the files that are others by what was done elsewhere"
	for n, to := range []string{"twin", "lone"} { // what was done for the one is not done for the other
		had := netip.MustParseAddr([]string{"198.51.100.7", "198.51.100.17"}[n])
		g := design.Edited(gateway, func(b *design.Gateway) { b.VPN, b.Addresses = to, []netip.Addr{had} })
		call[store.Info](t, "POST", at+"/changes", doc{
			"base": position(), "reason": "another kind", "edits": []design.Edit{design.PutEdit(g)},
		}, 200)
		assert.Equal(t, []string{second, move, follow, first}, does())
		tick := func(n int, brings string) runbook.Step {
			s := steps()[n]
			call[doc](t, "POST", at+"/runbook/done", doc{"base": position(), "step": s.ID, "code": brings}, 200)
			return s
		}
		tick(0, "")
		assert.Equal(t, []string{move, follow, first}, does())
		assert.Equal(t, []string{steps()[0].ID}, steps()[1].After, "its files have the addresses that are given")
		moved := tick(0, "198.51.100.17")
		assert.Equal(t, []string{follow, first}, does())
		call[doc](t, "POST", at+"/runbook/undone", doc{"base": position(), "step": moved.ID}, 200)
		assert.Equal(t, []string{move, follow, first}, does(), "it is to be done again, and so is what comes after")
		tick(0, "198.51.100.17")
		tick(0, "")
		tick(0, "")
		assert.Empty(t, does())
	}
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
