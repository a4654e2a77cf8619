package store

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"
)

// quietLog is that of the queue: what goes wrong in a rehearsal is told where it is looked for.
var quietLog = slog.New(slog.NewTextHandler(io.Discard, nil))

// book writes down what happens in a rehearsal, some of it at a time.
type book struct {
	store     *Store
	rehearsal int64
	end       context.CancelFunc

	mu      sync.Mutex
	pending []json.RawMessage
	written int
}

// mostEvents is how many events of a rehearsal are kept: the log of a box that says the same again and again ends
// there.
const mostEvents = 20_000

func (b *book) tell(event any) {
	text, err := json.Marshal(event)
	if err != nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.written+len(b.pending) < mostEvents {
		b.pending = append(b.pending, text)
	}
}

// keep writes until the context ends, says that the rehearsal is played, and ends it when somebody has cancelled it.
func (b *book) keep(ctx context.Context) {
	for ctx.Err() == nil {
		if state, err := b.write(ctx); err == nil && state != Playing {
			b.end()
		}
		select {
		case <-ctx.Done():
		case <-time.After(Beat / 4):
		}
	}
}

func (b *book) write(ctx context.Context) (state string, err error) {
	b.mu.Lock()
	list := b.pending
	b.pending = nil
	b.mu.Unlock()
	err = b.store.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		for n, e := range list {
			if _, err := tx.ExecContext(
				ctx, `insert into rehearsal_events (rehearsal, n, event) values ($1, $2, $3)`,
				b.rehearsal, b.written+n+1, string(e),
			); err != nil {
				return err
			}
		}
		return tx.GetContext(
			ctx, &state, `update rehearsals set beat_at = now() where id = $1 returning state`, b.rehearsal,
		)
	})
	b.mu.Lock()
	defer b.mu.Unlock()
	if err != nil {
		b.pending = append(list, b.pending...)
		return "", err
	}
	b.written += len(list)
	return state, nil
}

// close writes what came of it.
func (b *book) close(ctx context.Context, stopped bool, report any, failed error) error {
	if _, err := b.write(ctx); err != nil {
		return err
	}
	text, err := json.Marshal(report)
	if err != nil {
		return err
	}
	state, why := Done, ""
	if failed != nil {
		state, why = BrokenOff, failed.Error()
	}
	if stopped {
		why = "the server that played it was stopped; rehearse again"
	}
	return b.store.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `
			update rehearsals set report = $2, ended_at = now(),
				state = case when state = 'cancelled' then state else $3 end,
				why = case when state = 'cancelled' then '' else $4 end
			where id = $1`, b.rehearsal, string(text), state, why)
		return err
	})
}
