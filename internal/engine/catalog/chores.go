package catalog

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/setting"
)

// Chore is a chore, and how it is set.
type Chore struct {
	Owned
	setting.Chore `db:"-"`
	Since         time.Time `db:"since"`     // its times count from then on
	By            string    `db:"set_by"`    // who has set it last: it does what they may
	Scope         string    `db:"set_scope"` // their pass, when they did
}

func (ch *Chore) settings() any { return &ch.Chore }

var choresTable = ownedTable("chores", address.Nodes, func(v *View) (*map[string]*Chore, *map[int64]*Chore) { return &v.Chores, &v.chores })

// NewChore records a chore, whose times count from now on.
func (c *Catalog) NewChore(ctx context.Context, ch *Chore, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := insertOwned(ctx, tx, "chores", ch); err != nil {
			return err
		}
		return setBy(ctx, tx, ch)
	})
}

func setBy(ctx context.Context, tx *sqlx.Tx, ch *Chore) error {
	if a, asks := access.In(ctx); asks && !access.IsNode(a) {
		ch.Scope = access.PassIn(ctx)
	}
	_, err := tx.ExecContext(ctx, `UPDATE chores SET set_by = $2, set_scope = $3 WHERE id = $1`, ch.ID, ch.By, ch.Scope)
	return err
}

// SetChore changes a chore, which must be of the revision that it was made from (else
// ErrStale). With again its times count anew, from now on.
func (c *Catalog) SetChore(ctx context.Context, ch *Chore, again bool, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := setOwned(ctx, tx, "chores", ch); err != nil {
			return err
		}
		if err := setBy(ctx, tx, ch); err != nil || !again {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE chores SET since = now() WHERE id = $1`, ch.ID); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM chore_states WHERE chore_id = $1`, ch.ID)
		return err
	})
}

// RemoveChore deletes a chore. Its runs stay.
func (c *Catalog) RemoveChore(ctx context.Context, id int64, e *Entry) error {
	return c.removeOwned(ctx, "chores", id, e)
}
