package replica

import (
	"context"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.etcd.io/raft/v3/raftpb"
	"google.golang.org/protobuf/proto"

	"steadyferry/internal/core/journal"
)

// testNode is one node of a cluster inside the test's process.
type testNode struct {
	t       *testing.T
	id      uint64
	dir     string
	addr    string
	store   *journal.Store
	peers   *Peers
	sched   *Scheduler
	group   *Group
	machine *recorder
}

type handler struct{ sched atomic.Pointer[Scheduler] }

func (h *handler) Packet(from uint64, p Packet) { h.sched.Load().Receive(from, p) }
func (h *handler) Cast(uint64, string, []byte)  {}
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
	n.peers = NewPeers(PeersConfig{Self: n.id, Secret: "s"}, h)
	n.sched = NewScheduler(n.store, n.peers, 2, DefaultFeedRate)
	h.sched.Store(n.sched)
	l, err := net.Listen("tcp", n.addr)
	require.NoError(n.t, err)
	n.addr = l.Addr().String()
	go n.peers.Serve(l)
	n.machine = &recorder{}
	require.NoError(n.t, n.sched.Open(Options{Key: Key{1, 0}, Node: n.id, Voters: voters, Journal: journal.Options{SegmentBytes: 4 << 20}}, n.machine, func(g *Group) { n.group = g }))
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
		var others []Remote
		for _, o := range nodes {
			if o != n {
				others = append(others, Remote{ID: o.id, Name: fmt.Sprint("node-", o.id), Addr: o.addr})
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
	require.Eventually(t, func() bool { return !awake(nodes[0]) && !awake(nodes[1]) && !awake(nodes[2]) }, 5*time.Second, 10*time.Millisecond, "idle groups sleep")

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
			publish(t, leader, 60, 1<<20)
			if drop {
				ctx := context.Background()
				require.NoError(t, leader.group.Drop(ctx, 5))
				require.Positive(t, leader.group.Journal().Bounds().First)
			}
			behind.start([]uint64{1, 2, 3}, nil)
			connect(nodes)
			publish(t, leader, 5, 1000)
			caughtUp(t, 68, nodes...)
			assert.Equal(t, leader.group.Journal().Bounds().First, behind.group.Journal().Bounds().First)
			// What came by the snapshot survives a start.
			behind.stop()
			behind.start([]uint64{1, 2, 3}, nil)
			connect(nodes)
			publish(t, leader, 1, 10)
			caughtUp(t, 69, nodes...)
			assert.Len(t, behind.machine.applied, 69)
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
		require.NoError(t, n.sched.Open(Options{Key: Key{1, 0}, Node: n.id, Voters: []uint64{1, 2, 3}, MemberOf: func(node uint64) uint64 { return ids[node] }}, n.machine, func(g *Group) { n.group = g }))
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
	assert.ErrorIs(t, err, ErrAway)
	began := time.Now()
	assert.ErrorIs(t, nodes[0].group.Publish(ctx, proposal(10)).Err, ErrNoMajority, "without a majority nothing is taken")
	assert.Less(t, time.Since(began), 100*time.Millisecond, "and it is said at once")
	nodes[0].stop()
}

// What comes from another node is read without trust: anything is a frame of
// packets, or is refused.
func FuzzPackets(f *testing.F) {
	whole := encodePackets([]Packet{
		{Kind: packetRaft, Key: Key{3, 7}, Epoch: 1, Message: appendMessage(1, 4, []byte("small"), make([]byte, 5000))},
		{Kind: packetHandOver, Key: Key{3, 7}, Message: &raftpb.Message{Context: []byte("why")}},
	}).Materialize()
	f.Add(whole)
	f.Add(whole[:len(whole)-4])
	f.Add([]byte{1, 0xff, 0xff})
	f.Fuzz(func(t *testing.T, b []byte) {
		var packets []Packet
		if decodePackets(b, func(p Packet) { packets = append(packets, p) }) != nil {
			return
		}
		// What was read is written and read again as the same.
		again := []Packet{}
		require.NoError(t, decodePackets(encodePackets(packets).Materialize(), func(p Packet) { again = append(again, p) }))
		require.Len(t, again, len(packets))
		for i, p := range packets {
			require.True(t, proto.Equal(p.Message, again[i].Message), "%v %v", p.Message, again[i].Message)
			require.Equal(t, p.Key, again[i].Key)
		}
	})
}

func appendMessage(from, index uint64, data ...[]byte) *raftpb.Message {
	m := &raftpb.Message{Type: raftpb.MsgApp.Enum(), From: &from, Index: &index}
	for _, d := range data {
		index++
		at := index
		m.Entries = append(m.Entries, &raftpb.Entry{Type: raftpb.EntryNormal.Enum(), Term: &from, Index: &at, Data: d})
	}
	return m
}

// Whoever has taken the address of a node learns nothing from the others.
func TestTheSecretIsNotToldToWhoeverListens(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	impostor := NewPeers(PeersConfig{Self: 2, Secret: "another-secret"}, &handler{})
	defer impostor.Close()
	impostor.SetNodes([]Remote{{ID: 1, Name: "node-1", Addr: "127.0.0.1:1"}})
	go impostor.Serve(l)
	said := &recorded{to: l.Addr().String()}
	front, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer front.Close()
	go said.serve(front)

	h := &handler{}
	p := NewPeers(PeersConfig{Self: 1, Secret: "the-secret-of-the-cluster"}, h)
	defer p.Close()
	p.SetNodes([]Remote{{ID: 2, Name: "node-2", Addr: front.Addr().String()}})
	require.Eventually(t, func() bool { return said.count() > 200 }, 5*time.Second, 10*time.Millisecond)
	time.Sleep(300 * time.Millisecond)
	assert.False(t, p.Up(2), "it is not taken for the node")
	assert.False(t, impostor.Up(1))
	assert.NotContains(t, said.text(), "the-secret-of-the-cluster")
}

// recorded passes connections on and keeps what the dialing side says.
type recorded struct {
	to string
	mu sync.Mutex
	b  []byte
}

func (r *recorded) count() int   { r.mu.Lock(); defer r.mu.Unlock(); return len(r.b) }
func (r *recorded) text() string { r.mu.Lock(); defer r.mu.Unlock(); return string(r.b) }

func (r *recorded) serve(l net.Listener) {
	for {
		in, err := l.Accept()
		if err != nil {
			return
		}
		out, err := net.Dial("tcp", r.to)
		if err != nil {
			in.Close()
			continue
		}
		go func() { io.Copy(in, out); in.Close() }()
		go func() {
			defer out.Close()
			b := make([]byte, 4096)
			for {
				n, err := in.Read(b)
				r.mu.Lock()
				r.b = append(r.b, b[:n]...)
				r.mu.Unlock()
				if _, writeErr := out.Write(b[:n]); err != nil || writeErr != nil {
					return
				}
			}
		}()
	}
}
