package store_test

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/store"
)

// faults is how often a fault is tried: a few times in the suite, as often as
// FAULTS says in make faults.
func faults(few int) int {
	if n, err := strconv.Atoi(os.Getenv("FAULTS")); err == nil {
		return n
	}
	return few
}

func commit(t *testing.T, s *store.Store, id, name string) error {
	in, err := s.Info(t.Context(), id)
	if err != nil {
		return err
	}
	_, err = s.Commit(
		t.Context(), id, store.ChangeSet{Base: in.Position, Author: "a", Reason: "r", Edits: []design.Edit{site(name)}},
	)
	return err
}

func TestPositionsThatNobodyHasSeenAreRefused(t *testing.T) {
	s, id := open(t)
	require.NoError(t, commit(t, s, id, "one"))
	for _, base := range []int64{-1, -1 << 63, 2, 1<<63 - 1} {
		for name, do := range map[string]func() error{
			"commit": func() error {
				_, err := s.Commit(
					t.Context(), id,
					store.ChangeSet{Base: base, Author: "a", Reason: "r", Edits: []design.Edit{site("two")}},
				)
				return err
			},
			"undo": func() error { _, err := s.Undo(t.Context(), id, base, "a"); return err },
			"redo": func() error { _, err := s.Redo(t.Context(), id, base, "a"); return err },
		} {
			var problems design.Problems
			require.ErrorAs(t, do(), &problems, "%s at %d", name, base)
			assert.Equal(t, "base", problems[0].Field)
			assert.Contains(t, problems[0].Why, "it is at 1")
		}
	}
	d, in, err := s.Load(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, int64(1), in.Position)
	assert.Nil(t, d.Get("two"))
}

func TestDeletingIsTakenBack(t *testing.T) {
	s, _, id, _ := alone(t)
	before := text(t, s, id)
	require.NoError(t, s.Delete(t.Context(), id))
	_, err := s.Info(t.Context(), id)
	require.ErrorIs(t, err, store.ErrNotFound)
	_, err = s.History(t.Context(), id, 0, 0)
	require.ErrorIs(t, err, store.ErrNotFound)
	require.ErrorIs(t, commit(t, s, id, "late"), store.ErrNotFound)
	require.ErrorIs(t, s.Delete(t.Context(), id), store.ErrNotFound)
	list, err := s.List(t.Context())
	require.NoError(t, err)
	assert.Empty(t, list)
	kept, err := s.Deleted(t.Context())
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.WithinDuration(t, time.Now(), *kept[0].DeletedAt, time.Minute)
	_, err = s.Restore(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, before, text(t, s, id))
	_, err = s.Restore(t.Context(), id)
	require.ErrorIs(t, err, store.ErrNotFound)
}

// Whatever is committed while the listening connection is cut, whoever shows a
// design looks again once it listens again.
func TestWhatACutListenerMissesIsLookedAtAgain(t *testing.T) {
	s, url, id, _ := alone(t)
	admin, err := sqlx.Open("pgx", url)
	require.NoError(t, err)
	defer admin.Close()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	told, again := make(chan store.Notice, 100), make(chan int64, 100)
	go store.Listen(ctx, url, func(n store.Notice) { told <- n }, func() {
		in, err := s.Info(ctx, id) // what a browser does that looks again
		if err == nil {
			again <- in.Position
		}
	}, func(error) {})
	<-again
	missed := 0
	for n := range int64(faults(10)) {
		admin.MustExec(
			`select pg_terminate_backend(pid) from pg_stat_activity where query = 'listen dravin' and datname = current_database()`,
		)
		require.NoError(t, commit(t, s, id, fmt.Sprint("s", n)))
		seen := int64(0)
		for deadline := time.After(2 * time.Minute); seen <= n; {
			select {
			case p := <-again:
				seen = max(seen, p)
			case notice := <-told:
				seen = max(seen, notice.Position)
			case <-deadline:
				missed++
				seen = n + 1
			}
		}
	}
	assert.Zero(t, missed)
}

// A long lock on one design stops that one, with a clear error; all others are
// written and read as ever, however many want the one that is held.
func TestAHeldDesignStopsNoOther(t *testing.T) {
	s, url, held, _ := alone(t)
	other := create(t, s)
	admin, err := sqlx.Open("pgx", url)
	require.NoError(t, err)
	defer admin.Close()
	tx := admin.MustBegin()
	tx.MustExec(`select * from designs where id = $1 for update`, held)
	const many = 40
	outcomes := make(chan error, many)
	for n := range many {
		go func() { outcomes <- commit(t, s, held, fmt.Sprint("s", n)) }()
	}
	require.Eventually(t, func() bool {
		var waiting int
		err := admin.Get(&waiting, `select count(*) from pg_stat_activity
			where wait_event_type = 'Lock' and datname = current_database()`)
		return err == nil && waiting > 0
	}, time.Minute, 5*time.Millisecond, "they want the lock")
	for n := range 20 {
		start := time.Now()
		require.NoError(t, commit(t, s, other, fmt.Sprint("o", n)))
		_, _, err := s.Load(t.Context(), held)
		require.NoError(t, err)
		assert.Less(t, time.Since(start), 3*time.Second, "it did not wait for the lock")
	}
	for range many {
		var unavailable *store.Unavailable
		if assert.ErrorAs(t, <-outcomes, &unavailable) {
			assert.NotEmpty(t, unavailable.Want)
		}
	}
	require.NoError(t, tx.Rollback())
	require.NoError(t, commit(t, s, held, "after"))
}

// A database that is frozen, as a hanging machine would be, is given up on soon,
// and asked again when it answers.
func TestAFrozenDatabaseIsNotWaitedFor(t *testing.T) {
	s, id := open(t)
	thaw, err := pg.Freeze()
	require.NoError(t, err)
	defer thaw()
	outcomes := make(chan error, 30)
	start := time.Now()
	for n := range 10 {
		go func() { _, err := s.Info(context.Background(), id); outcomes <- err }()
		go func() { _, _, err := s.Load(context.Background(), id); outcomes <- err }()
		go func() {
			_, err := s.Commit(
				context.Background(), id,
				store.ChangeSet{Author: "a", Reason: "r", Edits: []design.Edit{site(fmt.Sprint("s", n))}},
			)
			outcomes <- err
		}()
	}
	for range 30 {
		var unavailable *store.Unavailable
		if assert.ErrorAs(t, <-outcomes, &unavailable) {
			assert.Contains(t, unavailable.Error(), "; ")
		}
	}
	assert.Less(t, time.Since(start), 20*time.Second)
	thaw()
	require.Eventually(t, func() bool { return commit(t, s, id, "thawed") == nil }, 2*time.Minute, 100*time.Millisecond)
	d, in, err := s.Load(t.Context(), id)
	require.NoError(t, err)
	assert.Len(t, d.Of(design.KindSite), int(in.Position)+2, "what was given up on left no half")
}
