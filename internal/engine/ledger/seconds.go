package ledger

import (
	"context"
	"crypto/sha256"
	"errors"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/engine/catalog"
)

// States of what takes a second person.
const (
	SecondWaits    = "waiting"
	SecondBegun    = "begun"
	SecondDone     = "done"
	SecondFailed   = "failed"
	SecondDeclined = "declined"
	SecondOver     = "over" // nobody has confirmed it in time
)

// Second is something that was asked for and takes a second person.
type Second struct {
	ID        int64      `db:"id"`
	Who       string     `db:"who"`
	Pass      string     `db:"pass"`      // as whoever asked passed it
	From      string     `db:"came_from"` // HOST:PORT
	Verb      string     `db:"verb"`
	Address   string     `db:"address"`
	Says      string     `db:"says"` // in words
	Method    string     `db:"method"`
	Target    string     `db:"target"` // path and query
	Body      []byte     `db:"body"`
	AskedAt   time.Time  `db:"asked_at"`
	Until     time.Time  `db:"until"`
	State     string     `db:"state"`
	DecidedBy string     `db:"decided_by"`
	DecidedAt *time.Time `db:"decided_at"`
	Outcome   string     `db:"outcome"` // why it failed
}

// errWaits is that the same waits already, so that there is nothing to note.
var errWaits = errors.New("it waits already")

// secondKept is how long what was decided is kept.
const secondKept = "7 days"

const secondColumns = `id, who, pass, came_from, verb, address, says, method, target, asked_at, until,
	CASE WHEN state = 'waiting' AND until < now() THEN 'over' ELSE state END AS state, decided_by, decided_at, outcome FROM seconds `

// AskSecond records what waits for a second person and returns its number and until when; the same that is
// asked for again is the same one. Up to so many of one principal wait at once, else ErrTooMany.
func (l Ledger) AskSecond(ctx context.Context, s Second, most int, e *catalog.Entry) (id int64, until time.Time, err error) {
	hash := sha256.Sum256([]byte(strings.Join([]string{s.Pass, s.Method, s.Target, string(s.Body)}, "\x00")))
	err = l.c.Record(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE seconds SET state = 'over', body = NULL WHERE state = 'waiting' AND until < now()`); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM seconds WHERE asked_at < now() - interval '`+secondKept+`'`); err != nil {
			return err
		}
		row := struct {
			ID    int64     `db:"id"`
			Until time.Time `db:"until"`
		}{}
		err := tx.GetContext(ctx, &row, `SELECT id, until FROM seconds WHERE hash = $1 AND state = 'waiting'`, hash[:])
		if err == nil {
			id, until = row.ID, row.Until
			return errWaits
		}
		if err = tx.GetContext(ctx, &row, `INSERT INTO seconds (hash, who, pass, came_from, verb, address, says, method, target, body, until)
			SELECT $1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11 WHERE (SELECT count(*) FROM seconds WHERE who = $2 AND state = 'waiting') < $12 RETURNING id, until`,
			hash[:], s.Who, s.Pass, s.From, s.Verb, s.Address, s.Says, s.Method, s.Target, s.Body, s.Until, most); err != nil {
			return err
		}
		id, until = row.ID, row.Until
		return nil
	})
	switch {
	case errors.Is(err, errWaits):
		err = nil
	case errors.Is(err, catalog.ErrNotFound):
		err = ErrTooMany
	}
	return id, until, err
}

// Seconds are those that wait, and those of the last days, the newest first, without their bodies.
func (l Ledger) Seconds(ctx context.Context, most int) ([]Second, error) {
	return catalog.List[Second](ctx, l.c, `SELECT `+secondColumns+`ORDER BY id DESC LIMIT $1`, most)
}

// SecondsWaiting is how many wait.
func (l Ledger) SecondsWaiting(ctx context.Context) (int, error) {
	n, err := catalog.One[int](ctx, l.c, `SELECT count(*) FROM seconds WHERE state = 'waiting' AND until > now()`)
	if err != nil {
		return 0, err
	}
	return *n, nil
}

// Second is the one of a number, or catalog.ErrNotFound.
func (l Ledger) Second(ctx context.Context, id int64) (*Second, error) {
	return catalog.One[Second](ctx, l.c, `SELECT body, `+secondColumns+`WHERE id = $1`, id)
}

// DecideSecond gives one that waits a state, by somebody, once: else catalog.ErrStale.
func (l Ledger) DecideSecond(ctx context.Context, id int64, state, by string, e *catalog.Entry) error {
	return l.c.Record(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		return catalog.Fenced(ctx, tx, catalog.ErrStale, `UPDATE seconds SET state = $2, decided_by = $3, decided_at = now(), body = NULL WHERE id = $1 AND state = 'waiting' AND until > now()`, id, state, by)
	})
}

// EndSecond records what came of one that has begun.
func (l Ledger) EndSecond(ctx context.Context, id int64, state, outcome string) error {
	return l.c.Exec(ctx, `UPDATE seconds SET state = $2, outcome = $3 WHERE id = $1 AND state = 'begun'`, id, state, outcome)
}
