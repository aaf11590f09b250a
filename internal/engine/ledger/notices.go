package ledger

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jmoiron/sqlx"

	"steadyferry/internal/engine/catalog"
)

// Notice is a word about incidents to a place outside.
type Notice struct {
	ID        uuid.UUID
	Endpoint  string // address
	Watches   []string
	Incidents []uuid.UUID
	Body      []byte
	MadeAt    time.Time
	Came      *Came // nil: it is to be sent
}

// Came is what came of a notice.
type Came struct {
	At     time.Time
	Sent   bool // else it is given up
	Answer string
}

// DueNotice is one that is to be sent.
type DueNotice struct {
	ID       uuid.UUID `db:"id"`
	Endpoint string    `db:"endpoint"`
	Body     []byte    `db:"body"`
	MadeAt   time.Time `db:"made_at"`
	Tries    int       `db:"tries"` // this one counts
}

// NewNotice records a notice, which is there once however often that is done.
func (l Ledger) NewNotice(ctx context.Context, n *Notice) error {
	return l.c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error { return recordNotice(ctx, tx, n) })
}

func recordNotice(ctx context.Context, tx *sqlx.Tx, n *Notice) error {
	incidents := make([]pgtype.UUID, len(n.Incidents))
	for i, id := range n.Incidents {
		incidents[i] = pgtype.UUID{Bytes: id, Valid: true}
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO notices (id, endpoint, watches, incidents, body, made_at, next_at) VALUES ($1, $2, $3, $4, $5, $6, now()) ON CONFLICT DO NOTHING`,
		n.ID, n.Endpoint, pgtype.FlatArray[string](append([]string{}, n.Watches...)), pgtype.FlatArray[pgtype.UUID](incidents), n.Body, n.MadeAt)
	if err != nil || n.Came == nil {
		return err
	}
	return endNotice(ctx, tx, n.ID, *n.Came)
}

// noticePause is for how long a notice of which nothing is heard is not sent again: doubled
// with each try, up to a quarter of an hour.
const noticePause = `least(interval '15 minutes', interval '15 seconds' * power(2, tries))`

// TakeNotices returns notices that are due, the first of each endpoint, so that they come in
// order; and puts each off for the case that nothing more is heard of this try.
func (l Ledger) TakeNotices(ctx context.Context, most int) ([]DueNotice, error) {
	return catalog.List[DueNotice](ctx, l.c, `UPDATE notices SET tries = tries + 1, next_at = now() + `+noticePause+`
		WHERE next_at <= now() AND id IN (SELECT id FROM (SELECT DISTINCT ON (endpoint) id, next_at FROM notices WHERE next_at IS NOT NULL ORDER BY endpoint, made_at, id) first
			WHERE next_at <= now() ORDER BY next_at LIMIT $1) RETURNING id, endpoint, body, made_at, tries`, most)
}

// EndNotice records what came of a notice: sent, or given up; and notes it in its incidents.
func (l Ledger) EndNotice(ctx context.Context, id uuid.UUID, came Came) error {
	return l.c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error { return endNotice(ctx, tx, id, came) })
}

func endNotice(ctx context.Context, tx *sqlx.Tx, id uuid.UUID, came Came) error {
	what := "not-told"
	at := pgtype.Timestamptz{}
	if came.Sent {
		what, at = "told", pgtype.Timestamptz{Time: came.At, Valid: true}
	}
	if _, err := tx.ExecContext(ctx, `UPDATE notices SET sent_at = $2, next_at = NULL, answer = $3 WHERE id = $1`, id, at, came.Answer); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO incident_notes (incident, at, who, what, text)
		SELECT i.id, $4, '', $2, n.endpoint || ': ' || $3::text FROM notices n JOIN incidents i ON i.id = ANY (n.incidents) WHERE n.id = $1 ON CONFLICT DO NOTHING`, id, what, came.Answer, came.At)
	return err
}

// NoticeFailed records what was answered to a notice that is tried again.
func (l Ledger) NoticeFailed(ctx context.Context, id uuid.UUID, answer string) error {
	return l.c.Exec(ctx, `UPDATE notices SET answer = $2 WHERE id = $1`, id, answer)
}

// NoticesSince counts by watch the notices that were made since a time.
func (l Ledger) NoticesSince(ctx context.Context, since time.Time) (map[string][]time.Time, error) {
	rows, err := catalog.List[struct {
		Watch  string    `db:"watch"`
		MadeAt time.Time `db:"made_at"`
	}](ctx, l.c, `SELECT unnest(watches) AS watch, made_at FROM notices WHERE made_at >= $1 ORDER BY made_at`, since)
	by := map[string][]time.Time{}
	for _, r := range rows {
		by[r.Watch] = append(by[r.Watch], r.MadeAt)
	}
	return by, err
}

// Hushed is what people have said of an incident, as far as it decides who is told.
type Hushed struct {
	ID      uuid.UUID  `db:"id"`
	AckedAt *time.Time `db:"acknowledged_at"`
	QuietTo *time.Time `db:"silenced_until"`
}

// Hushed returns the incidents that go on of which people have said something.
func (l Ledger) Hushed(ctx context.Context) (map[uuid.UUID]Hushed, error) {
	rows, err := catalog.List[Hushed](ctx, l.c, `SELECT id, acknowledged_at, silenced_until FROM incidents WHERE ended_at IS NULL AND (acknowledged_at IS NOT NULL OR silenced_until IS NOT NULL)`)
	by := map[uuid.UUID]Hushed{}
	for _, r := range rows {
		by[r.ID] = r
	}
	return by, err
}

// noticesKept is for how long notices are kept that were sent or given up.
const noticesKept = 30 * 24 * time.Hour

// TidyNotices deletes old notices.
func (l Ledger) TidyNotices(ctx context.Context) error {
	return l.c.Exec(ctx, `DELETE FROM notices WHERE next_at IS NULL AND made_at < $1`, time.Now().Add(-noticesKept))
}
