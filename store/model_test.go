package store_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"dravin/core/design"
	"dravin/store"
)

// Whatever is committed, undone and redone, the stored design is the one that
// a stack of designs in memory would have on top.
func TestJournalAgainstAModel(t *testing.T) {
	s, _ := open(t)
	ctx := context.Background()
	rapid.Check(t, func(t *rapid.T) {
		in, err := s.Create(ctx, design.New("model", nil))
		require.NoError(t, err)
		done, undone := []*design.Design{design.New("model", nil)}, []*design.Design(nil)
		position := int64(0)
		for range rapid.IntRange(1, 12).Draw(t, "steps") {
			now := done[len(done)-1]
			switch rapid.IntRange(0, 4).Draw(t, "what") {
			case 0:
				_, err = s.Undo(ctx, in.ID, position, "m")
				if len(done) == 1 {
					require.ErrorIs(t, err, store.ErrNothing)
					continue
				}
				undone, done = append(undone, now), done[:len(done)-1]
			case 1:
				_, err = s.Redo(ctx, in.ID, position, "m")
				if len(undone) == 0 {
					require.ErrorIs(t, err, store.ErrNothing)
					continue
				}
				done, undone = append(done, undone[len(undone)-1]), undone[:len(undone)-1]
			case 2:
				_, err = s.Rekeyed(ctx, in.ID, "m", "look at keys")
			default:
				edits := randomEdits(t, now)
				next, _, refusal := now.Apply(edits)
				_, err = s.Commit(ctx, in.ID, store.ChangeSet{Base: position, Author: "m", Reason: "r", Edits: edits})
				if refusal != nil {
					require.ErrorContains(t, err, refusal.Error())
					continue
				}
				if len(now.EditsTo(next)) == 0 {
					require.NoError(t, err)
					continue
				}
				done, undone = append(done, next), nil
			}
			require.NoError(t, err)
			position++
			stored, at, err := s.Load(ctx, in.ID)
			require.NoError(t, err)
			require.Equal(t, position, at.Position)
			want, err := done[len(done)-1].Write()
			require.NoError(t, err)
			have, err := stored.Write()
			require.NoError(t, err)
			require.Equal(t, string(want), string(have))
		}
		require.NoError(t, s.Delete(ctx, in.ID))
	})
}

// randomEdits puts, renames and removes sites; some of it makes no sense.
func randomEdits(t *rapid.T, d *design.Design) []design.Edit {
	var edits []design.Edit
	for range rapid.IntRange(1, 3).Draw(t, "edits") {
		id := design.ID(fmt.Sprint("s", rapid.IntRange(0, 4).Draw(t, "id")))
		if rapid.IntRange(0, 3).Draw(t, "remove") == 0 {
			edits = append(edits, design.Edit{Op: design.Remove, ID: id})
			continue
		}
		name := rapid.SampledFrom([]string{"Alder", "Birch", "Cedar", "Elder"}).Draw(t, "name")
		edits = append(
			edits,
			design.PutEdit(
				&design.Object{
					ID: id, Kind: design.KindSite, Name: name,
					Body: &design.Site{Note: rapid.StringN(0, 5, 20).Draw(t, "note")},
				},
			),
		)
	}
	return edits
}
