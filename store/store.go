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
	"strings"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

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
	ID        string    `db:"id" json:"id"`
	Name      string    `db:"name" json:"name"`
	Position  int64     `db:"position" json:"position"` // of the journal; grows with every change
	UpdatedAt time.Time `db:"updated_at" json:"updatedAt"`
}

// Change is one row of the journal.
type Change struct {
	Position int64     `db:"position" json:"position"`
	At       time.Time `db:"at" json:"at"`
	Author   string    `db:"author" json:"author"`
	Reason   string    `db:"reason" json:"reason"`
	Act      string    `db:"act" json:"act" enum:"edit,undo,redo,reveal"`
	State    string    `db:"state" json:"state" enum:"done,undone,dropped"`
}

// Store is a database. It may be used from many goroutines, and several stores
// may use one database.
type Store struct {
	db *sqlx.DB
}

// Open connects to a database and brings its schema up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	db, err := sqlx.Open("pgx", url)
	if err != nil {
		return nil, fmt.Errorf("the database address can not be used: %w", err)
	}
	db.SetMaxOpenConns(16)
	db.SetConnMaxIdleTime(time.Minute)
	if err := db.PingContext(ctx); err != nil {
		db.Close()
		return nil, fmt.Errorf("the database does not answer: %w", err)
	}
	goose.SetBaseFS(migrations)
	goose.SetLogger(goose.NopLogger())
	if err := goose.SetDialect("postgres"); err != nil {
		return nil, err
	}
	if err := goose.UpContext(ctx, db.DB, "migrations"); err != nil {
		db.Close()
		return nil, fmt.Errorf("bringing the database up to date: %w", err)
	}
	return &Store{db: db}, nil
}

// Close closes all connections.
func (s *Store) Close() error { return s.db.Close() }

// Ping tells whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

// List returns all designs, the one changed last first.
func (s *Store) List(ctx context.Context) ([]Info, error) {
	out := []Info{}
	err := s.db.SelectContext(ctx, &out, `select id, name, position, updated_at from designs order by updated_at desc, id`)
	return out, err
}

// Info returns one design without its objects.
func (s *Store) Info(ctx context.Context, id string) (Info, error) {
	return info(ctx, s.db, id, "")
}

func info(ctx context.Context, q sqlx.QueryerContext, id, lock string) (Info, error) {
	var out Info
	if !design.IsText(id) { // the database would call it an error
		return out, ErrNotFound
	}
	err := sqlx.GetContext(ctx, q, &out, `select id, name, position, updated_at from designs where id = $1 `+lock, id)
	if errors.Is(err, sql.ErrNoRows) {
		return out, ErrNotFound
	}
	return out, err
}

// Create stores a design under a new ID.
func (s *Store) Create(ctx context.Context, d *design.Design) (Info, error) {
	id := NewID()
	err := s.transact(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `insert into designs (id, name) values ($1, $2)`, id, d.Name); err != nil {
			return err
		}
		var edits []design.Edit
		for _, o := range d.All() {
			edits = append(edits, design.PutEdit(o))
		}
		return write(ctx, tx, id, edits)
	})
	if err != nil {
		return Info{}, err
	}
	return s.Info(ctx, id)
}

// Delete removes a design and its journal.
func (s *Store) Delete(ctx context.Context, id string) error {
	if !design.IsText(id) {
		return ErrNotFound
	}
	r, err := s.db.ExecContext(ctx, `delete from designs where id = $1`, id)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err == nil && n == 0 {
		return ErrNotFound
	}
	return nil
}

// Load returns a design and its position, as of one moment.
func (s *Store) Load(ctx context.Context, id string) (*design.Design, Info, error) {
	tx, err := s.db.BeginTxx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return nil, Info{}, err
	}
	defer tx.Rollback() //nolint:errcheck // nothing was written
	in, err := info(ctx, tx, id, "")
	if err != nil {
		return nil, in, err
	}
	d, err := load(ctx, tx, in)
	return d, in, err
}

func load(ctx context.Context, tx *sqlx.Tx, in Info) (*design.Design, error) {
	var rows []struct {
		ID, Kind, Parent, Name string
		Body                   []byte
	}
	if err := tx.SelectContext(ctx, &rows, `select id, kind, parent, name, body from objects where design = $1`, in.ID); err != nil {
		return nil, err
	}
	objects := make([]*design.Object, 0, len(rows))
	for _, r := range rows {
		body, err := design.DecodeBody(design.Kind(r.Kind), r.Body)
		if err != nil {
			return nil, fmt.Errorf("object %s of design %s in the database: %w", r.ID, in.ID, err)
		}
		objects = append(objects, &design.Object{ID: design.ID(r.ID), Kind: design.Kind(r.Kind), Parent: design.ID(r.Parent), Name: r.Name, Body: body})
	}
	return design.New(in.Name, objects), nil
}

// write carries the net effect of edits out on the objects table, in two
// statements however many there are. The edits are valid already.
func write(ctx context.Context, tx *sqlx.Tx, id string, edits []design.Edit) error {
	net := map[design.ID]*design.Object{} // nil: removed
	for _, e := range edits {
		net[e.ID] = e.Object
	}
	puts, removes := []*design.Object{}, []string{}
	for id, o := range net {
		if o == nil {
			removes = append(removes, string(id))
			continue
		}
		puts = append(puts, o)
	}
	if _, err := tx.ExecContext(ctx, `delete from objects where design = $1 and id = any($2)`, id, removes); err != nil {
		return err
	}
	rows, err := json.Marshal(puts)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `
		insert into objects (design, id, kind, parent, name, body)
		select $1, id, kind, coalesce(parent, ''), name, body
		from jsonb_to_recordset($2::jsonb) as r(id text, kind text, parent text, name text, body jsonb)
		on conflict (design, id) do update set parent = excluded.parent, name = excluded.name, body = excluded.body`, id, string(rows))
	return err
}

func (s *Store) transact(ctx context.Context, do func(*sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// NewID makes an ID that nobody has.
func NewID() string {
	b := make([]byte, 10)
	_, _ = rand.Read(b) // never fails
	return strings.ToLower(base32.StdEncoding.EncodeToString(b))
}
