// Package logbook reads who has done what. What is done writes its entries with it: see
// catalog.Entry.
package logbook

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"steadyferry/internal/engine/catalog"
)

// Unknown is the outcome of what was announced, and of which nobody knows what became.
const Unknown = "unknown"

// Outcomes are those that entries are told with.
var Outcomes = []string{catalog.Done, catalog.Refused, catalog.Failed, Unknown}

// Row is one entry of the logbook.
type Row struct {
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

// Columns is how rows of the logbook are read; a WHERE goes behind it.
const Columns = `SELECT id, at, who, action, address, outcome, coalesce(before, 'null') AS before, coalesce(after, 'null') AS after, credential, came_from FROM logbook_told `

// ofAddress is what an entry of an address, its third argument, or of what belongs to it is; empty: of any.
const ofAddress = `($3 = '' OR address = $3 OR starts_with(address, $3 || '/') OR starts_with(address, $3 || '@') OR starts_with(address, $3 || '#'))`

// Asked is which entries of the logbook are meant; what is empty does not matter.
type Asked struct {
	Before  int64 // ids below it
	Who     string
	Address string // and what belongs to it
	Action  string // it has this in it
	Outcome string
	Since   time.Time
	Until   time.Time
	Limit   int
}

// Entries returns entries, the newest first.
func Entries(ctx context.Context, c *catalog.Catalog, q Asked) ([]Row, error) {
	until := sql.NullTime{Time: q.Until, Valid: !q.Until.IsZero()}
	refused := ""
	if q.Outcome == catalog.Refused {
		refused = ` AND said = 'refused'` // for the index
	}
	return catalog.List[Row](ctx, c, Columns+`WHERE ($1::bigint = 0 OR id < $1) AND ($2 = '' OR who = $2) AND `+ofAddress+` AND ($4 = '' OR position($4 IN action) > 0) AND ($5 = '' OR outcome = $5)
		AND at >= $6 AND ($7::timestamptz IS NULL OR at < $7)`+refused+` ORDER BY id DESC LIMIT $8`, q.Before, q.Who, q.Address, q.Action, q.Outcome, q.Since, until, q.Limit)
}

// ChangesOf returns the last changes of an address, newest first.
func ChangesOf(ctx context.Context, c *catalog.Catalog, address string, limit int) ([]Row, error) {
	return catalog.List[Row](ctx, c, Columns+`WHERE address = $1 AND action LIKE 'set %' AND outcome = 'done' ORDER BY id DESC LIMIT $2`, address, limit)
}
