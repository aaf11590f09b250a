package ledger

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/engine/catalog"
)

// Device is a program that waits for somebody to let it in.
type Device struct {
	UserCode  string         `db:"user_code"` // that people read and type
	Name      string         `db:"name"`      // what it says that it is
	Address   string         `db:"address"`   // from which it has asked
	ExpiresAt time.Time      `db:"expires_at"`
	PolledAt  sql.NullTime   `db:"polled_at"`
	Principal sql.NullString `db:"principal"` // who has let it in, with what their session is limited to
	Role      string         `db:"role"`
	Pattern   string         `db:"pattern"`
	Denied    bool           `db:"denied"`
}

// ErrTooMany is returned when too many wait at once.
var ErrTooMany = errors.New("too many wait")

const deviceColumns = `SELECT user_code, name, address, expires_at, polled_at, principal, role, pattern, denied FROM devices `

// NewDevice records one that waits, which comes back with a code; up to so many wait at once. It
// returns catalog.ErrExists when its user code is taken.
func (l Ledger) NewDevice(ctx context.Context, code string, d Device, most int) error {
	hash := sha256.Sum256([]byte(code))
	return l.c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM devices WHERE expires_at < now()`); err != nil {
			return err
		}
		return catalog.Fenced(ctx, tx, ErrTooMany, `INSERT INTO devices (hash, user_code, name, address, expires_at) SELECT $1, $2, $3, $4, $5 WHERE (SELECT count(*) FROM devices) < $6`, hash[:], d.UserCode, d.Name, d.Address, d.ExpiresAt, most)
	})
}

// Device returns one that waits by its user code, or catalog.ErrNotFound.
func (l Ledger) Device(ctx context.Context, userCode string) (*Device, error) {
	return catalog.One[Device](ctx, l.c, deviceColumns+`WHERE user_code = $1 AND expires_at > now() AND principal IS NULL AND NOT denied`, userCode)
}

// LastUseOf returns when a secret that a principal has was used last, to a few minutes; zero: none was.
func (l Ledger) LastUseOf(ctx context.Context, principal string) (time.Time, error) {
	row, err := catalog.One[sql.NullTime](ctx, l.c, `SELECT max(s.used_at) FROM secrets s JOIN principals p ON p.id = s.principal_id WHERE p.name = $1`, principal)
	if err != nil {
		return time.Time{}, err
	}
	return row.Time, nil
}

// Decide lets one in for who is described by a secret, or denies it, once: else
// catalog.ErrNotFound.
func (l Ledger) Decide(ctx context.Context, userCode string, as catalog.Secret, let bool) error {
	return l.c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		return catalog.Fenced(ctx, tx, catalog.ErrNotFound, `UPDATE devices SET principal = CASE WHEN $5 THEN $2 END, role = $3, pattern = $4, denied = NOT $5 WHERE user_code = $1 AND expires_at > now() AND principal IS NULL AND NOT denied`,
			userCode, as.Principal, as.Role, as.Pattern, let)
	})
}

// PollDevice returns what became of the one that comes with a code, as it was before this. One that
// was decided is told so once. It returns catalog.ErrNotFound when there is none.
func (l Ledger) PollDevice(ctx context.Context, code string) (d *Device, err error) {
	hash := sha256.Sum256([]byte(code))
	err = l.c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		d = &Device{}
		if err := tx.GetContext(ctx, d, deviceColumns+`WHERE hash = $1 AND expires_at > now() FOR UPDATE`, hash[:]); err != nil {
			return err
		}
		statement := `UPDATE devices SET polled_at = now() WHERE hash = $1`
		if d.Principal.Valid || d.Denied {
			statement = `DELETE FROM devices WHERE hash = $1`
		}
		_, err := tx.ExecContext(ctx, statement, hash[:])
		return err
	})
	return d, err
}
