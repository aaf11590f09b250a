package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/watch"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
)

// WatchState is how a thing under a watch is.
type WatchState struct {
	Watch    int64         `db:"watch_id"`
	Kind     string        `db:"kind"`
	Thing    int64         `db:"thing_id"`
	Stored   []byte        `db:"state"`
	Incident uuid.NullUUID `db:"incident"`

	watch.State `db:"-"`
}

// Incident is a crossing of a watch's levels.
type Incident struct {
	ID       uuid.UUID   `db:"id"`
	Number   int64       `db:"number"` // 0: not recorded yet
	Watch    string      `db:"watch"`  // address
	Kind     string      `db:"kind"`
	Thing    int64       `db:"thing_id"`
	Address  string      `db:"address"`
	Source   string      `db:"source"` // address of what those of one cause have in common
	Stored   []byte      `db:"facts"`
	Level    watch.Level `db:"level"` // now
	Worst    watch.Level `db:"worst"`
	BegunAt  time.Time   `db:"begun_at"`
	RangAt   time.Time   `db:"rang_at"`
	EndedAt  *time.Time  `db:"ended_at"`
	EndedAs  string      `db:"ended_as"`
	Peak     float64     `db:"peak"`
	PeakAt   time.Time   `db:"peak_at"`
	Last     float64     `db:"last"`
	AckedAt  *time.Time  `db:"acknowledged_at"`
	AckedBy  string      `db:"acknowledged_by"`
	QuietTo  *time.Time  `db:"silenced_until"`
	QuietBy  string      `db:"silenced_by"`
	QuietFor string      `db:"silenced_for"`
	ToldAt   *time.Time  `db:"told_at"`
	ToldAs   watch.Level `db:"told_as"`
	ToldEnd  bool        `db:"told_end"`

	Facts `db:"-"`
}

// At is the address of what is out of order.
func (i *Incident) At() string { return i.Address }

// Facts are those of a watch at the time of an incident: levels and units are its own then.
type Facts struct {
	Value string   `json:"value"`
	Unit  string   `json:"unit"`
	Below bool     `json:"below"`
	Warn  *float64 `json:"warn"`
	Alarm *float64 `json:"alarm"`
	Calm  *float64 `json:"calm"`
	Tell  []string `json:"tell,omitempty"` // who is told, should the watch be removed
}

// IncidentNote is something that happened in an incident, or that somebody says of it.
type IncidentNote struct {
	ID       int64     `db:"id"`
	Incident uuid.UUID `db:"incident"`
	At       time.Time `db:"at"`
	Who      string    `db:"who"` // empty: the service
	What     string    `db:"what"`
	Text     string    `db:"text"`
}

// Judged is what has changed by judging.
type Judged struct {
	States    []*WatchState
	Gone      []*WatchState
	Incidents []*Incident
	Notes     []IncidentNote
	Notices   []*Notice
}

// Record writes what has changed, all of it or nothing, if the duties of the cluster are
// still those of the number (else catalog.ErrFenced). It numbers new incidents. States of
// watches that were removed meanwhile are left out.
func (l Ledger) Record(ctx context.Context, duty int64, j *Judged) (err error) {
	fresh := slices.DeleteFunc(slices.Clone(j.Incidents), func(i *Incident) bool { return i.Number != 0 })
	defer func() {
		if err != nil {
			for _, i := range fresh {
				i.Number = 0
			}
		}
	}()
	return l.c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		var holds []int
		if err := tx.SelectContext(ctx, &holds, `SELECT 1 FROM catalog_version WHERE duty = $1 FOR SHARE`, duty); err != nil {
			return err
		}
		if len(holds) == 0 {
			return catalog.ErrFenced
		}
		for _, i := range j.Incidents {
			if err := recordIncident(ctx, tx, i); err != nil {
				return err
			}
		}
		for _, s := range j.Gone {
			if _, err := tx.ExecContext(ctx, `DELETE FROM watch_states WHERE watch_id = $1 AND kind = $2 AND thing_id = $3`, s.Watch, s.Kind, s.Thing); err != nil {
				return err
			}
		}
		// What went and came again is there.
		if err := recordStates(ctx, tx, j.States); err != nil {
			return err
		}
		return recordTold(ctx, tx, j)
	})
}

// recordTold writes what was noted of incidents, and the notices that were made of them.
func recordTold(ctx context.Context, tx *sqlx.Tx, j *Judged) error {
	for _, n := range j.Notes {
		if err := addNote(ctx, tx, n); err != nil {
			return err
		}
	}
	for _, n := range j.Notices {
		if err := recordNotice(ctx, tx, n); err != nil {
			return err
		}
	}
	return nil
}

// RecordLate writes what a node judged without the records, which others go on from: incidents
// that are not there yet, with their notes and notices.
func (l Ledger) RecordLate(ctx context.Context, j *Judged) error {
	return l.c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		for _, i := range j.Incidents {
			var there bool
			if err := tx.GetContext(ctx, &there, `SELECT EXISTS (SELECT 1 FROM incidents WHERE id = $1)`, i.ID); err != nil {
				return err
			}
			if there {
				continue // it was not heard that it was recorded
			}
			if err := newIncident(ctx, tx, i); err != nil {
				return err
			}
		}
		return recordTold(ctx, tx, j)
	})
}

func recordStates(ctx context.Context, tx *sqlx.Tx, states []*WatchState) error {
	if len(states) == 0 {
		return nil
	}
	var watches, things []int64
	var kinds, texts []string
	incidents := make([]pgtype.UUID, len(states))
	for i, s := range states {
		b, err := json.Marshal(s.State)
		if err != nil {
			return err
		}
		watches, kinds, things, texts = append(watches, s.Watch), append(kinds, s.Kind), append(things, s.Thing), append(texts, string(b))
		incidents[i] = pgtype.UUID{Bytes: s.Incident.UUID, Valid: s.Incident.Valid}
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO watch_states (watch_id, kind, thing_id, state, incident)
		SELECT n.w, n.k, n.t, n.s::jsonb, n.i FROM unnest($1::bigint[], $2::text[], $3::bigint[], $4::text[], $5::uuid[]) AS n (w, k, t, s, i) JOIN watches ON watches.id = n.w
		ON CONFLICT (watch_id, kind, thing_id) DO UPDATE SET state = excluded.state, incident = excluded.incident`,
		pgtype.FlatArray[int64](watches), pgtype.FlatArray[string](kinds), pgtype.FlatArray[int64](things), pgtype.FlatArray[string](texts), pgtype.FlatArray[pgtype.UUID](incidents))
	return err
}

// recordIncident writes an incident; the numbers of new ones follow each other.
func recordIncident(ctx context.Context, tx *sqlx.Tx, i *Incident) error {
	err := tx.GetContext(ctx, &i.Number, `UPDATE incidents SET level = $2, worst = $3, ended_at = $4, ended_as = $5, peak = $6, peak_at = $7, last = $8, told_at = $9, told_as = $10, told_end = $11 WHERE id = $1 RETURNING number`,
		i.ID, i.Level.String(), i.Worst.String(), i.EndedAt, i.EndedAs, i.Peak, i.PeakAt, i.Last, i.ToldAt, i.ToldAs.String(), i.ToldEnd)
	if !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	return newIncident(ctx, tx, i)
}

func newIncident(ctx context.Context, tx *sqlx.Tx, i *Incident) error {
	facts, err := json.Marshal(i.Facts)
	if err != nil {
		return err
	}
	return tx.GetContext(ctx, &i.Number, `INSERT INTO incidents (id, watch, kind, thing_id, address, source, facts, level, worst, begun_at, rang_at, ended_at, ended_as, peak, peak_at, last, told_at, told_as, told_end)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19) RETURNING number`,
		i.ID, i.Watch, i.Kind, i.Thing, i.Address, i.Source, facts, i.Level.String(), i.Worst.String(), i.BegunAt, i.RangAt, i.EndedAt, i.EndedAs, i.Peak, i.PeakAt, i.Last, i.ToldAt, i.ToldAs.String(), i.ToldEnd)
}

func addNote(ctx context.Context, tx *sqlx.Tx, n IncidentNote) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO incident_notes (incident, at, who, what, text) VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING`, n.Incident, n.At, n.Who, n.What, n.Text)
	return err
}

// States returns how all things under watches are, for whoever judges them.
func (l Ledger) States(ctx context.Context) ([]*WatchState, error) { return l.states(ctx, "") }

// StatesOf returns how the things under a watch are.
func (l Ledger) StatesOf(ctx context.Context, watch int64) ([]*WatchState, error) {
	return l.states(ctx, `WHERE watch_id = $1`, watch)
}

func (l Ledger) states(ctx context.Context, where string, args ...any) ([]*WatchState, error) {
	rows, err := catalog.List[*WatchState](ctx, l.c, `SELECT * FROM watch_states `+where, args...)
	for _, s := range rows {
		if err := json.Unmarshal(s.Stored, &s.State); err != nil {
			return nil, fmt.Errorf("the state of watch %d: %w", s.Watch, err)
		}
	}
	return rows, err
}

// StateCount is how many things under a watch are at a level; Unknown: nothing is known of them.
type StateCount struct {
	Watch   int64       `db:"watch_id"`
	Level   watch.Level `db:"level"`
	Unknown bool        `db:"unknown"`
	Count   int         `db:"count"`
}

// StateCounts counts the things under watches by how they are; unknown is what has not been
// known since a time.
func (l Ledger) StateCounts(ctx context.Context, unknownSince time.Time) (map[int64][]StateCount, error) {
	rows, err := catalog.List[StateCount](ctx, l.c, `SELECT watch_id, state ->> 'level' AS level, coalesce((state ->> 'unknown')::timestamptz < $1, false) AS unknown, count(*) AS count FROM watch_states GROUP BY 1, 2, 3`, unknownSince)
	by := map[int64][]StateCount{}
	for _, r := range rows {
		by[r.Watch] = append(by[r.Watch], r)
	}
	return by, err
}

// IncidentsAsked is which incidents are wanted: those that fulfil all that is said.
type IncidentsAsked struct {
	Open    bool
	Space   string
	Watch   string
	Address string
	From    time.Time // zero: of any time
	Before  int64     // number; 0: the newest
	Limit   int
}

// Incidents returns incidents, the newest first.
func (l Ledger) Incidents(ctx context.Context, a IncidentsAsked) ([]*Incident, error) {
	return l.incidents(ctx, `WHERE (NOT $1 OR ended_at IS NULL) AND ($2 = '' OR address = $2 OR starts_with(address, $2 || '/') OR starts_with(watch, $2 || '/')) AND ($3 = '' OR watch = $3) AND ($4 = '' OR address = $4 OR source = $4)
		AND ($5::timestamptz IS NULL OR coalesce(ended_at, now()) >= $5) AND ($6::bigint = 0 OR number < $6) ORDER BY number DESC LIMIT $7`,
		a.Open, a.Space, a.Watch, a.Address, pgtype.Timestamptz{Time: a.From, Valid: !a.From.IsZero()}, a.Before, a.Limit)
}

func (l Ledger) incidents(ctx context.Context, where string, args ...any) ([]*Incident, error) {
	rows, err := catalog.List[*Incident](ctx, l.c, `SELECT * FROM incidents `+where, args...)
	for _, i := range rows {
		if err := json.Unmarshal(i.Stored, &i.Facts); err != nil {
			return nil, fmt.Errorf("incident %d: %w", i.Number, err)
		}
	}
	return rows, err
}

// Untold returns the incidents that have ended, of whose end those who know of them were not
// told, of the last day.
func (l Ledger) Untold(ctx context.Context) ([]*Incident, error) {
	return l.incidents(ctx, `WHERE ended_at > now() - interval '1 day' AND told_at IS NOT NULL AND NOT told_end ORDER BY number`)
}

// Tally counts the incidents that go on, by their levels.
func (l Ledger) Tally(ctx context.Context) (map[watch.Level]int, error) {
	rows, err := catalog.List[struct {
		Level watch.Level
		Count int
	}](ctx, l.c, `SELECT level, count(*) AS count FROM incidents WHERE ended_at IS NULL GROUP BY level`)
	by := map[watch.Level]int{}
	for _, r := range rows {
		by[r.Level] = r.Count
	}
	return by, err
}

// Incident returns the one of a number (else catalog.ErrNotFound).
func (l Ledger) Incident(ctx context.Context, number int64) (*Incident, error) {
	rows, err := l.incidents(ctx, `WHERE number = $1`, number)
	if err == nil && len(rows) == 0 {
		err = catalog.ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	return rows[0], nil
}

// NotesOf returns what happened in an incident, the oldest first.
func (l Ledger) NotesOf(ctx context.Context, id uuid.UUID) ([]IncidentNote, error) {
	return catalog.List[IncidentNote](ctx, l.c, `SELECT * FROM incident_notes WHERE incident = $1 ORDER BY at, id`, id)
}

// Saying is what somebody does to an incident: what is not nil is done.
type Saying struct {
	Acknowledge bool
	QuietTo     *time.Time // the zero time ends a silence
	QuietFor    string
	Note        IncidentNote
}

// Say does what somebody says of an incident, with its note.
func (l Ledger) Say(ctx context.Context, id uuid.UUID, s *Saying) error {
	return l.c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		if s.Acknowledge {
			if _, err := tx.ExecContext(ctx, `UPDATE incidents SET acknowledged_at = $2, acknowledged_by = $3 WHERE id = $1`, id, s.Note.At, s.Note.Who); err != nil {
				return err
			}
		}
		if s.QuietTo != nil {
			until := pgtype.Timestamptz{Time: *s.QuietTo, Valid: !s.QuietTo.IsZero()}
			if _, err := tx.ExecContext(ctx, `UPDATE incidents SET silenced_until = $2, silenced_by = $3, silenced_for = $4 WHERE id = $1`, id, until, s.Note.Who, s.QuietFor); err != nil {
				return err
			}
		}
		return addNote(ctx, tx, s.Note)
	})
}

// Changes returns what was done from a time up to another one to an address, or to what belongs
// to it (empty: to anything), the newest first; without sign-ins, and what clocks began.
func (l Ledger) Changes(ctx context.Context, address string, from, to time.Time, limit int) ([]logbook.Row, error) {
	return catalog.List[logbook.Row](ctx, l.c, logbook.Columns+`
		WHERE outcome = 'done' AND at >= $2 AND at < $3 AND action NOT LIKE '%sign%' AND NOT (action = 'run chore' AND who = 'clock') AND ($1 = '' OR address = $1 OR starts_with(address, $1 || '/') OR starts_with(address, $1 || '@') OR starts_with(address, $1 || '#')) ORDER BY id DESC LIMIT $4`, address, from, to, limit)
}

// LastEnded returns when the last incident of a space (empty: of any) ended; zero without one.
func (l Ledger) LastEnded(ctx context.Context, space string) (time.Time, error) {
	at, err := catalog.One[pgtype.Timestamptz](ctx, l.c, `SELECT max(ended_at) FROM incidents WHERE $1 = '' OR starts_with(address, $1 || '/')`, space)
	if err != nil {
		return time.Time{}, err
	}
	return at.Time, nil
}

// Corrections returns when a thing was set right by a watch since a time, the first one first.
func (l Ledger) Corrections(ctx context.Context, watch int64, kind string, thing int64, since time.Time) ([]time.Time, error) {
	return catalog.List[time.Time](ctx, l.c, `SELECT at FROM watch_corrections WHERE watch_id = $1 AND kind = $2 AND thing_id = $3 AND at >= $4 ORDER BY at`, watch, kind, thing, since)
}

// AddCorrection records that a thing is set right by a watch, and forgets what is old.
func (l Ledger) AddCorrection(ctx context.Context, watch int64, kind string, thing int64) error {
	return l.c.Exec(ctx, `WITH old AS (DELETE FROM watch_corrections WHERE at < now() - interval '1 day')
		INSERT INTO watch_corrections (watch_id, kind, thing_id) VALUES ($1, $2, $3)`, watch, kind, thing)
}
