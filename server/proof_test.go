package server_test

import (
	"encoding/base64"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/capture"
	"dravin/core/design"
	"dravin/core/proof"
	"dravin/core/remedy"
	"dravin/core/wire"
	"dravin/demo"
	"dravin/server"
	"dravin/store"
)

// The flow of a demo estate that works, and one that is stopped, as questions.
const (
	weather = "from=thornfield-station/weather-room/weather-mast&to=plate-store/plates/plate-server&service=tcp/443"
	stopped = "from=peatside-nursery/glasshouse/controller&to=catalogue/shelf-a/logger&service=tcp/6514"
)

func TestTheMatrixOverHTTP(t *testing.T) {
	path, position, _ := trust(t)
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	store, peatside := string(d.Find("plate-store", design.KindNetwork)[0].ID), d.Find(
		"peatside-nursery", design.KindSite,
	)[0]

	m := call[server.Matrix](t, "GET", path+"/matrix", nil, 200)
	assert.Len(t, m.Rows, len(m.Lines))
	assert.Len(t, m.States, len(proof.States))
	assert.Zero(t, m.Left)
	assert.NotEmpty(t, m.All)
	one := call[server.Matrix](t, "GET", path+"/matrix?by=host&service=tcp/443&within="+store, nil, 200)
	assert.Equal(t, "plate store", one.Within)
	assert.Equal(t, []string{"tcp/443"}, one.Services)

	cell := call[server.CellFlows](t, "GET", path+"/matrix/cell?row="+string(peatside.ID)+"&column="+store, nil, 200)
	assert.Len(t, cell.Flows, cell.Of)
	within := "?by=segment&within=" + string(d.Find("marrow-hill", design.KindSite)[0].ID)
	line := ""
	for _, l := range call[server.Matrix](t, "GET", path+"/matrix"+within, nil, 200).Lines {
		if l.Ends > 1 {
			line = "&row=" + string(l.ID) + "&column=" + string(l.ID)
		}
	}
	all := call[server.CellFlows](t, "GET", path+"/matrix/cell?by=segment"+line, nil, 200)
	some := call[server.CellFlows](t, "GET", path+"/matrix/cell"+within+line, nil, 200)
	assert.Positive(t, some.Of)
	assert.Less(t, some.Of, all.Of, "a cell holds what the matrix beside it counts")
	for _, bad := range []string{
		"/matrix?by=colour", "/matrix/cell?row=none&column=none", "/matrix?without=ghost", "/matrix?service=tcp/9",
	} {
		call[doc](t, "GET", path+bad, nil, 422)
	}
	call[doc](t, "GET", "/api/designs/none/matrix", nil, 404)

	less := call[server.Matrix](t, "GET", path+"/matrix?without="+string(peatside.ID), nil, 200)
	assert.Equal(t, "without Peatside Nursery", less.Compared)
	assert.NotEmpty(t, less.Changes)
	assert.Equal(t, len(less.Changes), less.Counts["g"]+less.Counts["l"])

	inside := call[server.Matrix](
		t, "GET", path+"/matrix?by=host&within="+string(peatside.ID)+"&without="+string(peatside.ID), nil, 200,
	)
	assert.Equal(t, "Peatside Nursery", inside.Within)
	assert.Less(t, len(inside.Lines), 8)

	filter := d.Find("grove-hub-s-door", design.KindFilter)[0]
	edits := []doc{{"op": "remove", "id": filter.ID}}
	changed := call[server.Matrix](t, "POST", path+"/matrix/changed", doc{"edits": edits}, 200)
	require.NotEmpty(t, changed.Changes)
	for _, c := range changed.Changes {
		assert.True(t, c.Works, "a filter that is taken away closes nothing")
	}
	call[doc](t, "POST", path+"/matrix/changed", doc{"edits": []doc{{"op": "remove", "id": "none"}}}, 422)
	assert.Zero(t, position(), "nothing is stored")
}

func TestWalksAreMeasuredAndHeldOverHTTP(t *testing.T) {
	path, _, _ := trust(t)
	seen := call[server.FlowSeen](t, "GET", path+"/walk/wire?"+weather, nil, 200)
	assert.Equal(t, 1446, seen.Measure.There.MTU)
	assert.Equal(t, 24.0, seen.Measure.RTT)
	assert.NotEmpty(t, seen.Text)
	assert.NotEmpty(t, seen.Hops)

	answer, err := http.Get(address + path + "/walk/capture?" + weather)
	require.NoError(t, err)
	defer answer.Body.Close()
	require.Equal(t, 200, answer.StatusCode)
	assert.Contains(t, answer.Header.Get("Content-Disposition"), ".pcapng")
	file, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	packets, err := capture.ReadAny(file)
	require.NoError(t, err)
	assert.Len(t, packets.Packets, len(seen.Wire.Packets))

	q, err := url.ParseQuery(weather)
	require.NoError(t, err)
	ask := func(more doc) doc {
		out := doc{"from": q.Get("from"), "to": q.Get("to"), "service": q.Get("service")}
		for k, v := range more {
			out[k] = v
		}
		return out
	}
	held := call[wire.Held](
		t, "POST", path+"/walk/held", ask(doc{"file": base64.StdEncoding.EncodeToString(file)}), 200,
	)
	assert.True(t, held.Agrees)
	assert.Len(t, held.Matched, len(packets.Packets))
	for name, more := range map[string]doc{
		"no base64":    {"file": "?"},
		"a file cut":   {"file": base64.StdEncoding.EncodeToString(file[:len(file)-5])},
		"a poem":       {"text": "the thistle and the down"},
		"nobody":       {"from": "ghost", "text": "x"},
		"no service":   {"service": "tcp/none", "text": "x"},
		"nothing seen": {},
	} {
		t.Run(name, func(t *testing.T) { call[doc](t, "POST", path+"/walk/held", ask(more), 422) })
	}
	call[doc](t, "GET", path+"/walk/capture?from=ghost&to=ghost&service=icmp", nil, 422)
	call[doc](t, "GET", path+"/walk/wire?from=ghost&to=ghost&service=icmp", nil, 422)
}

// Each change that is offered for a flow that is stopped lets it work once it is made.
func TestRemediesOfAFlowWork(t *testing.T) {
	path, position, _ := trust(t)
	assert.Empty(t, call[[]remedy.Remedy](t, "GET", path+"/walk/remedies?"+weather, nil, 200))
	boxes := call[doc](t, "GET", path+"/walk/remedies?from=old-orangery/gateway&to=logger&service=tcp/6514", nil, 422)
	assert.Contains(t, boxes["detail"], "Old Orangery gateway to catalogue logger is not")
	remedies := call[[]remedy.Remedy](t, "GET", path+"/walk/remedies?"+stopped, nil, 200)
	require.NotEmpty(t, remedies)
	for _, r := range remedies {
		call[store.Info](
			t, "POST", path+"/changes", doc{"base": position(), "reason": r.Title, "edits": r.Edits}, 200,
		)
		assert.Equal(t, true, call[doc](t, "GET", path+"/walk?"+stopped, nil, 200)["works"], r.Title)
		call[store.Info](t, "POST", path+"/undo", doc{"base": position()}, 200)
	}
}

func TestDrillsOverHTTP(t *testing.T) {
	path, _, _ := trust(t)
	drill := call[proof.Drill](t, "GET", path+"/drill?without=marrow-hill/gateway", nil, 200)
	require.Len(t, drill.Dies, 1)
	assert.Equal(t, "controls desk reads the rain gauge", drill.Dies[0].Name)
	both := call[proof.Drill](
		t, "GET", path+"/drill?without=marrow-hill/gateway&without=thornfield-station/gateway", nil, 200,
	)
	assert.Greater(t, len(both.Dies), len(drill.Dies))
	call[doc](t, "GET", path+"/drill", nil, 422)
	call[doc](t, "GET", path+"/drill?without=ghost", nil, 422)
	call[[]remedy.Remedy](t, "GET", path+"/drill/remedies?without=thornfield-station/gateway", nil, 200)

	steps := func(path string) (out []server.DrillStep) {
		answer, err := http.Post(address+path+"/drills/steps", "application/json", nil)
		require.NoError(t, err)
		defer answer.Body.Close()
		for lines := json.NewDecoder(answer.Body); lines.More(); {
			var step server.DrillStep
			require.NoError(t, lines.Decode(&step))
			out = append(out, step)
		}
		return out
	}
	all := steps(path)
	last := all[len(all)-1]
	require.True(t, last.End)
	assert.Greater(t, len(all), 10, "it tells how far it is")
	assert.Equal(t, last.Of, len(last.Drills)+last.Quiet)
	for n, d := range last.Drills[1:] {
		assert.GreaterOrEqual(t, len(last.Drills[n].Dies), len(d.Dies), "worst first")
	}
	none := steps("/api/designs/none")
	assert.NotNil(t, none[len(none)-1].Problem)
}
