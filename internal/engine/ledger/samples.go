// Package ledger is what is written into the records by and by and looked up again, of which
// nobody has a copy: measured values, incidents. It may be used at once by many.
package ledger

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5/pgtype"

	"steadyferry/internal/core/sample"
	"steadyferry/internal/engine/catalog"
)

// Ledger writes into the records, and reads them.
type Ledger struct{ c *catalog.Catalog }

// Of returns the ledger of records.
func Of(c *catalog.Catalog) Ledger { return Ledger{c} }

// StretchRow is an encoded stretch of samples of all things. ID is a random number, so that
// several may begin at one time.
type StretchRow struct {
	At   time.Time
	ID   int64
	Data []byte
}

// BlockRow is an encoded block of samples of a thing.
type BlockRow struct {
	sample.Thing
	At   time.Time
	Data []byte
}

// AddStretch records a stretch, once however often it is told.
func (l Ledger) AddStretch(ctx context.Context, s StretchRow) error {
	return l.c.Exec(ctx, `INSERT INTO sample_stretches (at, id, data) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, s.At, s.ID, s.Data)
}

// Stretches returns those that begin from a time up to another one, the oldest first.
func (l Ledger) Stretches(ctx context.Context, from, to time.Time) ([]StretchRow, error) {
	return catalog.List[StretchRow](ctx, l.c, `SELECT at, id, data FROM sample_stretches WHERE at >= $1 AND at < $2 ORDER BY at`, from, to)
}

// OldestStretch returns the time of the first stretch that is kept, the zero time without
// one.
func (l Ledger) OldestStretch(ctx context.Context) (time.Time, error) {
	at, err := catalog.One[*time.Time](ctx, l.c, `SELECT min(at) FROM sample_stretches`)
	if err != nil || *at == nil {
		return time.Time{}, err
	}
	return (*at).UTC(), nil
}

// PutBlocks records blocks of things that begin at a time, in steps; those that are there
// are replaced.
func (l Ledger) PutBlocks(ctx context.Context, step time.Duration, at time.Time, things []sample.Thing, data [][]byte) error {
	kinds, ids := make([]string, len(things)), make([]int64, len(things))
	for i, t := range things {
		kinds[i], ids[i] = t.Kind, t.ID
	}
	return l.c.Exec(ctx, `INSERT INTO sample_blocks (kind, id, step, at, data) SELECT u.kind, u.id, $3, $4, u.data FROM unnest($1::text[], $2::bigint[], $5::bytea[]) AS u(kind, id, data)
		ON CONFLICT (step, at, kind, id) DO UPDATE SET data = excluded.data`,
		pgtype.FlatArray[string](kinds), pgtype.FlatArray[int64](ids), int(step/time.Second), at, pgtype.FlatArray[[]byte](data))
}

// Blocks returns those of things of a kind in steps that begin from a time up to another one.
func (l Ledger) Blocks(ctx context.Context, kind string, things []int64, step time.Duration, from, to time.Time) ([]BlockRow, error) {
	return catalog.List[BlockRow](ctx, l.c, `SELECT kind, id, at, data FROM sample_blocks WHERE kind = $1 AND id = ANY($2) AND step = $3 AND at >= $4 AND at < $5 ORDER BY at`,
		kind, pgtype.FlatArray[int64](things), int(step/time.Second), from, to)
}

// BlocksAt returns those of all things in steps that begin at a time.
func (l Ledger) BlocksAt(ctx context.Context, step time.Duration, at time.Time) ([]BlockRow, error) {
	return catalog.List[BlockRow](ctx, l.c, `SELECT kind, id, at, data FROM sample_blocks WHERE step = $1 AND at = $2`, int(step/time.Second), at)
}

// BlockThings returns things of which there are blocks in steps from a time up to another
// one, behind a thing in their order, up to so many.
func (l Ledger) BlockThings(ctx context.Context, step time.Duration, from, to time.Time, behind sample.Thing, most int) ([]sample.Thing, error) {
	return catalog.List[sample.Thing](ctx, l.c, `SELECT DISTINCT kind, id FROM sample_blocks WHERE step = $1 AND at >= $2 AND at < $3 AND (kind, id) > ($4, $5) ORDER BY kind, id LIMIT $6`,
		int(step/time.Second), from, to, behind.Kind, behind.ID, most)
}

// BlockSpan returns when the first and the last block in steps begin; without true there is
// none.
func (l Ledger) BlockSpan(ctx context.Context, step time.Duration) (first, last time.Time, ok bool, err error) {
	type span struct{ First, Last *time.Time }
	s, err := catalog.One[span](ctx, l.c, `SELECT min(at) AS first, max(at) AS last FROM sample_blocks WHERE step = $1`, int(step/time.Second))
	if err != nil || s.First == nil {
		return first, last, false, err
	}
	return s.First.UTC(), s.Last.UTC(), true, nil
}

// DropStretches deletes those, and none that came meanwhile.
func (l Ledger) DropStretches(ctx context.Context, rows []StretchRow) error {
	ats, ids := make([]time.Time, len(rows)), make([]int64, len(rows))
	for i, r := range rows {
		ats[i], ids[i] = r.At, r.ID
	}
	return l.c.Exec(ctx, `DELETE FROM sample_stretches WHERE (at, id) IN (SELECT * FROM unnest($1::timestamptz[], $2::bigint[]))`, pgtype.FlatArray[time.Time](ats), pgtype.FlatArray[int64](ids))
}

// DropBlocks deletes blocks in steps that begin before a time.
func (l Ledger) DropBlocks(ctx context.Context, step time.Duration, before time.Time) error {
	return l.c.Exec(ctx, `DELETE FROM sample_blocks WHERE step = $1 AND at < $2`, int(step/time.Second), before)
}
