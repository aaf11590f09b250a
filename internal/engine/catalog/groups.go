package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"reflect"
	"time"

	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/group"
	"steadyferry/internal/core/setting"
)

// Group is the record of a consumer group.
type Group struct {
	ID        int64  `db:"id"`
	ChannelID int64  `db:"channel_id"`
	Name      string `db:"name"`
	setting.Group
	CreatedAt time.Time `db:"created_at"`
	Route     *Route    `db:"-"` // nil: it is a consumer group
}

// ErrStale is returned when what a change was made from has changed since it was
// looked at: the offsets of a group, or settings.
var ErrStale = errors.New("it was changed meanwhile")

// NewGroup records a group that begins at the offsets, by partition.
func (c *Catalog) NewGroup(ctx context.Context, g *Group, offsets []int64, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		return putGroup(ctx, tx, g, offsets)
	})
}

func putGroup(ctx context.Context, tx *sqlx.Tx, g *Group, offsets []int64) error {
	if err := tx.GetContext(ctx, &g.ID, `INSERT INTO groups (channel_id, name, description, paused, expire_ms) VALUES ($1, $2, $3, $4, $5) RETURNING id`,
		g.ChannelID, g.Name, g.Description, g.Paused, g.ExpireMS); err != nil {
		return err
	}
	return putOffsets(ctx, tx, g.ID, offsets)
}

func putOffsets(ctx context.Context, tx *sqlx.Tx, id int64, offsets []int64) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO group_offsets (group_id, partition, committed)
		SELECT $1, o.n - 1, o.committed FROM unnest($2::bigint[]) WITH ORDINALITY AS o(committed, n)`, id, pgtype.FlatArray[int64](offsets))
	return err
}

// SetGroup changes a group's description, pause and expiry, which were as in
// old when the change was made.
func (c *Catalog) SetGroup(ctx context.Context, old, g *Group, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := Fenced(ctx, tx, ErrStale, `UPDATE groups SET description = $2, paused = $3, expire_ms = $4 WHERE id = $1 AND description = $5 AND paused = $6 AND expire_ms = $7`,
			g.ID, g.Description, g.Paused, g.ExpireMS, old.Description, old.Paused, old.ExpireMS); err != nil || reflect.DeepEqual(old.Routing, g.Routing) {
			return err
		}
		return putRouting(ctx, tx, g, old.Route.Version)
	})
}

// RemoveGroup deletes a group with its offsets and history.
func (c *Catalog) RemoveGroup(ctx context.Context, id int64, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM groups WHERE id = $1`, id)
		return err
	})
}

// Coordination is what the node that coordinates a group begins with.
type Coordination struct {
	Epoch   int64           `db:"epoch"`
	Shares  json.RawMessage `db:"shares"`
	Offsets map[int]int64
}

// TakeOver makes the caller the one that coordinates a group.
func (c *Catalog) TakeOver(ctx context.Context, id int64) (*Coordination, error) {
	out := Coordination{Offsets: map[int]int64{}}
	err := c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &out, `UPDATE groups SET epoch = epoch + 1 WHERE id = $1 RETURNING epoch, shares`, id); err != nil {
			return err
		}
		var rows []OffsetRow
		if err := tx.SelectContext(ctx, &rows, `SELECT group_id, partition, committed, changed_at FROM group_offsets WHERE group_id = $1`, id); err != nil {
			return err
		}
		for _, r := range rows {
			out.Offsets[r.Partition] = r.Committed
		}
		return nil
	})
	return &out, err
}

// SetShares records who holds what, unless another node coordinates the group.
func (c *Catalog) SetShares(ctx context.Context, id, epoch int64, shares []byte) error {
	return c.execFenced(ctx, group.ErrOver, `UPDATE groups SET shares = $3, members_until = now(), changed_at = clock_timestamp() WHERE id = $1 AND epoch = $2`, id, epoch, shares)
}

// Commit is one offset that a group has read up to.
type Commit struct {
	Group     int64
	Epoch     int64 // of the node that coordinates it
	Partition int
	Offset    int64
}

// Commits records many offsets in one statement, and returns the groups that
// another node coordinates now, whose offsets were not recorded. A partition
// may be there once.
func (c *Catalog) Commits(ctx context.Context, commits []Commit) (refused map[int64]bool, err error) {
	epochs := map[int64]int64{}
	var groups, partitions, offsets []int64
	for _, m := range commits {
		epochs[m.Group] = m.Epoch
		groups, partitions, offsets = append(groups, m.Group), append(partitions, int64(m.Partition)), append(offsets, m.Offset)
	}
	var ids, numbers []int64
	for id, epoch := range epochs {
		ids, numbers = append(ids, id), append(numbers, epoch)
	}
	// The lock makes a take-over wait, and those that come behind it see its
	// epoch.
	done, err := List[int64](ctx, c, `WITH mine AS (
			SELECT g.id FROM groups g JOIN unnest($1::bigint[], $2::bigint[]) AS e(id, epoch) ON g.id = e.id AND g.epoch = e.epoch ORDER BY g.id FOR SHARE OF g
		), put AS (
			INSERT INTO group_offsets AS o (group_id, partition, committed, changed_at)
			SELECT u.id, u.partition, u.committed, clock_timestamp() FROM unnest($3::bigint[], $4::bigint[], $5::bigint[]) AS u(id, partition, committed) JOIN mine ON mine.id = u.id
			ON CONFLICT (group_id, partition) DO UPDATE SET committed = excluded.committed, changed_at = excluded.changed_at WHERE o.committed < excluded.committed
		) SELECT id FROM mine`,
		pgtype.FlatArray[int64](ids), pgtype.FlatArray[int64](numbers), pgtype.FlatArray[int64](groups), pgtype.FlatArray[int64](partitions), pgtype.FlatArray[int64](offsets))
	if err != nil {
		return nil, err
	}
	refused = map[int64]bool{}
	for id := range epochs {
		refused[id] = true
	}
	for _, id := range done {
		delete(refused, id)
	}
	return refused, nil
}

// Seek is one change of a group's offsets by hand.
type Seek struct {
	ID     int64           `db:"id"`
	At     time.Time       `db:"at"`
	Who    string          `db:"who"`
	Why    string          `db:"why"`
	Target string          `db:"target"`
	Undoes sql.NullInt64   `db:"undoes"`
	Steps  json.RawMessage `db:"steps"`
	Undone bool            `db:"undone"`
}

const seekColumns = `SELECT m.id, m.at, m.who, m.why, m.target, m.undoes, m.steps, EXISTS (SELECT 1 FROM seeks u WHERE u.undoes = m.id) AS undone FROM seeks m `

// Seeks returns the seeks of a group's offsets, newest first.
func (c *Catalog) Seeks(ctx context.Context, id int64, limit int) ([]Seek, error) {
	return List[Seek](ctx, c, seekColumns+`WHERE m.group_id = $1 ORDER BY m.id DESC LIMIT $2`, id, limit)
}

// SeekOffsets sets a group's offsets, all or none: with the seek they are
// recorded, with who holds what, and in the logbook. last is the newest seek
// that was there when it was decided on; -1 takes any.
func (c *Catalog) SeekOffsets(ctx context.Context, id, epoch, last int64, m *Seek, offsets map[int]int64, shares []byte, e *Entry) error {
	return c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := Fenced(ctx, tx, group.ErrOver, `UPDATE groups SET shares = $3, changed_at = clock_timestamp() WHERE id = $1 AND epoch = $2`, id, epoch, shares); err != nil {
			return err
		}
		var newest int64
		if err := tx.GetContext(ctx, &newest, `SELECT coalesce(max(id), 0) FROM seeks WHERE group_id = $1`, id); err != nil {
			return err
		}
		if last >= 0 && newest != last {
			return ErrStale
		}
		return putSeek(ctx, tx, id, m, offsets, e)
	})
}

// NoteSeek records a seek of a route, which is done already.
func (c *Catalog) NoteSeek(ctx context.Context, id int64, m *Seek, offsets map[int]int64, e *Entry) error {
	return c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error { return putSeek(ctx, tx, id, m, offsets, e) })
}

func putSeek(ctx context.Context, tx *sqlx.Tx, id int64, m *Seek, offsets map[int]int64, e *Entry) error {
	if err := tx.GetContext(ctx, m, `INSERT INTO seeks (group_id, who, why, target, undoes, steps) VALUES ($1, $2, $3, $4, $5, $6) RETURNING id, at`,
		id, m.Who, m.Why, m.Target, m.Undoes, m.Steps); err != nil {
		return err
	}
	for partition, offset := range offsets {
		if _, err := tx.ExecContext(ctx, `INSERT INTO group_offsets AS o (group_id, partition, committed) VALUES ($1, $2, $3)
			ON CONFLICT (group_id, partition) DO UPDATE SET committed = excluded.committed, changed_at = clock_timestamp()`, id, partition, offset); err != nil {
			return err
		}
	}
	_, err := writeLogbook(ctx, tx, e)
	return err
}

// OffsetRow is a committed offset.
type OffsetRow struct {
	Group     int64     `db:"group_id"`
	Partition int       `db:"partition"`
	Committed int64     `db:"committed"`
	ChangedAt time.Time `db:"changed_at"`
}

// SharesRow is who holds what of a group.
type SharesRow struct {
	Group     int64           `db:"id"`
	Shares    json.RawMessage `db:"shares"`
	ChangedAt time.Time       `db:"changed_at"`
}

// Offsets returns what was committed, and who holds what, after a time of the
// database's clock.
func (c *Catalog) Offsets(ctx context.Context, after time.Time) (offsets []OffsetRow, shares []SharesRow, err error) {
	offsets, err = List[OffsetRow](ctx, c, `SELECT group_id, partition, committed, changed_at FROM group_offsets WHERE changed_at > $1`, after)
	if err == nil {
		shares, err = List[SharesRow](ctx, c, `SELECT id, shares, changed_at FROM groups WHERE changed_at > $1`, after)
	}
	return offsets, shares, err
}

// LagSample is the lag of a group at a time, by partition.
type LagSample struct {
	Group     int64
	Lag       []int64
	AgeMS     []int64
	Committed int64 // sum
	Ended     int64 // sum
}

// Lag samples are kept finely for a day and coarsely for a month.
const (
	fineKept   = 24 * time.Hour
	coarseStep = 5 * time.Minute
	coarseKept = 30 * 24 * time.Hour
)

// AddLagSamples records samples of one time.
func (c *Catalog) AddLagSamples(ctx context.Context, at time.Time, every time.Duration, samples []LagSample) error {
	coarse := at.Sub(at.Truncate(coarseStep)) < every
	return c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		add, err := tx.PrepareContext(ctx, `INSERT INTO lag_samples (group_id, at, coarse, lag, age_ms, committed, ended)
			SELECT $1, $2, $3, $4, $5, $6, $7 WHERE EXISTS (SELECT 1 FROM groups WHERE id = $1) ON CONFLICT DO NOTHING`)
		if err != nil {
			return err
		}
		for _, s := range samples {
			if _, err := add.ExecContext(ctx, s.Group, at, coarse, pgtype.FlatArray[int64](s.Lag), pgtype.FlatArray[int64](s.AgeMS), s.Committed, s.Ended); err != nil {
				return err
			}
		}
		return nil
	})
}

// ThinLagSamples deletes samples by their age.
func (c *Catalog) ThinLagSamples(ctx context.Context, now time.Time) error {
	ctx, cancel := context.WithTimeout(ctx, 10*statementTimeout)
	defer cancel()
	_, err := c.db.ExecContext(ctx, `DELETE FROM lag_samples WHERE NOT coarse AND at < $1 OR at < $2`, now.Add(-fineKept), now.Add(-coarseKept))
	return c.fault(err)
}

// LagRow is a sample of a group's history.
type LagRow struct {
	At        time.Time               `db:"at"`
	Lag       pgtype.FlatArray[int64] `db:"lag"`
	AgeMS     pgtype.FlatArray[int64] `db:"age_ms"`
	Committed int64                   `db:"committed"`
	Ended     int64                   `db:"ended"`
}

// LagHistory returns a group's samples from a time on, at most about so many:
// the last one of each step that the span is cut into.
func (c *Catalog) LagHistory(ctx context.Context, id int64, from, to time.Time, most int) ([]LagRow, error) {
	ctx, cancel := context.WithTimeout(ctx, statementTimeout)
	defer cancel()
	step := max(to.Sub(from).Seconds()/float64(most), 1)
	rows, err := c.db.QueryContext(ctx, `SELECT DISTINCT ON (floor(extract(epoch FROM at) / $4)) at, lag, age_ms, committed::bigint, ended::bigint FROM lag_samples
		WHERE group_id = $1 AND at > $2 AND at <= $3 ORDER BY floor(extract(epoch FROM at) / $4), at DESC`, id, from, to, step)
	if err != nil {
		return nil, c.fault(err)
	}
	defer rows.Close()
	types := pgtype.NewMap()
	out := []LagRow{}
	for rows.Next() {
		var r LagRow
		if err := rows.Scan(&r.At, types.SQLScanner(&r.Lag), types.SQLScanner(&r.AgeMS), &r.Committed, &r.Ended); err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, c.fault(rows.Err())
}

// Expired returns the groups that shall be removed after a time without
// members, which has passed.
func (c *Catalog) Expired(ctx context.Context) ([]Group, error) {
	return List[Group](ctx, c, `SELECT id, channel_id, name, description, paused, expire_ms, created_at FROM groups
		WHERE expire_ms > 0 AND coalesce(shares->'members', '{}') = '{}' AND members_until < now() - expire_ms * interval '1 millisecond'`)
}
