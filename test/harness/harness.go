// Package harness runs ferryd as a real process for tests: on loopback, in a
// directory of its own, with a client.
package harness

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/engine/postgres"
)

// Node is one running ferryd.
type Node struct {
	t      testing.TB
	Dir    string
	Name   string
	URL    string
	Token  string
	API    *client.Client
	Within []string // a command that runs the process, such as ip netns exec NAME
	Env    []string
	args   []string
	cmd    *exec.Cmd
	done   chan error
	log    *safeBuffer
}

type safeBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *safeBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safeBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

var build sync.Once

// Binary returns the path of a built command. make test builds them; a plain
// go test does it here.
func Binary(t testing.TB, name string) string {
	t.Helper()
	dir := os.Getenv("FERRY_BIN")
	if dir == "" {
		_, file, _, _ := runtime.Caller(0)
		root := filepath.Join(filepath.Dir(file), "..", "..")
		dir = filepath.Join(root, "bin")
		build.Do(func() {
			cmd := exec.Command("go", "build", "-o", "bin/", "./cmd/...")
			cmd.Dir = root
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, string(out))
		})
	}
	return filepath.Join(dir, name)
}

// Dir makes a directory that the server of the test may use. It is below
// the temporary directory and removed at the end.
func Dir(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "ferry-test-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o711))
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// Start starts ferryd serve on an empty directory and waits until it is
// ready. Its records are in the database server that the tests share, if
// there is one.
func Start(t testing.TB, args ...string) *Node {
	t.Helper()
	if shared != "" {
		args = append([]string{"-database", NewDatabase(t, shared)}, args...)
	}
	return StartIn(t, Dir(t), args...)
}

var shared, sharedDir string

// ShareDatabase starts a database server for all tests of a package, which
// saves each of them the making of its own.
func ShareDatabase() (stop func(), err error) {
	dir, err := os.MkdirTemp("", "ferry-test-")
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(dir, 0o711); err != nil {
		return nil, err
	}
	server, err := postgres.StartForTests(context.Background(), dir)
	if err != nil {
		return nil, err
	}
	shared, sharedDir = server.URL(), dir
	return func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		server.Stop(ctx)
		os.RemoveAll(dir)
	}, nil
}

// Main runs the tests of a package, with a database server that they share.
func Main(m *testing.M) {
	stop, err := ShareDatabase()
	if err != nil {
		fmt.Fprintln(os.Stderr, "tests:", err)
		os.Exit(1)
	}
	code := m.Run()
	stop()
	os.Exit(code)
}

// SharedDatabase makes an empty database on the server that the tests share.
func SharedDatabase(t testing.TB) string { return NewDatabase(t, shared) }

// NewDatabase makes an empty database on a server and returns its URL.
func NewDatabase(t testing.TB, server string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, strings.TrimSpace(server))
	require.NoError(t, err)
	defer conn.Close(ctx)
	name := "t" + strings.ReplaceAll(uuid.NewString(), "-", "")
	_, err = conn.Exec(ctx, "CREATE DATABASE "+name)
	require.NoError(t, err)
	u, err := url.Parse(strings.TrimSpace(server))
	require.NoError(t, err)
	u.Path = "/" + name
	return u.String()
}

// StartIn starts ferryd serve on a directory.
func StartIn(t testing.TB, dir string, args ...string) *Node {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	listen := l.Addr().String()
	l.Close()
	n := &Node{t: t, Dir: dir, URL: "http://" + listen, args: append([]string{"serve", "-dir", dir, "-listen", listen}, args...)}
	n.Run()
	t.Cleanup(n.cleanup)
	return n
}

// Run starts the process, again if it ran before, and waits until it is
// ready.
func (n *Node) Run() {
	n.t.Helper()
	program, args := Binary(n.t, "ferryd"), n.args
	if len(n.Within) > 0 {
		program, args = n.Within[0], append(append(n.Within[1:len(n.Within):len(n.Within)], program), args...)
	}
	n.cmd = exec.Command(program, args...)
	n.cmd.Env = append(os.Environ(), n.Env...)
	n.log = &safeBuffer{}
	n.cmd.Stdout, n.cmd.Stderr = n.log, n.log
	require.NoError(n.t, n.cmd.Start())
	n.done = make(chan error, 1)
	cmd, done := n.cmd, n.done
	go func() { done <- cmd.Wait() }()
	deadline := time.Now().Add(30 * time.Second)
	for {
		response, err := http.Get(n.URL + "/readyz")
		if err == nil {
			body, _ := io.ReadAll(response.Body)
			response.Body.Close()
			// What a partition cannot do is what some tests are about.
			if response.StatusCode == http.StatusOK || strings.Contains(string(body), "problem:refusing") {
				break
			}
		}
		select {
		case err := <-n.done:
			n.t.Fatalf("ferryd ended: %v\n%s", err, n.log)
		case <-time.After(20 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			n.t.Fatalf("ferryd is not ready\n%s", n.log)
		}
	}
	token, err := os.ReadFile(filepath.Join(n.Dir, "owner.token"))
	require.NoError(n.t, err)
	n.Token = strings.TrimSpace(string(token))
	n.API, err = client.New(n.URL, n.Token)
	require.NoError(n.t, err)
}

// Kill ends the process as kill -9 does. Its PostgreSQL goes on.
func (n *Node) Kill() {
	n.t.Helper()
	require.NoError(n.t, n.cmd.Process.Kill())
	<-n.done
	n.cmd = nil
}

// Stop ends the process with SIGTERM and returns its exit status.
func (n *Node) Stop() int {
	n.t.Helper()
	require.NoError(n.t, n.cmd.Process.Signal(syscall.SIGTERM))
	select {
	case <-n.done:
	case <-time.After(15 * time.Second):
		n.t.Fatalf("ferryd does not stop\n%s", n.log)
	}
	code := n.cmd.ProcessState.ExitCode()
	n.cmd = nil
	return code
}

// Database returns the address of the database with the node's records.
func (n *Node) Database() string {
	for i, a := range n.args {
		if a == "-database" {
			return n.args[i+1]
		}
	}
	return ""
}

// Log returns what the process has said.
func (n *Node) Log() string { return n.log.String() }

func (n *Node) cleanup() {
	if n.cmd != nil {
		n.cmd.Process.Signal(syscall.SIGTERM)
		select {
		case <-n.done:
		case <-time.After(15 * time.Second):
			n.cmd.Process.Kill()
		}
	}
	if pid := n.Postgres(); pid > 0 { // of a process that was killed
		syscall.Kill(pid, syscall.SIGQUIT)
	}
	if n.t.Failed() {
		n.t.Logf("ferryd said:\n%s", n.log)
	}
}

// Postgres returns the process of the database, 0 when it does not run.
func (n *Node) Postgres() int {
	b, err := os.ReadFile(filepath.Join(n.Dir, "postgres", "postmaster.pid"))
	if err != nil {
		return 0
	}
	var pid int
	fmt.Sscan(string(b), &pid)
	if pid > 0 && syscall.Kill(pid, 0) == nil {
		return pid
	}
	return 0
}

// Topic makes a space and a topic.
func (n *Node) Topic(name string, partitions int, settings ...client.Settings) address.Address {
	n.t.Helper()
	a, err := address.ParseChannel(name)
	require.NoError(n.t, err)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	n.API.Call(ctx, http.MethodPost, "/spaces", nil, map[string]string{"space": a.Space}, nil) // it may exist
	s := client.Settings{}
	if len(settings) > 0 {
		s = settings[0]
	}
	s["partitionCount"] = partitions
	require.NoError(n.t, n.API.Call(ctx, http.MethodPost, "/channels", nil, client.NewChannel{Address: name, Kind: "topic", Settings: s}, nil))
	return a
}

// Answer is what a request got.
type Answer struct {
	Status int
	Header http.Header
	Body   string
}

// Ask sends a request with the owner's token, unless a header names another.
func (n *Node) Ask(method, path, body string, header ...string) Answer {
	n.t.Helper()
	request, err := http.NewRequest(method, n.URL+path, strings.NewReader(body))
	require.NoError(n.t, err)
	request.Header.Set("Authorization", "Bearer "+n.Token)
	for i := 0; i+1 < len(header); i += 2 {
		request.Header.Set(header[i], header[i+1])
	}
	response, err := http.DefaultClient.Do(request)
	require.NoError(n.t, err)
	defer response.Body.Close()
	b, err := io.ReadAll(response.Body)
	require.NoError(n.t, err)
	return Answer{response.StatusCode, response.Header, string(b)}
}

// Ferry runs the client and returns what it printed and its exit status.
func (n *Node) Ferry(input string, args ...string) (out, errOut string, code int) {
	n.t.Helper()
	cmd := exec.Command(Binary(n.t, "ferry"), args...)
	cmd.Env = append(os.Environ(), "FERRY_SERVER="+n.URL, "FERRY_TOKEN="+n.Token)
	cmd.Stdin = strings.NewReader(input)
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err := cmd.Run()
	if _, ok := err.(*exec.ExitError); err != nil && !ok {
		n.t.Fatal(err)
	}
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

// Must runs the client and fails the test unless it ends well.
func (n *Node) Must(args ...string) string {
	n.t.Helper()
	out, errOut, code := n.Ferry("", args...)
	require.Zero(n.t, code, "ferry %s: %s", strings.Join(args, " "), errOut)
	return out
}

// SharedPostgres returns the process of the database server that the tests
// share.
func SharedPostgres(t testing.TB) int {
	t.Helper()
	pid := (&Node{Dir: sharedDir}).Postgres()
	require.Positive(t, pid)
	return pid
}
