package endpoints

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logs"
)

// Statements returns those that make the table of an endpoint, as far as it is not
// there, with types as the bodies ask for that routes would bring; with do they are carried out.
func (es *Endpoints) Statements(ctx context.Context, who string, a address.Address, do bool) ([]string, error) {
	record, err := es.Of(ctx, a)
	if err != nil {
		return nil, err
	}
	if record.Kind() != setting.InTable {
		return nil, problem.New(problem.Invalid, "%s is a %s endpoint, which has no table", a, record.Kind())
	}
	s, err := es.open(record)
	if err != nil {
		return nil, problem.New(problem.Unavailable, "%s: %v", a, err)
	}
	to := es.newSender(record, s)
	defer to.close()
	if to.broken != nil {
		return nil, problem.New(problem.Invalid, "%s: %v", a, to.broken)
	}
	ctx, cancel := context.WithTimeout(ctx, time.Duration(record.TimeLimitMS)*time.Millisecond)
	defer cancel()
	all, err := to.rows.statements(ctx, es.samples(ctx, record))
	if err != nil {
		return nil, problem.New(problem.Unavailable, "%s: %v", a, err).Next("ferry show %s tells how it is set", a)
	}
	if !do || len(all) == 0 {
		return all, nil
	}
	tx, err := to.rows.pool.Begin(ctx)
	if err != nil {
		return all, problem.New(problem.Unavailable, "%s: %v", a, err)
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	for _, one := range all {
		if _, err := tx.Exec(ctx, one); err != nil {
			return all, problem.New(problem.Conflict, "%s: %v: %s", a, err, one)
		}
	}
	if err := tx.Commit(ctx); err != nil {
		return all, problem.New(problem.Unavailable, "%s: %v", a, err)
	}
	es.happened(a.String(), "table-made", "by "+who)
	return all, es.catalog.Note(ctx, &catalog.Entry{Who: who, Action: "make table", Address: a.String(), After: map[string]any{"statements": all}})
}

// samplesEach is how many bodies are looked at of each partition.
const samplesEach = 50

// samples are the last bodies of the channels from which routes lead to an endpoint.
func (es *Endpoints) samples(ctx context.Context, record *catalog.Endpoint) (bodies [][]byte) {
	for source, routes := range es.catalog.View().Routes {
		t := es.parts.ByID(source)
		if t == nil || !slices.ContainsFunc(routes, func(g *catalog.Group) bool { return g.Route.Target == record.ID }) {
			continue
		}
		for _, p := range t.Partitions() {
			l, err := logs.Open(ctx, es.parts, p, true)
			if err != nil {
				continue
			}
			from := max(l.First(), l.End()-samplesEach)
			chunk, err := l.Reader(from).Read(make([]byte, sampleBytes))
			if err != nil {
				continue
			}
			_, _ = logs.EachMessage(ctx, chunk, p.Number, from, es.parts.RoomToDecode, func(m *message.Stored) (bool, error) {
				bodies = append(bodies, slices.Clone(m.Body))
				return true, nil
			}) // what cannot be read is no sample
		}
	}
	return bodies
}

const sampleBytes = 256 << 10

// statements are those that make what is not there.
func (r *rows) statements(ctx context.Context, samples [][]byte) (all []string, err error) {
	schema, table, _ := strings.Cut(r.record.Table, ".")
	is, types := map[string]bool{}, map[string]string{}
	found, err := r.pool.Query(ctx, `SELECT 'schema', '' FROM pg_namespace WHERE nspname = $1
		UNION ALL SELECT c.relname, coalesce(a.attname, '') FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
		WHERE n.nspname = $1 AND c.relname IN ($2, 'ferry_places')`, schema, table)
	if err != nil {
		return nil, err
	}
	var what, column string
	if _, err := pgx.ForEachRow(found, []any{&what, &column}, func() error {
		is[what] = true
		if what == table {
			types[column] = "there"
		}
		return nil
	}); err != nil {
		return nil, err
	}
	if !is["schema"] {
		all = append(all, "CREATE SCHEMA "+pgx.Identifier{schema}.Sanitize())
	}
	if !is["ferry_places"] {
		all = append(all, "CREATE TABLE "+r.placesTable()+" (route uuid, partition int, epoch bigint NOT NULL, cut bigint NOT NULL, place bigint NOT NULL, PRIMARY KEY (route, partition))")
	}
	var columns []string
	for _, c := range r.columns {
		if types[c] == "" {
			columns = append(columns, pgx.Identifier{c}.Sanitize()+" "+typeOf(r.record.Columns[c], samples))
		}
	}
	switch {
	case len(columns) == 0:
	case is[table]:
		all = append(all, fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", r.table(), strings.Join(columns, ", ADD COLUMN ")))
	default:
		if len(r.record.KeyColumns) > 0 {
			keys := make([]string, len(r.record.KeyColumns))
			for i, k := range r.record.KeyColumns {
				keys[i] = pgx.Identifier{k}.Sanitize()
			}
			columns = append(columns, "PRIMARY KEY ("+strings.Join(keys, ", ")+")")
		}
		all = append(all, fmt.Sprintf("CREATE TABLE %s (%s)", r.table(), strings.Join(columns, ", ")))
	}
	return all, nil
}

// The types of columns that are made.
const (
	typeText   = "text"
	typeNumber = "double precision"
	typeWhole  = "bigint"
	typeSwitch = "boolean"
	typeTime   = "timestamptz"
	typeJSON   = "jsonb"
)

// typeOf is the type of a column for what it gets of messages; without samples of bodies,
// text for what lies in them.
func typeOf(source string, samples [][]byte) string {
	switch source {
	case "time":
		return typeTime
	case "partition", "offset":
		return typeWhole
	case "body":
		return typeText
	}
	if !strings.HasPrefix(source, "/") {
		return typeText
	}
	seen, all := map[string]int{}, 0
	for _, b := range samples {
		var body any
		if json.Unmarshal(b, &body) != nil {
			continue
		}
		if value := pointed(body, source, true); value != nil {
			seen[typeOfValue(*value)]++
			all++
		}
	}
	if seen[typeNumber] > 0 {
		seen[typeNumber] += seen[typeWhole]
	}
	for _, of := range []string{typeNumber, typeWhole, typeSwitch, typeTime, typeJSON} {
		if seen[of] > 0 && seen[of]*10 >= all*9 { // what a few messages have else is their fault
			return of
		}
	}
	if seen[typeJSON] > 0 {
		return typeJSON
	}
	return typeText
}

func typeOfValue(value string) string {
	switch value[0] {
	case '{', '[':
		return typeJSON
	case 't', 'f':
		return typeSwitch
	case '"':
		var s string
		if json.Unmarshal([]byte(value), &s) == nil {
			if _, err := time.Parse(time.RFC3339Nano, s); err == nil {
				return typeTime
			}
		}
		return typeText
	}
	if strings.ContainsAny(value, ".eE") {
		return typeNumber
	}
	return typeWhole
}
