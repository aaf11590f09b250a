package test

import (
	"context"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

func TestStartAndStop(t *testing.T) {
	n := harness.StartIn(t, harness.Dir(t))
	for _, name := range []string{"owner.token", "database.url"} {
		info, err := os.Stat(filepath.Join(n.Dir, name))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), name)
	}
	for _, path := range []string{"/healthz", "/readyz"} {
		assert.Equal(t, 200, n.Ask("GET", path, "", "Authorization", "").Status, path)
	}
	n.Topic("coldchain/readings", 3)
	n.Must("send", "coldchain/readings", "-body", "kept")

	second := exec.Command(harness.Binary(t, "ferryd"), "serve", "-dir", n.Dir, "-listen", "127.0.0.1:0")
	out, err := second.CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "another ferryd (process ")
	assert.Contains(t, string(out), "choose another -dir")

	begin := time.Now()
	assert.Zero(t, n.Stop())
	assert.Less(t, time.Since(begin), 10*time.Second)
	assert.Zero(t, n.Postgres(), "its database has stopped with it")
	n.Run()
	assert.Contains(t, n.Must("browse", "coldchain/readings"), "kept")
}

func TestAStreamDoesNotHoldUpTheStop(t *testing.T) {
	n := harness.Start(t)
	a := n.Topic("coldchain/readings", 1)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	started := make(chan struct{})
	go n.API.Tail(ctx, a, client.Query{}, func(e client.Event) error {
		if e.Message != nil {
			close(started)
		}
		return nil
	}, func(error, time.Duration) {})
	time.Sleep(200 * time.Millisecond)
	n.Must("send", "coldchain/readings", "-body", "x")
	<-started
	begin := time.Now()
	assert.Zero(t, n.Stop())
	assert.Less(t, time.Since(begin), 10*time.Second)
}

func TestConfigurationByFileAndEnvironment(t *testing.T) {
	dir := harness.Dir(t)
	file := filepath.Join(dir, "ferryd.yaml")
	require.NoError(t, os.WriteFile(file, []byte("node: from-file\nkeep-removed: 1h\n"), 0o600))
	t.Setenv("FERRYD_KEEP_REMOVED", "2h")
	n := harness.StartIn(t, dir, "-config", file)
	n.Topic("coldchain/readings", 1)
	var live client.Live
	require.NoError(t, n.API.Call(context.Background(), http.MethodGet, "/status", nil, nil, &live))
	assert.Equal(t, "from-file", live.Status.Node)
	var p client.Preview
	require.NoError(t, n.API.Call(context.Background(), http.MethodDelete, "/channels/coldchain/readings", map[string][]string{"preview": {"true"}}, nil, &p))
	assert.WithinDuration(t, time.Now().Add(2*time.Hour), *p.Until, time.Minute, "the environment counts more than the file")

	for _, wrong := range [][]string{{"-no-such-flag"}, {"-keep-removed", "soon"}, {"surplus"}} {
		cmd := exec.Command(harness.Binary(t, "ferryd"), append([]string{"serve"}, wrong...)...)
		cmd.Run()
		assert.Equal(t, 2, cmd.ProcessState.ExitCode(), wrong)
	}
}

func TestTheRecordsGoAwayAndComeBack(t *testing.T) {
	n := harness.StartIn(t, harness.Dir(t))
	a := n.Topic("coldchain/readings", 2)
	n.Must("send", "coldchain/readings", "-body", "before")
	pid := n.Postgres()
	require.Positive(t, pid)
	// Stopped, not ended: connections stay open and nothing answers.
	signalAll(t, pid, syscall.SIGSTOP)
	defer signalAll(t, pid, syscall.SIGCONT)

	began := time.Now()
	answer := n.Ask("POST", "/api/v1/spaces", `{"space":"other"}`)
	assert.Equal(t, 503, answer.Status, answer.Body)
	assert.Contains(t, answer.Body, "publishing and reading go on")
	assert.Less(t, time.Since(began), 10*time.Second)
	n.Must("send", "coldchain/readings", "-body", "meanwhile")
	out := n.Must("browse", "coldchain/readings")
	assert.Contains(t, out, "before")
	assert.Contains(t, out, "meanwhile")
	assert.Contains(t, n.Must("status"), "away since")

	signalAll(t, pid, syscall.SIGCONT)
	made := func(space string) bool { // 409 when an attempt that looked failed was not
		status := n.Ask("POST", "/api/v1/spaces", `{"space":"`+space+`"}`).Status
		return status == 201 || status == 409
	}
	assert.Eventually(t, func() bool { return made("other") }, 15*time.Second, 200*time.Millisecond)

	// Ended: it is started again, on the same address.
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	assert.Eventually(t, func() bool { return made("third") }, 30*time.Second, 200*time.Millisecond)
	_, err := n.API.Publish(context.Background(), a, 0, "text/plain", nil, []byte("after"))
	assert.NoError(t, err)
}

func TestAnotherDatabaseCanBeNamed(t *testing.T) {
	n := harness.Start(t) // on the database server that the tests share
	n.Topic("coldchain/readings", 1)
	assert.Zero(t, n.Postgres(), "it runs none itself")
	_, err := os.Stat(filepath.Join(n.Dir, "database.url"))
	assert.True(t, os.IsNotExist(err))
	n.Must("send", "coldchain/readings", "-body", "x")
	assert.Zero(t, n.Stop())
}

func TestALeftDatabaseIsAdopted(t *testing.T) {
	n := harness.StartIn(t, harness.Dir(t))
	n.Topic("coldchain/readings", 1)
	n.Kill()
	left := n.Postgres()
	require.Positive(t, left)
	n.Run()
	assert.Equal(t, left, n.Postgres())
	n.Kill()
	require.NoError(t, syscall.Kill(left, syscall.SIGKILL)) // its lock file stays
	n.Run()
	n.Must("send", "coldchain/readings", "-body", "x")
	assert.Zero(t, n.Stop())
}
