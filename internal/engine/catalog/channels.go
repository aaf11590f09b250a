package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/queue"
)

// Labels are names and values that a user puts on a thing.
type Labels map[string]string

// Scan reads the labels from a jsonb column.
func (l *Labels) Scan(value any) error {
	switch b := value.(type) {
	case []byte:
		return json.Unmarshal(b, l)
	case string:
		return json.Unmarshal([]byte(b), l)
	}
	return fmt.Errorf("labels: unexpected %T", value)
}

func (l Labels) column() []byte {
	if l == nil {
		return []byte("{}")
	}
	b, err := json.Marshal(l)
	if err != nil {
		panic(err) // a map of strings
	}
	return b
}

// Names are names in a jsonb column.
type Names []string

// Scan reads the names.
func (n *Names) Scan(value any) error {
	switch b := value.(type) {
	case []byte:
		return json.Unmarshal(b, n)
	case string:
		return json.Unmarshal([]byte(b), n)
	}
	return fmt.Errorf("names: unexpected %T", value)
}

func (n Names) column() []byte {
	if n == nil {
		return []byte("[]")
	}
	b, err := json.Marshal([]string(n))
	if err != nil {
		panic(err) // strings
	}
	return b
}

// Space is a named group of channels.
type Space struct {
	ID          int64     `db:"id"`
	Name        string    `db:"name"`
	Description string    `db:"description"`
	Labels      Labels    `db:"labels"`
	CreatedAt   time.Time `db:"created_at"`
}

// QueueSettings are the settings of a queue in a jsonb column.
type QueueSettings struct{ queue.Settings }

// Scan reads the settings.
func (s *QueueSettings) Scan(value any) error {
	switch b := value.(type) {
	case []byte:
		return json.Unmarshal(b, &s.Settings)
	case string:
		return json.Unmarshal([]byte(b), &s.Settings)
	}
	return fmt.Errorf("settings of a queue: unexpected %T", value)
}

func (s QueueSettings) column() []byte {
	b, err := json.Marshal(s.Settings)
	if err != nil {
		panic(err) // numbers
	}
	return b
}

// The kinds of channels.
const (
	KindTopic = "topic"
	KindQueue = "queue"
)

// Channel is a topic or a queue and its settings.
type Channel struct {
	ID          int64         `db:"id"`
	SpaceID     int64         `db:"space_id"`
	Space       string        `db:"space"`
	Name        string        `db:"name"`
	Kind        string        `db:"kind"`
	Partitions  int           `db:"partitions"`
	Replicas    int           `db:"replicas"`
	RetainMS    int64         `db:"retain_ms"`
	RetainBytes int64         `db:"retain_bytes"`
	MaxBody     int64         `db:"max_body"`
	IDWindowMS  int64         `db:"id_window_ms"`
	Paused      bool          `db:"paused"`
	Description string        `db:"description"`
	Hold        Names         `db:"hold"`       // groups whose unread messages retention leaves
	HoldBytes   int64         `db:"hold_bytes"` // but no more than so much a partition
	Labels      Labels        `db:"labels"`
	Queue       QueueSettings `db:"queue"`
	GroupID     sql.NullInt64 `db:"group_id"` // of the queue with the dead letters of a group
	CreatedAt   time.Time     `db:"created_at"`
	RemovedAt   sql.NullTime  `db:"removed_at"`
	Revision    int64         `db:"revision"` // of the settings
}

// Address returns the channel's address.
func (c *Channel) Address() string { return c.Space + "/" + c.Name }

// NewSpace records a space.
func (c *Catalog) NewSpace(ctx context.Context, s *Space, e *Entry) error {
	return c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO spaces (name, description, labels) VALUES ($1, $2, $3)`, s.Name, s.Description, s.Labels.column())
		return err
	})
}

// SetSpace changes a space's description and labels, which were as in old when
// the change was made.
func (c *Catalog) SetSpace(ctx context.Context, old, s *Space, e *Entry) error {
	return c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		return oneRow(tx.ExecContext(ctx, `UPDATE spaces SET description = $2, labels = $3 WHERE id = $1 AND description = $4 AND labels = $5`,
			s.ID, s.Description, s.Labels.column(), old.Description, old.Labels.column()))
	})
}

// oneRow makes ErrStale of a change that has found nothing to change.
func oneRow(result sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(ErrStale, err)
	}
	return nil
}

// RemoveSpace deletes a space that has no channels. Channels of it that were
// removed lose their way back.
func (c *Catalog) RemoveSpace(ctx context.Context, id int64, e *Entry) error {
	return c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		var n int
		if err := tx.GetContext(ctx, &n, `SELECT count(*) FROM channels WHERE space_id = $1 AND removed_at IS NULL`, id); err != nil {
			return err
		}
		if n > 0 {
			return ErrExists
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM channels WHERE space_id = $1`, id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM spaces WHERE id = $1`, id)
		return err
	})
}

// NewChannel records a channel and where its partitions are; its SpaceID names
// the space.
func (c *Catalog) NewChannel(ctx context.Context, ch *Channel, placed [][]uint64, e *Entry) error {
	return c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		ch.ID = newID(channelIDs)
		if _, err := tx.ExecContext(ctx, `INSERT INTO channels (id, space_id, name, kind, partitions, replicas, retain_ms, retain_bytes, max_body, id_window_ms, paused, description, labels, hold, hold_bytes, queue, group_id)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17)`,
			ch.ID, ch.SpaceID, ch.Name, ch.Kind, ch.Partitions, ch.Replicas, ch.RetainMS, ch.RetainBytes, ch.MaxBody, ch.IDWindowMS, ch.Paused, ch.Description, ch.Labels.column(), ch.Hold.column(), ch.HoldBytes, ch.Queue.column(), ch.GroupID); err != nil {
			return err
		}
		return addPlacements(ctx, tx, ch.ID, 0, placed)
	})
}

// SetChannel changes a channel's settings, which must be of the revision that
// they were made from (else ErrStale), records where partitions that are added
// begin, and the job, if there is one, that another number of replicas takes.
func (c *Catalog) SetChannel(ctx context.Context, ch *Channel, from int, placed [][]uint64, job *Job, e *Entry) error {
	return c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := oneRow(tx.ExecContext(ctx, `UPDATE channels SET partitions = $2, retain_ms = $3, retain_bytes = $4, max_body = $5, id_window_ms = $6, paused = $7,
			description = $8, labels = $9, hold = $10, hold_bytes = $11, queue = $12, replicas = $13, revision = revision + 1 WHERE id = $1 AND revision = $14`,
			ch.ID, ch.Partitions, ch.RetainMS, ch.RetainBytes, ch.MaxBody, ch.IDWindowMS, ch.Paused, ch.Description, ch.Labels.column(), ch.Hold.column(), ch.HoldBytes, ch.Queue.column(), ch.Replicas, ch.Revision)); err != nil {
			return err
		}
		if err := addPlacements(ctx, tx, ch.ID, from, placed); err != nil || job == nil {
			return err
		}
		return addJob(ctx, tx, job)
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
	return c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO channels (id, space_id, name, kind, partitions, replicas, retain_ms, retain_bytes, max_body, id_window_ms, paused, description, labels, hold, hold_bytes, queue)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16)`,
			ch.ID, ch.SpaceID, ch.Name, ch.Kind, ch.Partitions, ch.Replicas, ch.RetainMS, ch.RetainBytes, ch.MaxBody, ch.IDWindowMS, ch.Paused, ch.Description, ch.Labels.column(), Names(nil).column(), ch.HoldBytes, ch.Queue.column()); err != nil {
			return err
		}
		for _, p := range placed {
			if _, err := tx.ExecContext(ctx, `INSERT INTO placements (channel_id, partition, began_with, replicas, epoch, survivor) VALUES ($1, $2, $3, $4, $5, $6)`,
				ch.ID, p.Partition, p.BeganWith.column(), p.Replicas.column(), p.Epoch, p.Survivor); err != nil {
				return err
			}
		}
		return nil
	})
}

// MarkRemoved takes a channel out of use, or with back brings it back.
func (c *Catalog) MarkRemoved(ctx context.Context, id int64, back bool, e *Entry) error {
	return c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE channels SET removed_at = CASE WHEN $2 THEN NULL ELSE now() END WHERE id = $1`, id, back)
		return err
	})
}

// Forget deletes the record of a channel that was removed before a time, and
// was not brought back. Its logs are deleted after that.
func (c *Catalog) Forget(ctx context.Context, id int64, before time.Time) error {
	return c.change(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM channels WHERE id = $1 AND removed_at <= $2`, id, before)
		return err
	})
}
