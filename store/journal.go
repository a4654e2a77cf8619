package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"dravin/core/design"
)

// What a row of the journal does.
const (
	actEdit   = "edit"
	actUndo   = "undo"
	actRedo   = "redo"
	actReveal = "reveal"
	actRename = "rename"
)

// ChangeSet is what a writer wants done.
type ChangeSet struct {
	Base   int64 // the position the writer has seen
	Author string
	Reason string
	Edits  []design.Edit
	FarKey *FarKey // kept with the change, or not at all; nil: none
	Tick   *Tick   // kept with the change, or not at all; nil: none
	Work   Work
}

// FarKey is the pre-shared key of a tunnel that a far end sent; "" forgets it.
type FarKey struct {
	Vault  *Vault
	Tunnel design.ID
	Key    string
}

// errNoChange ends a step that would leave everything as it is.
var errNoChange = errors.New("nothing changes")

// Commit applies a change set, if the design is still where the writer saw it.
// One that comes to nothing leaves no trace. Errors: [*Conflict],
// [design.Problems], [ErrNotFound].
func (s *Store) Commit(ctx context.Context, id string, set ChangeSet) (Info, error) {
	in, err := s.step(ctx, id, &set.Base, func(ctx context.Context, tx *sqlx.Tx, in Info, d *design.Design) error {
		next, inverse, err := d.Apply(set.Edits)
		if err != nil {
			return err
		}
		edits := d.EditsTo(next) // what it comes to, whatever it went through
		if len(edits) == 0 && set.FarKey == nil && set.Tick == nil {
			return errNoChange
		}
		if set.Tick != nil {
			if err := set.Tick.keep(ctx, tx, id, in.Position, len(edits) > 0); err != nil {
				return err
			}
		}
		if set.FarKey != nil {
			if err := set.FarKey.keep(ctx, tx, id); err != nil {
				return err
			}
		}
		if len(edits) == 0 { // keys and ticks stand outside undo
			return record(ctx, tx, id, in.Position, set.Author, set.Reason, actReveal, nil, nil, nil)
		}
		if err := write(ctx, tx, id, next, edits); err != nil {
			return err
		}
		if _, err := tx.ExecContext(
			ctx, `update changes set state = 'dropped' where design = $1 and state = 'undone' and author = $2`, id, set.Author,
		); err != nil {
			return err
		}
		work, err := set.Work.keep(ctx, tx, id, set, d, next, edits)
		if err != nil {
			return err
		}
		if err := record(ctx, tx, id, in.Position, set.Author, set.Reason, actEdit, nil, edits, inverse); err != nil {
			return err
		}
		return tell(ctx, tx, id, in.Position, work)
	})
	if errors.Is(err, errNoChange) {
		return s.Info(ctx, id)
	}
	return in, err
}

// Undo takes back the last edit in force of an author: what others have done stays. It is refused with
// [design.Problems] where somebody has changed the same objects since.
func (s *Store) Undo(ctx context.Context, id string, base int64, author string) (Info, error) {
	return s.replay(ctx, id, base, author, actUndo)
}

// Redo brings the edit that an author has undone last into force again, or is refused as Undo is.
func (s *Store) Redo(ctx context.Context, id string, base int64, author string) (Info, error) {
	return s.replay(ctx, id, base, author, actRedo)
}

// undivided leaves out what was done while the design was one, in which things had states.
const undivided = `and position > (select coalesce(divided, 0) from designs where id = $1)`

// nextTo finds the edit that an undo or redo would act on.
var nextTo = map[string]string{
	actUndo: `select position, reason, edits, inverse from changes where design = $1 and act = 'edit' and state = 'done' and author = $2 ` + undivided + ` order by position desc limit 1`,
	actRedo: `select position, reason, edits, inverse from changes where design = $1 and act = 'edit' and state = 'undone' and author = $2 ` + undivided + ` order by position limit 1`,
}

// Next is what an undo or redo would do, none if there is nothing.
func (s *Store) Next(ctx context.Context, id, act, author string) ([]design.Edit, error) {
	var row journalRow
	err := s.reads.GetContext(ctx, &row, nextTo[act], id, author)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	} else if err != nil {
		return nil, explained(ctx, err)
	}
	return row.todo(id, act)
}

// todo are the edits of a row that an undo or redo makes.
func (row journalRow) todo(id, act string) ([]design.Edit, error) {
	source := row.Edits
	if act == actUndo {
		source = row.Inverse
	}
	var edits []design.Edit
	if err := json.Unmarshal(source, &edits); err != nil {
		return nil, fmt.Errorf("change %d of design %s in the database: %w", row.Position, id, err)
	}
	return edits, nil
}

var stateAfter = map[string]string{actUndo: "undone", actRedo: "done"}

type journalRow struct {
	Position int64
	Reason   string
	Edits    []byte
	Inverse  []byte
}

func (s *Store) replay(ctx context.Context, id string, base int64, author, act string) (Info, error) {
	return s.step(ctx, id, &base, func(ctx context.Context, tx *sqlx.Tx, in Info, d *design.Design) error {
		var row journalRow
		if err := tx.GetContext(ctx, &row, nextTo[act], id, author); errors.Is(err, sql.ErrNoRows) {
			return ErrNothing
		} else if err != nil {
			return err
		}
		edits, err := row.todo(id, act)
		if err != nil {
			return err
		}
		if err := untouched(ctx, tx, id, d, row, act); err != nil {
			return err
		}
		next, inverse, err := d.Replay(edits)
		if err != nil {
			return err
		}
		if err := write(ctx, tx, id, next, edits); err != nil {
			return err
		}
		if _, err := tx.ExecContext(
			ctx, `update changes set state = $3 where design = $1 and position = $2`, id, row.Position, stateAfter[act],
		); err != nil {
			return err
		}
		return record(ctx, tx, id, in.Position, author, row.Reason, act, &row.Position, edits, inverse)
	})
}

// untouched is nil if nobody has changed an object of a row since: to undo or redo it would take that back, too.
func untouched(
	ctx context.Context, tx *sqlx.Tx, id string, d *design.Design, row journalRow, act string,
) error {
	var own []design.Edit
	if err := json.Unmarshal(row.Edits, &own); err != nil {
		return err
	}
	var since []struct {
		journalRow
		Author string
	}
	if err := tx.SelectContext(ctx, &since, `
		select position, reason, edits, inverse, author from changes
		where design = $1 and position > $2 and act = 'edit' and state = 'done' order by position`,
		id, row.Position); err != nil {
		return err
	}
	for _, x := range since {
		var theirs []design.Edit
		if err := json.Unmarshal(x.Edits, &theirs); err != nil {
			return err
		}
		for _, e := range theirs {
			if slices.ContainsFunc(own, func(o design.Edit) bool { return o.ID == e.ID }) {
				return design.Problems{{
					Field: act,
					Why: fmt.Sprintf(
						"%s has changed %s since: %q", x.Author, titled(d, e.ID), x.Reason,
					),
					Want: "change it by hand to what it should be",
				}}
			}
		}
	}
	return nil
}

func titled(d *design.Design, id design.ID) string {
	if d.Get(id) == nil {
		return "the same"
	}
	return d.Title(id)
}

// Looked writes down that somebody asked to see keys. It changes nothing, and
// makes nobody stale.
func (s *Store) Looked(ctx context.Context, id, author, reason string) error {
	return s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		in, err := info(ctx, tx, id, "")
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(
			ctx, `insert into audits (design, position, author, reason) values ($1, $2, $3, $4)`, id, in.Position,
			author, reason,
		)
		return err
	})
}

// Follow takes a design that was loaded as it was then to where it is now, with the
// edits that lead there. ok is false where the journal does not tell, or is another: a
// standby or a backup that took its place may have gone another way since.
func (s *Store) Follow(
	ctx context.Context,
	id string,
	d *design.Design,
	then Info,
) (next *design.Design, edits []design.Edit, in Info, ok bool, err error) {
	var rows []journalRow
	from := then.Position
	same := true
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		tx, err := db.BeginTxx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
		if err != nil {
			return err
		}
		defer tx.Rollback() //nolint:errcheck // nothing was written
		if in, err = info(ctx, tx, id, ""); err != nil {
			return err
		}
		var at time.Time
		switch err := tx.GetContext(ctx, &at, `select at from changes where design = $1 and position = $2`, id, from); {
		case err == nil:
			same = at.Equal(then.UpdatedAt)
		case !errors.Is(err, sql.ErrNoRows):
			return err
		}
		return tx.SelectContext(
			ctx,
			&rows,
			`select position, reason, edits, inverse from changes where design = $1 and position > $2 order by position limit 101`,
			id,
			from,
		)
	})
	if err != nil || !same || int64(len(rows)) != in.Position-from || in.Name != d.Name {
		return nil, nil, in, false, err
	}
	next = d
	for _, r := range rows {
		var some []design.Edit
		if err := json.Unmarshal(r.Edits, &some); err != nil {
			return nil, nil, in, false, nil // it is loaded as a whole then, which says what is wrong
		}
		if next, _, err = next.Replay(some); err != nil {
			return nil, nil, in, false, nil
		}
		edits = append(edits, some...)
	}
	return next, edits, in, true, nil
}

// Rekeyed takes a design one position further because a key of it is another now.
func (s *Store) Rekeyed(ctx context.Context, id, author, reason string) (Info, error) {
	return s.step(ctx, id, nil, func(ctx context.Context, tx *sqlx.Tx, in Info, _ *design.Design) error {
		return record(ctx, tx, id, in.Position, author, reason, actReveal, nil, nil, nil)
	})
}

// Rename gives a design another name. It is in the journal, outside undo.
func (s *Store) Rename(ctx context.Context, id string, base int64, author, name string) (Info, error) {
	return s.step(ctx, id, &base, func(ctx context.Context, tx *sqlx.Tx, in Info, _ *design.Design) error {
		if _, err := tx.ExecContext(ctx, `update designs set name = $2 where id = $1`, id, name); err != nil {
			return err
		}
		return record(
			ctx, tx, id, in.Position, author, fmt.Sprintf("Rename %s to %s", in.Name, name), actRename, nil, nil, nil,
		)
	})
}

// step takes a design one position further, or not at all. base is the position
// that the writer has seen; nil where it does not matter.
func (s *Store) step(
	ctx context.Context,
	id string,
	base *int64,
	do func(context.Context, *sqlx.Tx, Info, *design.Design) error,
) (Info, error) {
	leave, err := s.gates.enter(ctx, id)
	if err != nil {
		return Info{}, err
	}
	defer leave()
	var in Info
	err = s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		var err error
		if in, err = info(ctx, tx, id, "for update"); err != nil {
			return err
		}
		if base != nil && *base != in.Position {
			return behind(ctx, tx, in, *base)
		}
		d, err := load(ctx, tx, in)
		if err != nil {
			return err
		}
		in.Position++
		if err := do(ctx, tx, in, d); err != nil {
			return err
		}
		if err := tx.GetContext(
			ctx, &in, `update designs set position = $2, updated_at = now() where id = $1 returning `+infoColumns, id,
			in.Position,
		); err != nil {
			return err
		}
		return notify(ctx, tx, id, in.Position)
	})
	return in, err
}

// behind is what a writer is told who has not seen the design as it is.
func behind(ctx context.Context, tx *sqlx.Tx, in Info, base int64) error {
	if base < 0 || base > in.Position {
		return design.Problems{
			{
				Field: "base",
				Why:   fmt.Sprintf("the design has no position %d; it is at %d", base, in.Position),
				Want:  "send the position that you have seen",
			},
		}
	}
	since, err := history(ctx, tx, in.ID, base)
	if err != nil {
		return err
	}
	return &Conflict{Position: in.Position, Since: since}
}

func notify(ctx context.Context, tx *sqlx.Tx, id string, position int64) error {
	_, err := tx.ExecContext(ctx, `select pg_notify($1, $2)`, channel, fmt.Sprintf("%s %d", id, position))
	return err
}

func record(
	ctx context.Context,
	tx *sqlx.Tx,
	id string,
	position int64,
	author, reason, act string,
	target *int64,
	edits, inverse []design.Edit,
) error {
	e, err := json.Marshal(edits)
	if err != nil {
		return err
	}
	i, err := json.Marshal(inverse)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `
		insert into changes (design, position, author, reason, act, target, edits, inverse) values ($1, $2, $3, $4, $5, $6,
			$7, $8)`,
		id, position, author, reason, act, target, e, i)
	return err
}

// History returns the journal of a design after a position, oldest first, and who looked
// at keys meanwhile, after the look that was read last: as much of both as a page holds.
func (s *Store) History(ctx context.Context, id string, after, look int64) (out []Change, err error) {
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		if _, err := info(ctx, db, id, ""); err != nil {
			return err
		}
		out, err = withLooks(ctx, db, id, after, look)
		return err
	})
	return out, err
}

// mostRows is how many changes, and how many looks, one page of a history has.
const mostRows = 1000

func history(ctx context.Context, q sqlx.QueryerContext, id string, after int64) ([]Change, error) {
	out := []Change{}
	err := sqlx.SelectContext(
		ctx,
		q,
		&out,
		`select position, at, author, reason, act, state from changes where design = $1 and position > $2 order by position limit 1000`,
		id,
		after,
	)
	return out, err
}

// withLooks is a history with who looked at keys meanwhile. What happened is ordered by
// positions and by the numbers of looks: clocks may be set back. Looks neither push
// changes off a page nor the other way round; those of positions behind the page follow on
// the next.
func withLooks(ctx context.Context, q sqlx.QueryerContext, id string, after, look int64) ([]Change, error) {
	out := []Change{}
	err := sqlx.SelectContext(ctx, q, &out, `
		with page as (select position, at, author, reason, act, state,
			0::bigint as look from changes where design = $1 and position > $2 order by position limit $4),
		looks as (select position, at, author, reason, 'reveal' as act, 'done' as state, id as look from audits
			where design = $1 and id > $3 and ((select count(*) from page) < $4 or position <= (select max(position) from page)) order by id limit $4)
		select * from page union all select * from looks order by position, look`, id, after, look, mostRows)
	return out, err
}

// Steps names what an author's undo and redo would act on, by their reasons; empty
// where there is nothing.
func (s *Store) Steps(ctx context.Context, id, author string) (undo, redo string, err error) {
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		return db.QueryRowxContext(ctx,
			`select coalesce((select reason from (`+nextTo[actUndo]+`) u), ''), coalesce((select reason from (`+nextTo[actRedo]+`) r), '')`, id, author).
			Scan(&undo, &redo)
	})
	return undo, redo, err
}
