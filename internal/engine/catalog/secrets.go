package catalog

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"database/sql"
	"encoding/hex"
	"time"

	"github.com/jmoiron/sqlx"
)

// Kinds of secrets.
const (
	Token   = "token"
	Session = "session"
	Link    = "link"
)

// maxSessions is how many sessions a principal has; a new one ends the oldest.
const maxSessions = 50

// secret is a token, session or link in force. The secret itself is not kept.
type secret struct {
	Hash      []byte       `db:"hash"`
	Kind      string       `db:"kind"`
	Principal string       `db:"principal"`
	Role      string       `db:"role"`
	Label     string       `db:"label"`
	CreatedAt time.Time    `db:"created_at"`
	ExpiresAt sql.NullTime `db:"expires_at"`
}

// Secret describes a token, a session or a link without telling it.
type Secret struct {
	ID        string // the beginning of its hash
	Kind      string
	Principal string
	Label     string
	MadeAt    time.Time
	ExpiresAt time.Time // zero: never
}

// secretID is how many hexadecimal digits of a hash name a secret.
const secretID = 12

// NewSecret makes a random secret that stands for the principal, which is made
// as an owner if it does not exist. Zero lives has no end.
func (c *Catalog) NewSecret(ctx context.Context, principal, kind, label string, lives time.Duration, e *Entry) (string, error) {
	text := kind[:1] + "-" + rand.Text() + rand.Text()
	return text, c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		return addSecret(ctx, tx, principal, kind, label, text, lives)
	})
}

func addSecret(ctx context.Context, tx *sqlx.Tx, principal, kind, label, text string, lives time.Duration) error {
	hash := sha256.Sum256([]byte(text))
	expires := sql.NullTime{Time: time.Now().Add(lives), Valid: lives > 0}
	if _, err := tx.ExecContext(ctx, `INSERT INTO principals (name, role) VALUES ($1, 'owner') ON CONFLICT DO NOTHING`, principal); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO secrets (hash, principal_id, kind, label, expires_at)
		SELECT $1, id, $3, $4, $5 FROM principals WHERE name = $2 ON CONFLICT DO NOTHING`, hash[:], principal, kind, label, expires); err != nil {
		return err
	}
	if kind != Session {
		return nil
	}
	_, err := tx.ExecContext(ctx, `DELETE FROM secrets WHERE hash IN (SELECT x.hash FROM secrets x JOIN principals p ON p.id = x.principal_id
		WHERE p.name = $1 AND x.kind = 'session' ORDER BY x.created_at DESC OFFSET $2)`, principal, maxSessions)
	return err
}

// DropSecret ends a secret of the kind; expired ones go with it. It returns
// whether it was there, so that a link is used by one only.
func (c *Catalog) DropSecret(ctx context.Context, kind, text string) (bool, error) {
	hash := sha256.Sum256([]byte(text))
	var n int64
	err := c.change(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		result, err := tx.ExecContext(ctx, `DELETE FROM secrets WHERE hash = $1 AND kind = $2`, hash[:], kind)
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

// Revoke ends the secrets with the ids, which are refused everywhere as soon as
// the nodes have heard of it. It returns how many there were.
func (c *Catalog) Revoke(ctx context.Context, ids []string, e *Entry) (n int64, err error) {
	err = c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		for _, id := range ids {
			result, err := tx.ExecContext(ctx, `DELETE FROM secrets WHERE left(encode(hash, 'hex'), $2) = $1`, id, secretID)
			if err != nil {
				return err
			}
			one, err := result.RowsAffected()
			if err != nil {
				return err
			}
			n += one
		}
		if n == 0 {
			return ErrNotFound
		}
		return nil
	})
	return n, err
}

// Rotate ends a token and makes another in its place, with its label and its
// end.
func (c *Catalog) Rotate(ctx context.Context, s Secret, e *Entry) (string, error) {
	text := Token[:1] + "-" + rand.Text() + rand.Text()
	var lives time.Duration
	if !s.ExpiresAt.IsZero() {
		lives = time.Until(s.ExpiresAt)
	}
	return text, c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := oneRow(tx.ExecContext(ctx, `DELETE FROM secrets WHERE left(encode(hash, 'hex'), $2) = $1 AND kind = 'token'`, s.ID, secretID)); err != nil {
			return err
		}
		return addSecret(ctx, tx, s.Principal, Token, s.Label, text, lives)
	})
}

// Secrets describes what is in force.
func (v *View) Secrets() (all []Secret) {
	for _, s := range v.secrets {
		if s.over() {
			continue
		}
		all = append(all, s.describe())
	}
	return all
}

func (s *secret) over() bool { return s.ExpiresAt.Valid && s.ExpiresAt.Time.Before(time.Now()) }

func (s *secret) describe() Secret {
	d := Secret{ID: hex.EncodeToString(s.Hash)[:secretID], Kind: s.Kind, Principal: s.Principal, Label: s.Label, MadeAt: s.CreatedAt}
	if s.ExpiresAt.Valid {
		d.ExpiresAt = s.ExpiresAt.Time
	}
	return d
}

// Who returns for whom a secret of the kind stands. The secret is looked up
// by its hash, and the hashes are compared in constant time.
func (v *View) Who(kind, text string) (Principal, bool) {
	hash := sha256.Sum256([]byte(text))
	s, ok := v.secrets[hash]
	if !ok || s.Kind != kind || subtle.ConstantTimeCompare(s.Hash, hash[:]) != 1 || s.over() {
		return Principal{}, false
	}
	return Principal{Name: s.Principal, Role: s.Role, secret: hash, by: s}, true
}

// By describes the secret with which the principal came.
func (p *Principal) By() Secret { return p.by.describe() }

// InForce reports whether the secret that a principal came with still stands
// for it, and when that ends by itself (zero: never).
func (v *View) InForce(p Principal) (until time.Time, ok bool) {
	s, ok := v.secrets[p.secret]
	if !ok || s.over() {
		return time.Time{}, false
	}
	return s.ExpiresAt.Time, true
}
