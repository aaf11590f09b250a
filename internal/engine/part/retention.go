package part

import (
	"context"
	"log/slog"
	"time"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/engine/replica"
)

// Sample notes every partition's counters, for the rates of the last hour.
func (reg *Registry) Sample(now time.Time) {
	for _, t := range reg.Channels() {
		for _, p := range t.Partitions() {
			p.history.Sample(now, p.counters.Read())
		}
	}
}

// Retain drops what retention takes, and closes files that nobody reads.
func (reg *Registry) Retain(ctx context.Context, now time.Time) {
	for _, t := range reg.Channels() {
		for _, p := range t.Partitions() {
			if g := p.Replica(); g != nil && t.kind.Tidy != nil {
				t.kind.Tidy(ctx, p, g)
			} else if g != nil {
				reg.retainPartition(ctx, p, g, t.Retention(), now.UnixMicro())
			}
		}
	}
	reg.store.CloseIdle(now.Add(-time.Minute))
}

// RetainTime bounds how long retention waits for one partition: a group whose
// disk is full must not hold up the others.
const RetainTime = 5 * time.Second

func (reg *Registry) retainPartition(ctx context.Context, p *Partition, g *replica.Group, retention topic.Retention, at int64) {
	ctx, cancel := context.WithTimeout(ctx, RetainTime)
	defer cancel()
	infos := g.Journal().SegmentInfos()
	if retention.ActiveIsOld(infos, at) {
		if err := g.Do(ctx, (*journal.Journal).Roll); err != nil {
			return
		}
		infos = g.Journal().SegmentInfos()
	}
	drop := retention.Drop(infos, at)
	upTo, held := reg.readers.HeldBy(p)
	if m := p.base(); m != nil {
		if low, needed := m.routes.Needs(); needed && (!held || low < upTo) {
			upTo, held = low, true
		}
	}
	if held {
		drop = topic.HoldBack(infos, drop, g.Journal().SegmentStart, upTo, p.Channel.HoldBytes())
	}
	if drop > 0 {
		if err := g.Drop(ctx, drop); err != nil && ctx.Err() == nil {
			slog.Warn("retention could not drop old segments", "partition", p.Address(), "error", err)
		}
	}
}
