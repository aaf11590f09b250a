package catalog

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/access"
)

// Outcomes of what was tried.
const (
	Done    = "done"
	Refused = "refused"
)

// Entry is what a change writes to the logbook.
type Entry struct {
	Who     string
	Action  string
	Address string
	Outcome string // empty: done
	Before  any
	After   any
	Via     access.Via // how whoever did it has come; empty: as who asks with the context, if it is they
}

func writeLogbook(ctx context.Context, in sqlx.ExecerContext, e *Entry) error {
	before, err := jsonOrNull(e.Before)
	if err != nil {
		return err
	}
	after, err := jsonOrNull(noted(ctx, e.After))
	if err != nil {
		return err
	}
	via := e.Via
	if a, asks := access.In(ctx); asks && a.Who() == e.Who { // else it is done by itself while somebody asks for something
		via = cmp.Or(via, access.ViaIn(ctx))
	}
	_, err = in.ExecContext(ctx, `INSERT INTO logbook (who, action, address, outcome, before, after, credential, came_from) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
		e.Who, e.Action, e.Address, cmp.Or(e.Outcome, Done), before, after, via.Credential, via.From)
	return err
}

func jsonOrNull(v any) (sql.NullString, error) {
	if v == nil {
		return sql.NullString{}, nil
	}
	b, err := json.Marshal(v)
	return sql.NullString{String: string(b), Valid: true}, err
}

// Note writes an entry to the logbook alone.
func (c *Catalog) Note(ctx context.Context, e *Entry) error {
	return c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error { return writeLogbook(ctx, tx, e) })
}

// LogbookRow is one entry of the logbook.
type LogbookRow struct {
	ID         int64           `db:"id" json:"id"`
	At         time.Time       `db:"at" json:"at"`
	Who        string          `db:"who" json:"who"`
	Action     string          `db:"action" json:"action"`
	Address    string          `db:"address" json:"address"`
	Outcome    string          `db:"outcome" json:"outcome"`
	Before     json.RawMessage `db:"before" json:"before"`
	After      json.RawMessage `db:"after" json:"after"`
	Credential string          `db:"credential" json:"credential"`
	CameFrom   string          `db:"came_from" json:"cameFrom"`
}

// LogbookColumns is how rows of the logbook are read; a WHERE goes behind it.
const LogbookColumns = `SELECT id, at, who, action, address, outcome, coalesce(before, 'null') AS before, coalesce(after, 'null') AS after, credential, came_from FROM logbook `

// ofAddress is what an entry of an address, its third argument, or of what belongs to it is; empty: of any.
const ofAddress = `($3 = '' OR address = $3 OR starts_with(address, $3 || '/') OR starts_with(address, $3 || '@') OR starts_with(address, $3 || '#'))`

// LogbookAsked is which entries of the logbook are meant; what is empty does not matter.
type LogbookAsked struct {
	Before  int64 // ids below it
	Who     string
	Address string // and what belongs to it
	Action  string // it has this in it
	Outcome string
	Since   time.Time
	Until   time.Time
	Limit   int
}

// Logbook returns entries, the newest first.
func (c *Catalog) Logbook(ctx context.Context, q LogbookAsked) ([]LogbookRow, error) {
	until := sql.NullTime{Time: q.Until, Valid: !q.Until.IsZero()}
	return List[LogbookRow](ctx, c, LogbookColumns+`WHERE ($1 = 0 OR id < $1) AND ($2 = '' OR who = $2) AND `+ofAddress+` AND ($4 = '' OR position($4 IN action) > 0) AND ($5 = '' OR outcome = $5)
		AND at >= $6 AND ($7::timestamptz IS NULL OR at < $7) ORDER BY id DESC LIMIT $8`, q.Before, q.Who, q.Address, q.Action, q.Outcome, q.Since, until, q.Limit)
}

// ChangesOf returns the last changes of an address, newest first.
func (c *Catalog) ChangesOf(ctx context.Context, address string, limit int) ([]LogbookRow, error) {
	return List[LogbookRow](ctx, c, LogbookColumns+`WHERE address = $1 AND action LIKE 'set %' AND outcome = 'done' ORDER BY id DESC LIMIT $2`, address, limit)
}
