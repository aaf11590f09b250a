package cluster_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/cluster"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// records opens records of their own, and an empty store of logs.
func records(t *testing.T) (*catalog.Catalog, *journal.Store) {
	t.Helper()
	_, database := testdb.New(t)
	c, err := catalog.Open(accesstest.Owner(t), database, func(catalog.Delta) {})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	logs, err := journal.OpenStore(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { logs.Close() })
	return c, logs
}

// Who a node is lies in its directory; what does not fit is said, with what to
// do, and nothing is changed.
func TestHowANodeBecomesAMember(t *testing.T) {
	c, logs := records(t)
	dir := t.TempDir()
	me := cluster.Joining{Dir: dir, Name: "node-a", Peer: "127.0.0.1:1", API: "http://127.0.0.1:2"}
	id, err := cluster.Join(accesstest.Owner(t), c, logs, me)
	require.NoError(t, err)
	again, err := cluster.Join(accesstest.Owner(t), c, logs, me)
	require.NoError(t, err)
	assert.Equal(t, id, again, "the same directory is the same member")
	refused := func(wanted string, change func(j *cluster.Joining)) {
		t.Helper()
		j := me
		change(&j)
		_, err := cluster.Join(accesstest.Owner(t), c, logs, j)
		assert.ErrorContains(t, err, wanted)
	}
	refused("belongs to node-a, not to node-b; use -node node-a", func(j *cluster.Joining) { j.Name = "node-b" })
	refused("a node of this name runs on another data directory: node-a; choose another -node", func(j *cluster.Joining) { j.Dir = t.TempDir() })
	refused("give -peer-listen", func(j *cluster.Joining) { j.Dir, j.Name, j.Alone = t.TempDir(), "node-b", true })
	other, logs2 := records(t)
	_, err = cluster.Join(accesstest.Owner(t), other, logs2, me)
	assert.ErrorContains(t, err, "belongs to another cluster than the database")

	// A node that stopped in order leaves its name; its directory is replaced.
	require.NoError(t, c.NotRunning(accesstest.Owner(t), id))
	fresh, err := cluster.Join(accesstest.Owner(t), c, logs, cluster.Joining{Dir: t.TempDir(), Name: "node-a"})
	require.NoError(t, err)
	assert.NotEqual(t, id, fresh)
	_, err = cluster.Join(accesstest.Owner(t), c, logs, me)
	assert.ErrorContains(t, err, "another data directory has taken the place")
	require.NoError(t, c.SetNodeState(accesstest.Owner(t), fresh, catalog.NodeRemoved, nil))

	lost := cluster.Joining{Dir: t.TempDir(), Name: "node-c"}
	_, err = cluster.Join(accesstest.Owner(t), c, logs, lost)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(lost.Dir, "node.json"), []byte("{half"), 0o600))
	_, err = cluster.Join(accesstest.Owner(t), c, logs, lost)
	assert.ErrorContains(t, err, "is damaged")
	require.NoError(t, os.Remove(filepath.Join(lost.Dir, "node.json")))
	_, err = logs.Open("7/0", journal.Options{SegmentBytes: 1 << 20})
	require.NoError(t, err)
	_, err = cluster.Join(accesstest.Owner(t), c, logs, lost)
	assert.ErrorContains(t, err, "has logs (1 channel) and no node.json")
}

func TestANodeAloneTellsOfItself(t *testing.T) {
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 3})
	n.Publish(topic, 0, "x")
	status := n.Cluster.Nodes(time.Now())
	nodes := status.Nodes
	require.Len(t, nodes, 1)
	assert.Equal(t, "node-a", nodes[0].Node)
	assert.True(t, nodes[0].Self && nodes[0].Up)
	assert.Equal(t, "test", nodes[0].Version)
	assert.Equal(t, 3, nodes[0].Leads)
	status.Nodes = nil
	assert.Equal(t, form.Cluster{Partitions: 3, SpreadLeaders: true}, status)
	loss, _, err := n.Cluster.WhatIf([]string{"node-a"})
	require.NoError(t, err)
	assert.NotZero(t, loss)
	_, _, err = n.Cluster.WhatIf([]string{"node-b"})
	assert.ErrorContains(t, err, "node-b")
	p, err := topic.Partition(0)
	require.NoError(t, err)
	v := n.Cluster.Verify(accesstest.Owner(t), p)
	assert.Len(t, v.Nodes, 1)
	assert.Positive(t, v.Records)
	assert.Empty(t, v.Differs)
	said, err := n.Cluster.Set(accesstest.Owner(t), "owner", setting.Change{"spreadLeaders": false}, false)
	require.NoError(t, err)
	assert.True(t, said.Careful)
	status = n.Cluster.Nodes(time.Now())
	assert.False(t, status.SpreadLeaders)

	_, err = n.Moves.Move(accesstest.Owner(t), "owner", topic.Address(), []string{"node-b"}, true)
	assert.Error(t, err)
	said, err = n.Moves.Drain(accesstest.Owner(t), "owner", "node-a", false, true)
	if err == nil {
		assert.NotEmpty(t, said.Effects)
	} else {
		assert.Contains(t, err.Error(), "node")
	}
	_, err = n.Moves.RemoveNode(accesstest.Owner(t), "owner", "node-a", true)
	assert.ErrorContains(t, err, "node-a")
}
