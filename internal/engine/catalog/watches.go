package catalog

import (
	"context"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/setting"
)

// Watch is a watch, and how it is set.
type Watch struct {
	Owned
	setting.Watch `db:"-"`
}

func (w *Watch) settings() any { return &w.Watch }

var watchesTable = ownedTable("watches", address.Nodes, func(v *View) (*map[string]*Watch, *map[int64]*Watch) { return &v.Watches, &v.watches })

// NewWatch records a watch.
func (c *Catalog) NewWatch(ctx context.Context, w *Watch, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error { return insertOwned(ctx, tx, "watches", w) })
}

// FirstWatches records the watches that come by themselves with a space (0: with the nodes)
// that was made before there were any; ErrStale when it has got them.
func (c *Catalog) FirstWatches(ctx context.Context, space int64, all []*Watch, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		had := `UPDATE spaces SET watched = true WHERE id = $1 AND NOT watched`
		if space == 0 {
			had = `UPDATE catalog_version SET watched = true WHERE $1 = 0 AND NOT watched`
		}
		if err := Fenced(ctx, tx, ErrStale, had, space); err != nil {
			return err
		}
		return insertOwned(ctx, tx, "watches", all...)
	})
}

// SetWatch changes a watch, which must be of the revision that it was made from (else
// ErrStale).
func (c *Catalog) SetWatch(ctx context.Context, w *Watch, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error { return setOwned(ctx, tx, "watches", w) })
}

// RemoveWatch deletes a watch. Its incidents stay.
func (c *Catalog) RemoveWatch(ctx context.Context, id int64, e *Entry) error {
	return c.removeOwned(ctx, "watches", id, e)
}

// DutyOf returns the number under which the owner of a context does the duties of the
// cluster.
func DutyOf(ctx context.Context) (duty int64, ok bool) {
	duty, ok = ctx.Value(dutyKey{}).(int64)
	return duty, ok
}
