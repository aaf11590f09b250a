package catalog

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/setting"
)

// Route is what makes a group a route.
type Route struct {
	ID      uuid.UUID
	Source  int64   // channel
	Target  int64   // channel, or endpoint
	Outside bool    // it is an endpoint
	Version int64   // when its settings were wished, microseconds since 1970
	Begins  []int64 // the offsets at which it begins, by partition
}

// groupRow is a group as it is read, with the route that it may be.
type groupRow struct {
	Group
	RouteID  *uuid.UUID       `db:"route_id"`
	SourceID *int64           `db:"source_id"`
	TargetID *int64           `db:"target_id"`
	Endpoint *int64           `db:"endpoint_id"`
	Settings *json.RawMessage `db:"settings"`
	Version  *int64           `db:"version"`
	Begins   *json.RawMessage `db:"begins"`
}

// groupColumns reads groups, and what makes some of them routes.
const groupColumns = `SELECT * FROM (SELECT g.id, g.channel_id, g.name, g.description, g.paused, g.expire_ms, g.created_at, r.id AS route_id, r.source_id, r.target_id, r.endpoint_id, r.settings, r.version, r.begins
	FROM groups g LEFT JOIN routes r ON r.group_id = g.id) x `

func (r *groupRow) group() (*Group, error) {
	g := &r.Group
	if r.RouteID == nil {
		return g, nil
	}
	g.Route = &Route{ID: *r.RouteID, Source: *r.SourceID, Outside: r.Endpoint != nil, Version: *r.Version}
	g.Route.Target = *cmp.Or(r.TargetID, r.Endpoint) // one of them is there
	return g, errors.Join(json.Unmarshal(*r.Settings, &g.Routing), json.Unmarshal(*r.Begins, &g.Route.Begins))
}

// Kind is what the group is: setting.Consumer or setting.Route.
func (g *Group) Kind() string {
	if g.Route != nil {
		return setting.Route
	}
	return setting.Consumer
}

// NewRoute records a route with its group.
func (c *Catalog) NewRoute(ctx context.Context, g *Group, offsets []int64, e *Entry) error {
	settings, err := json.Marshal(g.Routing)
	if err != nil {
		return err
	}
	begins, err := json.Marshal(g.Route.Begins)
	if err != nil {
		return err
	}
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := putGroup(ctx, tx, g, offsets); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO routes (group_id, id, source_id, target_id, endpoint_id, settings, version, begins)
			VALUES ($1, $2, $3, CASE WHEN $8 THEN NULL ELSE $4::bigint END, CASE WHEN $8 THEN $4::bigint END, $5, $6, $7)`,
			g.ID, g.Route.ID, g.Route.Source, g.Route.Target, settings, g.Route.Version, begins, g.Route.Outside)
		return err
	})
}

// putRouting records what a route shall do, unless that has changed since.
func putRouting(ctx context.Context, tx *sqlx.Tx, g *Group, since int64) error {
	settings, err := json.Marshal(g.Routing)
	if err != nil {
		return err
	}
	return Fenced(ctx, tx, ErrStale, `UPDATE routes SET settings = $2, version = greatest($3, version + 1) WHERE group_id = $1 AND version = $4`, g.ID, settings, time.Now().UnixMicro(), since)
}

// AdoptRouting has the record of a route say what its plan says, which is newer.
func (c *Catalog) AdoptRouting(ctx context.Context, id, version int64, settings setting.Routing) error {
	b, err := json.Marshal(settings)
	if err != nil {
		return err
	}
	return c.Change(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE routes SET settings = $2, version = $3 WHERE group_id = $1 AND version < $3`, id, b, version)
		return err
	})
}

// RoutePlace is how far a route is on a partition of its source.
type RoutePlace struct {
	Group     int64
	Partition int
	Offset    int64
}

// RoutePlaces records how far routes are, for those who look at their lag; the logs
// alone decide what is sent.
func (c *Catalog) RoutePlaces(ctx context.Context, places []RoutePlace) error {
	var groups, partitions, offsets []int64
	for _, p := range places {
		groups, partitions, offsets = append(groups, p.Group), append(partitions, int64(p.Partition)), append(offsets, p.Offset)
	}
	return c.Exec(ctx, `INSERT INTO group_offsets AS o (group_id, partition, committed, changed_at)
		SELECT u.id, u.partition, u.committed, clock_timestamp() FROM unnest($1::bigint[], $2::bigint[], $3::bigint[]) AS u(id, partition, committed)
		WHERE EXISTS (SELECT 1 FROM groups g WHERE g.id = u.id)
		ON CONFLICT (group_id, partition) DO UPDATE SET committed = excluded.committed, changed_at = excluded.changed_at WHERE o.committed <> excluded.committed`,
		pgtype.FlatArray[int64](groups), pgtype.FlatArray[int64](partitions), pgtype.FlatArray[int64](offsets))
}

// EndedRoute is a route that was removed, which partitions may not know yet.
type EndedRoute struct {
	ID     uuid.UUID `db:"id"`
	Source int64     `db:"source_id"`
	Target int64     `db:"target_id"`
}

// EndedRoutes returns the routes that partitions are still to be told of.
func (c *Catalog) EndedRoutes(ctx context.Context) ([]EndedRoute, error) {
	return List[EndedRoute](ctx, c, `SELECT id, source_id, target_id FROM ended_routes ORDER BY at LIMIT 1000`)
}

// ForgetRoute is called when all partitions know that a route has ended.
func (c *Catalog) ForgetRoute(ctx context.Context, id uuid.UUID) error {
	return c.Exec(ctx, `DELETE FROM ended_routes WHERE id = $1`, id)
}

// RoutesTo returns the addresses of the routes that lead to a channel or an endpoint.
func (v *View) RoutesTo(id int64) (addresses []string) {
	for _, g := range v.RoutesIn[id] {
		if ch := v.Channel(g.ChannelID); ch != nil {
			addresses = append(addresses, ch.Reader(g.Name))
		}
	}
	slices.Sort(addresses)
	return addresses
}
