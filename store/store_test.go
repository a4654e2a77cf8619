package store_test

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/design"
	"dravin/demo"
	"dravin/store"
	"dravin/store/cluster"
)

var pg *cluster.Cluster

func TestMain(m *testing.M) {
	if os.Getenv("DRAVIN_WRITER") != "" {
		writeForEver()
	}
	dir, err := os.MkdirTemp("", "dravin-store-*")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err == nil {
		pg, err = cluster.Start(context.Background(), filepath.Join(dir, "pg"))
	}
	if err != nil {
		fmt.Println("the store can not be tested:", err)
		os.Exit(1)
	}
	code := m.Run()
	_ = pg.Stop(context.Background())
	_ = cluster.Remove(filepath.Join(dir, "pg"))
	_ = os.RemoveAll(dir)
	os.Exit(code)
}

func open(t *testing.T) (*store.Store, string) {
	s, err := store.Open(t.Context(), pg.URL)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s, create(t, s)
}

// create stores the two gardens.
func create(t *testing.T, s *store.Store) string {
	d, err := design.Read(demo.TwoGardens)
	require.NoError(t, err)
	in, err := s.Create(t.Context(), d)
	require.NoError(t, err)
	return in.ID
}

func text(t *testing.T, s *store.Store, id string) string {
	d, _, err := s.Load(t.Context(), id)
	require.NoError(t, err)
	out, err := d.Write()
	require.NoError(t, err)
	return string(out)
}

func site(name string) design.Edit {
	return design.PutEdit(&design.Object{ID: design.ID(name), Kind: design.KindSite, Name: name, Body: &design.Site{}})
}

func TestUndoAndRedoWalkTheJournal(t *testing.T) {
	s, id := open(t)
	ctx := t.Context()
	states := []string{text(t, s, id)}
	for n := range int64(3) {
		in, err := s.Commit(
			ctx, id,
			store.ChangeSet{
				Base: n, Author: "a", Reason: fmt.Sprint("step ", n),
				Edits: []design.Edit{site(fmt.Sprint("site ", n))},
			},
		)
		require.NoError(t, err)
		assert.Equal(t, n+1, in.Position)
		states = append(states, text(t, s, id))
	}
	position := int64(3)
	step := func(do func(context.Context, string, int64, string) (store.Info, error), want string) {
		in, err := do(ctx, id, position, "a")
		require.NoError(t, err)
		position = in.Position
		assert.Equal(t, want, text(t, s, id))
	}
	for _, want := range []string{states[2], states[1], states[0]} {
		step(s.Undo, want)
	}
	_, err := s.Undo(ctx, id, position, "a")
	require.ErrorIs(t, err, store.ErrNothing)
	step(s.Redo, states[1])
	step(s.Redo, states[2])
	undo, redo, err := s.Steps(ctx, id, "a")
	require.NoError(t, err)
	assert.Equal(t, [2]string{"step 1", "step 2"}, [2]string{undo, redo})
	_, err = s.Commit(
		ctx, id,
		store.ChangeSet{Base: position, Author: "a", Reason: "another way", Edits: []design.Edit{site("other")}},
	)
	require.NoError(t, err)
	_, err = s.Redo(ctx, id, position+1, "a")
	require.ErrorIs(t, err, store.ErrNothing, "a new edit ends what could be redone")
}

func TestStaleWriterLearnsWhatChanged(t *testing.T) {
	s, id := open(t)
	var wait sync.WaitGroup
	outcomes := make([]error, 8)
	for n := range outcomes {
		wait.Go(func() {
			_, outcomes[n] = s.Commit(
				context.Background(), id,
				store.ChangeSet{
					Base: 0, Author: "a", Reason: fmt.Sprint("writer ", n),
					Edits: []design.Edit{site(fmt.Sprint("site ", n))},
				},
			)
		})
	}
	wait.Wait()
	won := 0
	for _, err := range outcomes {
		if err == nil {
			won++
			continue
		}
		var conflict *store.Conflict
		require.ErrorAs(t, err, &conflict)
		assert.Equal(t, int64(1), conflict.Position)
		require.Len(t, conflict.Since, 1)
		assert.Contains(t, conflict.Since[0].Reason, "writer")
	}
	assert.Equal(t, 1, won, "exactly one of the simultaneous writers")
}

func TestRefusedChangeLeavesNoTrace(t *testing.T) {
	s, id := open(t)
	before := text(t, s, id)
	_, err := s.Commit(
		t.Context(), id,
		store.ChangeSet{
			Base: 0, Author: "a", Reason: "half good", Edits: []design.Edit{site("fine"), site("Marrow Hill")},
		},
	)
	var problems design.Problems
	require.ErrorAs(t, err, &problems)
	assert.Equal(t, before, text(t, s, id))
	list, err := s.History(t.Context(), id, 0, 0)
	require.NoError(t, err)
	assert.Empty(t, list)
}

// writeForEver is the other process of the test below: it commits and says so,
// until it is killed.
func writeForEver() {
	ctx := context.Background()
	s, err := store.Open(ctx, os.Getenv("DRAVIN_WRITER"))
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	for n := int64(0); ; n++ {
		edits := []design.Edit{site(fmt.Sprint("a", n)), site(fmt.Sprint("b", n))}
		in, err := s.Commit(
			ctx, os.Getenv("DRAVIN_DESIGN"), store.ChangeSet{Base: n, Author: "w", Reason: "write", Edits: edits},
		)
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		fmt.Println(in.Position)
	}
}

func TestKilledWriterLosesNothingAcknowledged(t *testing.T) {
	s, _ := open(t)
	for round := range faults(3) {
		id := create(t, s)
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), "DRAVIN_WRITER="+pg.URL, "DRAVIN_DESIGN="+id)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		acknowledged := 0
		lines := bufio.NewScanner(out)
		for acknowledged < 3+round%20 && lines.Scan() {
			_, err := fmt.Sscan(lines.Text(), &acknowledged)
			require.NoError(t, err, lines.Text())
		}
		require.NoError(t, cmd.Process.Kill())
		for lines.Scan() {
			_, _ = fmt.Sscan(lines.Text(), &acknowledged)
		}
		_ = cmd.Wait()
		d, in, err := s.Load(t.Context(), id)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, in.Position, int64(acknowledged))
		for n := range in.Position {
			assert.NotNil(t, d.Get(design.ID(fmt.Sprint("a", n))))
			assert.NotNil(t, d.Get(design.ID(fmt.Sprint("b", n))))
		}
		assert.Len(t, d.Of(design.KindSite), int(2+2*in.Position), "no half of a change")
		list, err := s.History(t.Context(), id, 0, 0)
		require.NoError(t, err)
		assert.Len(t, list, int(in.Position))
	}
}

func TestRestartedDatabaseIsReconnectedTo(t *testing.T) {
	s, id := open(t)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	heard, lost := make(chan store.Notice, 10), make(chan error, 10)
	listens := make(chan struct{}, 10)
	listening := func() { listens <- struct{}{} }
	go store.Listen(ctx, pg.URL, func(n store.Notice) { heard <- n }, listening, func(err error) {
		select {
		case lost <- err:
		default:
		}
	})
	commit := func(base int64) error {
		_, err := s.Commit(
			ctx, id,
			store.ChangeSet{Base: base, Author: "a", Reason: "r", Edits: []design.Edit{site(fmt.Sprint("s", base))}},
		)
		return err
	}
	hears := func() bool {
		select {
		case n := <-heard:
			return n.Design == id
		case <-time.After(100 * time.Millisecond):
			return false
		}
	}
	<-listens
	require.NoError(t, commit(0))
	require.Eventually(t, hears, 2*time.Minute, time.Millisecond)
	require.NoError(t, pg.Kill(ctx))
	require.Error(t, commit(1), "nobody acknowledges while the database is down")
	require.NoError(t, pg.Restart(ctx))
	require.Eventually(t, func() bool { return commit(1) == nil }, 2*time.Minute, 100*time.Millisecond)
	<-lost
	require.Eventually(t, func() bool {
		in, err := s.Info(ctx, id)
		return err == nil && commit(in.Position) == nil && hears()
	}, 2*time.Minute, 200*time.Millisecond, "notices come again")
}

// Undo takes back what its author has done, and is refused where another has changed the same since.
func TestUndoLeavesWhatOthersDid(t *testing.T) {
	s, id := open(t)
	ctx := t.Context()
	position := int64(0)
	commit := func(author, reason string, edits ...design.Edit) {
		in, err := s.Commit(ctx, id, store.ChangeSet{Base: position, Author: author, Reason: reason, Edits: edits})
		require.NoError(t, err)
		position = in.Position
	}
	step := func(do func(context.Context, string, int64, string) (store.Info, error), author string) error {
		in, err := do(ctx, id, position, author)
		if err == nil {
			position = in.Position
		}
		return err
	}
	yew, oak := site("yew"), site("oak")
	commit("a", "make yew", yew)
	commit("b", "make oak", oak)
	require.NoError(t, step(s.Undo, "a"))
	assert.NotContains(t, text(t, s, id), "yew")
	assert.Contains(t, text(t, s, id), "oak")
	require.NoError(t, step(s.Redo, "a"))
	require.ErrorIs(t, step(s.Undo, "c"), store.ErrNothing)
	noted := design.Edited(yew.Object, func(x *design.Site) { x.Note = "old" })
	commit("b", "note yew", design.PutEdit(noted))
	was := text(t, s, id)
	require.ErrorContains(t, step(s.Undo, "a"), `b has changed yew since: "note yew"`)
	assert.Equal(t, was, text(t, s, id), "nothing is half undone")
	require.NoError(t, step(s.Undo, "b"))
	require.NoError(t, step(s.Undo, "a"), "nobody else's change of it is in force")
	undo, redo, err := s.Steps(ctx, id, "a")
	require.NoError(t, err)
	assert.Equal(t, [2]string{"", "make yew"}, [2]string{undo, redo})
}
