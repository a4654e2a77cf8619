package lifecycle_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/lifecycle"
	"dravin/demo"
)

func trust(t *testing.T) *design.Design {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	return d
}

func keys(steps []lifecycle.Step) (out []string) {
	for _, s := range steps {
		out = append(out, s.Key)
	}
	return out
}

// do takes a step that needs nothing to be told.
func do(t *testing.T, d *design.Design, id design.ID, key string) *design.Design {
	for _, s := range lifecycle.Steps(d, d.Get(id)) {
		if s.Key == key {
			next, _, err := d.Apply(s.Edits)
			require.NoError(t, err)
			return next
		}
	}
	t.Fatalf("%s has no step %s", d.Title(id), key)
	return nil
}

// unbuilt is a design of which something is planned alone.
func unbuilt(d *design.Design, id design.ID) *design.Design {
	return d.WithBuilt(d.Sketch(d.Removal(id).Edits))
}

// A link goes from planned to ready to gone, and round again; the plan has it done all the while, and lets it go once
// it is said to be gone.
func TestALinksLife(t *testing.T) {
	d := trust(t)
	id := d.Find("marrow-hill-to-catalogue", design.KindLink)[0].ID
	assert.Equal(t, []string{"gone"}, keys(lifecycle.Steps(d, d.Get(id))))
	d = unbuilt(d, id)
	assert.Equal(t, design.NotBegun, d.StateOf(id))
	for _, step := range []struct{ key, there, plan string }{
		{"begin", design.Making, design.Ready}, {"ready", design.Ready, design.Ready},
		{"gone", design.Gone, design.Gone}, {"begin", design.Making, design.Ready},
	} {
		d = do(t, d, id, step.key)
		assert.Equal(t, step.there, d.StateOf(id))
		assert.Equal(t, step.plan, design.StateOf(d.Get(id)), step.key)
		assert.Len(t, d.Built().Tunnels(id), len(d.Tunnels(id)))
	}
	assert.Empty(t, lifecycle.Track(d, d.Get(id)), "only a circuit has a track")
}

// A circuit is ordered at one end and accepted at the other with the code.
func TestACircuitsLife(t *testing.T) {
	d := trust(t)
	id := d.Find("saltmarsh-station-circuit", design.KindCircuit)[0].ID
	d, _, err := d.Apply([]design.Edit{design.PutEdit(design.Edited(d.Get(id), func(c *design.Circuit) {
		c.Step, c.Code, c.CodeZone, c.Expires = "", "", "", ""
	}))})
	require.NoError(t, err)
	d = unbuilt(d, id)
	done := func() (n int) {
		for _, s := range lifecycle.Track(d, d.Get(id)) {
			if s.Done {
				n++
			}
		}
		return n
	}
	assert.Zero(t, done())
	d = do(t, d, id, "order")
	assert.Equal(t, 1, done())
	steps := lifecycle.Steps(d, d.Get(id))
	require.Len(t, steps, 1)
	assert.Equal(t, lifecycle.NeedsCode, steps[0].Needs)
	_, err = lifecycle.EnterCode(d, d.Get(id), "", "tarn-north-a", "")
	assert.ErrorContains(t, err, "needs its order code")
	e, err := lifecycle.EnterCode(d, d.Get(id), "TH-4417", "tarn-north-a", "2026-12-24")
	require.NoError(t, err)
	d, _, err = d.Apply(e)
	require.NoError(t, err)
	assert.Equal(t, 2, done())
	assert.Equal(t, []string{"accept", "code"}, keys(lifecycle.Steps(d, d.Get(id))))
	d = do(t, do(t, d, id, "accept"), id, "session")
	assert.Equal(t, 4, done())
	assert.Equal(t, design.Ready, d.StateOf(id))
	assert.Equal(t, []string{"gone"}, keys(lifecycle.Steps(d, d.Get(id))))
}

// A peering stands when both halves do.
func TestAPeeringsHalves(t *testing.T) {
	d := trust(t)
	id := d.Find("field-exchange-with-specimen-loans", design.KindPeering)[0].ID
	assert.Equal(t, []string{"half-1", "half-2"}, keys(lifecycle.Steps(d, d.Get(id))))
	d = do(t, d, id, "half-2")
	assert.Equal(t, design.Waiting, d.StateOf(id))
	assert.Equal(t, []string{"half-2"}, keys(lifecycle.Steps(d, d.Get(id))))
	d = do(t, d, id, "half-2")
	assert.Equal(t, design.Ready, d.StateOf(id))
	assert.NotContains(t, d.Unlike(), id, "what is done is as planned")
}

// A request is answered once, with a reason, and asked again after it was refused.
func TestARequestIsAnswered(t *testing.T) {
	d := trust(t)
	request := d.Of(design.KindRequest)[0]
	subject := request.Body.(*design.Request).For
	require.Equal(t, request, lifecycle.OpenRequest(d, subject))
	assert.Equal(t, lifecycle.NeedsAnswer, lifecycle.Steps(d, d.Get(subject))[0].Needs)
	_, err := lifecycle.Answer(d, request, true, "")
	assert.ErrorContains(t, err, "a reason is missing")
	for _, accept := range []bool{true, false} {
		edits, err := lifecycle.Answer(d, request, accept, "the range is ours")
		require.NoError(t, err)
		next, _, err := d.Apply(edits)
		require.NoError(t, err)
		assert.Nil(t, lifecycle.OpenRequest(next, subject))
		want := map[bool]string{true: design.Making, false: design.Refused}[accept]
		assert.Equal(t, want, next.StateOf(subject))
		_, err = lifecycle.Answer(next, next.Get(request.ID), true, "once more")
		assert.ErrorContains(t, err, "already")
		if !accept {
			assert.Equal(t, []string{"ask"}, keys(lifecycle.Steps(next, next.Get(subject))))
			again := do(t, next, subject, "ask")
			assert.NotNil(t, lifecycle.OpenRequest(again, subject))
		}
	}
}
