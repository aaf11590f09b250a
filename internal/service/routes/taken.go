package routes

import (
	"context"
	"errors"
	"time"

	"steadyferry/internal/core/queue"
)

// Bounds of what a route takes from a partition of a queue.
const (
	mostTaken   = 2000 // that are not sent yet
	takeAtOnce  = 500
	rescanEvery = 3 * time.Second // for messages that wait again
)

// takeMore has routes take messages that wait, as long as what they have taken goes on.
func (c *carrier) takeMore(ctx context.Context) {
	for _, w := range c.order {
		plan, next, gone := c.p.Plan(w.id)
		if plan == nil || gone || w.copies || w.taking || w.again.After(time.Now()) {
			continue
		}
		if w.group.Paused {
			w.waits = since(w.waits, waitsPaused, "the route is paused")
			continue
		}
		if next-plan.Floor.Offset >= mostTaken {
			continue
		}
		end := c.replica.End()
		if w.cursor >= end {
			if time.Since(w.rescan) < rescanEvery {
				continue
			}
			w.cursor = 0
		}
		if w.cursor == 0 {
			w.rescan = time.Now()
		}
		w.taking = true
		go w.takeSome(ctx, w.where, w.cursor, end)
	}
}

// takeSome takes the next messages that wait and fulfil the condition, of those up to
// an end.
func (w *walker) takeSome(ctx context.Context, where string, cursor, end int64) {
	offsets, next, err := w.c.rs.queues.Waiting(ctx, w.c.p, where, cursor, takeAtOnce)
	taken := 0
	if err == nil && len(offsets) > 0 {
		taken, err = w.c.rs.queues.ActAt(ctx, w.c.p, &queue.Command{Op: queue.OpTake, Who: "route", Route: w.id, Offsets: offsets})
	}
	w.c.answer(ctx, func() {
		w.taking = false
		if err != nil {
			w.hold("source-unreadable", err)
			return
		}
		if taken > 0 && w.waits.Reason == waitsPaused {
			w.goes()
		}
		if w.cursor = next; next < 0 {
			w.cursor = end
		}
	})
}

// readTaken decides some of what each route has taken.
func (c *carrier) readTaken(ctx context.Context) (busy bool) {
	for _, w := range c.order {
		if !w.wants() {
			continue
		}
		ask := c.rs.queues.Taken
		if w.copies {
			ask = c.rs.queues.Letters
		}
		items, err := ask(ctx, c.p, w.id, w.from, min(w.to, w.from+takeAtOnce))
		if err == nil && len(items) == 0 {
			err = errors.New("what it has taken is not there")
		}
		if err != nil {
			w.hold("source-unreadable", err)
			continue
		}
		decided := 0
		for i := range items {
			if items[i].Message == nil {
				w.hold("source-unreadable", errors.New("the bytes of "+c.p.Channel.Address().At(c.p.Number, items[i].Info.Offset).String()+" cannot be read"))
				break
			}
			w.take(w.from+int64(i), items[i].Message, items[i].Facts())
			decided++
		}
		w.walk.Passed(w.from + int64(decided))
		busy = busy || decided > 0
	}
	return busy
}
