package queues

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
)

// TickEvery is how often leaders look whether time has changed something, and
// so about how late a lease runs out.
const TickEvery = 20 * time.Millisecond

// Tick lets time pass in the queues that this node leads, and brings
// their settings into their logs.
func (qs *Queues) Tick(ctx context.Context) {
	for _, t := range qs.parts.OfKind(catalog.KindQueue) {
		want := t.Record().Queue
		for _, p := range t.Partitions() {
			m, g := machineOf(p), p.Replica()
			if m == nil || g == nil || g.Refusal() != nil {
				continue
			}
			var have queue.Settings
			m.look(func(q *queue.Queue) { have = q.Settings() })
			c := &queue.Command{Op: queue.OpTick}
			if have != want {
				c = &queue.Command{Op: queue.OpConfigure, Settings: &want}
			} else if !m.dueAt(g.Time()) {
				continue
			}
			if m.ticking.CompareAndSwap(false, true) {
				qs.parts.Go(func() {
					defer m.ticking.Store(false)
					qs.propose(ctx, p, c)
				})
			}
		}
	}
}

func (qs *Queues) propose(ctx context.Context, p *part.Partition, c *queue.Command) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	if _, err := qs.command(ctx, p, c); err != nil && !errors.As(err, new(*peer.NotDone)) && ctx.Err() == nil {
		slog.Warn("a queue could not go on with the time", "partition", p.Address(), "error", err)
	}
}
