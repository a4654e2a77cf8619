package store_test

import (
	"context"
	"encoding/json"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/store"
)

// asked is a rehearsal of a new design that waits.
func asked(t *testing.T, s *store.Store) store.Rehearsal {
	in, err := s.Create(t.Context(), design.New("a lodge", nil))
	require.NoError(t, err)
	r, err := s.Ask(t.Context(), store.Rehearsal{
		Design: in.ID, Author: "somebody", Asked: json.RawMessage(`{}`), File: "dravin: 1",
	})
	require.NoError(t, err)
	assert.Equal(t, store.Waiting, r.State)
	return r
}

// becomes waits until a rehearsal is in a state.
func becomes(t *testing.T, s *store.Store, r store.Rehearsal, state string) (
	now store.Rehearsal, events []json.RawMessage,
) {
	require.Eventually(t, func() bool {
		var err error
		now, events, err = s.Rehearsal(context.Background(), r.Design, r.ID, 0)
		return err == nil && now.State == state
	}, 40*time.Second, 50*time.Millisecond, "it is %s", now.State)
	return now, events
}

func TestRehearsalsArePlayedCancelledAndBrokenOff(t *testing.T) {
	s, _ := open(t)
	playing, end := context.WithCancel(t.Context())
	played := make(chan struct{})
	hold := make(chan struct{})
	go func() {
		defer close(played)
		assert.NoError(t, s.Play(playing, func(ctx context.Context, r store.Rehearsal, tell func(any)) (any, error) {
			assert.Equal(t, "dravin: 1", r.File)
			tell(map[string]string{"name": "begun"})
			select {
			case <-hold:
				return map[string]int{"seconds": 1}, nil
			case <-ctx.Done():
				return nil, errors.New("it was ended")
			}
		}))
	}()

	first := asked(t, s)
	becomes(t, s, first, store.Playing)
	second := asked(t, s)
	require.NoError(t, s.Cancel(t.Context(), second.Design, second.ID))
	hold <- struct{}{}
	now, events := becomes(t, s, first, store.Done)
	assert.JSONEq(t, `{"seconds": 1}`, string(now.Report))
	assert.Len(t, events, 1)
	assert.NotNil(t, now.EndedAt)
	becomes(t, s, second, store.Cancelled)

	third := asked(t, s)
	becomes(t, s, third, store.Playing)
	require.NoError(t, s.Cancel(t.Context(), third.Design, third.ID))
	now, _ = becomes(t, s, third, store.Cancelled)
	assert.Empty(t, now.Why)

	fourth := asked(t, s)
	becomes(t, s, fourth, store.Playing)
	end()
	<-played
	now, _ = becomes(t, s, fourth, store.BrokenOff)
	assert.Contains(t, now.Why, "rehearse again")
	_, _, err := s.Rehearsal(t.Context(), fourth.Design, fourth.ID+100, 0)
	assert.ErrorIs(t, err, store.ErrNoRehearsal)

	// What waited while nobody played is taken up by the next who does.
	fifth := asked(t, s)
	again, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = s.Play(again, func(context.Context, store.Rehearsal, func(any)) (any, error) {
			return nil, errors.New("no room")
		})
	}()
	now, _ = becomes(t, s, fifth, store.BrokenOff)
	assert.Equal(t, "no room", now.Why)
	stop()
	<-done
}

// A tick stands with its change, or not at all.
func TestTicksStandWithTheirChange(t *testing.T) {
	s, _ := open(t)
	in, err := s.Create(t.Context(), design.New("a lodge", nil))
	require.NoError(t, err)
	tick := &store.Tick{Step: "a/b/1/end", Title: "Fern Lodge: load the files", Author: "somebody"}
	next, err := s.Commit(t.Context(), in.ID, store.ChangeSet{Base: in.Position, Reason: "Done", Tick: tick})
	require.NoError(t, err)
	_, err = s.Commit(t.Context(), in.ID, store.ChangeSet{
		Base: in.Position, Reason: "Done", Tick: &store.Tick{Step: "late", Title: "late", Author: "somebody"},
	})
	var conflict *store.Conflict
	require.ErrorAs(t, err, &conflict)
	list, err := s.Ticks(t.Context(), in.ID)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, tick.Title, list[0].Title)
	assert.Equal(t, next.Position, list[0].Position)
}
