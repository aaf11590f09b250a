package postgres

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// run has a server do statements, and returns the text of the first column of the last one's first row.
func run(t *testing.T, s *Server, statements ...string) (text string) {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), s.URL())
	require.NoError(t, err)
	defer conn.Close(t.Context())
	for i, one := range statements {
		if i < len(statements)-1 {
			_, err = conn.Exec(t.Context(), one)
		} else {
			err = conn.QueryRow(t.Context(), one).Scan(&text)
		}
		require.NoError(t, err, one)
	}
	return text
}

func stop(s *Server) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	s.Stop(ctx)
}

// What was dumped comes back as it was, into a database of the same password, and what was there until
// then stays beside it.
func TestADumpComesBack(t *testing.T) {
	dir := directory(t)
	s := started(t, dir)
	run(t, s, `CREATE TABLE boxes (name text)`, `INSERT INTO boxes VALUES ('box 17')`, `SELECT 'made'`)
	run(t, s, `REVOKE ferry_logbook FROM ferry`, `CREATE SCHEMA clinic`, `SELECT 'made'`) // as it is when the logbook has been made
	dump := filepath.Join(t.TempDir(), "catalog.dump")
	out, err := exec.Command(filepath.Join(s.bin, "pg_dump"), "-Fc", "-f", dump, s.plain()).CombinedOutput()
	require.NoError(t, err, string(out))
	run(t, s, `UPDATE boxes SET name = 'box 18'`, `SELECT 'changed'`)
	before, err := passwordIn(filepath.Join(dir, urlName))
	require.NoError(t, err)

	// It runs still, as one that a node has left behind.
	s.mu.Lock()
	s.stopping = true
	s.mu.Unlock()
	aside, err := Restore(t.Context(), dir, dump)
	require.NoError(t, err)
	s = started(t, dir)
	assert.Equal(t, "box 17", run(t, s, `SELECT name FROM boxes`))
	after, err := passwordIn(filepath.Join(dir, urlName))
	require.NoError(t, err)
	assert.Equal(t, before, after, "other nodes know it")
	assert.NoDirExists(t, filepath.Join(dir, restoring))

	stop(s)
	require.NoError(t, os.RemoveAll(filepath.Join(dir, data)))
	_, err = Start(t.Context(), dir)
	assert.ErrorContains(t, err, "no database: put it back", "nothing begins anew where something was")
	require.NoError(t, os.Rename(aside, filepath.Join(dir, data)))
	assert.Equal(t, "box 18", run(t, started(t, dir), `SELECT name FROM boxes`), "one can go back")

	elsewhere := directory(t)
	aside, err = Restore(t.Context(), elsewhere, dump)
	require.NoError(t, err)
	assert.Empty(t, aside)
	assert.Equal(t, "box 17", run(t, started(t, elsewhere), `SELECT name FROM boxes`))
}

// Where a dump cannot be read nothing has changed.
func TestWhatIsNoDumpChangesNothing(t *testing.T) {
	dir := directory(t)
	s := started(t, dir)
	run(t, s, `CREATE TABLE boxes (name text)`, `INSERT INTO boxes VALUES ('box 17')`, `SELECT 'made'`)
	whole := filepath.Join(t.TempDir(), "catalog.dump")
	out, err := exec.Command(filepath.Join(s.bin, "pg_dump"), "-Fc", "-f", whole, s.plain()).CombinedOutput()
	require.NoError(t, err, string(out))
	stop(s)
	bytes, err := os.ReadFile(whole)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		content []byte
		says    string
	}{
		"a text":      {[]byte("SELECT 1;"), "is no dump: pg_dump -Fc"},
		"nothing":     {nil, "is no dump"},
		"half of one": {bytes[:len(bytes)/2], "could not be read into a database"},
	} {
		path := filepath.Join(t.TempDir(), "dump")
		require.NoError(t, os.WriteFile(path, c.content, 0o600))
		_, err := Restore(t.Context(), dir, path)
		assert.ErrorContains(t, err, c.says, name)
		entries, err := os.ReadDir(dir)
		require.NoError(t, err)
		for _, e := range entries {
			assert.Contains(t, []string{data, urlName, "postgres.log"}, e.Name(), name)
		}
	}
	_, err = Restore(t.Context(), dir, filepath.Join(dir, "no-such.dump"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	assert.Equal(t, "box 17", run(t, started(t, dir), `SELECT name FROM boxes`))
}
