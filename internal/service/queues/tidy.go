package queues

import (
	"context"
	"log/slog"
	"slices"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/replica"
)

// Bounds of what is written again at a time.
const (
	carryMessages = 500
	carryBytes    = 1 << 20
	carryMost     = 50_000 // messages in one round
)

// largeState is from how many bytes on all that is kept is not looked at in
// every round, but when the log has grown by twice as much.
const largeState = 4 << 20

// maxQueueSegment bounds a segment of a queue whose state is large.
const maxQueueSegment = 1 << 30

// tidyQueue lets the oldest segments go as soon as nothing in them is needed.
// The leader carries messages out of the oldest one when that frees at least
// twice of what is written again: so a few old messages do not keep what lies
// behind them, and many dead letters are not copied about.
func (qs *Queues) tidyQueue(ctx context.Context, p *part.Partition, g *replica.Group) {
	ctx, cancel := context.WithTimeout(ctx, part.RetainTime)
	defer cancel()
	m := machineOf(p)
	j := g.Journal()
	// The state is saved with every segment: a large one must not be written
	// more often than the log itself.
	o := retain.Segments()
	o.SegmentBytes = min(max(o.SegmentBytes, 8*g.StateSize()), maxQueueSegment)
	j.SetOptions(o)
	infos := j.SegmentInfos()
	if m == nil || len(infos) < 2 {
		return
	}
	// Looking at all that is kept takes its time: only after the log has grown.
	var size int64
	for _, info := range infos {
		size += info.Bytes
	}
	if size-m.tidied < 2*g.StateSize() && size >= m.tidied && g.StateSize() > largeState {
		return
	}
	m.tidied = size
	starts, bases := make([]int64, len(infos)), make([]uint64, len(infos))
	for i := range infos {
		starts[i], bases[i] = j.SegmentStart(i), j.BaseOf(i)
	}
	var kept []queue.Kept
	var counts []int
	m.look(func(q *queue.Queue) { kept, counts = q.KeptIn(starts, bases, carryMost) })
	drop := 0
	for drop < len(infos)-1 && counts[drop] == 0 && !kept[drop].Waiting {
		drop++
	}
	if drop > 0 {
		if err := g.Drop(ctx, drop); err != nil && ctx.Err() == nil {
			slog.Warn("settled segments of a queue could not be dropped", "partition", p.Address(), "error", err)
		}
		return
	}
	var live, garbage int64
	for i := 0; i < len(infos)-1 && !kept[i].Waiting; i++ {
		perMessage := infos[i].Bytes / max(starts[i+1]-starts[i], 1)
		alive := min(infos[i].Bytes, perMessage*int64(counts[i]))
		if i == 0 {
			live = alive
		}
		garbage += infos[i].Bytes - alive
	}
	if qs.parts.Leads(p) && garbage > 0 && garbage >= 2*live && m.carrying.CompareAndSwap(false, true) {
		qs.parts.Go(func() {
			defer m.carrying.Store(false)
			if err := qs.carry(p, m, g, kept[0]); err != nil {
				slog.Debug("old messages of a queue are not written again yet", "partition", p.Address(), "error", err)
			}
		})
	}
}

// carry writes messages, and letters that routes are to copy, again at the end of the log.
func (qs *Queues) carry(p *part.Partition, m *queueMachine, g *replica.Group, kept queue.Kept) error {
	ctx, cancel := context.WithTimeout(context.Background(), publishCarry)
	defer cancel()
	slices.Sort(kept.Offsets) // so that each batch is read once
	for some := range slices.Chunk(kept.Offsets, carryMessages) {
		again, err := m.again(g, some)
		if err != nil {
			return err
		}
		if err := qs.writeAgain(ctx, p, queue.OpCarry, again); err != nil {
			return err
		}
	}
	for some := range slices.Chunk(kept.Letters, carryMessages) {
		again, err := m.lettersAgain(g, some)
		if err != nil {
			return err
		}
		if err := qs.writeAgain(ctx, p, queue.OpCarryLetters, again); err != nil {
			return err
		}
	}
	return nil
}

// writeAgain proposes what is written again, in commands of bounded size.
func (qs *Queues) writeAgain(ctx context.Context, p *part.Partition, op queue.Op, again []queue.Carried) error {
	for len(again) > 0 {
		count, size := 0, 0
		for count < len(again) && size < carryBytes {
			size += again[count].Size()
			count++
		}
		if _, err := qs.command(ctx, p, &queue.Command{Op: op, Carried: again[:count]}); err != nil {
			return err
		}
		again = again[count:]
	}
	return nil
}

// publishCarry bounds one round of writing again.
const publishCarry = 4 * part.RetainTime

// again gathers the bytes of messages, given in rising order, that are still
// kept.
func (m *queueMachine) again(g *replica.Group, offsets []int64) ([]queue.Carried, error) {
	var infos []queue.Info
	m.look(func(q *queue.Queue) {
		for _, offset := range offsets {
			if info, _ := q.Look(offset); info.State != 0 {
				infos = append(infos, info)
			}
		}
	})
	// The contents first, those of a batch together; then the edited ones.
	places := make([]bytesOf, 0, len(infos))
	for _, info := range infos {
		places = append(places, bytesOf{offset: info.Offset, home: info.Home})
	}
	for _, info := range infos {
		if info.Edited > 0 {
			places = append(places, bytesOf{info.Offset, info.Home, info.Edited})
		}
	}
	messages, err := m.read(g.Journal(), g.Committed(), places)
	if err != nil {
		return nil, err
	}
	edited := messages[len(infos):]
	var out []queue.Carried
	for i, info := range infos {
		var mended *message.Stored
		if info.Edited > 0 {
			mended, edited = edited[0], edited[1:]
		}
		if messages[i] == nil || info.Edited > 0 && mended == nil {
			continue
		}
		one := queue.Carried{Offset: info.Offset, Content: Pack(messages[i])}
		if mended != nil {
			one.Edited = Pack(mended)
		}
		for _, e := range info.History {
			if e.Detail.Index > 0 {
				one.Details = append(one.Details, []byte(m.detail(g.Journal(), e.Detail, messages[i])))
			}
		}
		out = append(out, one)
	}
	return out, nil
}
