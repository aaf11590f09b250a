package cluster

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

func TestMain(m *testing.M) { harness.Main(m) }

const partitions = 12

// busiest returns the node that leads most, idlest the one that leads least,
// and duty the one that runs the duties of the cluster.
func busiest(t *testing.T, c *harness.Cluster) *harness.Node { return pick(t, c, 1) }
func idlest(t *testing.T, c *harness.Cluster) *harness.Node  { return pick(t, c, -1) }

func pick(t *testing.T, c *harness.Cluster, sign int) *harness.Node {
	t.Helper()
	status, err := c.Status()
	require.NoError(t, err)
	best := status.Nodes[0]
	for _, n := range status.Nodes {
		if sign*n.Leads > sign*best.Leads {
			best = n
		}
	}
	return c.Node(best.Node)
}

func duty(t *testing.T, c *harness.Cluster) *harness.Node {
	t.Helper()
	var name string
	c.Wait(15*time.Second, "a node runs the duties", func() bool {
		status, err := c.Status()
		for _, n := range status.Nodes {
			if n.OnDuty {
				name = n.Node
			}
		}
		return err == nil && name != ""
	})
	return c.Node(name)
}

// Whatever ends or stops, writing goes on, and what was acknowledged is at
// every replica once and in order.
func TestFaultsUnderLoad(t *testing.T) {
	clock := filepath.Join(t.TempDir(), "clock")
	require.NoError(t, os.WriteFile(clock, []byte("0s"), 0o600))
	t.Setenv("FERRYD_CLOCK_FILE", clock)
	c := harness.StartCluster(t, 3)
	topic := c.Nodes[0].Topic("coldchain/doors", partitions)
	c.WaitInStep(10 * time.Second)
	w := startWorkload(t, c, topic, partitions)
	w.flows(10 * time.Second)

	for _, f := range []struct {
		name string
		most time.Duration // without an acknowledgement in any partition
		do   func(t *testing.T)
	}{
		{"kill -9 of the node that leads most", 3 * time.Second, func(t *testing.T) { restart(w, busiest(t, c)) }},
		{"kill -9 of the node that leads least", 3 * time.Second, func(t *testing.T) { restart(w, idlest(t, c)) }},
		{"kill -9 of two nodes in turn", 3 * time.Second, func(t *testing.T) {
			for _, n := range c.Nodes[:2] {
				restart(w, n)
				c.WaitInStep(30 * time.Second)
			}
		}},
		{"kill -9 of the node on duty", 3 * time.Second, func(t *testing.T) { restart(w, duty(t, c)) }},
		{"kill -9 of PostgreSQL", 2 * time.Second, func(t *testing.T) {
			require.NoError(t, syscall.Kill(harness.SharedPostgres(t), syscall.SIGKILL))
			w.flows(10 * time.Second)
			time.Sleep(3 * time.Second)
		}},
		{"SIGSTOP for 30 s", 8 * time.Second, func(t *testing.T) {
			n := busiest(t, c)
			require.NoError(t, syscall.Kill(n.Pid(), syscall.SIGSTOP))
			w.flows(10 * time.Second)
			time.Sleep(30 * time.Second)
			require.NoError(t, syscall.Kill(n.Pid(), syscall.SIGCONT))
		}},
		{"a clock an hour ahead and back", time.Second, func(t *testing.T) {
			for _, offset := range []string{"1h", "0s", "-1h", "0s"} {
				require.NoError(t, os.WriteFile(clock, []byte(offset), 0o600))
				time.Sleep(time.Second)
				w.flows(5 * time.Second)
			}
		}},
	} {
		if !t.Run(f.name, func(t *testing.T) {
			c.WaitInStep(60 * time.Second)
			w.pause()
			f.do(t)
			w.flows(10 * time.Second)
			longest := w.pause()
			assert.Less(t, longest, f.most, "the longest pause of a partition")
			t.Logf("longest pause %s", longest.Round(time.Millisecond))
			c.WaitInStep(60 * time.Second)
		}) {
			break
		}
	}
	w.finish()
}

// restart kills a node, sees that writing goes on without it, and starts it.
func restart(w *workload, n *harness.Node) {
	n.Kill()
	w.flows(10 * time.Second)
	time.Sleep(500 * time.Millisecond)
	n.Run()
}

// A client that knows all nodes notices nothing of a restart of each in turn.
func TestRollingRestartFailsNoPublish(t *testing.T) {
	c := harness.StartCluster(t, 3)
	topic := c.Nodes[0].Topic("coldchain/doors", partitions)
	c.WaitInStep(10 * time.Second)
	w := startWorkload(t, c, topic, partitions)
	w.flows(10 * time.Second)
	w.pause()
	for _, n := range c.Nodes {
		assert.Zero(t, n.Stop())
		w.flows(10 * time.Second)
		n.Run()
		c.WaitInStep(30 * time.Second)
	}
	longest := w.pause()
	assert.Less(t, longest, 3*time.Second)
	t.Logf("longest pause %s", longest.Round(time.Millisecond))
	w.finish()
}

// A node whose directory was emptied joins as a new member and gets its
// replicas back, without ever voting as if it still had its log.
func TestAWipedNodeComesBack(t *testing.T) {
	c := harness.StartCluster(t, 3)
	topic := c.Nodes[0].Topic("coldchain/doors", partitions)
	c.WaitInStep(10 * time.Second)
	w := startWorkload(t, c, topic, partitions)
	w.flows(10 * time.Second)
	n := c.Nodes[1]
	require.Zero(t, n.Stop())
	require.NoError(t, os.RemoveAll(n.Dir))
	require.NoError(t, os.Mkdir(n.Dir, 0o711))
	w.flows(10 * time.Second)
	n.Run()
	jobsDone(t, c, 60*time.Second)
	c.WaitInStep(60 * time.Second)
	status, err := c.Status()
	require.NoError(t, err)
	require.Len(t, status.Nodes, 3)
	for _, s := range status.Nodes {
		assert.Equal(t, partitions, s.Holds, s.Node)
	}
	w.finish()
}

// jobsDone waits until no job runs, and returns the last one.
func jobsDone(t *testing.T, c *harness.Cluster, within time.Duration) (last client.Job) {
	t.Helper()
	c.Wait(within, "all jobs end", func() bool {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		var page client.Page[client.Job]
		if err := c.API.Call(ctx, http.MethodGet, "/jobs", nil, nil, &page); err != nil || len(page.Items) == 0 {
			return false
		}
		last = page.Items[0]
		for _, j := range page.Items {
			if j.EndedAt == nil {
				return false
			}
		}
		return true
	})
	return last
}

// A topic with one replica gets three, loses one again, and a node is
// emptied, all while messages come and are read.
func TestReplicasAreRaisedLoweredAndDrainedUnderLoad(t *testing.T) {
	c := harness.StartCluster(t, 4, "-zone", "")
	topic := c.Nodes[0].Topic("coldchain/doors", partitions, client.Settings{"replicas": 1})
	c.WaitInStep(10 * time.Second)
	w := startWorkload(t, c, topic, partitions)
	w.flows(10 * time.Second)
	w.pause()
	n := c.Nodes[0]
	held := func() map[string]int {
		status, err := c.Status()
		require.NoError(t, err)
		holds := map[string]int{}
		for _, s := range status.Nodes {
			holds[s.Node] = s.Holds
		}
		return holds
	}

	assert.Contains(t, n.Must("set", topic.String(), "-replicas", "3"), "nothing is changed yet")
	n.Must("set", topic.String(), "-replicas", "3", "-yes")
	assert.Equal(t, "done", jobsDone(t, c, 60*time.Second).State)
	for name, holds := range held() {
		assert.InDelta(t, 9, holds, 1, "%s holds its share", name)
	}

	// The node on duty goes in the middle of a drain; another one goes on. One that does not answer just now
	// would be none to which anything is moved.
	c.WaitUp(4)
	n.Must("nodes", "drain", "node-b", "-yes")
	time.Sleep(300 * time.Millisecond)
	if d := duty(t, c); d != n && d.Name != "node-b" {
		d.Kill()
		w.flows(10 * time.Second)
		d.Run()
	}
	assert.Equal(t, "done", jobsDone(t, c, 90*time.Second).State)
	c.Wait(10*time.Second, "the drained node holds nothing", func() bool { return held()["node-b"] == 0 })
	_, errOut, code := n.Ferry("", "nodes", "remove", "node-b", "-yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "still runs")
	assert.Contains(t, n.Must("nodes", "cancel", fmt.Sprint(jobsDone(t, c, time.Second).Job)), "done")

	n.Must("move", "coldchain/doors#0", "-to", "node-b,node-a,node-c", "-yes")
	assert.Equal(t, "done", jobsDone(t, c, 60*time.Second).State)
	c.Wait(20*time.Second, "the first of the nodes leads", func() bool {
		var topicNow client.Channel
		err := c.API.Call(context.Background(), http.MethodGet, client.ChannelPath(topic), nil, nil, &topicNow)
		return err == nil && topicNow.Each[0].Leader == "node-b"
	})
	// A replica that leaves is given back at once, while it is being deleted.
	for range 4 {
		for _, last := range []string{"node-d", "node-c"} {
			n.Must("move", "coldchain/doors#0", "-to", "node-b,node-a,"+last, "-yes")
			assert.Equal(t, "done", jobsDone(t, c, 60*time.Second).State)
		}
	}
	n.Must("set", topic.String(), "-replicas", "2", "-yes")
	assert.Equal(t, "done", jobsDone(t, c, 60*time.Second).State)
	w.flows(10 * time.Second)
	t.Logf("longest pause %s", w.pause().Round(time.Millisecond))
	w.stop()
	w.wg.Wait()
	c.WaitInStep(30 * time.Second)
	w.compare()
	assert.Empty(t, w.broken)
}
