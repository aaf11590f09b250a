package logbook_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/postgres/testdb"
)

func TestMain(m *testing.M) { testdb.Main(m) }

func open(t *testing.T) (*catalog.Catalog, string) {
	_, database := testdb.New(t)
	c, err := catalog.Open(t.Context(), database, func(catalog.Delta) {})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c, database
}

func note(t *testing.T, c *catalog.Catalog, n int) {
	for i := range n {
		require.NoError(t, c.Note(t.Context(), &catalog.Entry{Who: fmt.Sprintf("who-%d", i), Action: "set topic", Address: "coldchain/readings", Before: map[string]any{"retain": "1d"}, After: map[string]any{"retain": "2d", "why": "ä \" \\ \n"}}))
	}
}

// keep writes a head, and returns where.
func keep(t *testing.T, c *catalog.Catalog, dir string) string {
	h, err := logbook.OpenHeads(dir, "node-a")
	require.NoError(t, err)
	signed, err := h.Keep(t.Context(), c, logbook.Kept)
	require.NoError(t, err)
	assert.NotNil(t, signed)
	signed, err = h.Keep(t.Context(), c, logbook.Kept)
	require.NoError(t, err)
	assert.Nil(t, signed, "and nothing more, as nothing has come")
	return filepath.Join(dir, logbook.HeadsFile)
}

func verify(t *testing.T, c *catalog.Catalog, files ...string) *logbook.Verified {
	heads, err := logbook.ReadHeads(files[0])
	require.NoError(t, err)
	v, err := logbook.Verify(t.Context(), c, heads, time.Now().Add(-logbook.Kept))
	require.NoError(t, err)
	return v
}

func TestTheLogbookIsWhole(t *testing.T) {
	c, database := open(t)
	dir := t.TempDir()
	note(t, c, 3)
	path := keep(t, c, dir)
	// Many at once, in transactions of each sort: those that make a version, those that make one at
	// their end, and those that make none.
	var all sync.WaitGroup
	for i := range 6 {
		all.Go(func() {
			for j := range 20 {
				e := &catalog.Entry{Who: "owner", Action: "new token", Address: fmt.Sprint(i, " ", j)}
				switch j % 3 {
				case 0:
					assert.NoError(t, c.Note(t.Context(), e))
				case 1:
					_, err := c.NewSecret(t.Context(), catalog.Secret{Principal: catalog.Owner, Kind: catalog.Token}, 0, e)
					assert.NoError(t, err)
				default:
					name := fmt.Sprintf("role-%d-%d", i, j)
					assert.NoError(t, c.NewRights(t.Context(), e, catalog.Rights{Roles: []*catalog.Role{{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: name}}}}))
				}
			}
		})
	}
	all.Wait()
	v := verify(t, c, keep(t, c, dir))
	assert.Empty(t, v.Found)
	assert.EqualValues(t, 123, v.Entries)
	assert.EqualValues(t, 1, v.First)
	assert.EqualValues(t, 123, v.Last)
	assert.Equal(t, 2, v.Heads)

	for _, statement := range []string{`UPDATE logbook SET who = 'x'`, `DELETE FROM logbook`, `TRUNCATE logbook`, `UPDATE logbook_chain SET hash = ''`, `DELETE FROM logbook_chain`} {
		err := c.Exec(t.Context(), statement)
		assert.ErrorContains(t, err, "entries of the logbook are not changed", statement)
	}

	// What is old goes from the front, and what is left is whole.
	gone, err := logbook.Forget(t.Context(), c, time.Now().Add(-time.Hour))
	require.NoError(t, err)
	assert.Zero(t, gone)
	testdb.Exec(t, database, `SELECT logbook_forget(now() + interval '1 h', 50)`)
	v = verify(t, c, path)
	require.Len(t, v.Found, 1, "a head from within the time for which entries are kept says that they were there")
	assert.Contains(t, v.Found[0], "the logbook begins at 51: what was before was cut off")
	heads, err := logbook.ReadHeads(path)
	require.NoError(t, err)
	later, err := logbook.Verify(t.Context(), c, heads, time.Now())
	require.NoError(t, err)
	assert.Empty(t, later.Found, "older ones are no proof of it")
	assert.EqualValues(t, 73, later.Entries)
	note(t, c, 1)
	assert.EqualValues(t, 124, verify(t, c, keep(t, c, dir)).Last)
}

// Who has the database can have its rules away; what was done then is found.
func TestTamperingInTheDatabaseIsFound(t *testing.T) {
	for name, c := range map[string]struct{ statement, says string }{
		"changed":                {`UPDATE logbook SET who = 'x' WHERE id = 5`, "entry 5 is not as it was written"},
		"changed in its details": {`UPDATE logbook SET after = '{"retain": "3d"}' WHERE id = 5`, "entry 5 is not as it was written"},
		"at another time":        {`UPDATE logbook SET at = at - interval '1 day' WHERE id = 5`, "entry 5 is not as it was written"},
		"left out":               {`DELETE FROM logbook WHERE id = 5; DELETE FROM logbook_chain WHERE entry = 5`, "entry 5 is missing"},
		"left out, but its link": {`DELETE FROM logbook WHERE id = 5`, "entry 5 is missing"},
		"put in":                 {`INSERT INTO logbook (who, action, address) VALUES ('x', 'y', 'z')`, "was put in: it is no part of the chain"},
		"cut off":                {`DELETE FROM logbook WHERE id > 5; DELETE FROM logbook_chain WHERE seq > 5`, "the entries 6 to 8 are missing at the end"},
		"cut off, and said so": {`DELETE FROM logbook WHERE id > 5; DELETE FROM logbook_chain WHERE seq > 5; UPDATE logbook_ends SET seq = 5, hash = (SELECT hash FROM logbook_chain WHERE seq = 5)`,
			"node-a had entry 8"},
		"made anew from there on": {`UPDATE logbook SET who = 'x' WHERE id = 5; DELETE FROM logbook_chain WHERE seq >= 5;
			UPDATE logbook_ends SET seq = 4, hash = (SELECT hash FROM logbook_chain WHERE seq = 4);
			SELECT logbook_append(l) FROM (SELECT * FROM logbook WHERE id >= 5 ORDER BY id) AS l`, "entry 8 is another than node-a had signed"},
	} {
		t.Run(name, func(t *testing.T) {
			records, database := open(t)
			note(t, records, 8)
			path := keep(t, records, t.TempDir())
			assert.Empty(t, verify(t, records, path).Found)
			statement := strings.ReplaceAll(c.statement, "logbook_append(l)", "logbook_append(l::logbook)")
			testdb.Exec(t, database, `ALTER TABLE logbook DISABLE TRIGGER USER`)
			testdb.Exec(t, database, `ALTER TABLE logbook_chain DISABLE TRIGGER USER`)
			for one := range strings.SplitSeq(statement, ";") {
				testdb.Exec(t, database, strings.ReplaceAll(one, "l::logbook", "ROW(l.*)::logbook"))
			}
			assert.Contains(t, strings.Join(verify(t, records, path).Found, "\n"), c.says)
		})
	}
}

func TestHeadsOfANode(t *testing.T) {
	c, _ := open(t)
	note(t, c, 2)
	dir := t.TempDir()
	path := keep(t, c, dir)
	key, err := os.ReadFile(filepath.Join(dir, "logbook.key"))
	require.NoError(t, err)
	note(t, c, 1)
	keep(t, c, dir)
	again, err := os.ReadFile(filepath.Join(dir, "logbook.key"))
	require.NoError(t, err)
	assert.Equal(t, key, again, "the key stays")
	heads, err := logbook.ReadHeads(path)
	require.NoError(t, err)
	require.Len(t, heads, 2)
	assert.Equal(t, heads[0].Key, heads[1].Key)

	// The node may end in the middle of a line, and goes on behind it.
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, b[:len(b)-20], 0o600))
	heads, err = logbook.ReadHeads(path)
	require.NoError(t, err)
	assert.Len(t, heads, 1)
	note(t, c, 1)
	keep(t, c, dir)
	heads, err = logbook.ReadHeads(path)
	require.NoError(t, err)
	assert.Len(t, heads, 2, "what was cut off is no part of the next one")
	// Old ones are dropped when the node begins anew, one an hour stays.
	h, err := logbook.OpenHeads(dir, "node-a")
	require.NoError(t, err)
	var lines []byte
	for i := range 120 {
		one := heads[0]
		one.At = time.Now().Add(-50 * time.Hour).Truncate(time.Hour).Add(time.Duration(i) * time.Minute)
		line, err := json.Marshal(one)
		require.NoError(t, err)
		lines = append(append(lines, line...), '\n')
	}
	require.NoError(t, os.WriteFile(path, lines, 0o600))
	_, err = h.Keep(t.Context(), c, logbook.Kept)
	require.NoError(t, err)
	heads, err = logbook.ReadHeads(path)
	require.NoError(t, err)
	assert.Len(t, heads, 3, "two hours, and now")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "logbook.key"), []byte("x"), 0o600))
	_, err = logbook.OpenHeads(dir, "node-a")
	assert.ErrorContains(t, err, "has no key")
}

// A node keeps what the others have signed too, so that who has the database and the directory of
// one of them cannot begin anew.
func TestHeadsOfOtherNodes(t *testing.T) {
	c, database := open(t)
	note(t, c, 3)
	theirs, err := logbook.OpenHeads(t.TempDir(), "node-b")
	require.NoError(t, err)
	signed, err := theirs.Keep(t.Context(), c, logbook.Kept)
	require.NoError(t, err)
	dir := t.TempDir()
	ours, err := logbook.OpenHeads(dir, "node-a")
	require.NoError(t, err)
	require.NoError(t, ours.KeepOf("node-b", *signed))
	path := filepath.Join(dir, logbook.HeadsFile)
	v := verify(t, c, path)
	assert.Empty(t, v.Found)
	assert.Equal(t, 1, v.Heads)

	changed := *signed
	changed.Seq++
	assert.ErrorContains(t, ours.KeepOf("node-b", changed), `the head of entry 4 is of "node-b" and not one that node "node-b" has signed`)
	assert.Error(t, ours.KeepOf("node-c", *signed), "a node tells of itself alone")
	assert.Error(t, theirs.KeepOf("node-b", *signed), "nobody tells a node what it has seen itself")
	heads, err := logbook.ReadHeads(path)
	require.NoError(t, err)
	assert.Len(t, heads, 1)

	testdb.Exec(t, database, `ALTER TABLE logbook DISABLE TRIGGER USER`, `ALTER TABLE logbook_chain DISABLE TRIGGER USER`,
		`DELETE FROM logbook WHERE id > 2`, `DELETE FROM logbook_chain WHERE seq > 2`,
		`UPDATE logbook_ends SET seq = 2, hash = (SELECT hash FROM logbook_chain WHERE seq = 2)`)
	v = verify(t, c, path)
	require.Len(t, v.Found, 1)
	assert.Contains(t, v.Found[0], "node-b had entry 3 on ")
}

// What is done outside the database is announced, and told with what has become of it; when that is
// not written, nobody knows, and that is told.
func TestWhatIsAnnouncedIsConfirmed(t *testing.T) {
	c, _ := open(t)
	ctx, cancel := context.WithCancel(t.Context())
	entry := func(at string) *catalog.Entry {
		return &catalog.Entry{Who: "lana", Action: "discard messages", Address: at, After: map[string]any{"messages": 7, "why": "wet"}}
	}
	outcomes := func() (all []string) {
		rows, err := logbook.Entries(t.Context(), c, logbook.Asked{Limit: 10})
		require.NoError(t, err)
		for _, r := range rows {
			all = append(all, r.Address+" "+r.Outcome+" "+string(r.After))
		}
		return all
	}
	require.NoError(t, c.Announced(ctx, entry("done"), func() (map[string]any, error) {
		assert.Equal(t, []string{`done unknown {"why": "wet", "messages": 7}`}, outcomes(), "it is announced before")
		cancel() // who asked has gone
		return map[string]any{"messages": 5}, nil
	}))
	assert.Equal(t, []string{`done done {"why": "wet", "messages": 5}`}, outcomes(), "as many as it was")
	assert.EqualError(t, c.Announced(t.Context(), entry("failed"), func() (map[string]any, error) {
		return map[string]any{"messages": 2}, errors.New("no leader")
	}), "no leader")
	func() {
		defer func() { _ = recover() }()
		_ = c.Announced(t.Context(), entry("killed"), func() (map[string]any, error) { panic("the node ends here") })
	}()
	assert.Error(t, c.Announced(ctx, entry("never"), func() (map[string]any, error) {
		t.Error("what cannot be announced is not done")
		return nil, nil
	}))
	assert.Equal(t, []string{
		`killed unknown {"why": "wet", "messages": 7}`,
		`failed failed {"why": "wet", "failed": "no leader", "messages": 2}`,
		`done done {"why": "wet", "messages": 5}`,
	}, outcomes())
	for outcome, want := range map[string]int{"done": 1, "failed": 1, logbook.Unknown: 1, "refused": 0} {
		rows, err := logbook.Entries(t.Context(), c, logbook.Asked{Outcome: outcome, Limit: 10})
		require.NoError(t, err)
		assert.Len(t, rows, want, outcome)
	}
	v, err := logbook.Verify(t.Context(), c, nil, time.Now())
	require.NoError(t, err)
	assert.Empty(t, v.Found)
	assert.EqualValues(t, 5, v.Entries)
}

// What strangers say may have what PostgreSQL does not keep: it is noted all the same.
func TestWhatCannotBeKeptAsItIsIsNoted(t *testing.T) {
	c, _ := open(t)
	require.NoError(t, c.Note(t.Context(), &catalog.Entry{Who: "lana", Action: "discard messages", Address: "coldchain", After: map[string]any{"why": "a\x00b"}}))
	rows, err := logbook.Entries(t.Context(), c, logbook.Asked{Limit: 1})
	require.NoError(t, err)
	assert.JSONEq(t, `{"why": "a\ufffdb"}`, string(rows[0].After))
}
