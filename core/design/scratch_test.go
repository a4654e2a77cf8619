package design_test

import (
	"fmt"
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	. "dravin/core/design"
)

// A design that is changed in place is the one that is made of the same objects, however
// senseless the changes, and what was asked for before stays as it was.
func TestAScratchIsWhatItsObjectsMake(t *testing.T) {
	start := thistledown(t)
	before := slices.Clone(start.All())
	rapid.Check(t, func(t *rapid.T) {
		s := start.Scratch()
		d := s.Design()
		objects := map[ID]*Object{}
		for _, o := range start.All() {
			objects[o.ID] = o
		}
		for range rapid.IntRange(1, 5).Draw(t, "batches") {
			held := map[Kind][]*Object{"": d.All(), KindSite: d.Of(KindSite), KindLAN: d.Of(KindLAN)}
			as := map[Kind][]*Object{
				"": slices.Clone(d.All()), KindSite: slices.Clone(d.Of(KindSite)), KindLAN: slices.Clone(d.Of(KindLAN)),
			}
			edits := rapid.SliceOfN(
				rapid.Custom(func(t *rapid.T) Edit { return randomEdit(t, before) }), 1, 5,
			).Draw(t, "edits")
			s.Sketch(edits)
			require.Equal(t, as, held)

			for _, e := range edits {
				if e.Op == Remove {
					delete(objects, e.ID)
				} else {
					objects[e.ID] = e.Object
				}
			}
			want := New(d.Name, slices.Collect(maps.Values(objects)))
			require.Equal(t, want.All(), d.All())
			require.Equal(t, want.Len(), d.Len())
			for _, k := range Kinds() {
				require.Equal(t, want.Of(k), d.Of(k))
			}
			for id, o := range objects {
				require.Same(t, o, d.Get(id))
				require.Equal(t, want.Path(id), d.Path(id))
				require.Equal(t, want.Inside(o.Parent), d.Inside(o.Parent))
				require.Equal(t, want.Inside(id), d.Inside(id))
				require.Equal(t, want.Referring(id), d.Referring(id))
			}
		}
	})
	require.Equal(t, before, start.All())
}

// randomEdit renames, moves, removes or adds something, or puts another's body into it.
func randomEdit(t *rapid.T, among []*Object) Edit {
	o := rapid.SampledFrom(among).Draw(t, "object")
	other := rapid.SampledFrom(among).Draw(t, "other")
	c := *o
	switch rapid.IntRange(0, 5).Draw(t, "what") {
	case 0:
		return Edit{Op: Remove, ID: o.ID}
	case 1:
		c.Name = rapid.StringMatching(`[A-z]{1,3}[0-9]{0,2}`).Draw(t, "name")
	case 2:
		c.Parent = rapid.SampledFrom([]ID{"", other.ID, o.ID, "nowhere"}).Draw(t, "parent")
	case 3:
		if other.Kind == o.Kind {
			c.Body = other.Body
		}
	default: // perhaps before what it stands in, which may be added later
		c.ID = ID(fmt.Sprint("new", rapid.IntRange(0, 5).Draw(t, "id")))
		c.Parent = rapid.SampledFrom([]ID{"", o.Parent, "new1", "new2"}).Draw(t, "in")
	}
	return PutEdit(&c)
}
