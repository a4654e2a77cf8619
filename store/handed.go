package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"dravin/core/design"
)

// Handed is what a party was given last.
type Handed struct {
	Party  design.ID         `db:"party"`
	At     time.Time         `db:"at"`
	Author string            `db:"author"`
	Files  map[string]string `db:"-"` // checksums by path
	// Content is what the files said, by path, keys masked; empty of what was handed by an older Dravin.
	Content map[string]string `db:"-"`
}

// Hand writes down what a party is given, in the journal too, if the design is still at
// the position that the files are of.
func (s *Store) Hand(ctx context.Context, id string, base int64, reason string, h Handed) (Info, error) {
	files, err := json.Marshal(h.Files)
	if err != nil {
		return Info{}, err
	}
	content, err := json.Marshal(h.Content)
	if err != nil {
		return Info{}, err
	}
	return s.step(ctx, id, &base, func(ctx context.Context, tx *sqlx.Tx, in Info, _ *design.Design) error {
		_, err = tx.ExecContext(ctx, `
			insert into handed (design, party, author, files, content) values ($1, $2, $3, $4, $5)
			on conflict (design, party) do update set at = now(), author = excluded.author,
				files = excluded.files, content = excluded.content`, id, h.Party, h.Author, files, content)
		if err != nil {
			return err
		}
		return record(ctx, tx, id, in.Position, h.Author, reason, actReveal, nil, nil, nil)
	})
}

// HandedOf lists what the parties of a design were given last.
func (s *Store) HandedOf(ctx context.Context, id string) (map[design.ID]Handed, error) {
	var rows []struct {
		Handed
		Raw []byte `db:"files"`
		Old []byte `db:"content"`
	}
	err := s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		return db.SelectContext(ctx, &rows, `select party, at, author, files, content from handed where design = $1`, id)
	})
	out := map[design.ID]Handed{}
	for _, r := range rows {
		if err := json.Unmarshal(r.Raw, &r.Handed.Files); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(r.Old, &r.Handed.Content); err != nil {
			return nil, err
		}
		out[r.Party] = r.Handed
	}
	return out, err
}
