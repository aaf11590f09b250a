package outside

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/tidwall/gjson"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/route"
)

// rows writes messages into a table of a database. The rows of a batch and the place up
// to which the table has a route's messages are written in one transaction: so each
// message becomes a row once, whoever writes it, however often.
type rows struct {
	place   *Place
	pool    *pgxpool.Pool
	columns []string // in their order in statements

	mu    sync.Mutex // guards known
	known *tableForm // nil: it was not looked at yet
}

const (
	tableConnections = 4
	// MostRows is how many messages go in one transaction.
	MostRows = 10_000
	// noTLS in an address says that a connection may be read on its way.
	noTLS = "disable"
)

// newRows returns what writes into the table of a place.
func newRows(config Config, place *Place, u *url.URL, secured *tls.Config) (*rows, error) {
	// Nothing of this process's environment or files goes into it, only what the
	// endpoint says.
	c, err := pgxpool.ParseConfig("host=localhost user=nobody password=none sslmode=disable")
	if err != nil {
		return nil, err
	}
	to := c.ConnConfig
	to.Host, to.Port, to.Fallbacks, to.Password = u.Hostname(), 5432, nil, place.Secrets[Password]
	if port := u.Port(); port != "" {
		if _, err := fmt.Sscan(port, &to.Port); err != nil {
			return nil, fmt.Errorf("port %q", port)
		}
	}
	to.User, to.Database = u.User.Username(), strings.TrimPrefix(u.Path, "/")
	if u.Query().Get("sslmode") != noTLS {
		to.TLSConfig = secured
	}
	limit := time.Duration(place.TimeLimitMS) * time.Millisecond
	to.ConnectTimeout = min(dialTime, limit)
	to.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		return config.dial(ctx, network, address)
	}
	to.RuntimeParams = map[string]string{"application_name": config.Agent, "statement_timeout": fmt.Sprint(limit.Milliseconds()), "lock_timeout": fmt.Sprint(limit.Milliseconds() / 2)}
	c.MaxConns, c.MaxConnIdleTime = tableConnections, idleConnection
	pool, err := pgxpool.NewWithConfig(context.Background(), c)
	if err != nil {
		return nil, err
	}
	return &rows{place: place, pool: pool, columns: slices.Sorted(maps.Keys(place.Columns))}, nil
}

// close ends the connections, each when what it does is done; nobody waits for that.
func (r *rows) close() { go r.pool.Close() }

// placesTable is where the places of routes are, beside the table.
func (r *rows) placesTable() string {
	schema, _, _ := strings.Cut(r.place.Table, ".")
	return pgx.Identifier{schema, "ferry_places"}.Sanitize()
}

func (r *rows) table() string {
	schema, table, _ := strings.Cut(r.place.Table, ".")
	return pgx.Identifier{schema, table}.Sanitize()
}

// origin tells up to which place the table has the messages of a route from a partition.
func (r *rows) origin(ctx context.Context, lane *Lane) (at route.Place, err error) {
	_, err = r.pool.Exec(ctx, `INSERT INTO `+r.placesTable()+` (route, partition, epoch, cut, place) VALUES ($1, $2, 0, 0, 0) ON CONFLICT DO NOTHING`, lane.Route, lane.Partition)
	if err == nil {
		at, err = r.reached(ctx, lane)
	}
	return at, err
}

func (r *rows) reached(ctx context.Context, lane *Lane) (at route.Place, err error) {
	err = r.pool.QueryRow(ctx, `SELECT epoch, cut, place FROM `+r.placesTable()+` WHERE route = $1 AND partition = $2`, lane.Route, lane.Partition).Scan(&at.Epoch, &at.Cut, &at.Offset)
	return at, err
}

// write writes messages as rows, if the table has what lies before them: else it returns
// *route.NotBehind. Without messages it only moves the place.
func (r *rows) write(ctx context.Context, lane *Lane, items []Item, upTo message.Place) error {
	form, err := r.form(ctx)
	if err != nil {
		return err
	}
	tx, err := r.pool.Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // nothing, after a commit
	tag, err := tx.Exec(ctx, `UPDATE `+r.placesTable()+` SET epoch = $3, cut = $4, place = $5 WHERE route = $1 AND partition = $2 AND epoch = $6 AND cut = $7 AND place = $8`,
		lane.Route, lane.Partition, upTo.Epoch, upTo.Cut, upTo.Offset, lane.After.Epoch, lane.After.Cut, lane.After.Offset)
	if err != nil {
		return err
	}
	if tag.RowsAffected() == 0 {
		_ = tx.Rollback(ctx)
		at, err := r.origin(ctx, lane)
		if err != nil {
			return err
		}
		return &route.NotBehind{Origin: at}
	}
	if len(items) > 0 {
		if err := form.copy(ctx, tx, r.values(lane, items, form)); err != nil {
			return err
		}
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	lane.After = upTo
	return nil
}

// tableForm is what is known of the table: how rows are written into it.
type tableForm struct {
	sources []string       // by column
	isJSON  []bool         // by column
	paths   []string       // into the body, by column, of those that have something of it
	names   map[string]int // the columns whose fields are those of an object without names between, by these
	copies  string         // the statement that takes rows as text
	// Where rows replace others they come by a table of their own.
	before, after string
}

// reading is what is read of one message after the other.
type reading struct {
	*tableForm
	lane  *Lane
	found []gjson.Result // by column: fields of the body
}

// form looks what the table is, once.
func (r *rows) form(ctx context.Context) (*tableForm, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.known == nil {
		known, err := r.learn(ctx)
		if err != nil {
			return nil, err
		}
		r.known = known
	}
	return r.known, nil
}

// copy writes rows, which are in the text form of COPY.
func (f *tableForm) copy(ctx context.Context, tx pgx.Tx, rows []byte) error {
	if f.before != "" {
		if _, err := tx.Exec(ctx, f.before); err != nil {
			return err
		}
	}
	if _, err := tx.Conn().PgConn().CopyFrom(ctx, bytes.NewReader(rows), f.copies); err != nil {
		return err
	}
	if f.after != "" {
		if _, err := tx.Exec(ctx, f.after); err != nil {
			return err
		}
	}
	return nil
}

// learn looks what the table is. The lock is held.
func (r *rows) learn(ctx context.Context) (*tableForm, error) {
	schema, table, _ := strings.Cut(r.place.Table, ".")
	found, err := r.pool.Query(ctx, `SELECT a.attname, format_type(a.atttypid, a.atttypmod), c.relpersistence = 'u'
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_attribute a ON a.attrelid = c.oid
		WHERE n.nspname = $1 AND c.relname = $2 AND a.attnum > 0 AND NOT a.attisdropped`, schema, table)
	if err != nil {
		return nil, err
	}
	types, unlogged := map[string]string{}, false
	var name, of string
	if _, err := pgx.ForEachRow(found, []any{&name, &of, &unlogged}, func() error { types[name] = of; return nil }); err != nil {
		return nil, err
	}
	if unlogged {
		return nil, fmt.Errorf("%s is an unlogged table, of which a crash takes what it keeps: ALTER TABLE %s SET LOGGED", r.place.Table, r.table())
	}
	f := &tableForm{sources: make([]string, len(r.columns)), isJSON: make([]bool, len(r.columns)), paths: make([]string, len(r.columns)), names: map[string]int{}}
	var names, updates []string
	for i, c := range r.columns {
		if types[c] == "" {
			return nil, &missing{r, types}
		}
		f.isJSON[i] = types[c] == "json" || types[c] == "jsonb"
		f.sources[i] = r.place.Columns[c]
		if name, ok := strings.CutPrefix(f.sources[i], "/"); ok {
			if _, twice := f.names[name]; !twice && !strings.ContainsAny(name, "/~") {
				f.names[name] = i
			} else {
				f.paths[i] = pathOf(f.sources[i])
			}
		}
		quoted := pgx.Identifier{c}.Sanitize()
		if names = append(names, quoted); !slices.Contains(r.place.KeyColumns, c) {
			updates = append(updates, quoted+" = excluded."+quoted)
		}
	}
	columns := strings.Join(names, ", ")
	f.copies = fmt.Sprintf("COPY %s (%s) FROM STDIN", r.table(), columns)
	if len(r.place.KeyColumns) == 0 {
		return f, nil
	}
	keys := make([]string, len(r.place.KeyColumns))
	for i, k := range r.place.KeyColumns {
		keys[i] = pgx.Identifier{k}.Sanitize()
	}
	do := "NOTHING"
	if len(updates) > 0 {
		do = "UPDATE SET " + strings.Join(updates, ", ")
	}
	f.before = fmt.Sprintf("CREATE TEMPORARY TABLE ferry_rows ON COMMIT DROP AS SELECT %s FROM %s WITH NO DATA", columns, r.table())
	f.copies = fmt.Sprintf("COPY ferry_rows (%s) FROM STDIN", columns)
	f.after = fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM ferry_rows ON CONFLICT (%s) DO %s", r.table(), columns, columns, strings.Join(keys, ", "), do)
	return f, nil
}

// missing says that a table, or a column of it, is not there, with the statement that
// makes it.
type missing struct {
	r     *rows
	types map[string]string // of the columns that are there; none: there is no table
}

func (m *missing) Error() string {
	if len(m.types) == 0 {
		return fmt.Sprintf("there is no table %s; ferry endpoint table %s shows the statements that make it", m.r.place.Table, m.r.place.Address)
	}
	var add []string
	for _, c := range m.r.columns {
		if m.types[c] == "" {
			add = append(add, fmt.Sprintf("ADD COLUMN %s %s", pgx.Identifier{c}.Sanitize(), typeOf(m.r.place.Columns[c], nil)))
		}
	}
	return fmt.Sprintf("%s lacks columns: ALTER TABLE %s %s", m.r.place.Table, m.r.table(), strings.Join(add, ", "))
}

// post writes messages of a lane, and says what came of it.
func (r *rows) post(ctx context.Context, lane *Lane, items []Item) (*endpoint.Answer, error) {
	begun := time.Now()
	ctx, cancel := context.WithTimeout(ctx, time.Duration(r.place.TimeLimitMS)*time.Millisecond)
	defer cancel()
	err := r.write(ctx, lane, items, items[len(items)-1].UpTo)
	var behind *route.NotBehind
	if errors.As(err, &behind) {
		return nil, err
	}
	return r.answer(begun, err), nil
}

// check looks whether messages could be written, and writes none.
func (r *rows) check(ctx context.Context) *endpoint.Answer {
	begun := time.Now()
	r.mu.Lock()
	_, err := r.learn(ctx)
	r.mu.Unlock()
	if err == nil {
		_, err = r.reached(ctx, &Lane{Route: uuid.Nil.String()})
		if errors.Is(err, pgx.ErrNoRows) {
			err = nil
		}
	}
	return r.answer(begun, err)
}

// answer says what has come of writing.
func (r *rows) answer(begun time.Time, err error) *endpoint.Answer {
	a := &endpoint.Answer{At: time.Now(), Took: time.Since(begun)}
	if err == nil {
		return a
	}
	r.mu.Lock()
	r.known = nil // it is looked at anew, whatever was wrong
	r.mu.Unlock()
	a.Means = endpoint.Again
	a.Error = err.Error()
	var said *pgconn.PgError
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		a.Error = fmt.Sprintf("no answer within %s", time.Duration(r.place.TimeLimitMS)*time.Millisecond)
	case errors.As(err, &said):
		a.Error = r.explain(said)
		// Data exceptions and violated constraints are a row's fault.
		if class := said.Code[:min(2, len(said.Code))]; class == "22" || class == "23" {
			a.Means = endpoint.Refused
		}
	}
	return a
}

// explain says what a database has refused, and what to do where that is known.
func (r *rows) explain(e *pgconn.PgError) string {
	text := fmt.Sprintf("%s (SQLSTATE %s)", e.Message, e.Code)
	for _, more := range []struct{ name, value string }{{"column", e.ColumnName}, {"constraint", e.ConstraintName}, {"detail", e.Detail}} {
		if more.value != "" {
			text += fmt.Sprintf("; %s: %s", more.name, more.value)
		}
	}
	switch e.Code {
	case "42501":
		text += fmt.Sprintf("; GRANT SELECT, INSERT, UPDATE ON %s, %s TO the user of the endpoint", r.table(), r.placesTable())
	case "42P01":
		text += fmt.Sprintf("; ferry endpoint table %s shows the statements that make it", r.place.Address)
	}
	return text
}
