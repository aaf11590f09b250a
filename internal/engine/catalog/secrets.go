package catalog

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
)

// Kinds of secrets.
const (
	Token   = "token"
	Session = "session"
	Link    = "link"

	// Of these, records have none.
	Certificate  = "certificate"  // of a client
	Confirmation = "confirmation" // by a second person
)

// maxSessions is how many sessions a principal has; a new one ends the oldest.
const maxSessions = 50

// secret is a token, session or link in force. The secret itself is not kept.
type secret struct {
	Hash      []byte       `db:"hash"`
	Kind      string       `db:"kind"`
	Principal string       `db:"principal"`
	Role      string       `db:"role"`
	Pattern   string       `db:"pattern"`
	Label     string       `db:"label"`
	CreatedAt time.Time    `db:"created_at"`
	ExpiresAt sql.NullTime `db:"expires_at"`
	UsedAt    sql.NullTime `db:"used_at"`

	noted atomic.Int64 // when this node noted a use last, in Unix seconds
}

// Secret describes a token, a session or a link without telling it.
type Secret struct {
	ID        string // the beginning of its hash
	Kind      string
	Principal string
	Label     string
	Role      string // empty, or all that it is good for is this role
	Pattern   string // on what this covers
	CreatedAt time.Time
	ExpiresAt time.Time // zero: never
	UsedAt    time.Time // last, to a few minutes; zero: not yet
}

// Stands is who comes with what the records have no secret of: a certificate, a confirmation.
func Stands(s Secret, raw []byte) Asker {
	h := sha256.Sum256(raw)
	return Asker{Name: s.Principal, secret: h, by: &secret{Hash: h[:], Kind: s.Kind, Principal: s.Principal, Role: s.Role, Pattern: s.Pattern, ExpiresAt: sql.NullTime{Time: s.ExpiresAt, Valid: true}}}
}

// secretID is how many hexadecimal digits of a hash name a secret.
const secretID = 12

// NewSecret makes a random secret that stands for the principal of s, with its kind, label
// and scope. It returns ErrNotFound when there is no such principal. Zero lives has no end.
func (c *Catalog) NewSecret(ctx context.Context, s Secret, lives time.Duration, e *Entry) (string, error) {
	text := s.Kind[:1] + "-" + rand.Text() + rand.Text()
	add := func(ctx context.Context, tx *sqlx.Tx) error { return addSecret(ctx, tx, s, text, lives) }
	if s.Kind == Token {
		return text, c.Change(ctx, e, add)
	}
	return text, c.Record(ctx, e, add)
}

// KindOf is of which kind a secret is that comes where a token does: a token, or a session of a
// program.
func KindOf(text string) string {
	if strings.HasPrefix(text, Session[:1]+"-") {
		return Session
	}
	return Token
}

func addSecret(ctx context.Context, tx *sqlx.Tx, s Secret, text string, lives time.Duration) error {
	hash := sha256.Sum256([]byte(text))
	expires := sql.NullTime{Time: time.Now().Add(lives), Valid: lives > 0}
	if err := Fenced(ctx, tx, ErrNotFound, `INSERT INTO secrets (hash, principal_id, kind, label, expires_at, role, pattern)
		SELECT $1, id, $3, $4, $5, $6, $7 FROM principals WHERE name = $2`, hash[:], s.Principal, s.Kind, s.Label, expires, s.Role, s.Pattern); err != nil {
		return err
	}
	if s.Kind != Session {
		return nil
	}
	_, err := tx.ExecContext(ctx, `DELETE FROM secrets WHERE hash IN (SELECT x.hash FROM secrets x JOIN principals p ON p.id = x.principal_id
		WHERE p.name = $1 AND x.kind = 'session' ORDER BY x.created_at DESC OFFSET $2)`, s.Principal, maxSessions)
	return err
}

// DropSecret ends a secret of the kind. It returns whether it was there, so that
// a link is used by one only.
func (c *Catalog) DropSecret(ctx context.Context, kind, text string) (bool, error) {
	hash := sha256.Sum256([]byte(text))
	drop := func(ctx context.Context, tx *sqlx.Tx) error {
		return Fenced(ctx, tx, ErrNotFound, `DELETE FROM secrets WHERE hash = $1 AND kind = $2`, hash[:], kind)
	}
	do := c.Change
	if kind == Link {
		do = c.Record
	}
	err := do(ctx, nil, drop)
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// Revoke ends the secret with the id, which is refused everywhere as soon as the
// nodes have heard of it. It returns ErrNotFound when there is none.
func (c *Catalog) Revoke(ctx context.Context, id string, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		return Fenced(ctx, tx, ErrNotFound, `DELETE FROM secrets WHERE `+byID, id)
	})
}

// RevokeAll ends the secrets of a kind but the one with the id, and returns how
// many there were. Its entry tells the number.
func (c *Catalog) RevokeAll(ctx context.Context, kind, but string, e *Entry) (n int64, err error) {
	err = c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		result, err := tx.ExecContext(ctx, `DELETE FROM secrets x WHERE kind = $2 AND NOT (`+byID+`) AND `+standing["secrets"], but, kind)
		if err != nil {
			return err
		}
		if n, err = result.RowsAffected(); err != nil {
			return err
		}
		if e.Before = map[string]any{"count": n}; n == 0 {
			return ErrNotFound
		}
		return nil
	})
	if errors.Is(err, ErrNotFound) {
		return 0, nil
	}
	return n, err
}

// Rotate ends a token and makes another in its place, with its label, its scope
// and its end.
func (c *Catalog) Rotate(ctx context.Context, s Secret, e *Entry) (string, error) {
	text := Token[:1] + "-" + rand.Text() + rand.Text()
	var lives time.Duration
	if !s.ExpiresAt.IsZero() {
		lives = time.Until(s.ExpiresAt)
	}
	return text, c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := Fenced(ctx, tx, ErrNotFound, `DELETE FROM secrets WHERE kind = 'token' AND `+byID, s.ID); err != nil {
			return err
		}
		return addSecret(ctx, tx, s, text, lives)
	})
}

// byID is of the secret with the id that is the first argument.
var byID = fmt.Sprintf(`left(encode(hash, 'hex'), %d) = $1`, secretID)

const secretColumns = `SELECT x.hash, x.kind, x.label, x.created_at, x.expires_at, x.used_at, x.role, x.pattern, p.name AS principal
	FROM secrets x JOIN principals p ON p.id = x.principal_id `

// Secrets describes what is in force: tokens, sessions, links, the oldest of
// each first.
func (c *Catalog) Secrets(ctx context.Context) ([]Secret, error) {
	rows, err := List[*secret](ctx, c, secretColumns+`WHERE `+standing["secrets"]+` ORDER BY x.kind DESC, x.created_at, x.hash`)
	all := make([]Secret, 0, len(rows))
	for _, s := range rows {
		all = append(all, s.describe())
	}
	return all, err
}

// Secret describes the one in force with the id, or returns ErrNotFound.
func (c *Catalog) Secret(ctx context.Context, id string) (Secret, error) {
	s, err := One[secret](ctx, c, secretColumns+`WHERE `+byID+` AND `+standing["secrets"], id)
	if err != nil {
		return Secret{}, err
	}
	return s.describe(), nil
}

func (s *secret) over() bool { return s.ExpiresAt.Valid && s.ExpiresAt.Time.Before(time.Now()) }

func (s *secret) describe() Secret {
	d := Secret{ID: hex.EncodeToString(s.Hash)[:secretID], Kind: s.Kind, Principal: s.Principal, Label: s.Label, Role: s.Role, Pattern: s.Pattern, CreatedAt: s.CreatedAt}
	if s.ExpiresAt.Valid {
		d.ExpiresAt = s.ExpiresAt.Time
	}
	if s.UsedAt.Valid {
		d.UsedAt = s.UsedAt.Time
	}
	return d
}

// EndSessions ends the sessions of a principal.
func (c *Catalog) EndSessions(ctx context.Context, principal string, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM secrets x USING principals p WHERE p.id = x.principal_id AND p.name = $1 AND x.kind = 'session'`, principal)
		return err
	})
}

// Extend has a session end later, unless it ends nearly then.
func (c *Catalog) Extend(ctx context.Context, a Asker, until time.Time) error {
	return c.Exec(ctx, `UPDATE secrets SET expires_at = $2 WHERE hash = $1 AND kind = 'session' AND expires_at < $2::timestamptz - interval '1 minute'`, a.secret[:], until)
}

// noteUses is how far apart uses of a secret are noted.
const noteUses = 5 * time.Minute

// Used reports whether it is time again to note that the secret of an asker is used.
func (a *Asker) Used(now time.Time) bool {
	last := a.by.noted.Load()
	return now.Unix()-last >= int64(noteUses/time.Second) && a.by.noted.CompareAndSwap(last, now.Unix())
}

// NoteUses records that the secrets of askers were used by now.
func (c *Catalog) NoteUses(ctx context.Context, all []Asker) error {
	hashes := make([][]byte, len(all))
	for i := range all {
		hashes[i] = all[i].secret[:]
	}
	return c.Exec(ctx, `UPDATE secrets SET used_at = now() WHERE hash = ANY ($1)`, hashes)
}
