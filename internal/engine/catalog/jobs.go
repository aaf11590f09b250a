package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/job"
)

// Job is the record of work that goes on by itself. Spec and Progress are its
// kind's own.
type Job struct {
	ID        int64           `db:"id"`
	UID       uuid.UUID       `db:"uid"`   // of it alone, whatever records are restored
	Fence     int64           `db:"fence"` // raised by each node that begins to run it
	Kind      string          `db:"kind"`
	Address   string          `db:"address"` // of what it is about
	Who       string          `db:"who"`
	Scope     string          `db:"scope"` // the pass of whoever made it
	State     job.State       `db:"state"`
	Detail    string          `db:"detail"`
	Spec      json.RawMessage `db:"spec"`
	Rate      float64         `db:"rate"` // a second; 0: it has none
	Total     int64           `db:"total"`
	Done      int64           `db:"done"`
	Failed    int64           `db:"failed"` // again, of what was done
	Progress  json.RawMessage `db:"progress"`
	CreatedAt time.Time       `db:"made_at"`
	ChangedAt time.Time       `db:"changed_at"`
	EndedAt   sql.NullTime    `db:"ended_at"`
	Parent    sql.NullInt64   `db:"parent"` // the job that made it
}

// In is a change that is made together with another one, or not at all.
type In func(ctx context.Context, tx *sqlx.Tx) error

// All makes changes one after the other; those that are nil are left out.
func All(changes ...In) In {
	return func(ctx context.Context, tx *sqlx.Tx) error {
		for _, f := range changes {
			if f == nil {
				continue
			}
			if err := f(ctx, tx); err != nil {
				return err
			}
		}
		return nil
	}
}

// NewJob records a job, and with it what its kind records (also may be nil).
func (c *Catalog) NewJob(ctx context.Context, j *Job, e *Entry, also In) error {
	return c.Change(ctx, e, NewJobIn(j, also))
}

// NewJobIn records a job within another change.
func NewJobIn(j *Job, also In) In {
	return func(ctx context.Context, tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, j, `INSERT INTO jobs (kind, address, who, detail, spec, rate, total, parent, scope) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) RETURNING *`,
			j.Kind, j.Address, j.Who, j.Detail, []byte(j.Spec), j.Rate, j.Total, j.Parent, access.PassIn(ctx)); err != nil {
			return err
		}
		return All(also)(ctx, tx)
	}
}

// Jobs returns jobs of some kinds, newest first: all that have not ended, and up
// to so many that have. Without kinds it returns those of all.
func (c *Catalog) Jobs(ctx context.Context, ended int, kinds ...string) ([]*Job, error) {
	return List[*Job](ctx, c, `(SELECT * FROM jobs WHERE ended_at IS NULL AND ($2::text[] IS NULL OR kind = ANY($2)))
		UNION ALL (SELECT * FROM jobs WHERE ended_at IS NOT NULL AND ($2::text[] IS NULL OR kind = ANY($2)) ORDER BY id DESC LIMIT $1) ORDER BY id DESC`, ended, kinds)
}

// Job returns one job.
func (c *Catalog) Job(ctx context.Context, id int64) (*Job, error) {
	return One[Job](ctx, c, `SELECT * FROM jobs WHERE id = $1`, id)
}

// JobOf returns the job that another one has made, or ErrNotFound.
func (c *Catalog) JobOf(ctx context.Context, parent int64) (*Job, error) {
	return One[Job](ctx, c, `SELECT * FROM jobs WHERE parent = $1`, parent)
}

// SetJob changes the state and the rate of a job that is in a state (else
// ErrStale).
func (c *Catalog) SetJob(ctx context.Context, id int64, from, to job.State, rate float64, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		return Fenced(ctx, tx, ErrStale, `UPDATE jobs SET state = $3, rate = $4, changed_at = now(), ended_at = CASE WHEN $5 THEN now() END WHERE id = $1 AND state = $2`, id, from, to, rate, to.Ended())
	})
}

// ErrFenced is returned for writes about a job that another node runs now.
var ErrFenced = errors.New("another node runs it now")

// TakeJob makes the node that calls it the one that runs a job: writes of others
// are refused from then on.
func (c *Catalog) TakeJob(ctx context.Context, id int64) (*Job, error) {
	return One[Job](ctx, c, `UPDATE jobs SET fence = fence + 1 WHERE id = $1 RETURNING *`, id)
}

// SaveJob records how far a job is, and with a state of those that are the end
// that it has ended. What a user changed meanwhile stays. It returns ErrFenced
// when another node has taken the job since.
func (c *Catalog) SaveJob(ctx context.Context, j *Job) error {
	return c.execFenced(ctx, ErrFenced, `UPDATE jobs SET done = $2, failed = $3, progress = $4, detail = $6, changed_at = now(),
		state = CASE WHEN ended_at IS NULL AND $8 THEN $5 ELSE state END,
		ended_at = CASE WHEN $8 THEN coalesce(ended_at, now()) ELSE ended_at END WHERE id = $1 AND fence = $7`,
		j.ID, j.Done, j.Failed, []byte(j.Progress), j.State, j.Detail, j.Fence, j.State.Ended())
}
