package catalog

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/setting"

	"github.com/jmoiron/sqlx"
)

// Space is a named group of channels, and how it is set.
type Space struct {
	ID            int64  `db:"id"`
	Name          string `db:"name"`
	setting.Space `db:"-"`
	Stored        []byte    `db:"settings" json:"-"` // the settings as the records have them
	CreatedAt     time.Time `db:"created_at"`
	Watched       bool      `db:"watched"` // it has got the watches that come by themselves
}

// The kinds of channels.
const (
	KindTopic = setting.Topic
	KindQueue = setting.Queue
)

// Channel is a topic or a queue, and how it is set.
type Channel struct {
	ID              int64  `db:"id"`
	SpaceID         int64  `db:"space_id"`
	Space           string `db:"space"`
	Name            string `db:"name"`
	Kind            string `db:"kind"`
	setting.Channel `db:"-"`
	Stored          []byte        `db:"settings" json:"-"` // the settings as the records have them
	GroupID         sql.NullInt64 `db:"group_id"`          // of the queue with the dead letters of a group
	CreatedAt       time.Time     `db:"created_at"`
	RemovedAt       sql.NullTime  `db:"removed_at"`
	Revision        int64         `db:"revision"` // of the settings
}

// Address returns the channel's address.
func (c *Channel) Address() string { return c.Space + "/" + c.Name }

// At returns the channel's address as one that can be extended.
func (c *Channel) At() address.Address {
	if !c.GroupID.Valid {
		return address.Channel(c.Space, c.Name)
	}
	a, err := address.Parse(c.Address())
	if err != nil {
		panic(err) // it was made of one
	}
	return a
}

// Reader returns the address of a reader of the channel by its name there.
func (c *Channel) Reader(name string) string { return c.At().Reader(name).String() }

// NewSpace records a space, with the watches that come with it.
func (c *Catalog) NewSpace(ctx context.Context, s *Space, e *Entry, watches ...*Watch) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		var id int64
		if err := tx.GetContext(ctx, &id, `INSERT INTO spaces (name, settings, watched) VALUES ($1, $2, true) RETURNING id`, s.Name, column(s.Space)); err != nil {
			return err
		}
		for _, w := range watches {
			w.SpaceID = sql.NullInt64{Int64: id, Valid: true}
		}
		return insertOwned(ctx, tx, "watches", watches...)
	})
}

// SetSpace changes how a space is set, which was as in old when the change was made.
func (c *Catalog) SetSpace(ctx context.Context, old, s *Space, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		return Fenced(ctx, tx, ErrStale, `UPDATE spaces SET settings = $2 WHERE id = $1 AND settings = $3`, s.ID, column(s.Space), old.Stored)
	})
}

// BoundedError is a space that would have more of something than it may.
type BoundedError struct {
	What      string // channels, or partitions
	Has, Most int    // it would have, and may have
}

func (b *BoundedError) Error() string { return fmt.Sprintf("%d %s", b.Has, b.What) }

// hasRoom returns a *BoundedError when a space has got more than it may. Changes of one space wait
// for each other here: each counts what those before it have made.
func hasRoom(ctx context.Context, tx *sqlx.Tx, space int64) error {
	var is struct{ Channels, Partitions int }
	var s Space
	err := tx.GetContext(ctx, &s, `SELECT * FROM spaces WHERE id = $1 FOR NO KEY UPDATE`, space)
	if err = cmp.Or(err, json.Unmarshal(s.Stored, &s.Space)); err != nil {
		return err
	}
	err = tx.GetContext(ctx, &is, `SELECT count(*) AS channels, coalesce(sum((settings->>'partitions')::int), 0) AS partitions FROM channels WHERE space_id = $1 AND removed_at IS NULL AND group_id IS NULL`, space)
	switch {
	case s.MostChannels > 0 && is.Channels > s.MostChannels:
		return &BoundedError{"channels", is.Channels, s.MostChannels}
	case s.MostPartitions > 0 && is.Partitions > s.MostPartitions:
		return &BoundedError{"partitions", is.Partitions, s.MostPartitions}
	}
	return err
}

// RemoveSpace deletes a space that has no channels. Channels of it that were
// removed lose their way back.
func (c *Catalog) RemoveSpace(ctx context.Context, id int64, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		var n int
		if err := tx.GetContext(ctx, &n, `SELECT (SELECT count(*) FROM channels WHERE space_id = $1 AND removed_at IS NULL) + (SELECT count(*) FROM endpoints WHERE space_id = $1)`, id); err != nil {
			return err
		}
		if n > 0 {
			return ErrExists
		}
		for _, of := range []string{"channels", "watches", "chores"} {
			if _, err := tx.ExecContext(ctx, `DELETE FROM `+of+` WHERE space_id = $1`, id); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM spaces WHERE id = $1`, id)
		return err
	})
}

// NewChannel records a channel and where its partitions are; its SpaceID names
// the space.
func (c *Catalog) NewChannel(ctx context.Context, ch *Channel, placed [][]uint64, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		ch.ID = newID(channelIDs)
		if _, err := tx.ExecContext(ctx, `INSERT INTO channels (id, space_id, name, kind, settings, group_id) VALUES ($1, $2, $3, $4, $5, $6)`,
			ch.ID, ch.SpaceID, ch.Name, ch.Kind, column(ch.Channel), ch.GroupID); err != nil {
			return err
		}
		return cmp.Or(hasRoom(ctx, tx, ch.SpaceID), addPlacements(ctx, tx, ch.ID, 0, placed))
	})
}

// SetChannel changes a channel's settings, which must be of the revision that
// they were made from (else ErrStale), records where partitions that are added
// begin, and what else the change takes (also may be nil).
func (c *Catalog) SetChannel(ctx context.Context, ch *Channel, from int, placed [][]uint64, also In, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := Fenced(ctx, tx, ErrStale, `UPDATE channels SET settings = $2, revision = revision + 1 WHERE id = $1 AND revision = $3`, ch.ID, column(ch.Channel), ch.Revision); err != nil {
			return err
		}
		if len(placed) > 0 {
			if err := hasRoom(ctx, tx, ch.SpaceID); err != nil {
				return err
			}
		}
		if err := addPlacements(ctx, tx, ch.ID, from, placed); err != nil {
			return err
		}
		return All(also)(ctx, tx)
	})
}

// Ids are random numbers below a power of two, which makes two that are the
// same next to impossible, whatever records are restored.
const (
	channelIDs = 62
	nodeIDs    = 40 // replicas have their generation in the bits above
)

func newID(bits int) int64 { return rand.Int64N(1<<bits-1<<32) + 1<<32 }

// Adopt records a channel whose logs were set aside, under the number and with
// the placements that they have.
func (c *Catalog) Adopt(ctx context.Context, ch *Channel, placed []*Placement, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO channels (id, space_id, name, kind, settings) VALUES ($1, $2, $3, $4, $5)`,
			ch.ID, ch.SpaceID, ch.Name, ch.Kind, column(ch.Channel)); err != nil {
			return err
		}
		for _, p := range placed {
			if _, err := tx.ExecContext(ctx, `INSERT INTO placements (channel_id, partition, began_with, replicas, epoch, survivor) VALUES ($1, $2, $3, $4, $5, $6)`,
				ch.ID, p.Partition, p.BeganWith.Column(), p.Replicas.Column(), p.Epoch, p.Survivor); err != nil {
				return err
			}
		}
		return nil
	})
}

// MarkRemoved takes a channel out of use, or with back brings it back.
func (c *Catalog) MarkRemoved(ctx context.Context, id int64, back bool, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		var space int64
		err := tx.GetContext(ctx, &space, `UPDATE channels SET removed_at = CASE WHEN $2 THEN NULL ELSE now() END WHERE id = $1 RETURNING space_id`, id, back)
		if err == nil && back {
			return hasRoom(ctx, tx, space)
		}
		if errors.Is(err, sql.ErrNoRows) {
			return nil // it is gone already
		}
		return err
	})
}

// Forget deletes the record of a channel that was removed before a time, and
// was not brought back. Its logs are deleted after that.
func (c *Catalog) Forget(ctx context.Context, id int64, before time.Time) error {
	return c.Change(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM channels WHERE id = $1 AND removed_at <= $2`, id, before)
		return err
	})
}
