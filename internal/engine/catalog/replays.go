package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

// States of a replay.
const (
	ReplayRunning   = "running"
	ReplayPaused    = "paused"
	ReplayDone      = "done"
	ReplayCancelled = "cancelled"
	ReplayStopped   = "stopped" // by itself: too many failed again
	ReplayFailed    = "failed"
)

// Replay is the record of a job that sends messages again. Spec and Progress
// are the node's own.
type Replay struct {
	ID        int64           `db:"id"`
	UID       uuid.UUID       `db:"uid"`   // of it alone, whatever records are restored
	Fence     int64           `db:"fence"` // raised by each node that begins to run it
	Who       string          `db:"who"`
	Source    string          `db:"source"`
	Target    string          `db:"target"`
	Spec      json.RawMessage `db:"spec"`
	State     string          `db:"state"`
	Detail    string          `db:"detail"`
	Rate      float64         `db:"rate"` // messages a second
	Total     int64           `db:"total"`
	Sent      int64           `db:"sent"`
	Failed    int64           `db:"failed"` // again
	Progress  json.RawMessage `db:"progress"`
	MadeAt    time.Time       `db:"made_at"`
	ChangedAt time.Time       `db:"changed_at"`
	EndedAt   sql.NullTime    `db:"ended_at"`
}

// NewReplay records a replay.
func (c *Catalog) NewReplay(ctx context.Context, r *Replay, e *Entry) error {
	return c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		return tx.GetContext(ctx, r, `INSERT INTO replays (who, source, target, spec, rate, total, progress) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING *`,
			r.Who, r.Source, r.Target, []byte(r.Spec), r.Rate, r.Total, []byte(r.Progress))
	})
}

// Replays returns the newest replays, or with open all that have not ended.
func (c *Catalog) Replays(ctx context.Context, open bool, limit int) ([]*Replay, error) {
	query := `SELECT * FROM replays ORDER BY id DESC LIMIT $1`
	if open {
		query = `SELECT * FROM replays WHERE state IN ('running', 'paused') ORDER BY id LIMIT $1`
	}
	return list[*Replay](ctx, c, query, limit)
}

// Replay returns one replay.
func (c *Catalog) Replay(ctx context.Context, id int64) (*Replay, error) {
	return one[Replay](ctx, c, `SELECT * FROM replays WHERE id = $1`, id)
}

// SetReplay changes the state and the rate of a replay that has not ended. It
// reports whether there was one.
func (c *Catalog) SetReplay(ctx context.Context, id int64, state string, rate float64, e *Entry) (found bool, err error) {
	err = c.change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		result, err := tx.ExecContext(ctx, `UPDATE replays SET state = $2, rate = $3, changed_at = now(),
			ended_at = CASE WHEN $2 IN ('running', 'paused') THEN NULL ELSE now() END WHERE id = $1 AND state IN ('running', 'paused')`, id, state, rate)
		if err != nil {
			return err
		}
		n, err := result.RowsAffected()
		found = n > 0
		return err
	})
	return found, err
}

// ErrFenced is returned for writes about a job that another node runs now.
var ErrFenced = errors.New("another node runs it now")

// TakeReplay makes the node that calls it the one that runs a replay: writes of
// others are refused from then on.
func (c *Catalog) TakeReplay(ctx context.Context, id int64) (*Replay, error) {
	return one[Replay](ctx, c, `UPDATE replays SET fence = fence + 1 WHERE id = $1 RETURNING *`, id)
}

// ReplayProgress records how far a replay is, and with another state that it
// has ended. What a user changed meanwhile stays. It returns ErrFenced when
// another node has taken the replay since.
func (c *Catalog) ReplayProgress(ctx context.Context, r *Replay) error {
	return c.execFenced(ctx, ErrFenced, `UPDATE replays SET sent = $2, failed = $3, progress = $4, detail = CASE WHEN $6 = '' THEN detail ELSE $6 END, changed_at = now(),
		state = CASE WHEN state IN ('running', 'paused') AND $5 NOT IN ('running', 'paused') THEN $5 ELSE state END,
		ended_at = CASE WHEN $5 IN ('running', 'paused') THEN ended_at ELSE coalesce(ended_at, now()) END WHERE id = $1 AND fence = $7`,
		r.ID, r.Sent, r.Failed, []byte(r.Progress), r.State, r.Detail, r.Fence)
}
