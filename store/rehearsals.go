package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
)

// Rehearsal is a rehearsal of a design as it was at a position.
type Rehearsal struct {
	ID       int64           `db:"id"`
	Design   string          `db:"design"`
	Position int64           `db:"position"`
	Author   string          `db:"author"`
	Asked    json.RawMessage `db:"asked"` // how it is to be played
	File     string          `db:"file"`  // the design file
	State    string          `db:"state"`
	AskedAt  time.Time       `db:"asked_at"`
	BegunAt  *time.Time      `db:"begun_at"`
	BeatAt   *time.Time      `db:"beat_at"`
	EndedAt  *time.Time      `db:"ended_at"`
	Why      string          `db:"why"` // it was broken off
	Report   []byte          `db:"report"`
}

// The states of a rehearsal.
const (
	Waiting   = "waiting"
	Playing   = "playing"
	Done      = "done"
	Cancelled = "cancelled"
	BrokenOff = "broken-off"
)

// Beat is how often whoever plays a rehearsal says that he does, and silent after how long he does not.
const (
	Beat   = 2 * time.Second
	silent = 15 * time.Second
)

// ErrNoRehearsal means that there is no such rehearsal.
var ErrNoRehearsal = errors.New("there is no such rehearsal; it may have been removed with its design")

const rehearsalColumns = `id, design, position, author, asked, '' as file, state, asked_at, begun_at, beat_at, ended_at,
	why, report`

// rehearseArgs are those of the job that plays a rehearsal.
type rehearseArgs struct {
	Rehearsal int64 `json:"rehearsal"`
}

// Kind is the job's name in the database.
func (rehearseArgs) Kind() string { return "rehearse" }

// The queue of rehearsals: each takes much of a machine, so one is played at a time.
const rehearsalQueue = "rehearsals"

// Ask puts a rehearsal into the queue.
func (s *Store) Ask(ctx context.Context, r Rehearsal) (out Rehearsal, err error) {
	client, err := river.NewClient(riverdatabasesql.New(s.writes.DB), &river.Config{})
	if err != nil {
		return out, err
	}
	err = s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		waiting, err := turns(ctx, tx, r)
		if err != nil {
			return err
		}
		if err := tx.GetContext(ctx, &out, `
			insert into rehearsals (design, position, author, asked, file) values ($1, $2, $3, $4, $5)
			returning `+rehearsalColumns, r.Design, r.Position, r.Author, r.Asked, r.File); err != nil {
			return err
		}
		_, err = client.InsertTx(ctx, tx.Tx, rehearseArgs{out.ID}, &river.InsertOpts{
			Queue: rehearsalQueue, MaxAttempts: 1, Priority: 1 + waiting,
		})
		return err
	})
	return out, err
}

// mostTurns is how many rehearsals of one author may wait, and keeps how many of a design are kept.
const (
	mostTurns = 3
	keeps     = 20
)

// turns is how many rehearsals of an author wait already: his next goes behind the first of others. It lets go of the
// oldest of the design, with what happened in them.
func turns(ctx context.Context, tx *sqlx.Tx, r Rehearsal) (waiting int, err error) {
	if err := tx.GetContext(
		ctx, &waiting, `select count(*) from rehearsals where author = $1 and state = 'waiting'`, r.Author,
	); err != nil {
		return 0, err
	}
	if waiting >= mostTurns {
		return 0, &Unavailable{
			Why:  fmt.Sprintf("%d rehearsals that you have asked for wait already", waiting),
			Want: "cancel one, or wait until one has been played",
		}
	}
	_, err = tx.ExecContext(ctx, `
		delete from rehearsals where design = $1 and state not in ('waiting', 'playing') and id not in (
			select id from rehearsals where design = $1 order by id desc limit $2)`, r.Design, keeps-1)
	return waiting, err
}

// Rehearsals are the last of a design, the newest first.
func (s *Store) Rehearsals(ctx context.Context, id string) (out []Rehearsal, err error) {
	if err := s.breakOff(ctx); err != nil {
		return nil, err
	}
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		return db.SelectContext(ctx, &out, `
			select `+rehearsalColumns+` from rehearsals where design = $1 order by id desc limit $2`, id, keeps)
	})
	return out, err
}

// Rehearsal is one of a design, with its file and what has happened in it since an event.
func (s *Store) Rehearsal(ctx context.Context, design string, id int64, after int) (
	r Rehearsal, events []json.RawMessage, err error,
) {
	if err := s.breakOff(ctx); err != nil {
		return r, nil, err
	}
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		err := db.GetContext(ctx, &r, `
			select `+rehearsalColumns+` from rehearsals where design = $1 and id = $2`, design, id)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNoRehearsal
		}
		if err != nil {
			return err
		}
		return db.SelectContext(ctx, &events, `
			select event from rehearsal_events where rehearsal = $1 and n > $2 order by n limit 2000`, id, after)
	})
	return r, events, err
}

// breakOff ends what nobody plays any more: its server has ended.
func (s *Store) breakOff(ctx context.Context) error {
	return s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `
			update rehearsals set state = 'broken-off', ended_at = now(),
				why = 'the server that played it has ended; nothing is left of it, so rehearse again'
			where state = 'playing' and beat_at < now() - $1 * interval '1 second'`, silent.Seconds())
		return err
	})
}

// Cancel ends a rehearsal that waits or is played; whoever plays it sees it at the next beat.
func (s *Store) Cancel(ctx context.Context, design string, id int64) error {
	return s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `
			update rehearsals set state = 'cancelled', ended_at = now()
			where design = $1 and id = $2 and state in ('waiting', 'playing')`, design, id)
		return err
	})
}

// Player plays rehearsals.
type Player func(ctx context.Context, r Rehearsal, tell func(event any)) (report any, err error)

// Play plays what is in the queue, one at a time, until ctx ends.
func (s *Store) Play(ctx context.Context, play Player) error {
	workers := river.NewWorkers()
	river.AddWorker(workers, &player{store: s, play: play})
	client, err := river.NewClient(riverdatabasesql.New(s.writes.DB), &river.Config{
		Queues:            map[string]river.QueueConfig{rehearsalQueue: {MaxWorkers: 1}},
		Workers:           workers,
		JobTimeout:        time.Hour,
		FetchPollInterval: time.Second,
		Logger:            quietLog,
	})
	if err != nil {
		return err
	}
	if err := client.Start(ctx); err != nil {
		return err
	}
	<-ctx.Done()
	ending, end := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer end()
	return client.StopAndCancel(ending)
}

// player is the job.
type player struct {
	river.WorkerDefaults[rehearseArgs]
	store *Store
	play  Player
}

// Work plays one rehearsal.
func (p *player) Work(ctx context.Context, job *river.Job[rehearseArgs]) error {
	s, id := p.store, job.Args.Rehearsal
	var r Rehearsal
	err := s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		return tx.GetContext(ctx, &r, `
			update rehearsals set state = 'playing', begun_at = now(), beat_at = now()
			where id = $1 and state = 'waiting'
			returning id, design, position, author, asked, file, state, asked_at, begun_at, beat_at, ended_at, why, report`, id)
	})
	if errors.Is(err, sql.ErrNoRows) {
		return nil // it was cancelled, or its design is gone
	}
	if err != nil {
		return err
	}
	playing, end := context.WithCancel(ctx)
	defer end()
	b := &book{store: s, rehearsal: id, end: end}
	kept := make(chan struct{})
	go func() { defer close(kept); b.keep(playing) }()
	report, err := p.play(playing, r, b.tell)
	end()
	<-kept
	return b.close(context.WithoutCancel(ctx), ctx.Err() != nil, report, err)
}
