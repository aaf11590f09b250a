package queues

import (
	"context"
	"fmt"
	"slices"
	"time"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/replica"
)

// Bounds of the search through the log for what happened to a message.
const (
	storyTime  = 2 * time.Second
	storyBytes = 256 << 20
)

// tell adds to an item what its partition does not keep in mind: by whom it was
// published, and, once it is done, how it ended. Both are read from the log, as
// far as that is kept.
func (m *queueMachine) tell(ctx context.Context, g *replica.Group, item *Item) {
	j := g.Journal()
	record, err := m.holding(j, g.Committed(), item.Info.Offset)
	if err != nil || record.Data == nil {
		return
	}
	if batch, err := record.Batch(); err == nil {
		item.Publisher = PublisherText(batch)
	}
	if item.Info.State != 0 || len(item.Info.History) > 0 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, storyTime)
	defer cancel()
	const page = 1 << 20
	end := g.Committed() + 1
	for at, read := record.Index+1, 0; at < end && read < storyBytes && ctx.Err() == nil; read += page {
		records, _, err := j.Records(at, end, page)
		if err != nil || len(records) == 0 {
			return
		}
		for _, r := range records {
			item.follow(r)
		}
		at = records[len(records)-1].Index + 1
	}
}

// PublisherText names the publisher of a batch, empty without one.
func PublisherText(b message.Batch) string {
	p := b.Publisher()
	if p == nil {
		return ""
	}
	return fmt.Sprintf("publisher %s, sequence %d", p.ID, p.Sequence)
}

// follow adds what a command of the log did to the message.
func (i *Item) follow(r message.Record) {
	if r.Kind != message.KindCommand {
		return
	}
	c, err := queue.Decode(r.Data[message.StampSize:], message.StampSize)
	if err != nil {
		return
	}
	offset := i.Info.Offset
	add := func(kind queue.EventKind, reason, detail string) {
		i.Info.History = append(i.Info.History, queue.Event{Kind: kind, At: r.Stamp().Time, Who: c.Who, Reason: reason})
		i.Details = append(i.Details, detail)
	}
	for k := range c.Settle {
		s := &c.Settle[k]
		kind := map[queue.Outcome]queue.EventKind{queue.Accept: queue.Accepted, queue.Release: queue.Released, queue.Reject: queue.Rejected}[s.Outcome]
		if s.Offset == offset && kind != 0 {
			add(kind, s.Reason, s.Detail)
		}
	}
	kind := map[queue.Op]queue.EventKind{queue.OpReturn: queue.Returned, queue.OpEdit: queue.Edited, queue.OpDiscard: queue.DiscardedBy, queue.OpUndo: queue.BroughtBack, queue.OpSendOn: queue.SentOn}[c.Op]
	if kind != 0 && slices.Contains(c.Offsets, offset) {
		add(kind, c.Reason, c.Detail)
	}
}
