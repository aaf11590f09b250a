package node

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"golang.org/x/sys/unix"

	"steadyferry/internal/catalog"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/rate"
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
	if err := unix.Statfs(n.config.Dir, &fs); err != nil {
		return Disk{}, err
	}
	total := int64(fs.Blocks) * fs.Bsize
	return Disk{Total: total, Free: int64(fs.Bavail) * fs.Bsize, Reserve: min(n.config.DiskReserve, total/20), Full: n.diskFull.Load()}, nil
}

// retain drops what retention takes, and closes files that nobody reads.
func (n *Node) retain(ctx context.Context, now time.Time) {
	for _, t := range n.Topics() {
		retention := t.retention()
		for _, p := range t.Partitions() {
			g := p.group.Load()
			infos := g.Journal().SegmentInfos()
			at := now.UnixMicro()
			if retention.ActiveIsOld(infos, at) {
				if err := g.Do(ctx, (*journal.Journal).Roll); err != nil {
					continue
				}
				infos = g.Journal().SegmentInfos()
			}
			if drop := retention.Drop(infos, at); drop > 0 {
				if err := g.Drop(ctx, drop); err != nil && ctx.Err() == nil {
					slog.Warn("retention could not drop old segments", "partition", p.Address(), "error", err)
				}
			}
		}
	}
	n.store.CloseIdle(now.Add(-time.Minute))
}

// purge deletes removed channels whose way back has ended.
func (n *Node) purge(ctx context.Context, now time.Time) {
	for _, ch := range n.catalog.View().Removed {
		if now.Sub(ch.RemovedAt.Time) < n.config.KeepRemoved {
			continue
		}
		if err := n.deleteLogs(ctx, ch); err != nil {
			slog.Warn("could not delete a removed channel", "channel", ch.Address(), "error", err)
		}
	}
}

func (n *Node) deleteLogs(ctx context.Context, ch *catalog.Channel) error {
	return errors.Join(n.store.RemoveTree(fmt.Sprint(ch.ID)), n.catalog.Forget(ctx, ch.ID))
}

// PartitionStatus is how a partition is now.
type PartitionStatus struct {
	Partition int        `json:"partition"`
	First     int64      `json:"first"`
	End       int64      `json:"end"`
	Bytes     int64      `json:"bytes"`
	Oldest    *time.Time `json:"oldest"` // no kept message is older; null when empty
	Newest    *time.Time `json:"newest"`
	Segments  int        `json:"segments"`
	State     string     `json:"state"`
	Rates     rate.Flow  `json:"rates"`
}

// States of a partition and a topic.
const (
	StateReady    = "ready"
	StatePaused   = "paused"
	StateStarting = "starting"
	StateDiskFull = "disk full"
	StateFailed   = "failed"
)

// rateSpan is over which time a rate "now" is taken.
const rateSpan = 5 * time.Second

// Status returns how the partition is now.
func (p *Partition) Status(now time.Time) PartitionStatus {
	g := p.group.Load()
	b := g.Journal().Bounds()
	s := PartitionStatus{Partition: p.Number, First: b.First, End: max(g.End(), b.First), Bytes: b.Bytes, Segments: b.Segments, State: StateReady,
		Rates: p.history.PerSecond(now, rateSpan)}
	if s.End > s.First {
		oldest, newest := time.UnixMicro(b.FirstTime).UTC(), time.UnixMicro(b.LastTime).UTC()
		s.Oldest, s.Newest = &oldest, &newest
	}
	if err := g.Refusal(); err != nil {
		s.State = StateStarting
		if g.Stalled() {
			s.State = StateDiskFull
		} else if g.Failed() {
			s.State = StateFailed
		}
	}
	return s
}

// TopicStatus is how a topic is now: the sums of its partitions.
type TopicStatus struct {
	Messages int64      `json:"messages"` // kept
	Bytes    int64      `json:"bytes"`    // on disk
	Oldest   *time.Time `json:"oldest"`
	Newest   *time.Time `json:"newest"`
	State    string     `json:"state"`
	Rates    rate.Flow  `json:"rates"`
}

// Status returns how the topic is now.
func (n *Node) Status(t *Topic, now time.Time) (TopicStatus, []PartitionStatus) {
	s := TopicStatus{State: StateReady}
	partitions := t.Partitions()
	each := make([]PartitionStatus, len(partitions))
	for i, p := range partitions {
		ps := p.Status(now)
		each[i] = ps
		s.Messages += ps.End - ps.First
		s.Bytes += ps.Bytes
		s.Rates = s.Rates.Add(ps.Rates)
		if ps.Oldest != nil && (s.Oldest == nil || ps.Oldest.Before(*s.Oldest)) {
			s.Oldest = ps.Oldest
		}
		if ps.Newest != nil && (s.Newest == nil || ps.Newest.After(*s.Newest)) {
			s.Newest = ps.Newest
		}
		if ps.State != StateReady {
			s.State = ps.State
		}
	}
	switch {
	case n.diskFull.Load():
		s.State = StateDiskFull
	case t.Channel().Paused && s.State == StateReady:
		s.State = StatePaused
	}
	return s, each
}

// Series returns the flow of a topic, or of one of its partitions, over the
// span before now, and the length of its steps.
func (t *Topic) Series(now time.Time, span time.Duration, partition int) ([]rate.Totals, time.Duration) {
	var sum []rate.Totals
	var step time.Duration
	for _, p := range t.Partitions() {
		if partition != AnyPartition && p.Number != partition {
			continue
		}
		series, s := p.history.Series(now, span)
		step = s
		if sum == nil {
			sum = series
			continue
		}
		for i := range sum {
			sum[i] = sum[i].Add(series[i])
		}
	}
	return sum, step
}

// Totals returns what went in and out of the topic since the node started.
func (p *Partition) Totals() rate.Totals { return p.counters.Read() }
