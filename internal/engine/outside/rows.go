package outside

import (
	"context"
	"crypto/tls"
	"encoding/json"
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

	mu     sync.Mutex // guards insert and isJSON
	insert string     // the statement, once the types of the columns are known
	isJSON map[string]bool
}

const (
	tableConnections = 4
	// MostRows is how many messages go in one transaction.
	MostRows = 1000
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

func (r *rows) close() { r.pool.Close() }

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
	insert, values, err := r.statement(ctx, items)
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
		if _, err := tx.Exec(ctx, insert, values...); err != nil {
			return err
		}
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	lane.After = upTo
	return nil
}

// statement returns the one that inserts messages, and its arguments: one list of texts
// a column, which the database makes the column's type.
func (r *rows) statement(ctx context.Context, items []Item) (insert string, values []any, err error) {
	if len(items) == 0 {
		return "", nil, nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.insert == "" {
		if err := r.learn(ctx); err != nil {
			return "", nil, err
		}
	}
	columns := make([][]*string, len(r.columns))
	for _, row := range r.values(items) {
		for i := range columns {
			columns[i] = append(columns[i], row[i])
		}
	}
	for _, c := range columns {
		values = append(values, c)
	}
	return r.insert, values, nil
}

// values are the rows of messages; of those that replace each other, the last one.
func (r *rows) values(items []Item) [][]*string {
	all := make([][]*string, 0, len(items))
	at := map[string]int{}
	for i := range items {
		row := r.row(&items[i])
		if len(r.place.KeyColumns) > 0 {
			key, whole := "", true
			for c, name := range r.columns {
				if slices.Contains(r.place.KeyColumns, name) {
					if whole = whole && row[c] != nil; row[c] != nil {
						key += fmt.Sprintf("%d:%s", len(*row[c]), *row[c])
					}
				}
			}
			if before, known := at[key]; known && whole {
				all[before] = row
				continue
			}
			at[key] = len(all)
		}
		all = append(all, row)
	}
	return all
}

// row is what the columns have of a message.
func (r *rows) row(i *Item) []*string {
	var body any
	parsed := false
	row := make([]*string, len(r.columns))
	for c, name := range r.columns {
		source := r.place.Columns[name]
		if strings.HasPrefix(source, "/") && !parsed {
			parsed = true
			d := json.NewDecoder(strings.NewReader(string(i.Body)))
			d.UseNumber()
			if d.Decode(&body) != nil {
				body = nil
			}
		}
		row[c] = sourceOf(i, source, body, r.isJSON[name])
	}
	return row
}

// sourceOf is what a column gets of a message, as text; nil is NULL.
func sourceOf(i *Item, source string, body any, isJSON bool) *string {
	text := func(s string) *string {
		if isJSON {
			b, _ := json.Marshal(s) // a text
			s = string(b)
		}
		return &s
	}
	name, isHeader := strings.CutPrefix(source, "header.")
	switch {
	case isHeader:
		if v, ok := i.Header(name); ok {
			return text(v)
		}
		return nil
	case strings.HasPrefix(source, "/"):
		return pointed(body, source, isJSON)
	}
	switch source {
	case "key":
		return text(i.Key)
	case "id":
		return text(i.ID)
	case "time":
		at := i.Time
		if at.IsZero() {
			at = i.StoredAt
		}
		return text(at.UTC().Format(time.RFC3339Nano))
	case "partition":
		return text(fmt.Sprint(i.Partition))
	case "offset":
		return text(fmt.Sprint(i.Offset))
	case "source":
		return text(i.Source)
	}
	s := string(i.Body)
	if isJSON && json.Valid(i.Body) {
		return &s
	}
	return text(s)
}

// pointed is the value of a JSON Pointer (RFC 6901) as text; nil when there is none.
func pointed(body any, pointer string, isJSON bool) *string {
	for token := range strings.SplitSeq(pointer[1:], "/") {
		token = strings.ReplaceAll(strings.ReplaceAll(token, "~1", "/"), "~0", "~")
		switch v := body.(type) {
		case map[string]any:
			body = v[token]
		case []any:
			n := -1
			if _, err := fmt.Sscanf(token, "%d", &n); err != nil || n < 0 || n >= len(v) {
				return nil
			}
			body = v[n]
		default:
			return nil
		}
	}
	if body == nil {
		return nil
	}
	if s, ok := body.(string); ok && !isJSON {
		return &s
	}
	b, err := json.Marshal(body)
	if err != nil {
		return nil
	}
	s := string(b)
	return &s
}

// learn makes the statement from what the table is. The lock is held.
func (r *rows) learn(ctx context.Context) error {
	schema, table, _ := strings.Cut(r.place.Table, ".")
	found, err := r.pool.Query(ctx, `SELECT a.attname, format_type(a.atttypid, a.atttypmod), c.relpersistence = 'u'
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_attribute a ON a.attrelid = c.oid
		WHERE n.nspname = $1 AND c.relname = $2 AND a.attnum > 0 AND NOT a.attisdropped`, schema, table)
	if err != nil {
		return err
	}
	types, unlogged := map[string]string{}, false
	var name, of string
	if _, err := pgx.ForEachRow(found, []any{&name, &of, &unlogged}, func() error { types[name] = of; return nil }); err != nil {
		return err
	}
	if unlogged {
		return fmt.Errorf("%s is an unlogged table, of which a crash takes what it keeps: ALTER TABLE %s SET LOGGED", r.place.Table, r.table())
	}
	r.isJSON = map[string]bool{}
	var names, cast, updates []string
	for i, c := range r.columns {
		if types[c] == "" {
			return &missing{r, types}
		}
		quoted := pgx.Identifier{c}.Sanitize()
		r.isJSON[c] = types[c] == "json" || types[c] == "jsonb"
		names, cast = append(names, quoted), append(cast, fmt.Sprintf("u.c%d::%s", i, types[c]))
		if !slices.Contains(r.place.KeyColumns, c) {
			updates = append(updates, quoted+" = excluded."+quoted)
		}
	}
	var lists, as []string
	for i := range r.columns {
		lists, as = append(lists, fmt.Sprintf("$%d::text[]", i+1)), append(as, fmt.Sprintf("c%d", i))
	}
	r.insert = fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM unnest(%s) AS u(%s)", r.table(), strings.Join(names, ", "), strings.Join(cast, ", "), strings.Join(lists, ", "), strings.Join(as, ", "))
	if keys := r.place.KeyColumns; len(keys) > 0 {
		quoted := make([]string, len(keys))
		for i, k := range keys {
			quoted[i] = pgx.Identifier{k}.Sanitize()
		}
		do := "NOTHING"
		if len(updates) > 0 {
			do = "UPDATE SET " + strings.Join(updates, ", ")
		}
		r.insert += fmt.Sprintf(" ON CONFLICT (%s) DO %s", strings.Join(quoted, ", "), do)
	}
	return nil
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
	err := r.learn(ctx)
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
	r.insert = "" // it is looked at anew, whatever was wrong
	r.mu.Unlock()
	a.Means = endpoint.Again
	a.Error = err.Error()
	var said *pgconn.PgError
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		a.Error = fmt.Sprintf("no answer within %s", time.Duration(r.place.TimeLimitMS)*time.Millisecond)
	case errors.As(err, &said):
		a.Code, a.Error = said.Code, r.explain(said)
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
