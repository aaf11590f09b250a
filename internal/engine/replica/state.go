package replica

import (
	"errors"
	"iter"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"go.etcd.io/raft/v3"
	"go.etcd.io/raft/v3/raftpb"
)

// members in the state that is saved are those of the last applied record.
func (g *Group) point() *checkpoint {
	return &checkpoint{index: g.applied, term: g.appliedIn, end: g.appliedTo, time: g.appliedAt, epoch: g.options.Epoch, members: g.storage.members, state: g.machine.Save()}
}

// save writes the state, so that the next start reads only the log behind it.
func (g *Group) save(durable bool) error {
	g.sinceSave = 0
	if g.applied == g.savedAt && !durable {
		return nil
	}
	point := g.point()
	g.stateSize.Store(int64(len(point.state)))
	err := writeCheckpoint(g.journal.Dir(), checkpointName, point, durable)
	if err == nil {
		g.savedAt = g.applied
	}
	return err
}

// checkpointSegment keeps the state before the segment that begins with the
// record base; all before it is applied, and nothing behind.
func (g *Group) checkpointSegment(base uint64) error {
	if base != g.applied+1 {
		return nil // from before the group was opened: it is there
	}
	return writeCheckpoint(g.journal.Dir(), segmentCheckpoint(base), g.point(), false)
}

// dropBefore lets go of the n oldest segments. The state before the first one
// that stays must be durable, since it is all that a replica that was left
// behind can begin with.
func (g *Group) dropBefore(base uint64, n int, kept bool) error {
	dir := g.journal.Dir()
	if kept {
		if err := syncFile(filepath.Join(dir, segmentCheckpoint(base))); err != nil {
			return err
		}
		if err := syncDir(dir); err != nil {
			return err
		}
	}
	if err := g.journal.Drop(n); err != nil {
		return err
	}
	old, _ := filepath.Glob(filepath.Join(dir, checkpointName+"-*"))
	for _, path := range old {
		if filepath.Base(path) < segmentCheckpoint(base) {
			os.Remove(path)
		}
	}
	return nil
}

// snapshot is the state before the first kept record, or before the next segment of which
// it can be read: a replica must not begin as if nothing had been.
func (g *Group) snapshot() (*raftpb.Snapshot, error) {
	c := &checkpoint{epoch: g.options.Epoch, members: g.storage.members}
	if g.journal.Bounds().FirstIdx > 1 {
		if c = g.savedBefore(slices.All(g.bases())); c == nil {
			slog.Warn("no state before a segment can be read; a replica that is behind waits until retention has left the damage behind", "partition", g.options.Key.String())
			return nil, raft.ErrSnapshotTemporarilyUnavailable
		}
	}
	return &raftpb.Snapshot{Data: c.encode(), Metadata: &raftpb.SnapshotMetadata{Index: &c.index, Term: &c.term, ConfState: c.members}}, nil
}

// bases are the indexes of the first records of the segments.
func (g *Group) bases() []uint64 {
	bases := make([]uint64, len(g.journal.SegmentInfos()))
	for i := range bases {
		bases[i] = g.journal.BaseOf(i)
	}
	return bases
}

// savedBefore returns the first state that can be read of those before segments, nil
// without one.
func (g *Group) savedBefore(bases iter.Seq2[int, uint64]) *checkpoint {
	for _, base := range bases {
		if c, err := readCheckpoint(g.journal.Dir(), segmentCheckpoint(base)); err == nil && c.index == base-1 {
			return c
		}
	}
	return nil
}

// install begins anew at the state of a snapshot.
func (g *Group) install(s *raftpb.Snapshot) error {
	c, err := decodeCheckpoint(s.GetData())
	if err != nil {
		return err
	}
	c.members, c.epoch = s.GetMetadata().GetConfState(), g.options.Epoch
	if err := writeCheckpoint(g.journal.Dir(), restartName, c, true); err != nil {
		return err
	}
	if err := g.beginAt(c); err != nil {
		return err
	}
	if err := g.machine.Load(c.state); err != nil {
		return err
	}
	slog.Info("a replica begins anew at the oldest kept message, which the others have moved on", "partition", g.options.Key.String(), "offset", c.end)
	g.storage.clear()
	g.storage.last = c.index
	g.goOnAt(c)
	g.savedAt = c.index
	g.notify()
	return nil
}

// beginAt empties the log and begins it behind a checkpoint. The file restart
// holds the checkpoint until it is done.
func (g *Group) beginAt(c *checkpoint) error {
	dir := g.journal.Dir()
	if err := g.journal.Restart(c.index+1, c.term, c.end, c.time); err != nil {
		return err
	}
	old, _ := filepath.Glob(filepath.Join(dir, checkpointName+"-*"))
	for _, path := range old {
		os.Remove(path)
	}
	for _, name := range []string{segmentCheckpoint(c.index + 1), checkpointName} {
		if err := writeCheckpoint(dir, name, c, true); err != nil {
			return err
		}
	}
	return os.Remove(filepath.Join(dir, restartName))
}

func isDiskFull(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
}
