package node

import (
	"context"
	"log/slog"
	"time"

	"golang.org/x/sys/unix"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/engine/replica"
)

// sample notes every partition's counters, for the rates of the last hour.
func (n *Node) sample(now time.Time) {
	for _, t := range n.Topics() {
		for _, p := range t.Partitions() {
			p.history.Sample(now, p.counters.Read())
		}
	}
}

// checkDisk closes and opens publishing by the room that the disk has left.
func (n *Node) checkDisk() {
	d, err := n.Disk()
	if err != nil {
		slog.Warn("could not ask the disk for its free bytes", "error", err)
		return
	}
	full := d.Free < d.Reserve
	if was := n.diskFull.Swap(full); full && !was {
		slog.Error("the disk is nearly full: publishing is refused, reading goes on", "free", d.Free, "reserve", d.Reserve)
	} else if was && !full {
		slog.Info("the disk has room again: publishing goes on", "free", d.Free)
	}
}

// diskIsFull reports whether publishing is refused for the want of room.
func (n *Node) diskIsFull() bool { return n.diskFull.Load() }

// Disk is the room on the disk with the data directory, in bytes.
type Disk struct {
	Total   int64 `json:"total"`
	Free    int64 `json:"free"`
	Reserve int64 `json:"reserve"` // publishing is refused below it
	Full    bool  `json:"full"`
}

// Disk asks how much room there is.
func (n *Node) Disk() (Disk, error) {
	var fs unix.Statfs_t
	if err := unix.Statfs(n.dir, &fs); err != nil {
		return Disk{}, err
	}
	total := int64(fs.Blocks) * fs.Bsize
	return Disk{Total: total, Free: int64(fs.Bavail) * fs.Bsize, Reserve: min(n.reserve, total/20), Full: n.diskFull.Load()}, nil
}

// retain drops what retention takes, and closes files that nobody reads.
func (n *Node) retain(ctx context.Context, now time.Time) {
	for _, t := range n.Topics() {
		for _, p := range t.Partitions() {
			if g := p.Replica(); g != nil && t.kind.Tidy != nil {
				t.kind.Tidy(ctx, p, g)
			} else if g != nil {
				n.retainPartition(ctx, p, g, t.retention(), now.UnixMicro())
			}
		}
	}
	n.store.CloseIdle(now.Add(-time.Minute))
}

// retainTime bounds how long retention waits for one partition: a group whose
// disk is full must not hold up the others.
const retainTime = 5 * time.Second

func (n *Node) retainPartition(ctx context.Context, p *Partition, g *replica.Group, retention topic.Retention, at int64) {
	ctx, cancel := context.WithTimeout(ctx, retainTime)
	defer cancel()
	infos := g.Journal().SegmentInfos()
	if retention.ActiveIsOld(infos, at) {
		if err := g.Do(ctx, (*journal.Journal).Roll); err != nil {
			return
		}
		infos = g.Journal().SegmentInfos()
	}
	drop := retention.Drop(infos, at)
	if upTo, held := n.holdBack(p); held {
		drop = topic.HoldBack(infos, drop, g.Journal().SegmentStart, upTo, p.topic.Channel().HoldBytes)
	}
	if drop > 0 {
		if err := g.Drop(ctx, drop); err != nil && ctx.Err() == nil {
			slog.Warn("retention could not drop old segments", "partition", p.Address(), "error", err)
		}
	}
}

// purge deletes removed channels whose way back has ended, the record first:
// one that is brought back in the same moment keeps its logs.
func (n *Node) purge(ctx context.Context, now time.Time) {
	for _, ch := range n.catalog.View().Removed {
		if now.Sub(ch.RemovedAt.Time) < n.keepRemoved {
			continue
		}
		if err := n.catalog.Forget(ctx, ch.ID, now.Add(-n.keepRemoved)); err != nil {
			slog.Warn("could not delete a removed channel", "channel", ch.Address(), "error", err)
		}
	}
	n.setAside(ctx)
	n.dropAside(now)
}
