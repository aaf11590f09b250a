package replays

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"sync"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/queues"
)

// returnStep returns dead letters to their own queue: a change of state, which
// done twice is done once.
func (r *run) returnStep(ctx context.Context, step *step) (int, error) {
	p, err := r.ends.source.Partition(step.Partition)
	if err != nil {
		return 0, err
	}
	offsets := step.Offsets
	if len(r.Spec.Edits) > 0 {
		items, err := r.items(ctx, p, step.Offsets)
		if err != nil {
			return 0, err
		}
		if n := len(items); n < len(step.Offsets) {
			step.Next, step.Offsets = step.Offsets[n], step.Offsets[:n]
		}
		offsets = nil
		editing := r.ends.editor.Begin(ctx)
		returned := 0 // before the node that ran it stopped
		var mu sync.Mutex
		var group errgroup.Group
		group.SetLimit(32)
		for i := range items {
			item := &items[i]
			if item.Info.State != queue.Dead && hasEvent(item, queue.Returned, r.Name()) {
				returned++
				continue
			}
			if item.Info.State != queue.Dead || item.Message == nil {
				continue
			}
			if hasEvent(item, queue.Edited, r.Name()) {
				offsets = append(offsets, item.Info.Offset)
				continue
			}
			after, err := editing.Apply(item.Message, item.Facts())
			if ctx.Err() != nil {
				return 0, ctx.Err()
			}
			if err != nil || after.Check(r.ends.target.Record().MaxBody) != nil {
				continue // skipped: it stays a dead letter
			}
			group.Go(func() error {
				_, err := r.rs.queues.ActAt(ctx, p, &queue.Command{Op: queue.OpEdit, Who: r.Job.Who, Reason: r.Name(), Offsets: []int64{item.Info.Offset}, Content: queues.Pack(after)})
				mu.Lock()
				defer mu.Unlock()
				offsets = append(offsets, item.Info.Offset)
				return err
			})
		}
		if err := group.Wait(); err != nil {
			return 0, err
		}
		slices.Sort(offsets)
		_, err = r.rs.queues.ActAt(ctx, p, &queue.Command{Op: queue.OpReturn, Who: r.Job.Who, Reason: r.Name(), Offsets: offsets})
		return len(offsets) + returned, err
	}
	_, err = r.rs.queues.ActAt(ctx, p, &queue.Command{Op: queue.OpReturn, Who: r.Job.Who, Reason: r.Name(), Offsets: offsets})
	return len(offsets), err
}

// hasEvent reports whether a replay has done something to a message already,
// before the node that ran it stopped.
func hasEvent(item *queues.Item, kind queue.EventKind, name string) bool {
	return slices.ContainsFunc(item.Info.History, func(e queue.Event) bool { return e.Kind == kind && e.Reason == name })
}

// items reads messages of a queue by their offsets, as many as a step sends.
func (r *run) items(ctx context.Context, p *part.Partition, offsets []int64) (items []queues.Item, err error) {
	bytes := 0
	for len(offsets) > 0 && bytes <= stepBytes {
		a, err := r.rs.queues.AskQueue(ctx, p, &queues.QueueAsk{Kind: "items", Offsets: offsets[:min(len(offsets), 500)], Limit: 500, Whole: true})
		if err != nil {
			return nil, err
		}
		if len(a.Items) == 0 {
			return nil, problem.New(problem.Unavailable, "%s: a step of the replay cannot be read", p.Address())
		}
		items = append(items, a.Items...) // it may end early, for the size of the bodies
		offsets = offsets[len(a.Items):]
		for i := range a.Items {
			bytes += a.Items[i].Size()
		}
	}
	return items, nil
}

// slot is a message of a step.
type slot struct {
	offset int64
	m      *message.Stored
	facts  expr.Facts
}

// slots reads the messages of a step. Of a step that is too large at once it
// reads the first ones, and the step ends behind them.
func (r *run) slots(ctx context.Context, p *part.Partition, step *step) (slots []slot, err error) {
	if r.ends.dead {
		items, err := r.items(ctx, p, step.Offsets)
		if err != nil {
			return nil, err
		}
		if n := len(items); n < len(step.Offsets) {
			step.Next, step.Offsets = step.Offsets[n], step.Offsets[:n]
		}
		for i := range items {
			slots = append(slots, slot{items[i].Info.Offset, items[i].Message, items[i].Facts()})
		}
		return slots, nil
	}
	wanted := map[int64]bool{}
	for _, o := range step.Offsets {
		wanted[o] = true
	}
	err = r.read(ctx, step.Partition, step.Offsets[0], step.Offsets[len(step.Offsets)-1]+1, func(m *message.Stored) bool {
		if wanted[m.Offset] {
			slots = append(slots, slot{m.Offset, logs.Keep(m), expr.Facts{}})
		}
		return true
	})
	return slots, err
}

// compose edits the messages of a step and says to which partitions they go:
// where that is recorded already it stays so. What cannot be edited is skipped.
func (r *run) compose(ctx context.Context, p *part.Partition, step *step) (map[int][]*message.Message, error) {
	slots, err := r.slots(ctx, p, step)
	if err != nil {
		return nil, err
	}
	target := r.ends.target
	count := len(target.Partitions())
	recorded := map[int64]int{}
	for to, offsets := range step.To {
		for _, o := range offsets {
			recorded[o] = to
		}
	}
	by := map[int][]*message.Message{}
	places := map[int][]int64{}
	editing := r.ends.editor.Begin(ctx)
	for _, s := range slots {
		if s.m == nil {
			continue
		}
		out, err := editing.Apply(s.m, s.facts)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			continue
		}
		m := out.Message
		m.Terms = nil
		m.Headers = append(withoutReplay(m.Headers), message.Header{Name: form.HeaderReplay, Value: strconv.FormatInt(r.Job.ID, 10)},
			message.Header{Name: form.HeaderReplayFrom, Value: r.ends.source.Address().At(step.Partition, s.offset).String()})
		if m.Check(target.Record().MaxBody) != nil {
			continue
		}
		to := step.Partition % count
		if m.Key != "" {
			to = message.PartitionOf(m.Key, count)
		}
		if step.To != nil {
			var ok bool
			if to, ok = recorded[s.offset]; !ok {
				continue // it was skipped
			}
		}
		by[to] = append(by[to], &m)
		places[to] = append(places[to], s.offset)
	}
	if step.To == nil {
		step.To = places
	}
	return by, nil
}

// sendStep publishes the messages of the step to the target: what goes where is
// recorded first, and each batch has a number of its own, by which the target
// knows it when it comes again.
func (r *run) sendStep(ctx context.Context, step *step) (int, error) {
	p, err := r.ends.source.Partition(step.Partition)
	if err != nil {
		return 0, err
	}
	fresh := step.To == nil
	by, err := r.compose(ctx, p, step)
	if err != nil {
		return 0, err
	}
	if fresh {
		if err := r.Save(ctx); err != nil {
			return 0, err
		}
	}
	var sent []int64
	for _, to := range slices.Sorted(maps.Keys(step.To)) {
		if len(by[to]) > 0 {
			if err := r.publish(ctx, step.Partition, to, by[to]); err != nil {
				return 0, err
			}
		}
		sent = append(sent, step.To[to]...)
	}
	for to := range step.To {
		r.Progress.Batches[batchName(step.Partition, to)]++
	}
	// What was skipped stays a dead letter.
	if r.ends.dead && !r.Spec.Keep && len(sent) > 0 {
		slices.Sort(sent)
		if _, err := r.rs.queues.ActAt(ctx, p, &queue.Command{Op: queue.OpSendOn, Who: r.Job.Who, Reason: fmt.Sprintf("%s to %s", r.Name(), r.Spec.To), Offsets: sent}); err != nil {
			return 0, err
		}
	}
	return len(sent), nil
}

func batchName(from, to int) string { return fmt.Sprintf("%d-%d", from, to) }

func withoutReplay(headers []message.Header) []message.Header {
	return slices.DeleteFunc(slices.Clone(headers), func(h message.Header) bool { return h.Name == form.HeaderReplay || h.Name == form.HeaderReplayFrom })
}

// replaySpace is the namespace of the publisher ids of replays.
var replaySpace = uuid.MustParse("6f1f7a5e-8d0b-5c43-9a55-3b0f5e6d2c11")

// publish keeps the messages in the target's log once: the same batch comes
// again with the same number.
func (r *run) publish(ctx context.Context, from, to int, messages []*message.Message) error {
	p, err := r.ends.target.Partition(to)
	if err != nil {
		return err
	}
	if err := r.rs.parts.Accepts(r.ends.target); err != nil {
		return err
	}
	id := uuid.NewSHA1(replaySpace, fmt.Appendf(nil, "%s/%d/%d", r.Job.UID, from, to))
	var b message.Builder
	for _, m := range messages {
		b.Add(m)
	}
	_, err = r.rs.parts.AppendBuilt(ctx, p, &b, &message.Publisher{ID: id, Sequence: uint64(r.Progress.Batches[batchName(from, to)] + 1), Origin: true})
	return err
}
