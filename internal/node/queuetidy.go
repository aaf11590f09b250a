package node

import (
	"context"
	"log/slog"
	"slices"

	"steadyferry/internal/core/queue"
	"steadyferry/internal/replica"
)

// Bounds of what is written again at a time.
const (
	carryMessages = 500
	carryBytes    = 1 << 20
	carryMost     = 50_000 // messages in one round
)

// tidyAfter is after how many more bytes of the log the kept messages of a
// large state are looked at again.
const tidyAfter = 16 << 20

// maxQueueSegment bounds a segment of a queue whose state is large.
const maxQueueSegment = 1 << 30

// tidyQueue lets the oldest segments go as soon as nothing in them is needed.
// The leader carries messages out of the oldest one when that frees at least
// twice of what is written again: so a few old messages do not keep what lies
// behind them, and many dead letters are not copied about.
func (n *Node) tidyQueue(ctx context.Context, p *Partition, g *replica.Group) {
	ctx, cancel := context.WithTimeout(ctx, retainTime)
	defer cancel()
	m := p.queue.Load()
	j := g.Journal()
	// The state is saved with every segment: a large one must not be written
	// more often than the log itself.
	o := queueRetain.Segments()
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
	if size-m.tidied < tidyAfter && size >= m.tidied && g.StateSize() > tidyAfter {
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
	if n.leads(p) && garbage > 0 && garbage >= 2*live && m.carrying.CompareAndSwap(false, true) {
		// In order, so that each batch is read once.
		offsets := kept[0].Offsets
		slices.Sort(offsets)
		n.wg.Go(func() {
			defer m.carrying.Store(false)
			if err := n.carry(p, m, g, offsets); err != nil {
				slog.Debug("old messages of a queue are not written again yet", "partition", p.Address(), "error", err)
			}
		})
	}
}

// carry writes messages again at the end of the log.
func (n *Node) carry(p *Partition, m *queueMachine, g *replica.Group, offsets []int64) error {
	ctx, cancel := context.WithTimeout(context.Background(), publishCarry)
	defer cancel()
	c := &queue.Command{Op: queue.OpCarry}
	size := 0
	send := func() error {
		if len(c.Carried) == 0 {
			return nil
		}
		_, err := n.command(ctx, p, c)
		c, size = &queue.Command{Op: queue.OpCarry}, 0
		return err
	}
	for _, offset := range offsets {
		one, err := m.again(g, offset)
		if err != nil {
			return err
		}
		if one == nil {
			continue
		}
		c.Carried = append(c.Carried, *one)
		size += len(one.Content) + len(one.Edited)
		for _, d := range one.Details {
			size += len(d)
		}
		if len(c.Carried) >= carryMessages || size >= carryBytes {
			if err := send(); err != nil {
				return err
			}
		}
	}
	return send()
}

// publishCarry bounds one round of writing again.
const publishCarry = 4 * retainTime

// again gathers the bytes of a message that is still kept.
func (m *queueMachine) again(g *replica.Group, offset int64) (*queue.Carried, error) {
	var info queue.Info
	m.look(func(q *queue.Queue) { info, _ = q.Look(offset) })
	if info.State == 0 {
		return nil, nil
	}
	j := g.Journal()
	places := []bytesOf{{offset: offset, home: info.Home}}
	if info.Edited > 0 {
		places = append(places, bytesOf{offset, info.Home, info.Edited})
	}
	messages, err := m.read(j, g.Committed(), places)
	if err != nil {
		return nil, err
	}
	if !allRead(messages) {
		return nil, nil
	}
	one := &queue.Carried{Offset: offset, Content: pack(messages[0])}
	if info.Edited > 0 {
		one.Edited = pack(messages[1])
	}
	for _, e := range info.History {
		if e.Detail.Index > 0 {
			one.Details = append(one.Details, []byte(m.detail(j, e.Detail, messages[0])))
		}
	}
	return one, nil
}
