package replica

import (
	"errors"
	"log/slog"
	"slices"

	"steadyferry/internal/engine/link"

	"go.etcd.io/raft/v3"
	"go.etcd.io/raft/v3/raftpb"
	"go.etcd.io/raft/v3/tracker"
	"google.golang.org/protobuf/proto"
)

// Times of a group in ticks, see tickTime.
const (
	electionTicks  = 16
	heartbeatTicks = 2
	reconcileTicks = 4
	sleepTicks     = 20  // without anything to do
	unsureTicks    = 100 // without a leader, until publishers are told that it is not known
)

// isEarly tells which messages need not wait for this replica's disk: those
// of a leader, since it counts itself only when its own disk has the entries.
func isEarly(t raftpb.MessageType) bool {
	switch t {
	case raftpb.MsgApp, raftpb.MsgHeartbeat, raftpb.MsgHeartbeatResp, raftpb.MsgSnap, raftpb.MsgTimeoutNow:
		return true
	}
	return false
}

func (g *Group) sendEarly(messages []*raftpb.Message) {
	for _, m := range messages {
		if isEarly(m.GetType()) {
			g.send(m)
		} else {
			g.late = append(g.late, m)
		}
	}
}

func (g *Group) sendLate() {
	for _, m := range g.late {
		g.send(m)
	}
	g.late = nil
}

func (g *Group) send(m *raftpb.Message) {
	if m.GetType() == raftpb.MsgSnap {
		m = g.addressSnapshot(m)
	}
	g.sched.network.Send(NodeOf(m.GetTo()), link.Packet{Kind: link.RaftPacket, Key: g.options.Key, Epoch: g.options.Epoch, Message: m})
	if m.GetType() == raftpb.MsgSnap {
		// It is small: if it is lost, the next answer to a heartbeat brings
		// another one.
		to := m.GetTo()
		g.mu.Lock()
		g.chores = append(g.chores, func() { g.node.ReportSnapshot(to, raft.SnapshotFinish) })
		g.mu.Unlock()
	}
}

// addressSnapshot names the receiver as a learner if it was no member yet at
// the snapshot's index: Raft does not take a state without its own id.
func (g *Group) addressSnapshot(m *raftpb.Message) *raftpb.Message {
	to := m.GetTo()
	s := proto.CloneOf(m.GetSnapshot())
	members := s.GetMetadata().GetConfState()
	if !slices.Contains(slices.Concat(members.GetVoters(), members.GetLearners(), members.GetVotersOutgoing(), members.GetLearnersNext()), to) {
		members.Learners = append(members.Learners, to)
	}
	return &raftpb.Message{Type: m.Type, To: m.To, From: m.From, Term: m.Term, Snapshot: s}
}

// receive takes a message of another member.
func (g *Group) receive(m *raftpb.Message) {
	bytes := 0
	for _, e := range m.GetEntries() {
		bytes += len(e.GetData())
	}
	g.mu.Lock()
	if g.closed || g.failed.Load() != nil || len(g.messages) >= maxMessages || bytes > 0 && g.messageBytes > maxMessageBytes {
		g.mu.Unlock()
		return
	}
	g.messages = append(g.messages, m)
	g.messageBytes += bytes
	g.mu.Unlock()
	if !raft.IsResponseMsg(m.GetType()) {
		g.sched.keepAwake(g)
	}
	g.sched.wake(g)
}

// What waits for a group that does not get on, such as one whose disk is full,
// is bounded. Raft sends again what is dropped.
const (
	maxMessages     = 4096
	maxMessageBytes = 16 << 20
)

// stepMessages hands Raft what has come from others, and then the time that
// has passed.
func (g *Group) stepMessages() {
	g.mu.Lock()
	messages, ticks, died := g.messages, g.ticks, g.died
	g.messages, g.messageBytes, g.ticks, g.died = nil, 0, 0, 0
	g.mu.Unlock()
	for _, m := range messages {
		if m.GetType() == raftpb.MsgApp {
			g.members.leaderless, g.members.idle = 0, 0
		}
		if m.GetType() == raftpb.MsgHeartbeat && m.GetCommit() > g.storage.last {
			// The leader knows that this replica had more than it has: Raft
			// would end the process here.
			g.breakOff(m.GetCommit())
			return
		}
		if err := g.node.Step(m); err != nil && !errors.Is(err, raft.ErrStepPeerNotFound) && !errors.Is(err, raft.ErrProposalDropped) {
			slog.Debug("raft refused a message", "partition", g.options.Key.String(), "error", err)
		}
	}
	if len(g.members.feeds) > 0 && len(messages) > 0 {
		g.feedProgress()
	}
	if died != 0 && died == NodeOf(g.node.BasicStatus().Lead) {
		g.succeed(died)
	}
	// After a pause of this process, what has come counts before the time
	// that has passed.
	for range min(ticks, 2) {
		g.tick()
	}
}

// succeed makes the members elect a new leader at once, without waiting for
// the time after which the old one would be missed: its process has ended. The
// first of the others stands first, so that the votes are not split.
func (g *Group) succeed(dead uint64) {
	for range electionTicks {
		g.node.TickQuiesced()
	}
	rank := 0
	for _, id := range g.shown.Load().Voters {
		if id == g.member {
			break
		}
		if NodeOf(id) != dead && g.up(id) {
			rank++
		}
	}
	g.members.campaignIn = 1 + 4*rank
}

func (g *Group) tick() {
	m := &g.members
	m.count++
	g.node.Tick()
	status := g.node.BasicStatus()
	m.handingOver = status.LeadTransferee != raft.None
	if m.campaignIn > 0 {
		if m.campaignIn--; m.campaignIn == 0 && status.RaftState == raft.StateFollower {
			g.node.Campaign()
		}
	}
	if status.Lead == raft.None {
		// A new partition is led at once by the node that should lead it.
		if g.opened == 0 && g.options.Epoch == 0 && (m.count == 2 || m.count == 6) && status.RaftState == raft.StateFollower && g.options.Voters[0] == g.member {
			g.node.Campaign()
		}
		if m.leaderless++; m.leaderless == unsureTicks {
			g.refuseInflight(ErrTime)
		}
	}
	if status.RaftState != raft.StateLeader || !g.leading {
		return
	}
	if m.count%reconcileTicks == 0 {
		g.reconcile()
		g.startFeeds()
		g.showMembers()
	}
	if m.idle++; m.idle >= sleepTicks && g.canSleep() {
		g.showMembers()
		term, last := status.HardState.GetTerm(), g.storage.last
		for _, o := range g.shown.Load().Others {
			g.sched.network.Send(NodeOf(o.Member), link.Packet{Kind: link.SleepPacket, Key: g.options.Key, Epoch: g.options.Epoch,
				Message: &raftpb.Message{From: &g.member, Term: &term, Index: &last}})
		}
		m.idle = 0
		g.sched.letSleep(g)
	}
}

// canSleep reports whether every member that can be reached has all there is.
func (g *Group) canSleep() bool {
	if g.applied != g.storage.last || len(g.members.feeds) > 0 || g.members.handingOver || g.node.HasReady() || !g.settled() {
		return false
	}
	ok := true
	g.node.WithProgress(func(id uint64, _ raft.ProgressType, p tracker.Progress) {
		if id != g.member && p.Match != g.storage.last && g.up(id) {
			ok = false
		}
	})
	return ok
}

// toldToSleep is the leader's word that there is nothing to do.
func (g *Group) toldToSleep(from, term, last uint64) {
	g.chore(func() {
		s := g.node.BasicStatus()
		if s.Lead == from && s.HardState.GetTerm() == term && g.storage.last == last && g.applied == last && g.up(from) {
			g.sched.letSleep(g)
		}
	})
}

// chore runs f between two steps, without waiting for it.
func (g *Group) chore(f func()) {
	g.mu.Lock()
	if !g.closed {
		g.chores = append(g.chores, f)
	}
	g.mu.Unlock()
	g.sched.wake(g)
}
