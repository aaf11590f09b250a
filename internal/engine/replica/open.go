package replica

import (
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"

	"go.etcd.io/raft/v3"
	"go.etcd.io/raft/v3/raftpb"

	"steadyferry/internal/core/journal"
)

func openGroup(s *Scheduler, o Options, m Machine) (*Group, error) {
	dir := s.store.Path(o.Key.String())
	o.Journal.Origin = func(index uint64) (journal.Place, bool) {
		c, err := readCheckpoint(dir, segmentCheckpoint(index))
		if err != nil || c.index != index-1 {
			return journal.Place{}, false
		}
		return journal.Place{Term: c.term, Offset: c.end, Time: c.time}, true
	}
	j, err := s.store.Open(o.Key.String(), o.Journal)
	if err != nil {
		return nil, err
	}
	for _, text := range j.Mended() {
		slog.Warn("a partition's log was damaged on disk", "partition", o.Key.String(), "damage", text)
	}
	if n := j.TornBytes(); n > 0 {
		slog.Info("cut off an unfinished append", "partition", o.Key.String(), "bytes", n)
	}
	g := &Group{options: o, sched: s, journal: j, machine: m, watchers: map[chan struct{}]struct{}{}, done: make(chan struct{})}
	if g.member, err = memberID(j.Dir(), o.Node); err != nil {
		return nil, err
	}
	g.storage = &storage{journal: j, members: &raftpb.ConfState{Voters: o.Voters}, snapshot: g.snapshot}
	if err := g.load(); err != nil {
		return nil, fmt.Errorf("partition %s: %w", o.Key, err)
	}
	g.opened = j.Bounds().LastIdx
	g.node, err = raft.NewRawNode(&raft.Config{
		ID: g.member, ElectionTick: electionTicks, HeartbeatTick: heartbeatTicks, Storage: g.storage, Applied: g.applied,
		MaxSizePerMsg: 1 << 20, MaxCommittedSizePerReady: 16 << 20, MaxInflightMsgs: 256, MaxInflightBytes: 8 << 20,
		MaxUncommittedEntriesSize: 256 << 20, CheckQuorum: true, PreVote: true,
		DisableProposalForwarding: true, Logger: raftLog{},
	})
	if err != nil {
		return nil, err
	}
	g.showMembers()
	if v := g.storage.members.GetVoters(); len(v) == 1 && v[0] == g.member {
		if err := g.node.Campaign(); err != nil {
			return nil, err
		}
	}
	return g, nil
}

// load finds where the replica goes on: at its checkpoint, at the start of
// its log, or anew behind a log that the others have dropped.
func (g *Group) load() error {
	dir := g.journal.Dir()
	if restart, err := readCheckpoint(dir, restartName); err == nil {
		if err := g.beginAt(restart); err != nil {
			return err
		}
	}
	saved, err := readCheckpoint(dir, checkpointName)
	if err := g.lookForTheEnd(saved); err != nil {
		return err
	}
	b := g.journal.Bounds()
	if g.options.Epoch > 0 && !g.options.Survivor && (err != nil || saved.epoch < g.options.Epoch) {
		// The partition was recovered without this replica: what it holds
		// beyond is no longer part of the partition.
		if b.LastIdx > 0 {
			slog.Warn("the partition was recovered by force without this replica; it begins anew", "partition", g.options.Key.String())
		}
		if saved, err = g.anew(); err != nil {
			return err
		}
		b = g.journal.Bounds()
	}
	if g.options.Survivor {
		if err := g.survive(); err != nil {
			return err
		}
		b = g.journal.Bounds()
	}
	if err != nil || saved.index > b.LastIdx || saved.index+1 < b.FirstIdx {
		switch saved = g.savedBefore(slices.Backward(g.bases())); {
		case saved == nil && b.FirstIdx > 1 && len(g.storage.members.GetVoters()) > 1:
			slog.Warn("no saved state of a replica can be read, and its log does not begin at its beginning; it begins anew with what the others have", "partition", g.options.Key.String())
			if saved, err = g.anew(); err != nil {
				return err
			}
			b = g.journal.Bounds()
		case saved == nil:
			saved = &checkpoint{index: b.FirstIdx - 1, term: b.FirstTerm, end: b.First, members: g.storage.members}
		}
		if b.LastIdx > saved.index && err != nil && !errors.Is(err, os.ErrNotExist) {
			slog.Warn("the saved state is missing or broken; reading the log again", "partition", g.options.Key.String(), "bytes", b.Bytes)
		}
	}
	if err := g.machine.Load(saved.state); err != nil {
		return err
	}
	g.goOnAt(saved)
	g.end.Store(max(saved.end, b.First))
	g.savedAt = saved.index
	if err != nil {
		g.savedAt = 0 // so that the epoch is noted at the next save
	}
	return nil
}

// anew gives up what the replica has: it is another member from now on, with nothing.
func (g *Group) anew() (*checkpoint, error) {
	dir := g.journal.Dir()
	err := nextGeneration(dir)
	if err == nil {
		g.member, err = memberID(dir, g.options.Node)
	}
	saved := &checkpoint{members: g.storage.members, epoch: g.options.Epoch}
	if err == nil {
		err = g.journal.Restart(1, 0, 0, 0)
	}
	if err == nil {
		err = writeCheckpoint(dir, checkpointName, saved, true)
	}
	return saved, err
}

func (g *Group) goOnAt(c *checkpoint) {
	g.applied, g.appliedIn, g.appliedTo, g.appliedAt = c.index, c.term, c.end, c.time
	g.storage.applied, g.storage.members = c.index, c.members
	g.committed.Store(c.index)
	g.end.Store(c.end)
}
