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

func in(t *testing.T, d *design.Design, id design.ID, s design.State) *design.Design {
	next, _, err := d.Apply([]design.Edit{design.PutEdit(d.Get(id).InState(s))})
	require.NoError(t, err)
	return next
}

// A link goes from drafted to ready to gone, and round again.
func TestALinksLife(t *testing.T) {
	d := trust(t)
	id := d.Find("marrow-hill-to-catalogue", design.KindLink)[0].ID
	assert.Equal(t, []string{"gone"}, keys(lifecycle.Steps(d, d.Get(id))))
	d = in(t, d, id, design.Drafted)
	for _, step := range []struct{ key, then string }{
		{"begin", design.Making}, {"ready", design.Ready}, {"gone", design.Gone}, {"begin", design.Drafted},
	} {
		d = do(t, d, id, step.key)
		assert.Equal(t, step.then, design.StateOf(d.Get(id)))
	}
	assert.Empty(t, lifecycle.Track(d, d.Get(id)), "only a circuit has a track")
}

// A circuit is ordered at one end and accepted at the other with the code.
func TestACircuitsLife(t *testing.T) {
	d := trust(t)
	id := d.Find("saltmarsh-station-circuit", design.KindCircuit)[0].ID
	c := *d.Get(id).Body.(*design.Circuit)
	c.Step, c.State = "", design.Drafted
	d, _, err := d.Apply([]design.Edit{design.PutEdit(d.Get(id).With(&c))})
	require.NoError(t, err)
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
	_, err = lifecycle.EnterCode(d.Get(id), "", "tarn-north-a", "")
	assert.ErrorContains(t, err, "needs its order code")
	e, err := lifecycle.EnterCode(d.Get(id), "TH-4417", "tarn-north-a", "2026-12-24")
	require.NoError(t, err)
	d, _, err = d.Apply([]design.Edit{e})
	require.NoError(t, err)
	assert.Equal(t, 2, done())
	assert.Equal(t, []string{"accept", "code"}, keys(lifecycle.Steps(d, d.Get(id))))
	d = do(t, do(t, d, id, "accept"), id, "session")
	assert.Equal(t, 4, done())
	assert.Equal(t, design.Ready, design.StateOf(d.Get(id)))
	assert.Equal(t, []string{"gone"}, keys(lifecycle.Steps(d, d.Get(id))))
}

// A peering stands when both halves do.
func TestAPeeringsHalves(t *testing.T) {
	d := trust(t)
	id := d.Find("field-exchange-with-specimen-loans", design.KindPeering)[0].ID
	assert.Equal(t, []string{"half-1", "half-2"}, keys(lifecycle.Steps(d, d.Get(id))))
	d = do(t, d, id, "half-2")
	assert.Equal(t, design.Waiting, design.StateOf(d.Get(id)))
	assert.Equal(t, []string{"half-2"}, keys(lifecycle.Steps(d, d.Get(id))))
	d = do(t, d, id, "half-2")
	assert.Equal(t, design.Ready, design.StateOf(d.Get(id)))
	d = in(t, d, id, design.Refused)
	assert.Equal(t, []string{"begin"}, keys(lifecycle.Steps(d, d.Get(id))))
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
		assert.Equal(t, want, design.StateOf(next.Get(subject)))
		_, err = lifecycle.Answer(next, next.Get(request.ID), true, "once more")
		assert.ErrorContains(t, err, "already")
		if !accept {
			assert.Equal(t, []string{"ask"}, keys(lifecycle.Steps(next, next.Get(subject))))
			again := do(t, next, subject, "ask")
			assert.NotNil(t, lifecycle.OpenRequest(again, subject))
		}
	}
}
