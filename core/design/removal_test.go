package design_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/demo"
)

func TestRemovalTakesAlongWhatCanNotBeWithout(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	titles := func(list []design.Effect) (out []string) {
		for _, e := range list {
			out = append(out, string(e.Kind)+" "+e.Title)
		}
		return out
	}
	r := d.Removal(d.Find("peatside-nursery")[0].ID)
	assert.Contains(t, titles(r.Goes), "link Peatside to Marrow Hill")
	assert.Contains(t, titles(r.Goes), "tunnel tunnel 1")
	assert.Contains(t, titles(r.Goes), "intent logger polls the controller")
	assert.Equal(
		t, []string{
			"reservation controllers' own network", "names gardens.example", "group glasshouse controllers",
		}, titles(r.Changes), "they name a party that they can do without",
	)

	r = d.Removal(d.Find("catalogue/cloud-gateway")[0].ID)
	assert.Equal(
		t, []string{"table catalogue table a", "table catalogue table b"}, titles(r.Changes),
		"only their entries through it go",
	)
}

func TestAnythingCanBeRemoved(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	for _, o := range d.All() {
		next, back, err := d.Apply(d.Removal(o.ID).Edits)
		require.NoError(t, err, d.Path(o.ID))
		assert.Nil(t, next.Get(o.ID))
		again, _, err := next.Replay(back)
		require.NoError(t, err)
		assert.Empty(t, d.EditsTo(again), d.Path(o.ID))
	}
}
