// Package catalog keeps the records of the control plane in PostgreSQL and a
// copy of what the data path needs in memory, so that publishing and reading
// go on while the database is away.
package catalog

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	_ "github.com/jackc/pgx/v5/stdlib" // the database/sql driver
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"golang.org/x/time/rate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Errors of the catalog.
var (
	ErrAway     = errors.New("the database with the catalog does not answer")
	ErrExists   = errors.New("it exists already")
	ErrNotFound = errors.New("it does not exist")
	ErrText     = errors.New("a text has a character that cannot be kept, such as U+0000")
)

// Asker is a principal that has come with a secret.
type Asker struct {
	Name string

	secret hash // of what it came with
	by     *secret
}

// Owner is the principal that may do everything, without having been given anything.
const Owner = "owner"

// OwnerGrace is how long after the records were made the owner sets things up: its use is no event
// then.
const OwnerGrace = 24 * time.Hour

// Catalog is the connection to the records.
type Catalog struct {
	url      string
	db       *sqlx.DB
	view     atomic.Pointer[View]
	sessions sessions

	awaySince atomic.Int64 // Unix seconds, 0 when the database answers
	wentBack  atomic.Int64 // the version that was seen before the records went back
	changed   func(Delta)
	turn      chan struct{} // of the one that follows the records
	begun     atomic.Int64  // steps of following
	ended     int64         // the last of them that came to its end; of the turn
	cancel    context.CancelFunc
	wg        sync.WaitGroup
	reload    chan struct{}
	asking    *rate.Limiter
}

// Open connects to the database, brings its tables up to date and loads the
// view. changed is called after every later change of the view.
func Open(ctx context.Context, url string, changed func(Delta)) (*Catalog, error) {
	db, err := sqlx.Open("pgx", url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	db.SetMaxOpenConns(16)
	db.SetMaxIdleConns(8)
	db.SetConnMaxIdleTime(time.Minute)
	c := &Catalog{url: url, db: db, sessions: sessions{known: map[hash]*secret{}}, changed: changed, reload: make(chan struct{}, 1), turn: make(chan struct{}, 1), asking: rate.NewLimiter(10, 10)}
	connecting, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for {
		if err = db.PingContext(connecting); err == nil {
			break
		}
		select {
		case <-connecting.Done():
			return nil, fmt.Errorf("connect to the database: %w", err)
		case <-time.After(200 * time.Millisecond):
		}
	}
	if err := migrate(ctx, db); err != nil {
		return nil, fmt.Errorf("bring the database up to date: %w", err)
	}
	if err := c.catchUp(ctx); err != nil {
		return nil, err
	}
	run, stop := context.WithCancel(context.Background())
	c.cancel = stop
	c.wg.Go(func() { c.listen(run) })
	c.wg.Go(func() { c.follow(run) })
	return c, nil
}

// migrate brings the tables up to date; nodes that start together take turns.
func migrate(ctx context.Context, db *sqlx.DB) error {
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, `SELECT pg_advisory_lock($1)`, migrationLock); err != nil {
		return err
	}
	defer conn.ExecContext(context.WithoutCancel(ctx), `SELECT pg_advisory_unlock($1)`, migrationLock)
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	steps, err := goose.NewProvider(goose.DialectPostgres, db.DB, files)
	if err != nil {
		return err
	}
	_, err = steps.Up(ctx)
	return err
}

const migrationLock = 0x6d696772 // "migr"

// Close ends the connections.
func (c *Catalog) Close() {
	c.cancel()
	c.wg.Wait()
	c.db.Close()
}

// View returns the current copy of the records.
func (c *Catalog) View() *View { return c.view.Load() }

// AwaySince returns since when the database does not answer; zero when it
// does.
func (c *Catalog) AwaySince() time.Time {
	if at := c.awaySince.Load(); at != 0 {
		return time.Unix(at, 0)
	}
	return time.Time{}
}

// fault turns an error of the database into one of the catalog's. Only what
// says that the database does not answer counts as that; the catalog's own
// errors, and those that nobody has expected, stay as they are.
func (c *Catalog) fault(err error) error {
	known := classify(err)
	switch {
	case known == nil:
		c.awaySince.Store(0)
	case errors.Is(known, ErrAway):
		c.awaySince.CompareAndSwap(0, time.Now().Unix())
	}
	return known
}

// states of PostgreSQL (SQLSTATE) that mean something to the catalog's users,
// by code or by class.
var states = map[string]error{
	"23505": ErrExists,   // unique_violation
	"23503": ErrNotFound, // foreign_key_violation: what it belongs to was deleted
	"22021": ErrText,     // character_not_in_repertoire
	"22P05": ErrText,     // untranslatable_character: a zero character in JSON
	"40001": ErrStale,    // serialization_failure
	"40P01": ErrStale,    // deadlock_detected
	"25006": ErrAway,     // read_only_sql_transaction: a standby has the address
	"3D000": ErrAway,     // invalid_catalog_name: the database is being restored
	"08":    ErrAway,     // connection_exception
	"53":    ErrAway,     // insufficient_resources
	"57":    ErrAway,     // operator_intervention: it stops, or took too long
	"58":    ErrAway,     // system_error
}

func classify(err error) error {
	var refused *pgconn.PgError
	switch {
	case err == nil, errors.Is(err, context.Canceled), errors.Is(err, ErrAway):
		return err
	case errors.Is(err, sql.ErrNoRows):
		return ErrNotFound
	case errors.As(err, new(*pgconn.ConnectError)):
		return fmt.Errorf("%w: %w", ErrAway, err)
	case errors.As(err, &refused):
		for _, code := range []string{refused.Code, refused.Code[:min(2, len(refused.Code))]} {
			if known := states[code]; known != nil {
				return fmt.Errorf("%w: %w", known, err)
			}
		}
		return err
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, driver.ErrBadConn), errors.Is(err, sql.ErrConnDone), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF),
		errors.As(err, new(net.Error)), pgconn.Timeout(err):
		return fmt.Errorf("%w: %w", ErrAway, err)
	}
	return err
}

// forgottenKept is how long it is remembered that a channel was deleted: a
// node that was away for longer sets its logs aside.
const forgottenKept = 400 * 24 * time.Hour

// dutyKey is where a context has the number under which its owner does the
// duties of the cluster.
type dutyKey struct{}

// Change runs f and writes its logbook entry in one transaction, tells the
// other nodes, and returns when this node's view has it.
func (c *Catalog) Change(ctx context.Context, e *Entry, f In) error {
	err := c.Record(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := f(ctx, tx); err != nil {
			return err
		}
		duty, onDuty := ctx.Value(dutyKey{}).(int64)
		var version int64
		err := tx.GetContext(ctx, &version, `WITH head AS (UPDATE catalog_version SET version = version + 1, mark = gen_random_uuid() WHERE NOT $1 OR duty = $2 RETURNING version, mark)
			INSERT INTO commits (version, mark, xid) SELECT version, mark, pg_current_xact_id() FROM head ON CONFLICT (version) DO UPDATE SET mark = excluded.mark, xid = excluded.xid RETURNING version`, onDuty, duty)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrFenced
		}
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `SELECT pg_notify($1, '')`, notifyChannel)
		return err
	})
	if err != nil {
		return err
	}
	if c.catchUp(ctx) != nil {
		c.askReload() // it is recorded; the view follows when it can
	}
	return nil
}

// Record runs f and writes its logbook entry in one transaction. Of what nodes
// have copies of, the change makes a version by itself.
func (c *Catalog) Record(ctx context.Context, e *Entry, f In) error {
	return c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := f(ctx, tx); err != nil || e == nil {
			return err
		}
		_, err := writeLogbook(ctx, tx, e)
		return err
	})
}
