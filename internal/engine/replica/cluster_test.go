package replica

import (
	"context"
	"fmt"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/engine/link"
)

// testNode is one node of a cluster inside the test's process.
type testNode struct {
	t       *testing.T
	id      uint64
	dir     string
	addr    string
	store   *journal.Store
	peers   *link.Peers
	sched   *Scheduler
	group   *Group
	machine *recorder
}

type handler struct{ sched atomic.Pointer[Scheduler] }

func (h *handler) Packet(from uint64, p link.Packet) { h.sched.Load().Receive(from, p) }
func (h *handler) Cast(uint64, string, []byte)       {}
func (h *handler) Call(_ context.Context, _ uint64, kind string, body []byte) ([]byte, error) {
	if kind == "fail" {
		return nil, fmt.Errorf("no: %s", body)
	}
	return append([]byte("yes: "), body...), nil
}
func (h *handler) NodeUp(id uint64)               { h.sched.Load().NodeUp(id) }
func (h *handler) NodeDown(id uint64, ended bool) { h.sched.Load().NodeDown(id, ended) }

func (n *testNode) start(voters []uint64, others []*testNode) {
	n.t.Helper()
	var err error
	n.store, err = journal.OpenStore(n.dir)
	require.NoError(n.t, err)
	h := &handler{}
	n.peers = link.NewPeers(link.PeersConfig{Self: n.id, Secret: "s"}, h)
	n.sched = NewScheduler(n.store, n.peers, 2, DefaultFeedRate)
	h.sched.Store(n.sched)
	l, err := net.Listen("tcp", n.addr)
	require.NoError(n.t, err)
	n.addr = l.Addr().String()
	go n.peers.Serve(l)
	n.machine = &recorder{}
	require.NoError(n.t, n.sched.Open(Options{Key: Key{Channel: 1, Partition: 0}, Node: n.id, Voters: voters, Journal: journal.Options{SegmentBytes: 4 << 20}}, n.machine, func(g *Group) { n.group = g }))
}

func (n *testNode) stop() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	n.peers.Close()
	require.NoError(n.t, n.sched.Stop(ctx))
	require.NoError(n.t, n.store.Close())
}

func connect(nodes []*testNode) {
	for _, n := range nodes {
		var others []link.Remote
		for _, o := range nodes {
			if o != n {
				others = append(others, link.Remote{ID: o.id, Name: fmt.Sprint("node-", o.id), Addr: o.addr})
			}
		}
		n.peers.SetNodes(others)
	}
}

func cluster(t *testing.T, count int, voters []uint64) []*testNode {
	var nodes []*testNode
	for i := range count {
		n := &testNode{t: t, id: uint64(i + 1), dir: t.TempDir(), addr: "127.0.0.1:0"}
		n.start(voters, nil)
		nodes = append(nodes, n)
	}
	connect(nodes)
	return nodes
}

func leaderOf(t *testing.T, nodes ...*testNode) *testNode {
	t.Helper()
	var leader *testNode
	require.Eventually(t, func() bool {
		for _, n := range nodes {
			if n.group.Refusal() == nil {
				leader = n
				return true
			}
		}
		return false
	}, 5*time.Second, 5*time.Millisecond, "a leader is elected")
	return leader
}

func publish(t *testing.T, n *testNode, count, size int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	for range count {
		require.NoError(t, n.group.Publish(ctx, proposal(size)).Err)
	}
}

func caughtUp(t *testing.T, end int64, nodes ...*testNode) {
	t.Helper()
	for _, n := range nodes {
		require.Eventually(t, func() bool { return n.group.End() == end }, 20*time.Second, 5*time.Millisecond, "node %d has %d of %d", n.id, n.group.End(), end)
	}
}

func TestThreeReplicasElectPublishSleepAndSucceed(t *testing.T) {
	nodes := cluster(t, 3, []uint64{1, 2, 3})
	leader := leaderOf(t, nodes...)
	publish(t, leader, 50, 1000)
	caughtUp(t, 50, nodes...)
	awake := func(n *testNode) bool { n.group.mu.Lock(); defer n.group.mu.Unlock(); return n.group.awake }
	require.Eventually(t, func() bool { return !awake(nodes[0]) && !awake(nodes[1]) && !awake(nodes[2]) }, 20*time.Second, 10*time.Millisecond, "idle groups sleep")

	leader.stop()
	began := time.Now()
	var rest []*testNode
	for _, n := range nodes {
		if n != leader {
			rest = append(rest, n)
		}
	}
	next := leaderOf(t, rest...)
	t.Logf("another leader after %s", time.Since(began))
	assert.Less(t, time.Since(began), 2*time.Second)
	publish(t, next, 50, 300_000)
	caughtUp(t, 100, rest...)

	leader.start([]uint64{1, 2, 3}, nil)
	connect(nodes)
	caughtUp(t, 100, leader)
	for _, n := range nodes {
		n.stop()
	}
}

// A member that is far behind, or behind what retention has left, comes back
// in step while publishing goes on.
func TestAReplicaLeftBehindComesBack(t *testing.T) {
	for _, drop := range []bool{false, true} {
		t.Run(fmt.Sprint("retention passed: ", drop), func(t *testing.T) {
			nodes := cluster(t, 3, []uint64{1, 2, 3})
			leader := leaderOf(t, nodes...)
			publish(t, leader, 3, 1000)
			caughtUp(t, 3, nodes...)
			behind := nodes[0]
			if behind == leader {
				behind = nodes[1]
			}
			behind.stop()
			publish(t, leader, 20, 1<<20) // far more than a leader sends by itself
			if drop {
				ctx := context.Background()
				require.NoError(t, leader.group.Drop(ctx, 5))
				require.Positive(t, leader.group.Journal().Bounds().First)
			}
			behind.start([]uint64{1, 2, 3}, nil)
			connect(nodes)
			leader = leaderOf(t, nodes...) // on a slow machine another one may have been elected
			publish(t, leader, 5, 1000)
			caughtUp(t, 28, nodes...)
			assert.Equal(t, leader.group.Journal().Bounds().First, behind.group.Journal().Bounds().First)
			// What came by the snapshot survives a start.
			behind.stop()
			behind.start([]uint64{1, 2, 3}, nil)
			connect(nodes)
			publish(t, leaderOf(t, nodes...), 1, 10)
			caughtUp(t, 29, nodes...)
			assert.Len(t, behind.machine.applied, 29)
			for _, n := range nodes {
				n.stop()
			}
		})
	}
}

func TestMembersAreAddedMovedAndRemoved(t *testing.T) {
	nodes := cluster(t, 4, []uint64{1})
	publish(t, leaderOf(t, nodes[0]), 30, 1<<20)
	for _, n := range nodes {
		n.group.SetMembers([]uint64{1, 2, 3})
	}
	voters := func(n *testNode) []uint64 { return n.group.Membership().Voters }
	require.Eventually(t, func() bool { return assert.ObjectsAreEqual([]uint64{1, 2, 3}, voters(nodes[2])) }, 20*time.Second, 10*time.Millisecond, "they learn, then vote")
	caughtUp(t, 30, nodes[:3]...)
	for _, n := range nodes {
		n.group.SetMembers([]uint64{2, 3, 4})
	}
	require.Eventually(t, func() bool { return assert.ObjectsAreEqual([]uint64{2, 3, 4}, voters(nodes[3])) }, 20*time.Second, 10*time.Millisecond, "the leader itself moves away")
	leader := leaderOf(t, nodes[1:]...)
	publish(t, leader, 5, 100)
	caughtUp(t, 35, nodes[1:]...)
	for _, n := range nodes {
		n.group.SetMembers([]uint64{4})
	}
	require.Eventually(t, func() bool {
		return assert.ObjectsAreEqual([]uint64{4}, voters(nodes[3])) && nodes[3].group.Refusal() == nil
	}, 20*time.Second, 10*time.Millisecond)
	publish(t, nodes[3], 5, 100)
	for _, n := range nodes {
		n.stop()
	}
}

// Replicas that were given up and come back with empty logs are other members:
// they elect nobody among themselves, though they once were the majority.
func TestReplicasThatComeBackEmptyDoNotVoteAsTheyOnceDid(t *testing.T) {
	nodes := cluster(t, 3, []uint64{1, 2, 3})
	for _, n := range nodes {
		n.group.SetMembers([]uint64{1})
	}
	require.Eventually(t, func() bool { return assert.ObjectsAreEqual([]uint64{1}, nodes[0].group.Membership().Voters) }, 20*time.Second, 10*time.Millisecond)
	publish(t, leaderOf(t, nodes[0]), 10, 100)
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	for _, n := range nodes[1:] {
		require.NoError(t, n.sched.Close(ctx, n.group, true))
	}
	nodes[0].stop()
	ids := map[uint64]uint64{1: 1}
	open := func(n *testNode) {
		n.machine = &recorder{}
		require.NoError(t, n.sched.Open(Options{Key: Key{Channel: 1, Partition: 0}, Node: n.id, Voters: []uint64{1, 2, 3}, MemberOf: func(node uint64) uint64 { return ids[node] }}, n.machine, func(g *Group) { n.group = g }))
		ids[n.id] = n.group.ID()
	}
	open(nodes[1])
	open(nodes[2])
	assert.NotEqual(t, uint64(2), nodes[1].group.ID())
	time.Sleep(1500 * time.Millisecond)
	for _, n := range nodes[1:] {
		assert.ErrorIs(t, n.group.Refusal(), ErrNoMajority)
		assert.Zero(t, n.group.Membership().Lead)
	}
	nodes[0].start([]uint64{1, 2, 3}, nil)
	require.NoError(t, nodes[0].sched.Close(ctx, nodes[0].group, false))
	open(nodes[0])
	connect(nodes)
	nodes[0].group.SetMembers([]uint64{1, 2, 3})
	require.Eventually(t, func() bool { return assert.ObjectsAreEqual([]uint64{1, 2, 3}, nodes[2].group.Membership().Voters) }, 20*time.Second, 10*time.Millisecond)
	caughtUp(t, 10, nodes...)
	for _, n := range nodes {
		n.stop()
	}
}

func TestNodesCallEachOther(t *testing.T) {
	nodes := cluster(t, 2, []uint64{1, 2})
	leaderOf(t, nodes...)
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	for _, pair := range [][2]int{{0, 1}, {1, 0}} {
		from, to := nodes[pair[0]], nodes[pair[1]]
		out, err := from.peers.Call(ctx, to.id, "ask", []byte("well?"))
		require.NoError(t, err)
		assert.Equal(t, "yes: well?", string(out))
		_, err = from.peers.Call(ctx, to.id, "fail", []byte("well?"))
		assert.EqualError(t, err, "no: well?")
	}
	nodes[1].stop()
	require.Eventually(t, func() bool { return !nodes[0].peers.Up(2) }, 2*time.Second, 5*time.Millisecond)
	_, err := nodes[0].peers.Call(ctx, 2, "ask", nil)
	assert.ErrorIs(t, err, link.ErrAway)
	began := time.Now()
	assert.ErrorIs(t, nodes[0].group.Publish(ctx, proposal(10)).Err, ErrNoMajority, "without a majority nothing is taken")
	assert.Less(t, time.Since(began), 100*time.Millisecond, "and it is said at once")
	nodes[0].stop()
}
