package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

// backup copies a database; the connections to it must be closed.
func backup(t *testing.T, from string) (to string) {
	t.Helper()
	to = harness.SharedDatabase(t)
	name := func(u string) string {
		parsed, err := url.Parse(u)
		require.NoError(t, err)
		return strings.TrimPrefix(parsed.Path, "/")
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	other := harness.SharedDatabase(t) // a connection to neither
	conn, err := pgx.Connect(ctx, other)
	require.NoError(t, err)
	defer conn.Close(ctx)
	for _, statement := range []string{
		`SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE backend_type = 'client backend' AND datname IN ('` + name(from) + `', '` + name(to) + `')`,
		`DROP DATABASE ` + name(to), `CREATE DATABASE ` + name(to) + ` TEMPLATE ` + name(from)} {
		_, err := conn.Exec(ctx, statement)
		require.NoError(t, err, statement)
	}
	return to
}

func trees(t *testing.T, n *harness.Node) (logs, aside []string) {
	t.Helper()
	for dir, to := range map[string]*[]string{"logs": &logs, "set-aside": &aside} {
		entries, _ := os.ReadDir(filepath.Join(n.Dir, dir))
		for _, e := range entries {
			if e.IsDir() {
				*to = append(*to, e.Name())
			}
		}
	}
	return logs, aside
}

func asideID(t *testing.T, n *harness.Node) string {
	t.Helper()
	var a client.SetAside
	require.NoError(t, json.Unmarshal([]byte(n.Must("nodes", "set-aside", "-json")), &a))
	return a.ID
}

func publishMany(t *testing.T, n *harness.Node, channel string, count int) {
	t.Helper()
	var lines strings.Builder
	for i := range count {
		fmt.Fprintf(&lines, `{"body":{"channel":%q,"n":%d}}`+"\n", channel, i)
	}
	answer := n.Ask("POST", "/api/v1/channels/"+channel+"/messages", lines.String(), "Content-Type", client.NDJSONType)
	require.Equal(t, 200, answer.Status, answer.Body)
}

// The drill of docs/operations.md: the records of yesterday come back, and the
// logs of today stay.
func TestRestoringOlderRecordsDeletesNoLogs(t *testing.T) {
	database := harness.SharedDatabase(t)
	dir := harness.Dir(t)
	n := harness.StartIn(t, dir, "-database", database)
	n.Topic("coldchain/readings", 2)
	publishMany(t, n, "coldchain/readings", 1000)
	require.Zero(t, n.Stop())
	yesterday := backup(t, database)

	n = harness.StartIn(t, dir, "-database", database)
	n.Topic("coldchain/journeys", 2)
	publishMany(t, n, "coldchain/journeys", 5000)
	require.Zero(t, n.Stop())
	today := backup(t, database)

	n = harness.StartIn(t, dir, "-database", yesterday)
	_, aside := trees(t, n)
	require.Len(t, aside, 1, "they are set aside at the start")
	out := n.Must("nodes", "set-aside")
	assert.Contains(t, out, "coldchain/journeys")
	assert.Contains(t, n.Log(), "set aside")
	assert.Contains(t, n.Must("status"), "set aside")
	p := openConsole(t, n)
	p.open("/nodes")
	p.says("the catalog does not know these logs")
	p.says("coldchain/journeys")
	p.accessible("logs set aside")

	// A channel that is made now is not one of those that were.
	n.Topic("coldchain/doors", 2)
	assert.Equal(t, "0", strings.TrimSpace(n.Must("browse", "coldchain/doors", "-json", "-limit", "1")+"0"))
	publishMany(t, n, "coldchain/doors", 10)
	for _, m := range strings.Split(strings.TrimSpace(n.Must("browse", "coldchain/doors", "-json")), "\n") {
		assert.Contains(t, m, `"channel":"coldchain/doors"`)
	}
	assert.Equal(t, 1000, strings.Count(n.Must("browse", "coldchain/readings", "-json", "-limit", "10000"), "\n"))

	// They can be adopted, under any address.
	id := asideID(t, n)
	assert.Contains(t, n.Must("nodes", "adopt", id, "-as", "coldchain/found"), "nothing is changed yet")
	n.Must("nodes", "adopt", id, "-as", "coldchain/found", "-yes")
	assert.Equal(t, 5000, strings.Count(n.Must("browse", "coldchain/found", "-json", "-limit", "10000"), "\n"))
	publishMany(t, n, "coldchain/found", 10)
	_, aside = trees(t, n)
	assert.Empty(t, aside)
	_, errOut, code := n.Ferry("", "nodes", "adopt", id, "-as", "coldchain/again")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "ferry nodes set-aside lists")
	require.Zero(t, n.Stop())

	// When the newer records come back after all, so do their logs; what was
	// made meanwhile is set aside.
	n = harness.StartIn(t, dir, "-database", today)
	assert.Equal(t, 5010, strings.Count(n.Must("browse", "coldchain/journeys", "-json", "-limit", "10000"), "\n"))
	out = n.Must("nodes", "set-aside")
	assert.Contains(t, out, "coldchain/doors")
	id = asideID(t, n)
	n.Must("nodes", "throw-away", id)
	n.Must("nodes", "throw-away", id, "-yes")
	assert.Contains(t, n.Must("nodes", "set-aside"), "nothing is set aside")
}

func TestRecordsThatGoBackBelowARunningNodeAreNoticed(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	publishMany(t, n, "coldchain/readings", 100)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, n.Database())
	require.NoError(t, err)
	defer conn.Close(ctx)
	// What a restore does: the record is gone without having been deleted,
	// and the version is a lower one.
	for _, statement := range []string{`ALTER TABLE channels DISABLE TRIGGER USER`, `DELETE FROM channels`, `UPDATE catalog_version SET version = 1, mark = gen_random_uuid()`} {
		_, err := conn.Exec(ctx, statement)
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { return n.Ask("GET", "/api/v1/channels/coldchain/readings", "").Status == 404 }, 10*time.Second, 50*time.Millisecond, "the node follows")
	assert.Contains(t, n.Log(), "the catalog went back")
	logs, _ := trees(t, n)
	assert.Len(t, logs, 1, "nothing is deleted")
	require.Zero(t, n.Stop())
	n.Run()
	_, aside := trees(t, n)
	assert.Len(t, aside, 1)
}

func TestADirectoryWithoutItsIdentityIsNoNewNode(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	require.Zero(t, n.Stop())
	path := filepath.Join(n.Dir, "node.json")
	kept, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.Remove(path))
	out, err := exec.Command(harness.Binary(t, "ferryd"), "serve", "-dir", n.Dir, "-listen", "127.0.0.1:0", "-database", n.Database()).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "has logs (1 channel) and no node.json")
	assert.Contains(t, string(out), "put the file back")
	require.NoError(t, os.WriteFile(path, kept, 0o600))
	n.Run()
	n.Must("show", "coldchain/readings")
}

func TestWhatIsRemovedForGoodIsDeletedAndNothingElse(t *testing.T) {
	t.Parallel()
	n := harness.Start(t, "-keep-removed", "1s")
	n.Topic("coldchain/readings", 1)
	n.Topic("coldchain/journeys", 1)
	logs, _ := trees(t, n)
	require.Len(t, logs, 2)
	n.Must("remove", "coldchain/readings", "-yes")
	time.Sleep(1100 * time.Millisecond)
	n.Must("remove", "coldchain/journeys", "-yes")
	n.Must("remove", "coldchain/journeys", "-undo")
	require.Zero(t, n.Stop())
	// A directory that somebody has put there is not ours to delete.
	require.NoError(t, os.MkdirAll(filepath.Join(n.Dir, "logs", "4711", "0"), 0o700))
	n.Run()
	require.Eventually(t, func() bool {
		logs, aside := trees(t, n)
		return len(logs) == 1 && len(aside) == 1 && strings.HasPrefix(aside[0], "4711-")
	}, 70*time.Second, 100*time.Millisecond)
	n.Must("show", "coldchain/journeys")
}

// The first drill of docs/operations.md, word for word, where a node runs the database: whoever has the
// password of the service, which is in a dump's way too, can neither change the logbook nor drop it.
func TestTheDatabaseOfANodeComesBack(t *testing.T) {
	dir := harness.Dir(t)
	n := harness.StartIn(t, dir)
	n.Topic("coldchain/readings", 1)
	publishMany(t, n, "coldchain/readings", 10)
	address, err := os.ReadFile(filepath.Join(dir, "database.url"))
	require.NoError(t, err)
	url := strings.TrimSpace(string(address))
	dump := filepath.Join(t.TempDir(), "catalog.dump")
	out, err := exec.Command("pg_dump", "-Fc", "-f", dump, url).CombinedOutput()
	require.NoError(t, err, string(out))
	n.Topic("coldchain/journeys", 1)
	publishMany(t, n, "coldchain/journeys", 10)

	ferryd := func(args ...string) (string, error) {
		out, err := exec.Command(harness.Binary(t, "ferryd"), args...).CombinedOutput()
		return string(out), err
	}
	said, err := ferryd("restore", "-dir", dir, dump)
	assert.Error(t, err)
	assert.Contains(t, said, "another ferryd (process")
	require.Zero(t, n.Stop())
	apart := func(found bool) {
		t.Helper()
		said, err := ferryd("verify", "-logbook", "-dir", dir)
		assert.Contains(t, said, "its tables belong to the role ferry_logbook: ferry cannot change them")
		assert.Equal(t, found, err != nil, said)
	}
	apart(false)
	said, err = ferryd("restore", "-dir", dir, dump)
	require.NoError(t, err, said)
	assert.Contains(t, said, "those until now are in "+filepath.Join(dir, "postgres-before-"))

	n = harness.StartIn(t, dir)
	assert.Equal(t, 10, strings.Count(n.Must("browse", "coldchain/readings", "-json", "-limit", "100"), "\n"))
	assert.Contains(t, n.Must("nodes", "set-aside"), "coldchain/journeys")
	n.Must("set", "coldchain/readings", "-description", "of all boxes")
	assert.Contains(t, n.Must("logbook", "-limit", "1"), "set topic")
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err, "the password has stayed")
	defer conn.Close(t.Context())
	for _, attempt := range []string{`UPDATE logbook SET who = 'nobody'`, `DELETE FROM logbook`, `ALTER TABLE logbook DISABLE TRIGGER USER`, `DROP TABLE logbook CASCADE`, `SET ROLE ferry_logbook`} {
		_, err := conn.Exec(t.Context(), attempt)
		assert.ErrorContains(t, err, "42501", attempt)
	}
	require.Zero(t, n.Stop())
	apart(true) // what was noted after the dump is gone, and the heads say so
}
