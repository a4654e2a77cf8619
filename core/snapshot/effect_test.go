package snapshot_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/core/snapshot"
	"dravin/core/status"
	"dravin/demo"
)

// What a failure and a removal would do: entries by table, and flows, also those
// of what goes.
func TestEffects(t *testing.T) {
	d, err := design.Read(demo.Thistledown)
	require.NoError(t, err)
	s := snapshot.Of(d, status.Condition{})
	stops := func(e snapshot.Effect, from, to string) bool {
		return slices.ContainsFunc(
			e.Flows, func(f snapshot.FlowChange) bool { return f.From == from && f.To == to && !f.Works },
		)
	}
	thing, err := status.ParseThing(d, "saltmarsh-station-circuit")
	require.NoError(t, err)
	e := snapshot.EffectOf(s, s.Without(thing))
	assert.True(t, stops(e, "Saltmarsh Station tide laboratory", "herbarium scans racks a"))
	assert.Contains(t, e.Parties, d.Find("millrace", design.KindEdgeRouter)[0].ID)

	after, err := s.Try(d.Removal(d.Find("seed-logs", design.KindNetwork)[0].ID).Edits)
	require.NoError(t, err)
	e = snapshot.EffectOf(s, after)
	assert.True(t, stops(e, "Thornfield Station weather room", "seed logs logs a"), "what goes takes its flows along")
	assert.Empty(t, snapshot.EffectOf(s, s).Tables)
}
