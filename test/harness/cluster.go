package harness

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"steadyferry/client"
)

// Cluster is several running nodes over one database.
type Cluster struct {
	t        testing.TB
	Database string
	Nodes    []*Node
	API      *client.Client // knows all nodes
	args     []string
}

// StartCluster starts nodes node-a, node-b and so on, on loopback, and waits
// until they answer each other.
func StartCluster(t testing.TB, count int, args ...string) *Cluster {
	t.Helper()
	require.NotEmpty(t, shared, "a shared database server")
	c := &Cluster{t: t, Database: NewDatabase(t, shared), args: args}
	for range count {
		c.Add(Dir(t))
	}
	c.WaitUp(count)
	return c
}

// Add starts one more node on a directory.
func (c *Cluster) Add(dir string, args ...string) *Node {
	c.t.Helper()
	n := c.Prepare(dir, args...)
	n.Run()
	c.Connect()
	return n
}

// Prepare lays out one more node without starting it.
func (c *Cluster) Prepare(dir string, args ...string) *Node {
	c.t.Helper()
	listen, peer := freeAddress(c.t), freeAddress(c.t)
	name := fmt.Sprintf("node-%c", 'a'+len(c.Nodes))
	n := &Node{t: c.t, Dir: dir, Name: name, URL: "http://" + listen, args: append(append([]string{"serve", "-dir", dir, "-listen", listen, "-node", name, "-peer-listen", peer, "-database", c.Database}, c.args...), args...)}
	c.Nodes = append(c.Nodes, n)
	c.t.Cleanup(n.cleanup)
	return n
}

func freeAddress(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// Connect makes the client that knows all nodes.
func (c *Cluster) Connect() {
	c.t.Helper()
	var urls []string
	for _, n := range c.Nodes {
		urls = append(urls, n.URL)
	}
	token, err := os.ReadFile(filepath.Join(c.Nodes[0].Dir, "owner.token"))
	require.NoError(c.t, err)
	c.API, err = client.New(strings.Join(urls, ","), strings.TrimSpace(string(token)))
	require.NoError(c.t, err)
}

// Status asks for the nodes.
func (c *Cluster) Status() (cluster client.Cluster, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	err = c.API.Call(ctx, http.MethodGet, "/nodes", nil, nil, &cluster)
	return cluster, err
}

// WaitUp waits until so many nodes answer.
func (c *Cluster) WaitUp(count int) {
	c.t.Helper()
	c.Wait(20*time.Second, fmt.Sprintf("%d nodes answer", count), func() bool {
		status, err := c.Status()
		up := 0
		for _, n := range status.Nodes {
			if n.Up {
				up++
			}
		}
		return err == nil && up >= count
	})
}

// WaitInStep waits until every partition has its leader and every replica is
// in step.
func (c *Cluster) WaitInStep(within time.Duration) {
	c.t.Helper()
	c.Wait(within, "every replica is in step", func() bool {
		status, err := c.Status()
		return err == nil && status.Partitions > 0 && status.ReplicasMissing == 0 && status.WithoutLeader == 0
	})
}

// Wait waits until something is so.
func (c *Cluster) Wait(within time.Duration, what string, so func() bool) {
	c.t.Helper()
	for deadline := time.Now().Add(within); !so(); {
		if time.Now().After(deadline) {
			status, _ := c.Status()
			require.Fail(c.t, "not within "+within.String()+": "+what, "%+v", status)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// Node returns a node by its name.
func (c *Cluster) Node(name string) *Node {
	c.t.Helper()
	for _, n := range c.Nodes {
		if n.Name == name {
			return n
		}
	}
	require.Fail(c.t, "no node "+name)
	return nil
}

// Pid returns the process of a node, 0 when it does not run.
func (n *Node) Pid() int {
	if n.cmd == nil {
		return 0
	}
	return n.cmd.Process.Pid
}

// Tool runs a built command to its end and returns what it printed.
func (n *Node) Tool(program string, args ...string) (string, error) {
	n.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, Binary(n.t, program), args...).CombinedOutput()
	return string(out), err
}

// MustTool runs a built command and fails the test unless it ends well.
func (n *Node) MustTool(program string, args ...string) string {
	n.t.Helper()
	out, err := n.Tool(program, args...)
	require.NoError(n.t, err, "%s %v: %s", program, args, out)
	return out
}
