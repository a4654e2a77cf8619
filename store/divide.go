package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"dravin/core/design"
)

// divide parts what is built from what is planned in designs that were kept as one, in which things had states.
func divide(ctx context.Context, db *sqlx.DB) error {
	var ids []string
	if err := db.SelectContext(ctx, &ids, `select id from designs where divided is null order by id`); err != nil {
		return err
	}
	for _, id := range ids {
		if err := divideOne(ctx, db, id); err != nil {
			return err
		}
	}
	return nil
}

func divideOne(ctx context.Context, db *sqlx.DB, id string) error {
	tx, err := db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // nothing was written, or it is committed
	var in Info
	if err := tx.GetContext(
		ctx, &in, `select `+infoColumns+` from designs where id = $1 and divided is null for update`, id,
	); err != nil {
		return err
	}
	d, err := load(ctx, tx, in)
	if err != nil {
		return nil //nolint:nilerr // whoever opens it is told; others are not kept waiting for it
	}
	if _, err := tx.ExecContext(ctx, `delete from objects where design = $1`, id); err != nil {
		return err
	}
	if err := writeAll(ctx, tx, id, design.Divided(d)); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `update designs set divided = position where id = $1`, id); err != nil {
		return err
	}
	return tx.Commit()
}
