// Package catalog keeps the records of the control plane in PostgreSQL and a
// copy of what the data path needs in memory, so that publishing and reading
// go on while the database is away.
package catalog

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
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
	ErrAway     = errors.New("the database with the records does not answer")
	ErrExists   = errors.New("it exists already")
	ErrNotFound = errors.New("it does not exist")
	ErrText     = errors.New("a text has a character that cannot be kept, such as U+0000")
)

// Principal is who makes a request.
type Principal struct {
	Name string `json:"name"`
	Role string `json:"role"`

	secret [sha256.Size]byte // with which it came
	by     *secret
}

// View is a consistent copy of the records that nodes work with. It is never
// changed once made.
type View struct {
	Version  int64
	Spaces   map[string]*Space
	Channels map[string]*Channel // by address, without removed ones
	Removed  []*Channel
	Cluster  Cluster
	Nodes    map[uint64]*Node
	Placed   map[int64][]*Placement      // by channel and partition
	Groups   map[int64]map[string]*Group // by channel and name
	GroupIDs map[int64]*Group
	secrets  map[[sha256.Size]byte]*secret

	Forgotten map[int64]bool // channels that were deleted for good
	mark      string
}

// Catalog is the connection to the records.
type Catalog struct {
	url  string
	db   *sqlx.DB
	view atomic.Pointer[View]

	awaySince atomic.Int64 // Unix seconds, 0 when the database answers
	wentBack  atomic.Int64 // the version that was seen before the records went back
	changed   func()
	cancel    context.CancelFunc
	wg        sync.WaitGroup
	reload    chan struct{}
	asking    *rate.Limiter
}

// Open connects to the database, brings its tables up to date and loads the
// view. changed is called after every later change of the view.
func Open(ctx context.Context, url string, changed func()) (*Catalog, error) {
	db, err := sqlx.Open("pgx", url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	db.SetMaxOpenConns(16)
	db.SetMaxIdleConns(8)
	db.SetConnMaxIdleTime(time.Minute)
	c := &Catalog{url: url, db: db, changed: changed, reload: make(chan struct{}, 1), asking: rate.NewLimiter(10, 10)}
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
	if err := c.load(ctx); err != nil {
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
	goose.SetBaseFS(migrations)
	goose.SetLogger(goose.NopLogger())
	if err := goose.SetDialect("postgres"); err != nil {
		return err
	}
	return goose.UpContext(ctx, db.DB, "migrations")
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

func (c *Catalog) load(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, statementTimeout)
	defer cancel()
	tx, err := c.db.BeginTxx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return c.fault(err)
	}
	defer tx.Rollback()
	v := &View{Spaces: map[string]*Space{}, Channels: map[string]*Channel{}, Nodes: map[uint64]*Node{}, Placed: map[int64][]*Placement{}, Groups: map[int64]map[string]*Group{}, GroupIDs: map[int64]*Group{}, secrets: map[[sha256.Size]byte]*secret{}, Forgotten: map[int64]bool{}}
	var spaces []*Space
	var channels []*Channel
	var secrets []secret
	var nodes []*Node
	var placements []*Placement
	var groups []*Group
	var forgotten []int64
	if err := errors.Join(
		tx.GetContext(ctx, &v.Version, `SELECT version FROM catalog_version`),
		tx.GetContext(ctx, &v.mark, `SELECT mark FROM catalog_version`),
		tx.SelectContext(ctx, &forgotten, `SELECT id FROM forgotten_channels WHERE at > now() - $1 * interval '1 second'`, forgottenKept.Seconds()),
		tx.GetContext(ctx, &v.Cluster, `SELECT cluster, secret, spread_leaders FROM catalog_version`),
		tx.SelectContext(ctx, &nodes, nodeColumns),
		tx.SelectContext(ctx, &placements, `SELECT * FROM placements ORDER BY channel_id, partition`),
		tx.SelectContext(ctx, &groups, `SELECT id, channel_id, name, description, paused, expire_ms, created_at FROM groups`),
		tx.SelectContext(ctx, &spaces, `SELECT * FROM spaces`),
		tx.SelectContext(ctx, &channels, `SELECT c.*, s.name AS space FROM channels c JOIN spaces s ON s.id = c.space_id`),
		tx.SelectContext(ctx, &secrets, `SELECT x.hash, x.kind, x.label, x.created_at, x.expires_at, p.name AS principal, p.role
			FROM secrets x JOIN principals p ON p.id = x.principal_id WHERE x.expires_at IS NULL OR x.expires_at > now()`),
	); err != nil {
		return c.fault(err)
	}
	for _, s := range spaces {
		v.Spaces[s.Name] = s
	}
	for _, n := range nodes {
		v.Nodes[n.ID] = n
	}
	for _, p := range placements {
		v.Placed[p.ChannelID] = append(v.Placed[p.ChannelID], p)
	}
	for _, g := range groups {
		if v.Groups[g.ChannelID] == nil {
			v.Groups[g.ChannelID] = map[string]*Group{}
		}
		v.Groups[g.ChannelID][g.Name] = g
		v.GroupIDs[g.ID] = g
	}
	for _, ch := range channels {
		if err := json.Unmarshal(ch.Stored, &ch.Channel); err != nil {
			return fmt.Errorf("the settings of %s: %w", ch.Address(), err)
		}
		ch.Stored = nil
		if ch.Labels == nil {
			ch.Labels = map[string]string{}
		}
		if ch.RemovedAt.Valid {
			v.Removed = append(v.Removed, ch)
		} else {
			v.Channels[ch.Address()] = ch
		}
	}
	for _, id := range forgotten {
		v.Forgotten[id] = true
	}
	for i := range secrets {
		v.secrets[[sha256.Size]byte(secrets[i].Hash)] = &secrets[i]
	}
	c.show(v)
	return c.fault(nil)
}

// forgottenKept is how long it is remembered that a channel was deleted: a
// node that was away for longer sets its logs aside.
const forgottenKept = 400 * 24 * time.Hour

// show makes a copy the current one, unless a newer one is: two loads may end
// in another order than they began. Of records that went back the older one
// counts.
func (c *Catalog) show(v *View) {
	for {
		current := c.view.Load()
		newer := current != nil && current.Version > v.Version && c.wentBack.Load() < current.Version
		if newer || c.view.CompareAndSwap(current, v) {
			return
		}
	}
}

const notifyChannel = "ferry_catalog"

// listen waits for word of changes made by other nodes.
func (c *Catalog) listen(ctx context.Context) {
	for ctx.Err() == nil {
		conn, err := pgx.Connect(ctx, c.url)
		if err == nil {
			_, err = conn.Exec(ctx, "LISTEN "+notifyChannel)
			for err == nil {
				c.askReload()
				_, err = conn.WaitForNotification(ctx)
			}
			closing, cancel := context.WithTimeout(context.Background(), time.Second)
			conn.Close(closing)
			cancel()
		}
		select {
		case <-ctx.Done():
		case <-time.After(500 * time.Millisecond):
		}
	}
}

func (c *Catalog) askReload() {
	select {
	case c.reload <- struct{}{}:
	default:
	}
}

// follow keeps the view current: on word of a change, and now and then in
// case a word was lost.
func (c *Catalog) follow(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-c.reload:
		case <-time.After(5 * time.Second):
		}
		if err := c.refresh(ctx); err != nil && ctx.Err() == nil {
			slog.Debug("the catalog could not be read", "error", err)
		}
	}
}

// Refresh loads the view if the records have a newer version. It asks the
// database at most ten times a second, whoever calls it.
func (c *Catalog) Refresh(ctx context.Context) error {
	if !c.asking.Allow() {
		return nil
	}
	return c.refresh(ctx)
}

// Reload loads the view in any case.
func (c *Catalog) Reload(ctx context.Context) error {
	if err := c.load(ctx); err != nil {
		return err
	}
	c.changed()
	return nil
}

// refresh loads the view if the records have a newer version.
func (c *Catalog) refresh(ctx context.Context) error {
	var head struct {
		Version int64
		Mark    string
	}
	get, cancel := context.WithTimeout(ctx, statementTimeout)
	defer cancel()
	away := c.awaySince.Load() != 0
	view := c.View() // before the question: a later one may well be newer than the answer
	if err := c.fault(c.db.GetContext(get, &head, `SELECT version, mark FROM catalog_version`)); err != nil {
		if !away {
			slog.Warn("the database with the records does not answer; publishing and reading go on", "error", err)
		}
		return err
	}
	if away {
		slog.Info("the database with the records answers again")
	}
	if head.Version == view.Version && head.Mark == view.mark {
		return nil
	}
	if head.Version <= view.Version {
		// Somebody has restored a backup. What the records no longer know is
		// set aside, and nothing of it is deleted.
		slog.Error("the records went back: they are older than those that this node has seen", "version", head.Version, "seen", view.Version)
		c.wentBack.Store(view.Version)
	}
	if err := c.load(ctx); err != nil {
		return err
	}
	c.changed()
	return nil
}

// dutyKey is where a context has the number under which its owner does the
// duties of the cluster.
type dutyKey struct{}

// Entry is what a change writes to the logbook.
type Entry struct {
	Who     string
	Action  string
	Address string
	Before  any
	After   any
}

// change runs f and writes its logbook entry in one transaction, tells the
// other nodes, and returns when this node's view has it.
func (c *Catalog) change(ctx context.Context, e *Entry, f func(ctx context.Context, tx *sqlx.Tx) error) error {
	err := c.inTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		if err := f(ctx, tx); err != nil {
			return err
		}
		if e != nil {
			if err := writeLogbook(ctx, tx, e); err != nil {
				return err
			}
		}
		duty, onDuty := ctx.Value(dutyKey{}).(int64)
		if err := fenced(ctx, tx, ErrFenced, `UPDATE catalog_version SET version = version + 1, mark = gen_random_uuid() WHERE NOT $1 OR duty = $2`, onDuty, duty); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `SELECT pg_notify($1, '')`, notifyChannel)
		return err
	})
	if err != nil {
		return err
	}
	if err := c.load(ctx); err != nil {
		c.askReload() // it is recorded; the view follows when it can
		return nil
	}
	c.changed()
	return nil
}

func writeLogbook(ctx context.Context, tx *sqlx.Tx, e *Entry) error {
	before, err := jsonOrNull(e.Before)
	if err != nil {
		return err
	}
	after, err := jsonOrNull(e.After)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO logbook (who, action, address, before, after) VALUES ($1, $2, $3, $4, $5)`,
		e.Who, e.Action, e.Address, before, after)
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
	return c.inTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error { return writeLogbook(ctx, tx, e) })
}

// LogbookRow is one entry of the logbook.
type LogbookRow struct {
	ID      int64           `db:"id" json:"id"`
	At      time.Time       `db:"at" json:"at"`
	Who     string          `db:"who" json:"who"`
	Action  string          `db:"action" json:"action"`
	Address string          `db:"address" json:"address"`
	Before  json.RawMessage `db:"before" json:"before"`
	After   json.RawMessage `db:"after" json:"after"`
}

const logbookColumns = `SELECT id, at, who, action, address, coalesce(before, 'null') AS before, coalesce(after, 'null') AS after FROM logbook `

// ChangesOf returns the last changes of an address, newest first.
func (c *Catalog) ChangesOf(ctx context.Context, address string, limit int) ([]LogbookRow, error) {
	return list[LogbookRow](ctx, c, logbookColumns+`WHERE address = $1 AND action LIKE 'set %' ORDER BY id DESC LIMIT $2`, address, limit)
}

// Logbook returns entries with an id below before (0: all), newest first.
func (c *Catalog) Logbook(ctx context.Context, before int64, limit int) ([]LogbookRow, error) {
	return list[LogbookRow](ctx, c, logbookColumns+`WHERE $1 = 0 OR id < $1 ORDER BY id DESC LIMIT $2`, before, limit)
}
