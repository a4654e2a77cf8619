// Package store keeps designs in PostgreSQL: the objects of each, and the
// journal of every change set that led to them. A change is one transaction;
// what was acknowledged is on disk, and what was not has left no trace.
package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"embed"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/rivermigrate"

	"dravin/core/design"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound means that there is no such design.
var ErrNotFound = errors.New("there is no such design")

// ErrNothing means that there is nothing to undo or redo.
var ErrNothing = errors.New("there is nothing to undo or redo")

// Conflict means that the design has moved on since the writer read it.
type Conflict struct {
	Position int64    // where the design is now
	Since    []Change // what changed meanwhile, oldest first
}

func (c *Conflict) Error() string {
	var reasons []string
	for _, s := range c.Since {
		reasons = append(reasons, fmt.Sprintf("%q", s.Reason))
	}
	return fmt.Sprintf("the design has changed meanwhile: %s; look at it again and repeat", strings.Join(reasons, ", "))
}

// Info is a design without its objects.
type Info struct {
	ID        string     `db:"id" json:"id"`
	Name      string     `db:"name" json:"name"`
	Position  int64      `db:"position" json:"position"` // of the journal; grows with every change
	UpdatedAt time.Time  `db:"updated_at" json:"updatedAt"`
	DeletedAt *time.Time `db:"deleted_at" json:"deletedAt,omitempty" doc:"Only of a deleted one."`
}

// Change is one row of the journal.
type Change struct {
	Position int64     `db:"position" json:"position"`
	At       time.Time `db:"at" json:"at"`
	Author   string    `db:"author" json:"author"`
	Reason   string    `db:"reason" json:"reason"`
	Act      string    `db:"act" json:"act" enum:"edit,undo,redo,reveal"`
	State    string    `db:"state" json:"state" enum:"done,undone,dropped"`
	// Look numbers those who looked at keys; 0 for all else.
	Look int64 `db:"look" json:"look,omitempty" doc:"Of a look at keys its number, to go on after."`
}

// Store is a database. It may be used from many goroutines, and several stores
// may use one database. Errors that are the database's own are [*Unavailable].
type Store struct {
	reads, writes *sqlx.DB
	gates         gates
}

// Open connects to a database and brings its schema up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	if err := migrate(ctx, url); err != nil {
		return nil, explained(ctx, err)
	}
	reads, err := pool(url, readLimit, readers)
	if err != nil {
		return nil, err
	}
	writes, err := pool(url, writeLimit, writers)
	if err != nil {
		reads.Close()
		return nil, err
	}
	return &Store{reads: reads, writes: writes, gates: gates{byID: map[string]*gate{}}}, nil
}

// migrating is the advisory lock of a server that brings the schema up to date.
const migrating = 0x64726176696e

// migrate brings the schema up to date, one server at a time.
func migrate(ctx context.Context, url string) error {
	db, err := pool(url, 0, 2)
	if err != nil {
		return err
	}
	defer db.Close()
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	held, err := db.Connx(ctx)
	if err != nil {
		return err
	}
	defer held.Close() // and with it the lock
	if _, err := held.ExecContext(ctx, `select pg_advisory_lock($1)`, migrating); err != nil {
		return err
	}
	steps, err := goose.NewProvider(goose.DialectPostgres, db.DB, files)
	if err != nil {
		return err
	}
	if _, err := steps.Up(ctx); err != nil {
		return fmt.Errorf("bringing the database up to date: %w", err)
	}
	if err := divide(ctx, db); err != nil {
		return fmt.Errorf("parting what is built from what is planned: %w", err)
	}
	jobs, err := rivermigrate.New(riverdatabasesql.New(db.DB), &rivermigrate.Config{Logger: quietLog})
	if err != nil {
		return err
	}
	if _, err := jobs.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("bringing the queue of rehearsals up to date: %w", err)
	}
	return nil
}

// Close closes all connections.
func (s *Store) Close() error { return errors.Join(s.reads.Close(), s.writes.Close()) }

// Ping asks whether the database answers and takes what is written, by a connection of
// each part of the pool.
func (s *Store) Ping(ctx context.Context) error {
	if err := s.reads.PingContext(ctx); err != nil {
		return explained(ctx, err)
	}
	_, err := s.writes.ExecContext(
		ctx, `insert into pulse (id, at) values (1, now()) on conflict (id) do update set at = excluded.at`,
	)
	if err != nil && ctx.Err() != nil {
		err = ctx.Err() // whatever the driver calls it
	}
	return explained(ctx, err)
}

// Stats tells how the connections for reading and for writing are used.
func (s *Store) Stats() (reads, writes sql.DBStats) { return s.reads.Stats(), s.writes.Stats() }

const infoColumns = `id, name, position, updated_at`

// Listed is a design in the list of all.
type Listed struct {
	Info
	Author  string `db:"author" json:"author" doc:"Who changed it last; empty: nobody since it was made."`
	Reason  string `db:"reason" json:"reason" doc:"What the last change was for."`
	Objects int    `db:"objects" json:"objects"`
	Parties int    `db:"parties" json:"parties"`
}

// List returns all designs, the one changed last first.
func (s *Store) List(ctx context.Context) ([]Listed, error) {
	parties := make([]string, len(design.Parties))
	for n, k := range design.Parties {
		parties[n] = string(k)
	}
	out := []Listed{}
	err := s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		return db.SelectContext(ctx, &out, `
			select `+infoColumns+`, coalesce(c.author, '') as author, coalesce(c.reason, '') as reason, o.objects, o.parties
			from designs d
			left join lateral (select author, reason from changes where design = d.id order by position desc limit 1) c on true
			cross join lateral (select count(*) as objects,
				count(*) filter (where kind = any($1)) as parties from objects where design = d.id and side <> 'built') o
			where deleted_at is null order by updated_at desc, id`, parties)
	})
	return out, err
}

// Kept is how long a deleted design can be taken back.
const Kept = 30 * 24 * time.Hour

// Deleted returns the designs that can be taken back, the one deleted last first.
func (s *Store) Deleted(ctx context.Context) ([]Info, error) {
	return s.list(
		ctx,
		`select `+infoColumns+`, deleted_at from designs where deleted_at > now() - $1 * interval '1 second' order by deleted_at desc, id`,
		Kept.Seconds(),
	)
}

func (s *Store) list(ctx context.Context, query string, args ...any) ([]Info, error) {
	out := []Info{}
	err := s.read(
		ctx, func(ctx context.Context, db *sqlx.DB) error { return db.SelectContext(ctx, &out, query, args...) },
	)
	return out, err
}

// Info returns a design without its objects.
func (s *Store) Info(ctx context.Context, id string) (out Info, err error) {
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		out, err = info(ctx, db, id, "")
		return err
	})
	return out, err
}

func info(ctx context.Context, q sqlx.QueryerContext, id, lock string) (Info, error) {
	var out Info
	if !design.IsLine(id) { // the database would call it an error
		return out, ErrNotFound
	}
	err := sqlx.GetContext(
		ctx, q, &out, `select `+infoColumns+` from designs where id = $1 and deleted_at is null `+lock, id,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return out, ErrNotFound
	}
	return out, err
}

// Create stores a new design.
func (s *Store) Create(ctx context.Context, d *design.Design) (Info, error) {
	id := NewID()
	var out Info
	err := s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(
			ctx, `insert into designs (id, name, divided) values ($1, $2, 0)`, id, d.Name,
		); err != nil {
			return err
		}
		if err := writeAll(ctx, tx, id, d); err != nil {
			return err
		}
		var err error
		out, err = info(ctx, tx, id, "")
		return err
	})
	return out, err
}

// Delete takes a design away. It can be taken back for as long as [Kept] says.
func (s *Store) Delete(ctx context.Context, id string) error {
	return s.mark(ctx, id, `update designs set deleted_at = now() where id = $1 and deleted_at is null`)
}

// Restore takes a deleted design back.
func (s *Store) Restore(ctx context.Context, id string) (Info, error) {
	if err := s.mark(
		ctx, id, `update designs set deleted_at = null where id = $1 and deleted_at > now() - $2 * interval '1 second'`,
		Kept.Seconds(),
	); err != nil {
		return Info{}, err
	}
	return s.Info(ctx, id)
}

func (s *Store) mark(ctx context.Context, id, statement string, args ...any) error {
	if !design.IsLine(id) {
		return ErrNotFound
	}
	return s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, statement, append([]any{id}, args...)...)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err == nil && n == 0 {
			return ErrNotFound
		}
		return notify(ctx, tx, id, 0)
	})
}

// Purge removes for good what was deleted longer ago than [Kept].
func (s *Store) Purge(ctx context.Context) (int64, error) {
	var n int64
	err := s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		r, err := tx.ExecContext(
			ctx, `delete from designs where deleted_at <= now() - $1 * interval '1 second'`, Kept.Seconds(),
		)
		if err == nil {
			n, err = r.RowsAffected()
		}
		return err
	})
	return n, err
}

// Load returns a design as it is now.
func (s *Store) Load(ctx context.Context, id string) (d *design.Design, in Info, err error) {
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		tx, err := db.BeginTxx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
		if err != nil {
			return err
		}
		defer tx.Rollback() //nolint:errcheck // nothing was written
		if in, err = info(ctx, tx, id, ""); err != nil {
			return err
		}
		d, err = load(ctx, tx, in)
		return err
	})
	return d, in, err
}

func load(ctx context.Context, tx *sqlx.Tx, in Info) (*design.Design, error) {
	var rows []struct {
		ID, Kind, Parent, Name, Side string
		Body                         []byte
	}
	if err := tx.SelectContext(
		ctx, &rows, `select id, kind, parent, name, side, body from objects where design = $1`, in.ID,
	); err != nil {
		return nil, err
	}
	planned, built := make([]*design.Object, 0, len(rows)), make([]*design.Object, 0, len(rows))
	for _, r := range rows {
		body, err := design.DecodeBody(design.Kind(r.Kind), r.Body)
		if err != nil {
			return nil, fmt.Errorf("object %s of design %s in the database: %w", r.ID, in.ID, err)
		}
		o := &design.Object{
			ID: design.ID(r.ID), Kind: design.Kind(r.Kind), Parent: design.ID(r.Parent), Name: r.Name, Body: body,
		}
		if design.Side(r.Side) != design.Built {
			planned = append(planned, o)
		}
		if design.Side(r.Side) != design.Planned {
			built = append(built, o)
		}
	}
	return design.Stored(in.Name, planned, built), nil
}

// row is an object as it is kept: of one side, or alike in both.
type row struct {
	*design.Object
	Side design.Side `json:"side"`
}

// rowsOf are the rows of the objects with some IDs.
func rowsOf(d *design.Design, ids []design.ID) []row {
	out := []row{}
	for _, id := range ids {
		planned, built := d.Get(id), d.Built().Get(id)
		switch {
		case planned != nil && (design.Shared(planned.Kind) || built != nil && design.Equal(planned, built)):
			out = append(out, row{planned, design.Both})
			continue
		case planned != nil:
			out = append(out, row{planned, design.Planned})
		}
		if built != nil && !design.Shared(built.Kind) {
			out = append(out, row{built, design.Built})
		}
	}
	return out
}

// write carries the net effect of edits out on the objects table, in two
// statements however many there are. The edits are valid already, and have led to next.
func write(ctx context.Context, tx *sqlx.Tx, id string, next *design.Design, edits []design.Edit) error {
	ids := []design.ID{}
	for _, e := range edits {
		ids = append(ids, e.ID)
	}
	slices.Sort(ids)
	ids = slices.Compact(ids)
	if _, err := tx.ExecContext(
		ctx, `delete from objects where design = $1 and id = any($2)`, id, ids,
	); err != nil {
		return err
	}
	return insert(ctx, tx, id, rowsOf(next, ids))
}

// writeAll puts a whole design into the objects table.
func writeAll(ctx context.Context, tx *sqlx.Tx, id string, d *design.Design) error {
	ids := []design.ID{}
	for _, o := range slices.Concat(d.All(), d.Built().All()) {
		ids = append(ids, o.ID)
	}
	slices.Sort(ids)
	return insert(ctx, tx, id, rowsOf(d, slices.Compact(ids)))
}

func insert(ctx context.Context, tx *sqlx.Tx, id string, list []row) error {
	rows, err := json.Marshal(list)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `
		insert into objects (design, id, kind, parent, name, side, body)
		select $1, id, kind, coalesce(parent, ''), name, side, body
		from jsonb_to_recordset($2::jsonb) as r(id text, kind text, parent text, name text, side text, body jsonb)`,
		id, string(rows))
	return err
}

// NewID makes an ID that nobody has.
func NewID() string {
	b := make([]byte, 10)
	_, _ = rand.Read(b) // never fails
	return strings.ToLower(base32.StdEncoding.EncodeToString(b))
}
