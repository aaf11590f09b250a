package replica

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"go.etcd.io/raft/v3/raftpb"
	"google.golang.org/protobuf/proto"

	"steadyferry/internal/core/message"
)

// forced marks the change of members of a recovery by force.
const forced = "recovered by force"

// forceMembers leaves one member. The others cannot agree to it any more, so
// that both halves of the change are made at once; every replica that reads
// this record later does the same.
func (g *Group) forceMembers(survivor uint64) {
	if len(g.storage.members.GetVotersOutgoing()) > 0 {
		g.storage.members = g.node.ApplyConfChange(&raftpb.ConfChangeV2{})
	}
	m := g.storage.members
	change := &raftpb.ConfChangeV2{Transition: raftpb.ConfChangeTransitionJointExplicit.Enum(), Changes: []*raftpb.ConfChangeSingle{{Type: raftpb.ConfChangeAddNode.Enum(), NodeId: &survivor}}}
	for _, id := range slices.Concat(m.GetVoters(), m.GetLearners()) {
		if id != survivor {
			change.Changes = append(change.Changes, &raftpb.ConfChangeSingle{Type: raftpb.ConfChangeRemoveNode.Enum(), NodeId: &id})
		}
	}
	g.node.ApplyConfChange(change)
	g.storage.members = g.node.ApplyConfChange(&raftpb.ConfChangeV2{})
	if survivor == g.member {
		g.chore(func() { g.node.Campaign() })
	}
}

// survive makes this replica the only one: it takes all that its log holds for
// committed, and adds a record that leaves no other member. It is done once,
// before the replica runs.
func (g *Group) survive() error {
	dir, o := g.journal.Dir(), g.options
	if forcedHere(dir, o.Epoch) {
		return nil
	}
	state, b := g.journal.State(), g.journal.Bounds()
	data, err := proto.Marshal(&raftpb.ConfChangeV2{Context: []byte(forced), Changes: []*raftpb.ConfChangeSingle{{Type: raftpb.ConfChangeAddNode.Enum(), NodeId: &g.member}}})
	if err != nil {
		return err
	}
	term := max(state.Term, b.LastTerm) + 1
	if err := g.journal.Append([]message.Record{{Index: b.LastIdx + 1, Term: term, Kind: message.KindMembership, Data: data}}); err != nil {
		return err
	}
	if err := g.journal.SetVote(term, 0, b.LastIdx+1); err != nil {
		return err
	}
	if err := g.journal.Flush(); err != nil {
		return err
	}
	if err := os.Remove(filepath.Join(dir, lostEndName)); err != nil && !os.IsNotExist(err) {
		return err
	}
	g.lostEnd.Store(nil)
	if err := os.WriteFile(filepath.Join(dir, forcedName(o.Epoch)), nil, 0o600); err != nil {
		return err
	}
	return syncDir(dir)
}

// forcedName is the file that marks the replica from which a partition was
// recovered by force.
func forcedName(epoch uint64) string { return fmt.Sprintf("forced-%d", epoch) }

func forcedHere(dir string, epoch uint64) bool {
	_, err := os.Stat(filepath.Join(dir, forcedName(epoch)))
	return err == nil
}
