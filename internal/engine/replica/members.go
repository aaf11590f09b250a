package replica

import (
	"context"
	"log/slog"
	"math"
	"slices"

	"go.etcd.io/raft/v3"
	"go.etcd.io/raft/v3/raftpb"
	"go.etcd.io/raft/v3/tracker"
	"google.golang.org/protobuf/proto"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/engine/link"
)

// memberState is what a group's worker knows of its members.
type memberState struct {
	handingOver bool
	leadAgain   bool
	lead        uint64 // the leader that was known last, also when it is gone
	count       int    // ticks
	idle        int    // ticks
	leaderless  int    // ticks
	campaignIn  int    // ticks until this replica stands for election; 0: when Raft says so
	changing    uint64 // index of the change of members that is under way
	feeds       map[uint64]*feed
}

// Membership is who holds a partition, as one of its replicas knows it.
type Membership struct {
	Term     uint64
	Lead     uint64 // 0 when not known
	Leading  bool   // this replica leads
	Voters   []uint64
	Leaving  []uint64 // voters until the change under way is done
	Learners []uint64
	Last     uint64     // index of the last record here
	Others   []Follower // on the leader
}

// Follower is a member as the leader knows it.
type Follower struct {
	Member uint64
	Match  uint64 // it holds the log up to this record
	Active bool   // it answered lately
	Fed    bool   // its log is being sent in bulk
}

func (m *Membership) alone(member uint64) bool {
	return m != nil && len(m.Voters) == 1 && m.Voters[0] == member && len(m.Leaving) == 0
}

// Has reports whether the node is a member of any kind.
func (m *Membership) Has(member uint64) bool {
	return slices.Contains(m.Voters, member) || slices.Contains(m.Leaving, member) || slices.Contains(m.Learners, member)
}

// Membership returns which nodes hold the partition, as this replica knows it.
func (g *Group) Membership() *Membership { return g.nodes.Load() }

// Heard tells the leader that a replica is there under a Raft id: if it is to
// become a member, that can begin.
func (g *Group) Heard(member uint64) {
	if m := g.shown.Load(); m.Leading && !slices.Contains(m.Voters, member) {
		g.sched.keepAwake(g)
	}
}

// ID returns the Raft id of this replica.
func (g *Group) ID() uint64 { return g.member }

func sortedIDs(ids map[uint64]struct{}) []uint64 {
	var out []uint64
	for id := range ids {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}

// showMembers lets others see the membership, the last state of which is
// kept.
func (g *Group) showMembers() {
	s := g.node.Status()
	m := &Membership{Term: s.HardState.GetTerm(), Lead: s.Lead, Leading: g.leads.Load(), Voters: sortedIDs(s.Config.Voters[0]), Learners: sortedIDs(s.Config.Learners), Last: g.storage.last}
	for _, id := range sortedIDs(s.Config.Voters[1]) {
		if !slices.Contains(m.Voters, id) {
			m.Leaving = append(m.Leaving, id)
		}
	}
	if m.Leading {
		for id, p := range s.Progress {
			if id != g.member {
				_, fed := g.members.feeds[id]
				m.Others = append(m.Others, Follower{Member: id, Match: p.Match, Active: p.RecentActive, Fed: fed})
			}
		}
		slices.SortFunc(m.Others, func(a, b Follower) int { return int(a.Member) - int(b.Member) })
	}
	g.nodes.Store(m.byNode())
	old := g.shown.Swap(m)
	if old == nil || old.Lead != m.Lead || old.Leading != m.Leading || !slices.Equal(old.Voters, m.Voters) || !slices.Equal(old.Learners, m.Learners) || !slices.Equal(old.Leaving, m.Leaving) {
		g.options.changed()
	}
}

// roleChanged follows Raft's word of who leads.
func (g *Group) roleChanged(s *raft.SoftState) {
	if s.RaftState != raft.StateLeader {
		g.leading = false
		if g.leads.Swap(false) {
			g.refuseInbox(ErrNotLeading)
		}
		g.members.leadAgain, g.members.handingOver = false, false
		g.members.stopFeeds()
	}
	if s.Lead != raft.None && s.Lead != g.member {
		g.members.lead = s.Lead
	}
	g.members.leaderless, g.members.campaignIn = 0, 0
	g.showMembers()
}

// everywhere returns up to which index every member that answers holds the
// log.
func (m *memberState) everywhere(g *Group) uint64 {
	least := uint64(math.MaxUint64)
	if !g.leading || g.shown.Load().alone(g.member) {
		return least
	}
	g.node.WithProgress(func(id uint64, _ raft.ProgressType, p tracker.Progress) {
		if id != g.member && p.RecentActive {
			least = min(least, p.Match)
		}
	})
	return least
}

// settled reports whether nothing can be done about the members now: they are
// those that are wanted, or what lacks does not answer.
func (g *Group) settled() bool {
	g.mu.Lock()
	want := g.want
	g.mu.Unlock()
	if len(want) == 0 {
		return true
	}
	m := g.shown.Load()
	want, known := g.wantedIDs(want, m)
	for _, id := range want {
		if !slices.Contains(m.Voters, id) && g.up(id) {
			return false
		}
	}
	if !known {
		return true // told again when the node is heard
	}
	for _, id := range slices.Concat(m.Voters, m.Learners, m.Leaving) {
		if !slices.Contains(want, id) && len(m.Voters) >= len(want) {
			return false
		}
	}
	return true
}

// HasMajority reports whether as many voters answer as are needed to keep
// anything.
func (g *Group) HasMajority() bool {
	m := g.shown.Load()
	if m.alone(g.member) {
		return true
	}
	majority := func(voters []uint64) bool {
		up := 0
		for _, id := range voters {
			if id == g.member || g.up(id) {
				up++
			}
		}
		return 2*up > len(voters)
	}
	return majority(m.Voters)
}

// SetMembers says which nodes are to hold the partition. The leader brings
// the change about: new members first learn the log, then vote, and only then
// do old ones leave.
func (g *Group) SetMembers(want []uint64) {
	g.mu.Lock()
	same := slices.Equal(g.want, want)
	g.want = slices.Clone(want)
	g.mu.Unlock()
	if !same {
		g.sched.keepAwake(g)
	}
}

// wantedIDs returns the Raft ids of the nodes that shall hold the partition:
// those under which they are members, unless a node says that it begins anew
// under another one. known is false when that of one is not known yet.
func (g *Group) wantedIDs(want []uint64, m *Membership) (ids []uint64, known bool) {
	known = true
	for _, node := range want {
		id := uint64(0)
		if g.options.MemberOf == nil {
			id = node
		} else if node == g.options.Node {
			id = g.member
		} else if g.sched.network.Up(node) {
			id = g.options.MemberOf(node)
		}
		for _, have := range slices.Concat(m.Voters, m.Learners) {
			if id == 0 && NodeOf(have) == node {
				id = have
			}
		}
		if id == 0 {
			known = false
			continue
		}
		ids = append(ids, id)
	}
	return ids, known
}

// almostThere is how many bytes a learner may lack to be made a voter.
const almostThere = 1 << 20

// reconcile proposes the next step from the members there are to those that
// are wanted.
func (g *Group) reconcile() {
	g.mu.Lock()
	want := g.want
	g.mu.Unlock()
	s := g.node.Status()
	if len(want) == 0 || g.members.changing > g.applied || len(s.Config.Voters[1]) > 0 || g.members.handingOver {
		return
	}
	self := g.member
	want, known := g.wantedIDs(want, g.shown.Load())
	voters := s.Config.Voters[0]
	isVoter := func(id uint64) bool { _, ok := voters[id]; return ok }
	isLearner := func(id uint64) bool { _, ok := s.Config.Learners[id]; return ok }
	var change raftpb.ConfChangeV2
	add := func(t raftpb.ConfChangeType, id uint64) {
		change.Changes = append(change.Changes, &raftpb.ConfChangeSingle{Type: t.Enum(), NodeId: &id})
	}
	ready := known
	for _, id := range want {
		switch p := s.Progress[id]; {
		case isVoter(id):
		case !isLearner(id):
			ready = false
			if g.up(id) {
				add(raftpb.ConfChangeAddLearnerNode, id)
			}
		case p.State != tracker.StateReplicate || g.journal.BytesAfter(p.Match) > almostThere && p.Match < g.storage.last:
			ready = false
		}
	}
	for id := range s.Config.Learners {
		if !slices.Contains(want, id) {
			add(raftpb.ConfChangeRemoveNode, id)
		}
	}
	if len(change.Changes) == 0 && ready {
		for _, id := range want {
			if !isVoter(id) {
				add(raftpb.ConfChangeAddNode, id)
			}
		}
		stays := slices.Contains(want, self)
		for id := range voters {
			if !slices.Contains(want, id) && stays {
				add(raftpb.ConfChangeRemoveNode, id)
			}
		}
		if len(change.Changes) == 0 && !stays {
			g.handOver(want, "its replica moves away")
			return
		}
	}
	if len(change.Changes) == 0 {
		return
	}
	g.members.idle = 0
	if err := g.node.ProposeConfChange(&change); err == nil {
		g.members.changing = g.storage.last + 1
	}
}

// handOver gives the leadership to the first of the nodes that is a voter in
// step.
func (g *Group) handOver(to []uint64, reason string) bool {
	s := g.node.Status()
	if s.RaftState != raft.StateLeader || s.LeadTransferee != raft.None {
		return false
	}
	for _, id := range to {
		p, ok := s.Progress[id]
		if _, votes := s.Config.Voters[0][id]; !ok || !votes || id == g.member || !g.up(id) || p.State != tracker.StateReplicate || g.journal.BytesAfter(p.Match) > almostThere && p.Match < g.storage.last {
			continue
		}
		g.sched.network.Send(NodeOf(id), link.Packet{Kind: link.HandOverPacket, Key: g.options.Key, Epoch: g.options.Epoch, Message: &raftpb.Message{Context: []byte(reason)}})
		g.node.TransferLeader(id)
		g.members.handingOver = true
		g.sched.keepAwake(g)
		return true
	}
	return false
}

// HandOver gives the leadership to the first of the nodes that can take it,
// in the order given. It reports whether there is one; the change itself comes
// a moment later.
func (g *Group) HandOver(ctx context.Context, to []uint64, reason string) (bool, error) {
	began := false
	err := g.Do(ctx, func(*journal.Journal) error {
		var ids []uint64
		for _, node := range to {
			for _, id := range g.shown.Load().Voters {
				if NodeOf(id) == node {
					ids = append(ids, id)
				}
			}
		}
		began = g.leading && g.handOver(ids, reason)
		return nil
	})
	return began, err
}

func (g *Group) changeMembers(e *raftpb.Entry) {
	change := &raftpb.ConfChangeV2{}
	if err := proto.Unmarshal(e.GetData(), change); err != nil {
		slog.Error("a change of members cannot be read", "partition", g.options.Key.String(), "error", err)
		return
	}
	if string(change.GetContext()) == forced {
		g.forceMembers(change.GetChanges()[0].GetNodeId())
	} else {
		g.storage.members = g.node.ApplyConfChange(change)
	}
	g.showMembers()
}
