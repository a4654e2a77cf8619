package store

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"github.com/jmoiron/sqlx"

	"dravin/core/design"
)

// Whose key a secret is.
const (
	ours   = "ours"
	theirs = "theirs" // what the far end sent, where it is another
)

// place binds a sealed key to where it belongs.
func place(id string, tunnel design.ID) string { return id + "/" + string(tunnel) }

// Unopened is a key that the vault does not open.
type Unopened struct {
	Design string `db:"design" json:"design"` // the design's name
	Tunnel string `db:"tunnel" json:"tunnel"` // the link's and the tunnel's names; the ID if they are gone
}

func (u Unopened) String() string { return u.Design + ": " + u.Tunnel }

// OpenVault opens the vault of a database with a key file, which it makes where
// neither the file nor a sealed key is there. If the file is missing, wrong, or
// read by others the vault is closed and says why; unopened are the keys that it
// does not open.
func (s *Store) OpenVault(ctx context.Context, path string) (v *Vault, unopened []Unopened, err error) {
	rows, err := s.secrets(ctx)
	if err != nil {
		return nil, nil, err
	}
	v, err = ReadKeyFile(path)
	if errors.Is(err, ErrNoKeyFile) {
		if len(rows) > 0 {
			return shut(
				rows,
				&Closed{
					"there is no key file " + path + ", and the database holds keys that were sealed with one",
					"restore it from where you keep it, or forget those keys with dravin keys --forget",
				},
			)
		}
		v, err = MakeKeyFile(path)
	}
	var closed *Closed
	if errors.As(err, &closed) {
		return shut(rows, closed)
	}
	if err != nil {
		return nil, nil, err
	}
	known, err := s.known(ctx, v, rows)
	if err != nil {
		return nil, nil, err
	}
	if !known {
		return shut(
			rows,
			&Closed{
				"the key file " + path + " is not the one that the database's keys were sealed with",
				"restore that one from where you keep it, or forget those keys with dravin keys --forget",
			},
		)
	}
	for _, r := range rows {
		if !r.opens(v) {
			unopened = append(unopened, r.Unopened)
		}
	}
	return v, unopened, s.renew(ctx, v, rows)
}

func shut(rows []secret, why *Closed) (*Vault, []Unopened, error) {
	var all []Unopened
	for _, r := range rows {
		all = append(all, r.Unopened)
	}
	return &Vault{closed: why}, all, nil
}

// secret is a row with what it is the key of.
type secret struct {
	Unopened
	ID          string // the design's
	Object      design.ID
	Kind        string
	Sealed      []byte
	Fingerprint []byte // nil: sealed by an older version
}

// sealedFor is the place that the key was sealed for.
func (r secret) sealedFor() string {
	if r.Fingerprint == nil && r.Kind == theirs {
		return place(r.ID, r.Object+"#far")
	}
	return place(r.ID, r.Object)
}

func (r secret) opens(v *Vault) bool {
	_, err := v.open(r.Sealed, r.sealedFor())
	return err == nil
}

// secrets lists every sealed key, those of deleted designs too.
func (s *Store) secrets(ctx context.Context) (out []secret, err error) {
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		return db.SelectContext(ctx, &out, `
			select s.design as id, s.object, s.kind, s.sealed, s.fingerprint, d.name as design,
				coalesce(l.name || ', ' || t.name, s.object) ||
					case s.kind when 'theirs' then ', as the far end sent it' else '' end as tunnel
			from secrets s join designs d on d.id = s.design
			left join objects t on t.design = s.design and t.id = s.object
			left join objects l on l.design = s.design and l.id = t.parent
			order by d.name, tunnel`)
	})
	return out, err
}

// known reports whether the vault is the one of this database. The first that
// comes is; where an older version kept no note of it, one that opens a key is.
func (s *Store) known(ctx context.Context, v *Vault, rows []secret) (known bool, err error) {
	err = s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		var noted []byte
		err := tx.GetContext(ctx, &noted, `select fingerprint from vault`)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if known = bytes.Equal(noted, v.itself()); known {
			return nil
		}
		known = len(rows) == 0
		for _, r := range rows {
			known = known || noted == nil && r.opens(v)
		}
		if !known {
			return nil
		}
		// Of two servers that come first at once, the second finds the first's.
		if err := tx.GetContext(ctx, &noted, `
			insert into vault (fingerprint) values ($1)
			on conflict (one) do update set fingerprint = case when exists (select 1 from secrets) or vault.fingerprint is distinct from $2 then vault.fingerprint else excluded.fingerprint end
			returning fingerprint`, v.itself(), noted); err != nil {
			return err
		}
		known = bytes.Equal(noted, v.itself())
		return nil
	})
	return known, err
}

// renew seals what an older version sealed as this one does, with a fingerprint.
func (s *Store) renew(ctx context.Context, v *Vault, rows []secret) error {
	for _, r := range rows {
		plain, err := v.open(r.Sealed, r.sealedFor())
		if err != nil || r.Fingerprint != nil {
			continue
		}
		if err := s.putSecret(ctx, v, r.ID, r.Object, r.Kind, plain); err != nil {
			return err
		}
	}
	return nil
}

// ForgetKeys deletes the keys that a vault does not open, all for nil, so that new
// ones can be made, and takes the vault for the database's own.
func (s *Store) ForgetKeys(ctx context.Context, v *Vault) ([]Unopened, error) {
	rows, err := s.secrets(ctx)
	if err != nil {
		return nil, err
	}
	var gone []Unopened
	err = s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		for _, r := range rows {
			if v != nil && r.opens(v) {
				continue
			}
			gone = append(gone, r.Unopened)
			if _, err := tx.ExecContext(
				ctx, `delete from secrets where design = $1 and object = $2 and kind = $3`, r.ID, r.Object, r.Kind,
			); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `delete from vault`); err != nil || v == nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `insert into vault (fingerprint) values ($1)`, v.itself())
		return err
	})
	return gone, err
}

// MakeKeys makes the pre-shared keys that tunnels have not yet.
func (s *Store) MakeKeys(ctx context.Context, v *Vault, id string, tunnels []*design.Object) error {
	return s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		for _, t := range tunnels {
			if err := v.put(ctx, tx, id, t.ID, ours, NewKey(), retain); err != nil {
				return err
			}
		}
		return nil
	})
}

// Keys opens the pre-shared key of each tunnel, making those that are missing.
func (s *Store) Keys(ctx context.Context, v *Vault, id string, tunnels []*design.Object) (map[design.ID]string, error) {
	if err := s.MakeKeys(ctx, v, id, tunnels); err != nil {
		return nil, err
	}
	out := map[design.ID]string{}
	ids := make([]string, len(tunnels))
	for n, t := range tunnels {
		ids[n] = string(t.ID)
	}
	var rows []secret
	err := s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		return db.SelectContext(
			ctx,
			&rows,
			`select design as id, object, kind, sealed, fingerprint from secrets where design = $1 and kind = 'ours' and object = any($2)`,
			id,
			ids,
		)
	})
	if err != nil {
		return nil, err
	}
	var shut []string
	for _, r := range rows {
		plain, err := v.open(r.Sealed, r.sealedFor())
		if err != nil {
			shut = append(shut, string(r.Object))
		}
		out[r.Object] = plain
	}
	if len(shut) > 0 {
		return nil, &Closed{
			fmt.Sprintf("the key file does not open the keys of %d tunnels (%s)", len(shut), strings.Join(shut, ", ")),
			"make new ones on the sheets of their links, or restore the key file that they were sealed with",
		}
	}
	return out, nil
}

// Fingerprints tell which keys are equal, by tunnel: ours, and what the far end
// sent where that is another. No key is opened for it.
func (s *Store) Fingerprints(ctx context.Context, id string) (own, far map[design.ID]string, err error) {
	var rows []secret
	err = s.read(ctx, func(ctx context.Context, db *sqlx.DB) error {
		return db.SelectContext(
			ctx, &rows, `select object, kind, fingerprint from secrets where design = $1 and fingerprint is not null`,
			id,
		)
	})
	own, far = map[design.ID]string{}, map[design.ID]string{}
	for _, r := range rows {
		to := own
		if r.Kind == theirs {
			to = far
		}
		to[r.Object] = hex.EncodeToString(r.Fingerprint)
	}
	return own, far, err
}

// PutKey sets the key of a tunnel.
func (s *Store) PutKey(ctx context.Context, v *Vault, id string, tunnel design.ID, key string) error {
	return s.putSecret(ctx, v, id, tunnel, ours, key)
}

// PutFarKey keeps the key that a far end sent beside ours; "" forgets it.
func (s *Store) PutFarKey(ctx context.Context, v *Vault, id string, tunnel design.ID, key string) error {
	return s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		return (&FarKey{v, tunnel, key}).keep(ctx, tx, id)
	})
}

func (k *FarKey) keep(ctx context.Context, tx *sqlx.Tx, id string) error {
	if k.Key != "" {
		return k.Vault.put(ctx, tx, id, k.Tunnel, theirs, k.Key, replace)
	}
	_, err := tx.ExecContext(
		ctx, `delete from secrets where design = $1 and object = $2 and kind = 'theirs'`, id, k.Tunnel,
	)
	return err
}

// TakeFarKey makes the key that a far end sent ours, and reports whether there was
// one. It stays sealed.
func (s *Store) TakeFarKey(ctx context.Context, id string, tunnel design.ID) (taken bool, err error) {
	err = s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `
			insert into secrets (design, object, kind, sealed, fingerprint)
			select design, object, 'ours', sealed,
				fingerprint from secrets where design = $1 and object = $2 and kind = 'theirs' and fingerprint is not null
			on conflict (design, object, kind) do update set sealed = excluded.sealed,
				fingerprint = excluded.fingerprint`, id, tunnel)
		if err != nil {
			return err
		}
		n, err := r.RowsAffected()
		taken = n > 0
		return err
	})
	return taken, err
}

// What becomes of a key that is there already.
const (
	replace = `do update set sealed = excluded.sealed, fingerprint = excluded.fingerprint`
	retain  = `do nothing`
)

func (s *Store) putSecret(ctx context.Context, v *Vault, id string, tunnel design.ID, kind, plain string) error {
	return s.transact(ctx, func(ctx context.Context, tx *sqlx.Tx) error {
		return v.put(ctx, tx, id, tunnel, kind, plain, replace)
	})
}

func (v *Vault) put(ctx context.Context, tx *sqlx.Tx, id string, tunnel design.ID, kind, plain, conflict string) error {
	sealed, err := v.seal(plain, place(id, tunnel))
	if err != nil {
		return err
	}
	fingerprint, err := v.Fingerprint(id, plain)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(
		ctx,
		`insert into secrets (design, object, kind, sealed, fingerprint) values ($1, $2, $3, $4, $5) on conflict (design, object, kind) `+conflict,
		id,
		tunnel,
		kind,
		sealed,
		fingerprint,
	)
	return err
}
