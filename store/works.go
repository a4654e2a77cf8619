package store

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"dravin/core/change"
	"dravin/core/design"
)

// NewChange asks for a change of its own; see [Work].
const NewChange change.ID = "new"

// Named is what people call a change of a design.
type Named struct {
	ID     change.ID `db:"id" json:"id"`
	Title  string    `db:"title" json:"title"`
	Author string    `db:"author" json:"author"`
	Why    string    `db:"why" json:"why"`
	At     time.Time `db:"at" json:"at" doc:"When it was begun."`
}

// Work says of which named change a change set is part.
type Work struct {
	// Changes are those that it takes out or in, or the one that it is part of; none: that which makes what is edited, or
	// else a new one; [NewChange]: a new one.
	Changes []change.ID
	Act     change.Act
	Title   string // of a new one; empty: the reason
	Why     string
}

// Works are the changes of a design by when they were begun, and the rows of its journal that tell of them and are in
// force.
func (s *Store) Works(ctx context.Context, id string) (named []Named, rows []change.Row, err error) {
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		named = []Named{}
		if err := db.SelectContext(
			ctx, &named, `select id, title, author, why, at from works where design = $1 order by at, id`, id,
		); err != nil {
			return err
		}
		rows, err = workRows(ctx, db, id)
		return err
	})
	return named, rows, err
}

func workRows(ctx context.Context, q sqlx.QueryerContext, id string) ([]change.Row, error) {
	var list []struct {
		Position int64
		Work     []byte
	}
	if err := sqlx.SelectContext(ctx, q, &list, `
		select position, work from changes where design = $1 and work is not null and state = 'done' order by position`,
		id); err != nil {
		return nil, err
	}
	out := make([]change.Row, len(list))
	for n, l := range list {
		if err := json.Unmarshal(l.Work, &out[n]); err != nil {
			return nil, fmt.Errorf("change %d of design %s in the database: %w", l.Position, id, err)
		}
		out[n].Position = l.Position
	}
	return out, nil
}

// Before tells how objects were before rows of the journal.
func (s *Store) Before(ctx context.Context, id string) (change.Before, func() error) {
	read := map[int64]map[design.ID]*design.Object{}
	var failed error
	return func(position int64, of design.ID) *design.Object {
		if read[position] == nil {
			read[position] = map[design.ID]*design.Object{}
			edits, err := s.inverse(ctx, id, position)
			failed = cmp.Or(failed, err)
			for _, e := range edits {
				if e.Side != design.Built {
					read[position][e.ID] = e.Object
				}
			}
		}
		return read[position][of]
	}, func() error { return failed }
}

func (s *Store) inverse(ctx context.Context, id string, position int64) (edits []design.Edit, err error) {
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		var text []byte
		if err := db.GetContext(
			ctx, &text, `select inverse from changes where design = $1 and position = $2`, id, position,
		); err != nil {
			return err
		}
		return json.Unmarshal(text, &edits)
	})
	return edits, err
}

// CallChange gives a change another title, and says what it is for. It is in the journal, outside undo.
func (s *Store) CallChange(
	ctx context.Context, id string, base int64, author string, of change.ID, title, why string,
) (Info, error) {
	return s.step(ctx, id, &base, func(ctx context.Context, tx *sqlx.Tx, in Info, _ *design.Design) error {
		r, err := tx.ExecContext(
			ctx, `update works set title = $3, why = $4 where design = $1 and id = $2`, id, of, title, why,
		)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err == nil && n == 0 {
			return ErrNotFound
		}
		return record(ctx, tx, id, in.Position, author, "Call a change "+title, actRename, nil, nil, nil)
	})
}

// keep is what a row of the journal says of changes, once a change set has led from d to next by edits; nil: nothing.
func (w Work) keep(
	ctx context.Context, tx *sqlx.Tx, id string, set ChangeSet, d, next *design.Design, edits []design.Edit,
) (*change.Row, error) {
	if w.Act == change.Back || w.Act == change.Aside {
		return &change.Row{Changes: w.Changes, Act: w.Act, Parts: change.Taken(d, next, edits)}, nil
	}
	row := &change.Row{Changes: w.Changes, Act: cmp.Or(w.Act, change.Do), Parts: change.Parts(d, next, edits)}
	switch {
	case len(row.Parts) == 0:
		return nil, nil
	case len(w.Changes) == 0:
		rows, err := workRows(ctx, tx, id)
		if err != nil {
			return nil, err
		}
		if of := change.Told(rows).Making(d, next, row.Parts); of != "" {
			row.Changes = []change.ID{of}
			return row, nil
		}
	case w.Changes[0] != NewChange:
		var n int
		if err := tx.GetContext(
			ctx, &n, `select count(*) from works where design = $1 and id = $2`, id, w.Changes[0],
		); err != nil {
			return nil, err
		}
		if n > 0 {
			return row, nil
		}
		return nil, design.Problems{{
			Field: "change", Why: "there is no such change now", Want: "choose another, or let it be one of its own",
		}}
	}
	fresh := change.ID(NewID())
	row.Changes = []change.ID{fresh}
	_, err := tx.ExecContext(
		ctx, `insert into works (design, id, title, author, why) values ($1, $2, $3, $4, $5)`, id, fresh,
		cmp.Or(w.Title, set.Reason), set.Author, w.Why,
	)
	return row, err
}

// tell writes down what a row of the journal says of changes.
func tell(ctx context.Context, tx *sqlx.Tx, id string, position int64, row *change.Row) error {
	if row == nil {
		return nil
	}
	text, err := json.Marshal(row)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(
		ctx, `update changes set work = $3 where design = $1 and position = $2`, id, position, text,
	)
	return err
}
