package queues

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/replica"
	"steadyferry/internal/engine/report"
)

// retain decides how long the segments of queues are; what goes is decided by
// what is settled.
var retain = topic.Retention{Age: 36500 * 24 * time.Hour, Bytes: 512 << 20}

// SetDefaults sets what queues have unless somebody says otherwise.
func SetDefaults(c *setting.Channel) {
	setting.Channels.SetDefaults(c, setting.Queue)
	c.Queue.MaxBlocked = queue.DefaultMaxBlocked
	c.RetainMS, c.RetainBytes = retain.Age.Milliseconds(), retain.Bytes
}

func (m *queueMachine) status(g *replica.Group) *queue.Summary {
	s := &queue.Summary{}
	oldest := int64(-1)
	var holdings []queue.Holding
	m.look(func(q *queue.Queue) {
		s.Counts, oldest = q.Counts(), q.OldestWaiting()
		holdings, s.Owed = q.Holdings(), q.Owed()
	})
	s.Asking = m.waiters.Count()
	s.Members = m.presence.Members(holdings)
	if oldest >= 0 {
		if stamp, ok, err := g.Journal().StampOf(oldest); err == nil && ok {
			at := time.UnixMicro(stamp.Time).UTC()
			s.Oldest = &at
		}
	}
	return s
}

// refreshTime is for how long leaders are asked how their partitions are now.
const refreshTime = 500 * time.Millisecond

// Refresh asks the leaders on other nodes where the messages of their
// partitions are now: what they report comes once a second. Of those that do not
// answer in time the report stands.
func (qs *Queues) Refresh(ctx context.Context, t *part.Channel, each []report.Partition) {
	ctx, cancel := context.WithTimeout(ctx, refreshTime)
	defer cancel()
	var group errgroup.Group
	group.SetLimit(16)
	for i, p := range t.Partitions() {
		if i >= len(each) || qs.parts.Leads(p) {
			continue
		}
		group.Go(func() error {
			if a, err := qs.AskQueue(ctx, p, &QueueAsk{Kind: "status"}); err == nil && a.Status != nil {
				each[i].Queue = a.Status
			}
			return nil
		})
	}
	_ = group.Wait() // nothing fails
}

// Counts returns how many messages of a queue are in each state.
func (qs *Queues) Counts(t *part.Channel) queue.Counts {
	_, each := qs.parts.Status(t, time.Now())
	return Summary(each).Counts
}

// Summary adds up the partitions of a queue.
func Summary(each []report.Partition) *queue.Summary {
	of := make([]*queue.Summary, len(each))
	for i := range each {
		of[i] = each[i].Queue
	}
	return queue.Sum(of)
}
