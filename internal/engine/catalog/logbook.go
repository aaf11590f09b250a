package catalog

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"log/slog"
	"maps"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/access"
)

// Outcomes of what was tried.
const (
	Done      = "done"
	Refused   = "refused"
	Failed    = "failed"
	Announced = "announced" // it is about to be done; another entry says what became of it
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

func writeLogbook(ctx context.Context, in *sqlx.Tx, e *Entry) (id int64, err error) {
	before, err := jsonOrNull(e.Before)
	if err != nil {
		return 0, err
	}
	after, err := jsonOrNull(noted(ctx, e.After))
	if err != nil {
		return 0, err
	}
	via := e.Via
	if a, asks := access.In(ctx); asks && a.Who() == e.Who { // else it is done by itself while somebody asks for something
		via = cmp.Or(via, access.ViaIn(ctx))
	}
	return id, in.GetContext(ctx, &id, `INSERT INTO logbook (who, action, address, outcome, before, after, credential, came_from) VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING id`,
		e.Who, e.Action, e.Address, cmp.Or(e.Outcome, Done), before, after, via.Credential, via.From)
}

func jsonOrNull(v any) (sql.NullString, error) {
	if v == nil {
		return sql.NullString{}, nil
	}
	b, err := json.Marshal(v)
	// PostgreSQL keeps no U+0000, and some of it comes from strangers.
	return sql.NullString{String: strings.ReplaceAll(string(b), `\u0000`, `\ufffd`), Valid: true}, err
}

// Note writes an entry to the logbook alone.
func (c *Catalog) Note(ctx context.Context, e *Entry) error {
	_, err := c.note(ctx, e)
	return err
}

func (c *Catalog) note(ctx context.Context, e *Entry) (id int64, err error) {
	err = c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		id, err = writeLogbook(ctx, tx, e)
		return err
	})
	return id, err
}

// Announced does something that is not in the database: before, an entry announces it, and after,
// another one says what do has returned, also when who asked has gone. Without the second one,
// nobody knows.
func (c *Catalog) Announced(ctx context.Context, e *Entry, do func() (after map[string]any, err error)) error {
	first := *e
	first.Outcome = Announced
	id, err := c.note(ctx, &first)
	if err != nil {
		return err
	}
	told, failed := do()
	after := map[string]any{"confirms": id}
	maps.Copy(after, told)
	last := Entry{Who: e.Who, Action: e.Action, Address: e.Address, Outcome: Done, After: after, Via: e.Via}
	if failed != nil {
		last.Outcome, after["failed"] = Failed, failed.Error()
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if err := c.Note(ctx, &last); err != nil {
		slog.Warn("what became of something is not in the logbook", "who", e.Who, "action", e.Action, "address", e.Address, "error", err)
	}
	return failed
}
