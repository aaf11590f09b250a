package ledger

import (
	"context"
	"database/sql"
	"fmt"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/job"
	"steadyferry/internal/engine/catalog"
)

// States of the steps of a job that moves replicas; they end as jobs do.
const (
	StepWaiting = "waiting"
	StepMoving  = "moving"
)

// Step is the move of one partition.
type Step struct {
	JobID     int64        `db:"job_id"`
	Number    int          `db:"number"`
	ChannelID int64        `db:"channel_id"`
	Partition int          `db:"partition"`
	Before    catalog.IDs  `db:"before"`
	After     catalog.IDs  `db:"after"`
	State     string       `db:"state"`
	BeganAt   sql.NullTime `db:"began_at"`
	EndedAt   sql.NullTime `db:"ended_at"`
}

// Open reports whether the step has not ended.
func (s *Step) Open() bool { return s.State == StepWaiting || s.State == StepMoving }

// MovingError is returned for a step about a partition that another job moves.
type MovingError struct {
	ChannelID int64
	Partition int
}

func (e *MovingError) Error() string {
	return fmt.Sprintf("another job moves partition %d of channel %d", e.Partition, e.ChannelID)
}

// NewStepsIn records the steps of a job that is made in the same change. It
// returns a MovingError when another job is at one of the partitions.
func NewStepsIn(j *catalog.Job, steps []Step) catalog.In {
	return func(ctx context.Context, tx *sqlx.Tx) error {
		for i, s := range steps {
			if err := catalog.Fenced(ctx, tx, &MovingError{s.ChannelID, s.Partition}, `INSERT INTO job_steps (job_id, number, channel_id, partition, before, after) VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT DO NOTHING`,
				j.ID, i, s.ChannelID, s.Partition, s.Before.Column(), s.After.Column()); err != nil {
				return err
			}
		}
		return nil
	}
}

// SetNodeStateIn changes a node within another change.
func SetNodeStateIn(id uint64, state string) catalog.In {
	return func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE nodes SET state = $2 WHERE id = $1`, id, state)
		return err
	}
}

// Steps returns the steps of jobs, in order.
func (l Ledger) Steps(ctx context.Context, jobs ...int64) ([]Step, error) {
	return catalog.List[Step](ctx, l.c, `SELECT * FROM job_steps WHERE job_id = ANY($1) ORDER BY job_id, number`, jobs)
}

// OpenSteps returns the steps of a job that have not ended, in order; for job 0
// those of all.
func (l Ledger) OpenSteps(ctx context.Context, id int64) ([]Step, error) {
	return catalog.List[Step](ctx, l.c, `SELECT * FROM job_steps WHERE state IN ('waiting', 'moving') AND ($1::bigint = 0 OR job_id = $1) ORDER BY job_id, number`, id)
}

// BeginStep lets a partition be held by the nodes of the step from now on, or
// with back by those from before it.
func (l Ledger) BeginStep(ctx context.Context, j *catalog.Job, s *Step, back bool) error {
	ids := s.After
	if back {
		ids = s.Before
	}
	return l.changeStep(ctx, j, func(ctx context.Context, tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE placements SET replicas = $3 WHERE channel_id = $1 AND partition = $2`, s.ChannelID, s.Partition, ids.Column()); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE job_steps SET state = 'moving', began_at = coalesce(began_at, now()) WHERE job_id = $1 AND number = $2`, s.JobID, s.Number)
		return err
	})
}

// EndStep notes how a step ended.
func (l Ledger) EndStep(ctx context.Context, j *catalog.Job, s *Step, state job.State) error {
	return l.changeStep(ctx, j, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE job_steps SET state = $3, ended_at = now() WHERE job_id = $1 AND number = $2`, s.JobID, s.Number, state)
		return err
	})
}

// changeStep makes a change of a job's step, if the job is still run by who took
// it so (else catalog.ErrFenced).
func (l Ledger) changeStep(ctx context.Context, j *catalog.Job, f catalog.In) error {
	return l.c.Change(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := catalog.Fenced(ctx, tx, catalog.ErrFenced, `UPDATE jobs SET changed_at = now() WHERE id = $1 AND fence = $2`, j.ID, j.Fence); err != nil {
			return err
		}
		return f(ctx, tx)
	})
}
