package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"time"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/setting"
)

// Watch is a watch, and how it is set. Those without a space are of the nodes.
type Watch struct {
	ID            int64         `db:"id"`
	SpaceID       sql.NullInt64 `db:"space_id"`
	Space         string        `db:"-"`
	Name          string        `db:"name"`
	setting.Watch `db:"-"`
	Stored        []byte    `db:"settings"`
	Revision      int64     `db:"revision"`
	CreatedAt     time.Time `db:"created_at"`
}

// Address returns the watch's address.
func (w *Watch) Address() string { return w.Space + "/" + w.Name }

func (w *Watch) column() []byte {
	b, err := json.Marshal(w.Watch)
	if err != nil {
		panic(err) // plain values
	}
	return b
}

// watchesTable has watches come into views.
var watchesTable = table{"watches", func(ctx context.Context, tx *sqlx.Tx, v *View, where string, args ...any) error {
	rows, err := read[*Watch](ctx, tx, `SELECT * FROM watches `+where, args...)
	for _, w := range rows {
		if err := json.Unmarshal(w.Stored, &w.Watch); err != nil {
			return fmt.Errorf("the settings of watch %d: %w", w.ID, err)
		}
		w.Stored, w.Space = nil, address.Nodes
		if s := v.spaces[w.SpaceID.Int64]; s != nil {
			w.Space = s.Name
		}
		v.Watches[w.Address()], v.watches[w.ID] = w, w
	}
	return err
}, "id", func(v *View, gone []string) {
	v.Watches, v.watches = maps.Clone(v.Watches), maps.Clone(v.watches)
	for _, id := range ids(gone) {
		if w := v.watches[id]; w != nil {
			delete(v.Watches, w.Address())
			delete(v.watches, id)
		}
	}
}}

// NewWatch records a watch.
func (c *Catalog) NewWatch(ctx context.Context, w *Watch, e *Entry) error {
	return c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error { return insertWatches(ctx, tx, []*Watch{w}) })
}

// FirstWatches records the watches that come by themselves with a space (0: with the nodes)
// that was made before there were any; ErrStale when it has got them.
func (c *Catalog) FirstWatches(ctx context.Context, space int64, all []*Watch, e *Entry) error {
	return c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		had := `UPDATE spaces SET watched = true WHERE id = $1 AND NOT watched`
		if space == 0 {
			had = `UPDATE catalog_version SET watched = true WHERE $1 = 0 AND NOT watched`
		}
		if err := oneRow(tx.ExecContext(ctx, had, space)); err != nil {
			return err
		}
		return insertWatches(ctx, tx, all)
	})
}

func insertWatches(ctx context.Context, tx *sqlx.Tx, all []*Watch) error {
	for _, w := range all {
		if _, err := tx.ExecContext(ctx, `INSERT INTO watches (id, space_id, name, settings) VALUES ($1, $2, $3, $4)`, w.ID, w.SpaceID, w.Name, w.column()); err != nil {
			return err
		}
	}
	return nil
}

// NewWatchID returns an id that no other watch has.
func NewWatchID() int64 { return newID(channelIDs) }

// SetWatch changes a watch, which must be of the revision that it was made from (else
// ErrStale).
func (c *Catalog) SetWatch(ctx context.Context, w *Watch, e *Entry) error {
	return c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		return oneRow(tx.ExecContext(ctx, `UPDATE watches SET settings = $2, revision = revision + 1 WHERE id = $1 AND revision = $3`, w.ID, w.column(), w.Revision))
	})
}

// RemoveWatch deletes a watch. Its incidents stay.
func (c *Catalog) RemoveWatch(ctx context.Context, id int64, e *Entry) error {
	return c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM watches WHERE id = $1`, id)
		return err
	})
}

// DutyOf returns the number under which the owner of a context does the duties of the
// cluster.
func DutyOf(ctx context.Context) (duty int64, ok bool) {
	duty, ok = ctx.Value(dutyKey{}).(int64)
	return duty, ok
}
