package groups

import (
	"context"
	"maps"
	"time"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/message"
	"steadyferry/internal/engine/link"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/queues"
)

// next hands a member messages of its share, those behind the last answer that
// it has: what went with an answer that was lost is handed out again.
func (c *coordinator) next(ctx context.Context, t *part.Channel, ask *groupAsk) (*Given, error) {
	if err := c.hear(ask.Member); err != nil {
		return nil, err
	}
	if ask.CommitUpTo {
		if err := c.commitUpTo(ctx, t, ask.Member, ask.UpTo); err != nil {
			return nil, err
		}
	}
	// What it was told to give up in the answer before, it has by now.
	holds := with(c, func(d *group.Desk) []int { return d.Keeps(ask.Member) })
	if err := c.giveUp(ctx, ask.Member, holds); err != nil {
		return nil, err
	}
	deadline := time.Now().Add(ask.Wait)
	for {
		changed := c.changed.Wait()
		m, _, err := c.standing(ask.Member)
		if err != nil {
			return nil, err
		}
		out := &Given{Membership: m, Messages: []*message.Stored{}, UpTo: group.UpTo{}}
		maps.Copy(out.UpTo, ask.UpTo)
		if !m.Paused {
			if err := c.read(ctx, t, m, ask.Most, out); err != nil {
				return nil, err
			}
		}
		if len(out.Messages) > 0 || len(out.Gone) > 0 || len(m.Leaving) > 0 || !time.Now().Before(deadline) || ctx.Err() != nil {
			c.mu.Lock()
			c.desk.Told(ask.Member, m.Leaving, time.Now())
			c.mu.Unlock()
			return out, nil
		}
		if err := c.hear(ask.Member); err != nil {
			return nil, err
		}
		c.await(ctx, t, m, ask.UpTo, changed, time.Until(deadline))
	}
}

// pollHears is how often a member that waits in a next shows that it lives.
const pollHears = time.Second

// await waits until a member's partitions have something new, its share
// changes, or it is time to show that it lives.
func (c *coordinator) await(ctx context.Context, t *part.Channel, m *form.Membership, upTo group.UpTo, changed <-chan struct{}, most time.Duration) {
	ctx, cancel := context.WithTimeout(ctx, min(most, pollHears))
	defer cancel()
	signal := make(chan struct{}, 1)
	tell := func() {
		select {
		case signal <- struct{}{}:
		default:
		}
	}
	for _, h := range m.Partitions {
		if m.Paused {
			break
		}
		p, err := t.Partition(h.Partition)
		if err != nil {
			continue
		}
		next := upTo.From(h.Partition, h.Round, h.Offset)
		l, err := logs.Open(ctx, c.gs.parts, p, false)
		if err != nil {
			go func() { clock.Wait(ctx, queues.AskAgain); tell() }() // without a leader now
			continue
		}
		if here := l.Here(); here != nil {
			defer here.Watch(signal)()
			if here.End() > next {
				tell()
			}
			continue
		}
		go func() {
			if l.Wait(ctx, next, pollHears) != nil {
				clock.Wait(ctx, queues.AskAgain)
			}
			tell()
		}()
	}
	defer link.Pause(ctx)()
	select {
	case <-signal:
	case <-changed:
	case <-ctx.Done():
	}
}

// read fills a next, in turn from each partition that has something.
func (c *coordinator) read(ctx context.Context, t *part.Channel, m *form.Membership, most int, out *Given) error {
	bytes := 0
	for _, h := range m.Partitions {
		from := out.UpTo.From(h.Partition, h.Round, h.Offset)
		room := most - len(out.Messages)
		if room <= 0 || bytes >= nextBytes {
			break
		}
		p, err := t.Partition(h.Partition)
		if err != nil {
			continue
		}
		if g := p.Replica(); g != nil && g.Refusal() == nil && g.End() <= from {
			continue // the usual case: nothing new
		}
		l, err := logs.Open(ctx, c.gs.parts, p, false)
		if err != nil {
			continue // without a leader now; the other partitions go on
		}
		start := from
		if first := l.First(); start < first {
			out.Gone = append(out.Gone, form.Gone{Partition: h.Partition, From: start, To: first})
			start = first
		}
		if l.End() <= start {
			continue
		}
		chunk, err := l.Reader(start).Read(make([]byte, 256<<10))
		if err != nil {
			return p.ReadProblem(err)
		}
		next := start
		count, before := 0, bytes
		_, err = logs.EachMessage(ctx, chunk, h.Partition, start, c.gs.parts.RoomToDecode, func(m *message.Stored) (bool, error) {
			out.Messages = append(out.Messages, logs.Keep(m))
			next = m.Offset + 1
			bytes += len(m.Body)
			count++
			return count < room && bytes < nextBytes, nil
		})
		if err != nil {
			return err
		}
		p.CountOut(count, bytes-before)
		out.UpTo[h.Partition] = group.Reached{Since: h.Round, Offset: next}
		c.mu.Lock()
		c.desk.Sent(m.MemberID, h.Partition, h.Round, next)
		c.mu.Unlock()
	}
	return nil
}

// commitUpTo commits what a member has, of what it still holds.
func (c *coordinator) commitUpTo(ctx context.Context, t *part.Channel, id string, upTo group.UpTo) error {
	c.mu.Lock()
	round, offsets := c.desk.Has(id, upTo)
	c.mu.Unlock()
	if len(offsets) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, commitTime)
	defer cancel()
	return c.commit(ctx, t, id, round, offsets)
}
