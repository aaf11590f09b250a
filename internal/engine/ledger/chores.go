package ledger

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/engine/catalog"
)

// ChoreState is how far it is decided which times and incidents make a chore run.
type ChoreState struct {
	Chore    int64     `db:"chore_id"`
	Reached  time.Time `db:"reached"`
	Incident int64     `db:"incident"` // number of the last one
}

// ChoreStates returns the states of the chores that have one.
func (l Ledger) ChoreStates(ctx context.Context) ([]ChoreState, error) {
	return catalog.List[ChoreState](ctx, l.c, `SELECT * FROM chore_states`)
}

// DecidedIn moves the state of a chore on, from where it was, within another change; it is
// catalog.ErrStale when it is somewhere else.
func DecidedIn(was, is ChoreState) catalog.In {
	return func(ctx context.Context, tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `INSERT INTO chore_states (chore_id, reached, incident) SELECT $1, $2, $3 WHERE EXISTS (SELECT 1 FROM chores WHERE id = $1)
			ON CONFLICT (chore_id) DO UPDATE SET reached = $2, incident = $3 WHERE chore_states.reached = $4 AND chore_states.incident = $5`, is.Chore, is.Reached, is.Incident, was.Reached, was.Incident)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n != 0 {
			return err
		}
		return catalog.ErrStale
	}
}

// Decided moves the state of a chore on that does not run for it.
func (l Ledger) Decided(ctx context.Context, was, is ChoreState) error {
	return l.c.InTx(ctx, nil, DecidedIn(was, is))
}

// RunsOf returns the newest jobs of a kind about an address, with numbers below one.
func (l Ledger) RunsOf(ctx context.Context, kind, address string, before int64, most int) ([]*catalog.Job, error) {
	return catalog.List[*catalog.Job](ctx, l.c, `SELECT * FROM jobs WHERE kind = $1 AND address = $2 AND id < $3 ORDER BY id DESC LIMIT $4`, kind, address, before, most)
}

// RunsSince returns the newest jobs of a kind about things of a space that were made since a time.
func (l Ledger) RunsSince(ctx context.Context, kind, space string, since time.Time, most int) ([]*catalog.Job, error) {
	return catalog.List[*catalog.Job](ctx, l.c, `SELECT * FROM jobs WHERE kind = $1 AND starts_with(address, $2 || '/') AND made_at >= $3 ORDER BY id DESC LIMIT $4`, kind, space, since, most)
}

// LastRuns returns the newest job of a kind about each of some addresses.
func (l Ledger) LastRuns(ctx context.Context, kind string, addresses []string) ([]*catalog.Job, error) {
	return catalog.List[*catalog.Job](ctx, l.c, `SELECT j.* FROM unnest($2::text[]) AS a(address) CROSS JOIN LATERAL
		(SELECT * FROM jobs WHERE kind = $1 AND address = a.address ORDER BY id DESC LIMIT 1) j`, kind, addresses)
}

// Begun is the number of the newest incident of a watch.
type Begun struct {
	Watch  string    `db:"watch"`
	Number int64     `db:"number"`
	At     time.Time `db:"rang_at"`
}

// NewestOf returns the newest incident of each of some watches that has one.
func (l Ledger) NewestOf(ctx context.Context, watches []string) ([]Begun, error) {
	return catalog.List[Begun](ctx, l.c, `SELECT i.watch, i.number, i.rang_at FROM unnest($1::text[]) AS w(watch) CROSS JOIN LATERAL
		(SELECT watch, number, rang_at FROM incidents WHERE watch = w.watch ORDER BY number DESC LIMIT 1) i`, watches)
}

// runsKept is for how long runs are kept that have ended, with the jobs that they have made.
const runsKept = 60 * 24 * time.Hour

// TidyRuns deletes old runs.
func (l Ledger) TidyRuns(ctx context.Context) error {
	return l.c.Exec(ctx, `DELETE FROM jobs WHERE (kind = 'run' OR parent IS NOT NULL) AND ended_at < $1`, time.Now().Add(-runsKept))
}
