package catalog

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"database/sql"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the database/sql driver
	"github.com/jmoiron/sqlx"
)

// Kinds of secrets.
const (
	Token   = "token"
	Session = "session"
	Link    = "link"
)

// NewSecret makes a random secret that stands for the principal.
func (c *Catalog) NewSecret(ctx context.Context, principal, kind string, lives time.Duration, e *Entry) (string, error) {
	text := kind[:1] + "-" + rand.Text() + rand.Text()
	return text, c.AddSecret(ctx, principal, kind, text, lives, e)
}

// AddSecret records a secret whose text is known already; the principal is
// made as an owner if it does not exist. Zero lives has no end.
func (c *Catalog) AddSecret(ctx context.Context, principal, kind, text string, lives time.Duration, e *Entry) error {
	hash := sha256.Sum256([]byte(text))
	expires := sql.NullTime{Time: time.Now().Add(lives), Valid: lives > 0}
	return c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO principals (name, role) VALUES ($1, 'owner') ON CONFLICT DO NOTHING`, principal); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO secrets (hash, principal_id, kind, expires_at)
			SELECT $1, id, $3, $4 FROM principals WHERE name = $2 ON CONFLICT DO NOTHING`, hash[:], principal, kind, expires)
		return err
	})
}

// DropSecret ends a secret; expired ones go with it. It returns whether it
// was there, so that a link is used by one only.
func (c *Catalog) DropSecret(ctx context.Context, text string) (bool, error) {
	hash := sha256.Sum256([]byte(text))
	var n int64
	err := c.change(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		result, err := tx.ExecContext(ctx, `DELETE FROM secrets WHERE hash = $1`, hash[:])
		if err != nil {
			return err
		}
		if n, err = result.RowsAffected(); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `DELETE FROM secrets WHERE expires_at < now()`)
		return err
	})
	return n > 0, err
}

// Who returns for whom a secret of the kind stands. The secret is looked up
// by its hash, and the hashes are compared in constant time.
func (v *View) Who(kind, text string) (Principal, bool) {
	hash := sha256.Sum256([]byte(text))
	s, ok := v.secrets[hash]
	if !ok || s.Kind != kind || subtle.ConstantTimeCompare(s.Hash, hash[:]) != 1 {
		return Principal{}, false
	}
	if s.ExpiresAt.Valid && s.ExpiresAt.Time.Before(time.Now()) {
		return Principal{}, false
	}
	return Principal{Name: s.Principal, Role: s.Role}, true
}
