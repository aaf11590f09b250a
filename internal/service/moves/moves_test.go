package moves_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/moves"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// ended waits until a job has ended, as any of the nodes sees it.
func ended(t *testing.T, n *nodetest.Node, id int64) *moves.Job {
	t.Helper()
	var found *moves.Job
	require.Eventually(t, func() bool {
		all, err := n.Moves.List(accesstest.Owner(t), 20)
		require.NoError(t, err)
		for _, j := range all {
			if j.ID == id && (j.State == job.Done || j.State == job.Cancelled) {
				found = j
			}
		}
		return found != nil
	}, 60*time.Second, 20*time.Millisecond)
	return found
}

// holders are the nodes that shall hold each partition, by their names.
func holders(n *nodetest.Node, topic *part.Channel) (all []string) {
	for _, p := range topic.Partitions() {
		all = append(all, strings.Join(n.Parts.NodeNames(n.Parts.Placed(p)), " "))
	}
	return all
}

// at returns the channel as a node knows it.
func at(t *testing.T, n *nodetest.Node, topic *part.Channel) *part.Channel {
	t.Helper()
	require.NoError(t, n.Catalog.CatchUp(accesstest.Owner(t)))
	here, err := n.Parts.Channel(topic.Address())
	require.NoError(t, err)
	n.Parts.WaitReady(accesstest.Owner(t), here)
	return here
}

// kept counts the messages of a topic as a node sees them.
func kept(t *testing.T, n *nodetest.Node, topic *part.Channel) int64 {
	t.Helper()
	status, _ := n.Parts.Status(topic, time.Now())
	return status.Messages
}

// Replicas are raised, a partition moves, a node is emptied, and nothing that
// was published is lost, while the node that runs the jobs goes and another
// one goes on.
func TestReplicasMoveWhileWhoMovesThemGoes(t *testing.T) {
	nodes := nodetest.Cluster(t, 3)
	a, b, c := nodes[0], nodes[1], nodes[2]
	topic := a.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 4, "replicas": 1})
	for i := range 40 {
		a.Publish(topic, i%4, fmt.Sprint(i))
	}
	said, err := a.Manage.SetChannel(accesstest.Owner(t), "owner", topic.Address(), setting.Change{"replicas": 3}, nil, true)
	require.NoError(t, err)
	assert.True(t, said.Careful)
	assert.Contains(t, strings.Join(said.Effects, "; "), "4 partitions are each copied to 2 more nodes")
	done, err := a.Manage.SetChannel(accesstest.Owner(t), "owner", topic.Address(), setting.Change{"replicas": 3}, nil, false)
	require.NoError(t, err)
	require.NotZero(t, done.Job)
	a.Reopen() // it was on duty, perhaps in the middle
	assert.Equal(t, job.Done, ended(t, b, done.Job).State)
	topic = at(t, b, topic)
	for _, holds := range holders(b, topic) {
		assert.Len(t, strings.Fields(holds), 3)
	}
	require.Eventually(t, func() bool { return kept(t, b, topic) == 40 }, 20*time.Second, 20*time.Millisecond)

	one := topic.Address()
	one.Partition = 1
	_, err = b.Moves.Move(accesstest.Owner(t), "owner", one, []string{"node-b", "node-z"}, true)
	assert.ErrorContains(t, err, "node-z")
	_, err = b.Moves.Move(accesstest.Owner(t), "owner", one, []string{"node-b", "node-b"}, true)
	assert.Error(t, err)
	move, err := b.Moves.Move(accesstest.Owner(t), "owner", one, []string{"node-c", "node-b"}, false)
	require.NoError(t, err)
	assert.Equal(t, job.Done, ended(t, c, move.Job).State)
	assert.Equal(t, "node-c node-b", holders(c, at(t, c, topic))[1])

	drain, err := b.Moves.Drain(accesstest.Owner(t), "owner", "node-a", true, false)
	require.NoError(t, err)
	assert.Equal(t, job.Done, ended(t, b, drain.Job).State)
	require.Eventually(t, func() bool { return kept(t, b, at(t, b, topic)) == 40 }, 20*time.Second, 20*time.Millisecond)
	c.Publish(at(t, c, topic), 1, "still")
	_, err = b.Moves.RemoveNode(accesstest.Owner(t), "owner", "node-a", true)
	var p *problem.Problem
	require.ErrorAs(t, err, &p, "it runs")
	_, err = b.Moves.Drain(accesstest.Owner(t), "owner", "node-a", false, true)
	assert.ErrorContains(t, err, "replica", "three replicas need three nodes")
}

// A job that is taken back leaves things as they were.
func TestAJobIsBroughtBack(t *testing.T) {
	nodes := nodetest.Cluster(t, 2)
	a := nodes[0]
	topic := a.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 8, "replicas": 1})
	before := holders(a, topic)
	done, err := a.Manage.SetChannel(accesstest.Owner(t), "owner", topic.Address(), setting.Change{"replicas": 2}, nil, false)
	require.NoError(t, err)
	if _, err := a.Moves.Cancel(accesstest.Owner(t), "owner", done.Job); err == nil {
		taken := ended(t, nodes[1], done.Job)
		if taken.State == job.Cancelled {
			for i, step := range taken.Steps {
				assert.Contains(t, []string{string(job.Cancelled), string(job.Done)}, step.State, "step %d", i)
				if step.State == string(job.Cancelled) {
					assert.Equal(t, before[step.Partition], strings.Join(a.Parts.NodeNames(step.Before), " "))
				}
			}
		}
	}
	_, err = a.Moves.Cancel(accesstest.Owner(t), "owner", done.Job+100)
	assert.Error(t, err, "there is none")
	require.NoError(t, a.Catalog.CatchUp(accesstest.Owner(t)))
	_, err = a.Moves.Cancel(accesstest.Owner(t), "owner", done.Job)
	assert.Error(t, err, "it has ended")
}
