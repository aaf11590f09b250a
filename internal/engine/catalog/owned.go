package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"time"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/setting"
)

// Owned is what has a name in a space beside channels, or, without a space, is of the nodes,
// and is nothing but its settings.
type Owned struct {
	ID        int64         `db:"id"`
	SpaceID   sql.NullInt64 `db:"space_id"`
	Space     string        `db:"-"`
	Name      string        `db:"name"`
	Stored    []byte        `db:"settings"`
	Revision  int64         `db:"revision"`
	CreatedAt time.Time     `db:"created_at"`
}

// Address returns its address.
func (o *Owned) Address() string { return o.Space + "/" + o.Name }

func (o *Owned) owned() *Owned { return o }

// row is the record of an owned thing.
type row interface {
	owned() *Owned
	settings() any // where its settings lie
}

// column is plain values for the records.
func column(of any) []byte {
	b, err := json.Marshal(of)
	if err != nil {
		panic(err) // plain values
	}
	return b
}

// ownedTable has the things of a table come into views, by their addresses and by their ids.
// Those without a space stand in a place of another name.
func ownedTable[T row](name, otherwise string, in func(v *View) (*map[string]T, *map[int64]T)) table {
	return table{name, func(ctx context.Context, tx *sqlx.Tx, v *View, where string, args ...any) error {
		rows, err := read[T](ctx, tx, `SELECT * FROM `+name+` `+where, args...)
		byAddress, byID := in(v)
		for _, r := range rows {
			o := r.owned()
			if err := json.Unmarshal(o.Stored, r.settings()); err != nil {
				return fmt.Errorf("the settings of %s %d: %w", name, o.ID, err)
			}
			o.Stored, o.Space = nil, otherwise
			if s := v.spaces[o.SpaceID.Int64]; s != nil {
				o.Space = s.Name
			}
			(*byAddress)[o.Address()], (*byID)[o.ID] = r, r
		}
		return err
	}, "id", func(v *View, gone []string) {
		byAddress, byID := in(v)
		*byAddress, *byID = maps.Clone(*byAddress), maps.Clone(*byID)
		for _, id := range ids(gone) {
			if r, is := (*byID)[id]; is {
				delete(*byAddress, r.owned().Address())
				delete(*byID, id)
			}
		}
	}}
}

func insertOwned[T row](ctx context.Context, tx *sqlx.Tx, table string, all ...T) error {
	for _, r := range all {
		o := r.owned()
		columns, values := ``, ``
		args := []any{o.ID, o.Name, column(r.settings())}
		if o.SpaceID.Valid {
			columns, values, args = `, space_id`, `, $4`, append(args, o.SpaceID)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO `+table+` (id, name, settings`+columns+`) VALUES ($1, $2, $3`+values+`)`, args...); err != nil {
			return err
		}
	}
	return nil
}

// setOwned changes the settings of a thing, which must be of the revision that it was made
// from (else ErrStale).
func setOwned(ctx context.Context, tx *sqlx.Tx, table string, r row) error {
	o := r.owned()
	return Fenced(ctx, tx, ErrStale, `UPDATE `+table+` SET settings = $2, revision = revision + 1 WHERE id = $1 AND revision = $3`, o.ID, column(r.settings()), o.Revision)
}

func (c *Catalog) removeOwned(ctx context.Context, table string, id int64, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE id = $1`, id)
		return err
	})
}

// Beside is the kind of what has an address in a space beside channels, empty for none.
func (v *View) Beside(at string) string {
	switch {
	case v.Endpoints[at] != nil:
		return setting.AnEndpoint
	case v.Watches[at] != nil:
		return setting.AWatch
	case v.Chores[at] != nil:
		return setting.AChore
	}
	return ""
}

// NewOwnedID returns an id that no other owned thing and no channel has.
func NewOwnedID() int64 { return newID(channelIDs) }
