package outside

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/tidwall/gjson"
)

// Statements returns those that make the table of a place, as far as it is not there, with
// types as samples of bodies ask for.
func (to *Sender) Statements(ctx context.Context, samples [][]byte) ([]string, error) {
	if to.broken != nil {
		return nil, to.broken
	}
	return to.rows.statements(ctx, samples)
}

// Run carries statements out, all or none.
func (to *Sender) Run(ctx context.Context, statements []string) error {
	tx, err := to.rows.pool.Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // nothing, after a commit
	for _, one := range statements {
		if _, err := tx.Exec(ctx, one); err != nil {
			return fmt.Errorf("%w: %s", err, one)
		}
	}
	return tx.Commit(ctx)
}

// statements are those that make what is not there.
func (r *rows) statements(ctx context.Context, samples [][]byte) (all []string, err error) {
	schema, table, _ := strings.Cut(r.place.Table, ".")
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
			columns = append(columns, pgx.Identifier{c}.Sanitize()+" "+typeOf(r.place.Columns[c], samples))
		}
	}
	switch {
	case len(columns) == 0:
	case is[table]:
		all = append(all, fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", r.table(), strings.Join(columns, ", ADD COLUMN ")))
	default:
		if len(r.place.KeyColumns) > 0 {
			keys := make([]string, len(r.place.KeyColumns))
			for i, k := range r.place.KeyColumns {
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
	seen, all, path := map[string]int{}, 0, pathOf(source)
	for _, b := range samples {
		if !gjson.ValidBytes(b) {
			continue
		}
		if v := gjson.GetBytes(b, path); v.Exists() && v.Type != gjson.Null {
			seen[typeOfValue(v.Raw)]++
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
