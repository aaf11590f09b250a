package logbook_test

import (
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/postgres/testdb"
)

// prepared is a database as an administrator prepares one: the role that writes does not own it.
func prepared(t *testing.T) (address, writer string) {
	writer = "w" + uuid.NewString()[:8]
	keeper := writer + "_logbook"
	testdb.Exec(t, testdb.URL(), "CREATE ROLE "+writer+" LOGIN PASSWORD 'x'", "CREATE ROLE "+keeper, "GRANT "+keeper+" TO "+writer+" WITH ADMIN OPTION",
		"GRANT "+keeper+" TO ferry", "CREATE DATABASE "+writer+" OWNER "+keeper)
	u, err := url.Parse(testdb.URL())
	require.NoError(t, err)
	u.User, u.Path = url.UserPassword(writer, "x"), "/"+writer
	return u.String(), writer
}

// Where the administrator has made a role for it, the role that writes the logbook can neither change nor
// drop it, and writing, reading, proving and forgetting go on.
func TestWhoWritesTheLogbookCannotChangeIt(t *testing.T) {
	address, writer := prepared(t)
	c, err := catalog.Open(t.Context(), address, func(catalog.Delta) {})
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	note(t, c, 3)
	apart, err := logbook.Apart(t.Context(), c)
	require.NoError(t, err)
	require.True(t, apart)
	note(t, c, 3)
	path := keep(t, c, t.TempDir())

	conn, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	for _, attempt := range []string{
		"UPDATE logbook SET who = 'nobody'", "DELETE FROM logbook", "TRUNCATE logbook", "DROP TABLE logbook CASCADE", "ALTER TABLE logbook DISABLE TRIGGER ALL", "ALTER TABLE logbook ADD COLUMN x int",
		"DROP TRIGGER logbook_stays ON logbook", "DROP TRIGGER logbook_link ON logbook", "CREATE RULE quiet AS ON INSERT TO logbook DO INSTEAD NOTHING",
		"UPDATE logbook_ends SET seq = 0", "INSERT INTO logbook_chain VALUES (99, 99, 'x')", "DELETE FROM logbook_chain", "DROP TABLE logbook_chain CASCADE",
		"SELECT logbook_append(l) FROM logbook l LIMIT 1", "CREATE OR REPLACE FUNCTION logbook_field(v text) RETURNS text LANGUAGE sql AS 'SELECT 1::text'",
		"CREATE OR REPLACE FUNCTION logbook_link() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NULL; END'", "ALTER FUNCTION logbook_stays() OWNER TO " + writer,
		"SET ROLE " + writer + "_logbook", "GRANT " + writer + "_logbook TO " + writer, "DROP SCHEMA public CASCADE", "ALTER SCHEMA public OWNER TO " + writer, "DROP DATABASE " + writer, "SET session_replication_role = replica",
	} {
		_, err := conn.Exec(t.Context(), attempt)
		var refused *pgconn.PgError
		if assert.ErrorAs(t, err, &refused, attempt) {
			assert.Equal(t, "42501", refused.Code, "%s: %s", attempt, refused.Message)
		}
	}
	gone, err := logbook.Forget(t.Context(), c, time.Now().Add(time.Hour))
	require.NoError(t, err)
	assert.Zero(t, gone, "what is young stays, whatever the writer says")
	found := verify(t, c, path)
	assert.Empty(t, found.Found)
	assert.EqualValues(t, 6, found.Entries)
	assert.Equal(t, []string{writer + "_logbook", writer}, []string{found.Owner, found.Role})

	c.Close()
	c, err = catalog.Open(t.Context(), address, func(catalog.Delta) {})
	require.NoError(t, err, "it goes on after the next start")
	apart, err = logbook.Apart(t.Context(), c)
	require.NoError(t, err)
	assert.True(t, apart)
	note(t, c, 1)
	require.NoError(t, c.NewSpace(t.Context(), &catalog.Space{Name: "coldchain"}, &catalog.Entry{Who: "owner", Action: "new space", Address: "coldchain"}))
	assert.Empty(t, verify(t, c, path).Found)
}

// Without such a role it stays as it is; a role that cannot be given up is none.
func TestWithoutARoleForItTheLogbookStays(t *testing.T) {
	c, _ := open(t)
	apart, err := logbook.Apart(t.Context(), c)
	require.NoError(t, err)
	assert.False(t, apart)
	address, writer := prepared(t)
	testdb.Exec(t, testdb.URL(), "REVOKE ADMIN OPTION FOR "+writer+"_logbook FROM "+writer)
	other, err := catalog.Open(t.Context(), address, func(catalog.Delta) {})
	require.NoError(t, err)
	t.Cleanup(other.Close)
	apart, err = logbook.Apart(t.Context(), other)
	require.NoError(t, err)
	assert.False(t, apart)
	note(t, other, 1)
}

// What was refused is found by an index, however much there is.
func TestWhatWasRefusedIsFoundByAnIndex(t *testing.T) {
	c, database := open(t)
	testdb.Exec(t, database, `INSERT INTO logbook (who, action, address, outcome) SELECT 'owner', 'set topic', 'coldchain/readings', CASE WHEN n % 1000 = 0 THEN 'refused' ELSE 'done' END FROM generate_series(1, 5000) n`, `ANALYZE logbook`)
	rows, err := logbook.Entries(t.Context(), c, logbook.Asked{Outcome: catalog.Refused, Limit: 50})
	require.NoError(t, err)
	assert.Len(t, rows, 5)
	plan, err := catalog.List[string](t.Context(), c, `EXPLAIN `+logbook.Columns+`WHERE outcome = 'refused' AND said = 'refused' ORDER BY id DESC LIMIT 50`)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(plan, "\n"), "logbook_refused")
}
