package ledger

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5/pgtype"

	"steadyferry/internal/engine/catalog"
)

// Event is something that happened to an endpoint or a route.
type Event struct {
	ID      int64     `db:"id"`
	At      time.Time `db:"at"`
	Address string    `db:"address"`
	What    string    `db:"what"`
	Detail  string    `db:"detail"`
}

// AddEvents records what happened, in one statement.
func (l Ledger) AddEvents(ctx context.Context, events []Event) error {
	var ats []time.Time
	var addresses, whats, details []string
	for _, e := range events {
		ats, addresses, whats, details = append(ats, e.At), append(addresses, e.Address), append(whats, e.What), append(details, e.Detail)
	}
	return l.c.Exec(ctx, `INSERT INTO events (at, address, what, detail) SELECT * FROM unnest($1::timestamptz[], $2::text[], $3::text[], $4::text[])`,
		pgtype.FlatArray[time.Time](ats), pgtype.FlatArray[string](addresses), pgtype.FlatArray[string](whats), pgtype.FlatArray[string](details))
}

// Events returns what happened to an address, the newest first, before an event (0: the
// newest).
func (l Ledger) Events(ctx context.Context, address string, before int64, limit int) ([]Event, error) {
	return catalog.List[Event](ctx, l.c, `SELECT id, at, address, what, detail FROM events WHERE address = $1 AND ($2::bigint = 0 OR id < $2) ORDER BY id DESC LIMIT $3`, address, before, limit)
}
