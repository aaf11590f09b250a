package catalog

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"

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
