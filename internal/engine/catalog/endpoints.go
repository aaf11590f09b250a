package catalog

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/setting"
)

// Endpoint is a place outside, and how it is set.
type Endpoint struct {
	Owned
	setting.Endpoint `db:"-"`
	Secrets          []byte `db:"secrets"` // sealed
}

func (e *Endpoint) settings() any { return &e.Endpoint }

var endpointsTable = ownedTable("endpoints", "", func(v *View) (*map[string]*Endpoint, *map[int64]*Endpoint) { return &v.Endpoints, &v.endpoints })

// Endpoint returns an endpoint by its id, or nil.
func (v *View) Endpoint(id int64) *Endpoint { return v.endpoints[id] }

// NewEndpoint records an endpoint; its SpaceID names the space.
func (c *Catalog) NewEndpoint(ctx context.Context, p *Endpoint, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO endpoints (id, space_id, name, settings, secrets) VALUES ($1, $2, $3, $4, $5)`, p.ID, p.SpaceID, p.Name, column(p.settings()), p.Secrets)
		return err
	})
}

// SetEndpoint changes an endpoint, which must be of the revision that it was made from
// (else ErrStale).
func (c *Catalog) SetEndpoint(ctx context.Context, p *Endpoint, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		return Fenced(ctx, tx, ErrStale, `UPDATE endpoints SET settings = $2, secrets = $3, revision = revision + 1 WHERE id = $1 AND revision = $4`, p.ID, column(p.settings()), p.Secrets, p.Revision)
	})
}

// RemoveEndpoint deletes an endpoint, to which no route may lead (else ErrNotFound).
func (c *Catalog) RemoveEndpoint(ctx context.Context, id int64, e *Entry) error {
	return c.removeOwned(ctx, "endpoints", id, e)
}

// healthRow is how an endpoint does, as the records have it.
type healthRow struct {
	ID     int64  `db:"endpoint_id"`
	Health []byte `db:"health"`
}

// Healths returns how endpoints do, by their ids, as nodes have told; those of which
// none has are left out.
func (c *Catalog) Healths(ctx context.Context) (map[int64]endpoint.Health, error) {
	rows, err := List[healthRow](ctx, c, `SELECT endpoint_id, health FROM endpoint_health`)
	all := make(map[int64]endpoint.Health, len(rows))
	for _, r := range rows {
		var h endpoint.Health
		if err := json.Unmarshal(r.Health, &h); err != nil {
			return nil, fmt.Errorf("the health of endpoint %d: %w", r.ID, err)
		}
		all[r.ID] = h
	}
	return all, err
}

// TellHealth records how an endpoint does.
func (c *Catalog) TellHealth(ctx context.Context, id int64, h endpoint.Health) error {
	b, err := json.Marshal(h)
	if err != nil {
		return err
	}
	next := pgtype.Timestamptz{Time: h.NextTry, Valid: !h.NextTry.IsZero()}
	return c.Exec(ctx, `INSERT INTO endpoint_health (endpoint_id, health, next_try) SELECT id, $2, $3 FROM endpoints WHERE id = $1
		ON CONFLICT (endpoint_id) DO UPDATE SET health = excluded.health, next_try = excluded.next_try, changed_at = now()`, id, b, next)
}

// ClaimTry lets one of all nodes try a failing endpoint: no other one does before until.
func (c *Catalog) ClaimTry(ctx context.Context, id int64, now, until time.Time) (bool, error) {
	rows, err := List[int64](ctx, c, `UPDATE endpoint_health SET next_try = $3 WHERE endpoint_id = $1 AND (next_try IS NULL OR next_try <= $2) RETURNING endpoint_id`, id, now, until)
	return len(rows) > 0, err
}

// eventsKept is for how long events are kept, and eventsEach how many of one address.
const (
	eventsKept = 30 * 24 * time.Hour
	eventsEach = 5000
)

// tidyEvents deletes events that are old, or too many of one address.
func tidyEvents(ctx context.Context, tx *sqlx.Tx) error {
	if _, err := tx.ExecContext(ctx, `DELETE FROM events WHERE at < $1`, time.Now().Add(-eventsKept)); err != nil {
		return err
	}
	// Only where something has come lately there can be too many.
	_, err := tx.ExecContext(ctx, `DELETE FROM events e USING (SELECT a.address, (SELECT id FROM events x WHERE x.address = a.address ORDER BY id DESC OFFSET $1 LIMIT 1) AS last
		FROM (SELECT DISTINCT address FROM events WHERE at > $2) a) old WHERE e.address = old.address AND e.id <= old.last`, eventsEach, time.Now().Add(-5*time.Minute))
	return err
}
