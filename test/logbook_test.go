package test

import (
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
