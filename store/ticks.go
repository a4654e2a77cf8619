package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"dravin/core/design"
)

// Tick says that somebody has done a step of the runbook.
type Tick struct {
	Step     string    `db:"step" json:"step"`
	Title    string    `db:"title" json:"title"`
	Author   string    `db:"author" json:"author"`
	At       time.Time `db:"at" json:"at"`
	Position int64     `db:"position" json:"position"` // of the journal, with which it was done

	// Box is that of one's own at which it was done: it has its files by then. Owed are files that others have, by
	// path, where these follow only later. Neither is told.
	Box  design.ID                       `db:"-" json:"-"`
	Owed map[design.ID]map[string]string `db:"-" json:"-"`
}

func (t *Tick) keep(ctx context.Context, tx *sqlx.Tx, id string, position int64) error {
	for box, files := range t.Owed {
		text, err := json.Marshal(files)
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
	_, err := tx.ExecContext(ctx, `
		insert into ticks (design, step, title, author, position) values ($1, $2, $3, $4, $5)
		on conflict (design, step) do update set title = excluded.title, author = excluded.author, at = now(),
			position = excluded.position`, id, t.Step, t.Title, t.Author, position)
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

// Loaded are the files that boxes of one's own have, by path, where these are others than those of the design as built.
func (s *Store) Loaded(ctx context.Context, id string) (map[design.ID]map[string]string, error) {
	var rows []struct {
		Box   design.ID
		Files []byte
	}
	if err := s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		return db.SelectContext(ctx, &rows, `select box, files from loaded where design = $1`, id)
	}); err != nil {
		return nil, err
	}
	out := map[design.ID]map[string]string{}
	for _, r := range rows {
		files := map[string]string{}
		if err := json.Unmarshal(r.Files, &files); err != nil {
			return nil, err
		}
		out[r.Box] = files
	}
	return out, nil
}
