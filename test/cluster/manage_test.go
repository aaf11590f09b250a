package cluster

import (
	"encoding/json"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/chain"
	"steadyferry/internal/engine/logbook"
	"steadyferry/test/harness"
)

// Any node answers for the whole cluster, also one that holds nothing of a
// topic: what it cannot do itself it passes on.
func TestAnyNodeAnswersForAll(t *testing.T) {
	c := harness.StartCluster(t, 4)
	topic := c.Nodes[0].Topic("coldchain/doors", 4, client.Settings{"replicas": 1})
	c.WaitInStep(10 * time.Second)
	const channel = "/api/v1/channels/coldchain/doors"
	for i, n := range c.Nodes {
		for p := range 4 {
			answer := n.Ask("POST", fmt.Sprintf("%s/messages?partition=%d", channel, p), fmt.Sprintf("from %s", n.Name))
			require.Equal(t, http.StatusOK, answer.Status, answer.Body)
			assert.Contains(t, answer.Body, fmt.Sprintf(`"offset":%d`, i), "offsets are one row, wherever it is asked")
		}
	}
	for _, n := range c.Nodes {
		assert.Equal(t, http.StatusOK, n.Ask("POST", channel+"/messages", strings.Repeat(`{"body":"x"}`+"\n", 40), "Content-Type", client.NDJSONType).Status)
		assert.Equal(t, http.StatusOK, n.Ask("DELETE", channel+"?preview=true", "").Status)
	}
	time.Sleep(1100 * time.Millisecond) // a report of every node
	for _, n := range c.Nodes {
		out := n.Must("browse", topic.String(), "-newest", "-limit", "1000", "-json")
		assert.Equal(t, 4*(4+40), strings.Count(out, "\n"), n.Name)
		assert.Equal(t, 12, strings.Count(n.Must("browse", topic.String(), "-where", "text.startsWith('from') && partition != 2", "-json"), "\n"), n.Name)
		assert.Contains(t, n.Must("show", topic.String()+"#3:0"), "from node-a")
		assert.Contains(t, n.Must("browse", topic.String(), "-from", "ago:1h", "-to", "end", "-limit", "1"), "from")
		var shown client.Channel
		require.NoError(t, json.Unmarshal([]byte(n.Must("show", topic.String(), "-json")), &shown))
		assert.EqualValues(t, 4*(4+40), shown.Messages, n.Name)
		assert.Equal(t, "ready", shown.State, n.Name)
		for _, p := range shown.Each {
			require.Len(t, p.Replicas, 1)
			assert.Equal(t, p.Leader, p.Replicas[0].Node)
		}
		assert.Equal(t, http.StatusOK, n.Ask("PATCH", channel+"?preview=true", `{"retain":"1m","retainBytes":1048576}`, "Content-Type", "application/json").Status)
		assert.Contains(t, n.Ask("GET", "/metrics", "").Body, `steadyferry_node_up{node="node-d",zone=""} 1`)
	}
	c.Wait(75*time.Second, "each node keeps how all of them have seen the logbook end", func() bool {
		for _, n := range c.Nodes {
			heads, err := logbook.ReadHeads(filepath.Join(n.Dir, logbook.HeadsFile))
			if err != nil {
				return false
			}
			for _, other := range c.Nodes {
				if !slices.ContainsFunc(heads, func(h chain.Head) bool { return h.Node == other.Name && h.Signed() }) {
					return false
				}
			}
		}
		return true
	})
	out, err := c.Nodes[1].Tool("ferryd", "verify", "-logbook", "-dir", c.Nodes[1].Dir, "-database", c.Nodes[0].Database())
	require.NoError(t, err, out)
	assert.Contains(t, out, "nothing was changed, left out, put in or cut off")
	assert.Contains(t, out, "node-d with key ")
}

func TestWhatIfMovesAndJobs(t *testing.T) {
	c := harness.StartCluster(t, 4)
	n := c.Nodes[0]
	n.Topic("coldchain/doors", 8)
	n.Topic("coldchain/single", 2, client.Settings{"replicas": 1})
	c.WaitInStep(10 * time.Second)

	assert.Contains(t, n.Must("new", "topic", "coldchain/lids"), "1 partition on 3 nodes", "the default is said")
	assert.Contains(t, n.Must("new", "topic", "coldchain/pairs", "-replicas", "2"), "both are needed for writing")
	_, errOut, code := n.Ferry("", "new", "topic", "coldchain/many", "-replicas", "5")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "5 replicas need as many nodes, and 4 can take one")
	_, errOut, code = n.Ferry("", "new", "topic", "coldchain/many", "-replicas", "9")
	assert.Equal(t, 2, code, "what no channel can have is wrong usage, and not asked for")
	assert.Contains(t, errOut, "allowed: 1 to 7")

	var w client.WhatIf
	require.NoError(t, json.Unmarshal([]byte(n.Must("nodes", "what-if", "-without", "node-b,node-c", "-json")), &w))
	assert.Equal(t, 8+2+1+1, w.Writable+w.Readable+w.Unreachable)
	assert.Positive(t, w.Readable)
	out := n.Must("nodes", "what-if", "-without", "node-b")
	assert.Contains(t, out, "without node-b, of 12 partitions")
	assert.Contains(t, out, "ferry move coldchain/single#")
	_, errOut, code = n.Ferry("", "nodes", "what-if", "-without", "node-e")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "there is no node node-e")

	_, errOut, code = n.Ferry("", "nodes", "drain", "node-b", "-yes")
	assert.Zero(t, code, errOut)
	assert.Equal(t, "done", jobsDone(t, c, 60*time.Second).State)
	_, errOut, code = n.Ferry("", "nodes", "drain", "node-c")
	assert.Equal(t, 1, code, "a third node is needed")
	assert.Contains(t, errOut, "each replica needs a node of its own")
	assert.Contains(t, n.Must("nodes", "drain", "node-c", "-leaders-only"), "so that it can be stopped for a while")
	assert.Contains(t, n.Must("nodes"), "draining")
	b := c.Node("node-b")
	require.Zero(t, b.Stop())
	c.Wait(5*time.Second, "it is seen to be away", func() bool { return strings.Contains(n.Must("nodes"), "away") })
	n.Must("nodes", "remove", "node-b", "-yes")
	assert.NotContains(t, n.Must("nodes"), "node-b")
	for _, line := range strings.Split(strings.TrimSpace(n.Must("nodes", "-json")), "\n") {
		var s map[string]any
		require.NoError(t, json.Unmarshal([]byte(line), &s))
		for _, name := range []string{"node", "zone", "up", "leads", "holds"} {
			assert.Contains(t, s, name)
		}
	}
	log := n.Must("logbook")
	for _, action := range []string{"drain node", "remove node"} {
		assert.Contains(t, log, action)
	}
}

// A node refuses what would make it speak for a directory or a cluster that
// it does not belong to.
func TestANodeBelongsToItsDirectory(t *testing.T) {
	c := harness.StartCluster(t, 1)
	n := c.Nodes[0]
	other := c.Prepare(harness.Dir(t))
	for _, f := range []struct {
		args []string
		says string
	}{
		{[]string{"-node", "node-a", "-dir", other.Dir, "-peer-listen", "127.0.0.1:0", "-database", c.Database}, "a node of this name runs on another data directory"},
		{[]string{"-node", "node-b", "-dir", other.Dir, "-database", c.Database}, "give -peer-listen"},
		{[]string{"-node", "node-b", "-dir", other.Dir, "-peer-listen", "0.0.0.0:0", "-database", c.Database}, "nodes talk over mutual TLS there"},
		{[]string{"-node", "node b", "-dir", other.Dir, "-database", c.Database}, "-node"},
	} {
		out, err := n.Tool("ferryd", append([]string{"serve", "-listen", "127.0.0.1:0"}, f.args...)...)
		assert.Error(t, err)
		assert.Contains(t, out, f.says)
	}
	require.Zero(t, n.Stop())
	out, err := n.Tool("ferryd", "serve", "-listen", "127.0.0.1:0", "-node", "node-z", "-dir", n.Dir, "-database", c.Database)
	assert.Error(t, err)
	assert.Contains(t, out, "belongs to node-a, not to node-z")
	out, err = n.Tool("ferryd", "serve", "-listen", "127.0.0.1:0", "-node", "node-a", "-dir", n.Dir, "-database", harness.SharedDatabase(t))
	assert.Error(t, err)
	assert.Contains(t, out, "belongs to another cluster than the database")
}
