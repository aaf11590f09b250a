package ledger

import (
	"context"
	"crypto/sha256"
	"time"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/engine/catalog"
)

// Account is how a person signs in here.
type Account struct {
	ID           int64      `db:"principal_id"`
	Principal    string     `db:"principal"`
	InvitedUntil *time.Time `db:"invited_until"` // nil: the invitation was accepted
	Password     string     `db:"password"`      // as account.Hash makes it; empty: none yet
	Codes        []byte     `db:"codes"`         // sealed
	Step         int64      `db:"step"`          // of the last code that was taken
	ChangedAt    time.Time  `db:"changed_at"`
}

const accountColumns = `SELECT a.principal_id, p.name AS principal, a.invited_until, a.password, a.codes, a.step, a.changed_at FROM accounts a JOIN principals p ON p.id = a.principal_id `

// Accounts are all that there are.
func (l Ledger) Accounts(ctx context.Context) ([]Account, error) {
	return catalog.List[Account](ctx, l.c, accountColumns+`ORDER BY p.name`)
}

// Account is that of a principal, or catalog.ErrNotFound.
func (l Ledger) Account(ctx context.Context, principal string) (*Account, error) {
	return catalog.One[Account](ctx, l.c, accountColumns+`WHERE p.name = $1`, principal)
}

// Invited is the account that an invitation is for, or catalog.ErrNotFound: it is over, or was
// accepted.
func (l Ledger) Invited(ctx context.Context, invitation string) (*Account, error) {
	hash := sha256.Sum256([]byte(invitation))
	return catalog.One[Account](ctx, l.c, accountColumns+`WHERE a.invitation = $1 AND a.invited_until > now()`, hash[:])
}

// NewAccount records an account that waits for somebody who comes with an invitation. One that was
// there ends by it, and so do the sessions of its principal.
func (l Ledger) NewAccount(ctx context.Context, a Account, invitation string, e *catalog.Entry) error {
	hash := sha256.Sum256([]byte(invitation))
	return l.c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO accounts (principal_id, invitation, invited_until, codes) VALUES ($1, $2, $3, $4)
			ON CONFLICT (principal_id) DO UPDATE SET invitation = excluded.invitation, invited_until = excluded.invited_until, codes = excluded.codes, password = '', step = 0, changed_at = now()`,
			a.ID, hash[:], a.InvitedUntil, a.Codes); err != nil {
			return err
		}
		return endSessions(ctx, tx, a.ID)
	})
}

// SetPassword gives an account a password with a code of a step, which must be after the last one
// that was taken, and of the password that it had (else catalog.ErrStale). Its invitation is accepted with it,
// and the sessions of its principal end.
func (l Ledger) SetPassword(ctx context.Context, a *Account, password string, step int64, e *catalog.Entry) error {
	return l.c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := catalog.Fenced(ctx, tx, catalog.ErrStale, `UPDATE accounts SET password = $2, step = $3, invitation = NULL, invited_until = NULL, changed_at = now()
			WHERE principal_id = $1 AND password = $4 AND codes = $5 AND step < $3`, a.ID, password, step, a.Password, a.Codes); err != nil {
			return err
		}
		return endSessions(ctx, tx, a.ID)
	})
}

// TakeCode notes that the code of a step was taken, once: else catalog.ErrStale.
func (l Ledger) TakeCode(ctx context.Context, a *Account, step int64) error {
	return l.c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		return catalog.Fenced(ctx, tx, catalog.ErrStale, `UPDATE accounts SET step = $2 WHERE principal_id = $1 AND step < $2 AND password = $3`, a.ID, step, a.Password)
	})
}

// SealAccount keeps the secret of an account's codes as it is sealed anew.
func (l Ledger) SealAccount(ctx context.Context, a *Account, codes []byte) error {
	return l.c.Exec(ctx, `UPDATE accounts SET codes = $2 WHERE principal_id = $1 AND codes = $3`, a.ID, codes, a.Codes)
}

// CloseAccount ends an account and the sessions of its principal; catalog.ErrNotFound: there is none.
func (l Ledger) CloseAccount(ctx context.Context, id int64, e *catalog.Entry) error {
	return l.c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := catalog.Fenced(ctx, tx, catalog.ErrNotFound, `DELETE FROM accounts WHERE principal_id = $1`, id); err != nil {
			return err
		}
		return endSessions(ctx, tx, id)
	})
}

func endSessions(ctx context.Context, tx *sqlx.Tx, id int64) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM secrets WHERE principal_id = $1 AND kind = 'session'`, id)
	return err
}
