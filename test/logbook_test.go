package test

import (
	"crypto/rand"
	"encoding/json"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/cmd/ferryd/clinic"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/test/harness"
)

// Who has the database cannot change the logbook unseen: the node has signed how it was.
func TestTheLogbookProvesItself(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	n.Must("set", "coldchain/readings", "-description", "of all boxes")
	n.Must("send", "coldchain/readings", "-body", "x")
	n.Must("browse", "coldchain/readings")
	assert.Contains(t, n.Must("logbook", "-all"), `"action":"set topic"`)
	n.Stop()
	n.Run()
	assert.Contains(t, n.Must("logbook", "coldchain/readings"), "read contents", "what was gathered is noted before the end")
	n.Stop()
	dir, database := n.Dir, n.Database()
	verify := func(args ...string) (string, error) {
		out, err := exec.Command(harness.Binary(t, "ferryd"), append([]string{"verify", "-logbook", "-dir", dir, "-database", database}, args...)...).CombinedOutput()
		return string(out), err
	}
	out, err := verify(filepath.Join(dir, "logbook.heads"))
	require.NoError(t, err, out)
	assert.Contains(t, out, "nothing was changed, left out, put in or cut off")
	assert.Contains(t, out, "its tables belong to the role ferry, which writes it")
	assert.Regexp(t, `compared with [1-9][0-9]* signed heads? of node-a with key [0-9a-f]{64}`, out)

	testdb.Exec(t, database, `ALTER TABLE logbook DISABLE TRIGGER USER`)
	testdb.Exec(t, database, `UPDATE logbook SET who = 'nobody' WHERE action = 'set topic'`)
	out, err = verify()
	assert.Error(t, err)
	assert.Regexp(t, `entry [0-9]+ is not as it was written`, out)

	out, err = verify("no-such-file")
	assert.Error(t, err)
	assert.Contains(t, out, "no-such-file")
	b, err := exec.Command(harness.Binary(t, "ferryd"), "verify", "-logbook").CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(b), "-dir or -database says where the records are")
}

// Entries go where they are to be kept: to a topic, and from there by a route to a place outside.
func TestTheLogbookGoesElsewhere(t *testing.T) {
	t.Parallel()
	n := harness.Start(t, toLoopback...)
	secret, file := clinicSecret(t)
	hook := clinic.New(secret)
	server := httptest.NewServer(hook)
	defer server.Close()
	n.Must("new", "space", "records")
	n.Must("new", "topic", "records/acts")
	n.Must("new", "endpoint", "records/archive", "-url", server.URL+"/", "-secret-from", file)
	n.Must("new", "route", "records/acts@archive", "-to", "records/archive")
	assert.Contains(t, n.Must("logbook", "-to", "records/acts"), "who may read that reads who did what")
	n.Must("logbook", "-to", "records/acts", "-yes")
	require.Eventually(t, func() bool {
		n.Must("set", "records/acts", "-description", "of "+rand.Text(), "-yes")
		return strings.Contains(n.Must("browse", "records/acts", "-where", `headers.action == "set topic"`), "set topic")
	}, 20*time.Second, 200*time.Millisecond)
	require.Eventually(t, func() bool {
		b := httptest.NewRecorder()
		hook.ServeHTTP(b, httptest.NewRequest("GET", "/got", nil))
		var c struct{ Counts map[string]int }
		require.NoError(t, json.Unmarshal(b.Body.Bytes(), &c))
		return c.Counts["taken"] > 0
	}, 20*time.Second, 50*time.Millisecond)
	assert.Contains(t, n.Must("logbook", "-to", "records/nothing"), "there is no topic records/nothing")
	n.Must("logbook", "-to", "none", "-yes")
}
