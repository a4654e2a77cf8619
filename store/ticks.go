package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Tick says that somebody has done a step of the runbook.
type Tick struct {
	Step     string    `db:"step" json:"step"`
	Title    string    `db:"title" json:"title"`
	Author   string    `db:"author" json:"author"`
	At       time.Time `db:"at" json:"at"`
	Position int64     `db:"position" json:"position"` // of the journal, with which it was done
}

func (t *Tick) keep(ctx context.Context, tx *sqlx.Tx, design string, position int64) error {
	_, err := tx.ExecContext(ctx, `
		insert into ticks (design, step, title, author, position) values ($1, $2, $3, $4, $5)
		on conflict (design, step) do update set title = excluded.title, author = excluded.author, at = now(),
			position = excluded.position`, design, t.Step, t.Title, t.Author, position)
	return err
}

// Ticks are those of a design, the last first.
func (s *Store) Ticks(ctx context.Context, id string) (out []Tick, err error) {
	out = []Tick{}
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		return db.SelectContext(ctx, &out, `
			select step, title, author, at, position from ticks where design = $1 order by at desc limit 1000`, id)
	})
	return out, err
}
