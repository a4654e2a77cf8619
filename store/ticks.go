package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"dravin/core/change"
	"dravin/core/design"
	"dravin/core/runbook"
)

// Tick says that somebody has done a step of the runbook.
type Tick struct {
	Step     string    `db:"step" json:"step"`
	N        int       `db:"n" json:"n" doc:"Its number; 0 of one that was done before steps kept theirs."`
	Title    string    `db:"title" json:"title"`
	Author   string    `db:"author" json:"author"`
	At       time.Time `db:"at" json:"at"`
	Position int64     `db:"position" json:"position"` // of the journal, with which it was done

	// Box is that of one's own at which it was done: it has its files by then. Owed is what others have that follow only
	// later. Book is the order of work once it is done, and Change that of which it is. None is told.
	Box    design.ID      `db:"-" json:"-"`
	Owed   runbook.Loaded `db:"-" json:"-"`
	Change change.ID      `db:"-" json:"-"`
	Book   Book           `db:"-" json:"-"`
}

// Book is an order of work as it was handed out.
type Book struct {
	Position int64 // of the journal, at which it is what is to be done; another: it is to be written anew
	Text     []byte
}

func (t *Tick) keep(ctx context.Context, tx *sqlx.Tx, id string, position int64, works bool) error {
	before, err := loaded(ctx, tx, id)
	if err != nil {
		return err
	}
	for box, has := range t.Owed {
		text, err := json.Marshal(has)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(
			ctx, `insert into loaded (design, box, files) values ($1, $2, $3) on conflict do nothing`, id, box, text,
		); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, `delete from loaded where design = $1 and box = $2`, id, t.Box); err != nil {
		return err
	}
	if err := keepBook(ctx, tx, id, t.Change, t.Book); err != nil {
		return err
	}
	had, err := json.Marshal(before)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `
		insert into ticks (design, step, title, author, position, n, loaded, work) values ($1, $2, $3, $4, $5, $6, $7, $8)
		on conflict (design, step) do update set title = excluded.title, author = excluded.author, at = now(),
			position = excluded.position, n = excluded.n, loaded = excluded.loaded, work = excluded.work`,
		id, t.Step, t.Title, t.Author, position, t.N, had, works)
	return err
}

// Untick takes back that a step is done: what it said of what is there is not said any more. Errors: [*Conflict],
// [ErrNotFound], and [design.Problems] where somebody has changed the same since.
func (s *Store) Untick(ctx context.Context, id string, base int64, author, step string) (Info, error) {
	return s.step(ctx, id, &base, func(ctx context.Context, tx *sqlx.Tx, in Info, d *design.Design) error {
		var t struct {
			Tick
			Loaded []byte
			Work   bool
		}
		if err := tx.GetContext(ctx, &t, `
			select step, n, title, author, at, position, loaded, work from ticks where design = $1 and step = $2`,
			id, step); errors.Is(err, sql.ErrNoRows) {
			return ErrNotFound
		} else if err != nil {
			return err
		}
		var edits, inverse []design.Edit
		if t.Work {
			var err error
			if edits, inverse, err = untickEdits(ctx, tx, id, d, t.Position); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `delete from ticks where design = $1 and step = $2`, id, step); err != nil {
			return err
		}
		if err := restoreLoaded(ctx, tx, id, t.Loaded); err != nil {
			return err
		}
		return record(
			ctx, tx, id, in.Position, author, fmt.Sprintf("Not done: %s", t.Title), actUndo, &t.Position, edits, inverse,
		)
	})
}

// untickEdits takes the edits of a step back.
func untickEdits(
	ctx context.Context, tx *sqlx.Tx, id string, d *design.Design, position int64,
) (edits, inverse []design.Edit, err error) {
	var row journalRow
	if err := tx.GetContext(ctx, &row, `
		select position, reason, edits, inverse from changes where design = $1 and position = $2 and state = 'done'`,
		id, position); errors.Is(err, sql.ErrNoRows) {
		return nil, nil, design.Problems{{Field: "step", Why: "it was undone already", Want: "look again"}}
	} else if err != nil {
		return nil, nil, err
	}
	if edits, err = row.todo(id, actUndo); err != nil {
		return nil, nil, err
	}
	if err := untouched(ctx, tx, id, d, row, actUndo); err != nil {
		return nil, nil, err
	}
	next, inverse, err := d.Replay(edits)
	if err != nil {
		return nil, nil, err
	}
	if err := write(ctx, tx, id, next, edits); err != nil {
		return nil, nil, err
	}
	_, err = tx.ExecContext(
		ctx, `update changes set state = 'dropped' where design = $1 and position = $2`, id, position,
	)
	return edits, inverse, err
}

// Ticks are those of a design, the last first.
func (s *Store) Ticks(ctx context.Context, id string) (out []Tick, err error) {
	out = []Tick{}
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		return db.SelectContext(ctx, &out, `
			select step, n, title, author, at, position from ticks where design = $1 order by at desc limit 1000`, id)
	})
	return out, err
}

// Loaded is what boxes of one's own have, where this is something else than the design as built says.
func (s *Store) Loaded(ctx context.Context, id string) (out runbook.Loaded, err error) {
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		out, err = loaded(ctx, db, id)
		return err
	})
	return out, err
}

func loaded(ctx context.Context, q sqlx.QueryerContext, id string) (runbook.Loaded, error) {
	var rows []struct {
		Box   design.ID
		Files []byte
	}
	if err := sqlx.SelectContext(ctx, q, &rows, `select box, files from loaded where design = $1`, id); err != nil {
		return nil, err
	}
	out := runbook.Loaded{}
	for _, r := range rows {
		var has runbook.Has
		if err := json.Unmarshal(r.Files, &has); err != nil {
			return nil, err
		}
		out[r.Box] = has
	}
	return out, nil
}

// restoreLoaded brings back what boxes had before a step.
func restoreLoaded(ctx context.Context, tx *sqlx.Tx, id string, text []byte) error {
	if _, err := tx.ExecContext(ctx, `delete from loaded where design = $1`, id); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `
		insert into loaded (design, box, files) select $1, key, value from jsonb_each($2::jsonb)`, id, text)
	return err
}

// BookOf is the order of work as it was handed out last, of all work or of a change; none: it was never.
func (s *Store) BookOf(ctx context.Context, id string, of change.ID) (out Book, err error) {
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		err := db.QueryRowxContext(
			ctx, `select position, book from books where design = $1 and change = $2`, id, of,
		).Scan(&out.Position, &out.Text)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		return err
	})
	return out, err
}

// OnlyTicks reports whether nothing but steps was done to a design after a position, or taken back.
func (s *Store) OnlyTicks(ctx context.Context, id string, after int64) (only bool, err error) {
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		return db.GetContext(ctx, &only, `
			select not exists (select 1 from changes c where design = $1 and position > $2
				and not (act = 'undo' and reason like 'Not done: %')
				and not exists (select 1 from ticks t where t.design = c.design and t.position = c.position))`, id, after)
	})
	return only, err
}

// Edited reports whether anything but steps was done to a design after a position, beside what was undone or done
// again.
func (s *Store) Edited(ctx context.Context, id string, after int64) (edited bool, err error) {
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		return db.GetContext(ctx, &edited, `
			select exists (select 1 from changes c where design = $1 and position > $2 and act = 'edit'
				and not exists (select 1 from ticks t where t.design = c.design and t.position = c.position))`, id, after)
	})
	return edited, err
}

// KeepBook keeps an order of work as it is handed out.
func (s *Store) KeepBook(ctx context.Context, id string, of change.ID, b Book) error {
	return s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error { return keepBook(ctx, tx, id, of, b) })
}

func keepBook(ctx context.Context, tx *sqlx.Tx, id string, of change.ID, b Book) error {
	if b.Text == nil {
		return nil
	}
	_, err := tx.ExecContext(ctx, `
		insert into books (design, change, position, book) values ($1, $2, $3, $4)
		on conflict (design, change) do update set position = excluded.position, book = excluded.book
			where books.position <= excluded.position`, id, of, b.Position, b.Text)
	return err
}
