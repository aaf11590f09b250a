package node

import (
	"context"
	"fmt"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/replica"
)

// QueueChange is what can be set on a queue alone; nil leaves a setting as it
// is.
type QueueChange struct {
	Lease       *time.Duration
	Attempts    *int
	BackoffMin  *time.Duration
	BackoffMax  *time.Duration
	RetainDead  *time.Duration
	Expire      *time.Duration
	DropExpired *bool
	ByKey       *bool
	WayBack     *time.Duration
}

var defaultQueue = queue.Settings{
	Lease: micros(30 * time.Second), Attempts: 5, BackoffMin: micros(time.Second), BackoffMax: micros(5 * time.Minute),
	RetainDead: micros(14 * 24 * time.Hour), WayBack: micros(24 * time.Hour), MaxBlocked: queue.DefaultMaxBlocked,
}

// queueRetain decides how long the segments of queues are; what goes is
// decided by what is settled.
var queueRetain = topic.Retention{Age: 36500 * 24 * time.Hour, Bytes: 512 << 20}

func micros(d time.Duration) int64 { return d.Microseconds() }

func (q *QueueChange) check() error {
	for _, l := range []struct {
		name        string
		value       *time.Duration
		least, most time.Duration
		allowed     string
	}{
		{"lease", q.Lease, 100 * time.Millisecond, MaxLeaseTime, "100ms to 24h"},
		{"backoff", q.BackoffMin, 0, queue.MaxDelay, "0s to 365d, as SHORTEST..LONGEST"},
		{"backoff", q.BackoffMax, 0, queue.MaxDelay, "0s to 365d, as SHORTEST..LONGEST"},
		{"retainDead", q.RetainDead, time.Second, 3650 * 24 * time.Hour, "1s to 3650d"},
		{"expire", q.Expire, 0, 3650 * 24 * time.Hour, "0s (never) to 3650d"},
		{"wayBack", q.WayBack, 0, 365 * 24 * time.Hour, "0s to 365d"},
	} {
		if l.value != nil && (*l.value < l.least || *l.value > l.most) {
			return problem.New(problem.Invalid, "%s of %s", l.name, address.FormatDuration(*l.value)).Field(l.name).Allowed(l.allowed)
		}
	}
	if q.Attempts != nil && (*q.Attempts < 1 || *q.Attempts > 1000) {
		return problem.New(problem.Invalid, "%d attempts", *q.Attempts).Field("attempts").Allowed("1 to 1000")
	}
	if q.BackoffMin != nil && q.BackoffMax != nil && *q.BackoffMin > *q.BackoffMax {
		return problem.New(problem.Invalid, "a backoff of %s..%s", address.FormatDuration(*q.BackoffMin), address.FormatDuration(*q.BackoffMax)).Field("backoff").Allowed("the shortest first")
	}
	return nil
}

func (q *QueueChange) apply(s *queue.Settings) {
	for _, d := range []struct {
		to   *int64
		from *time.Duration
	}{{&s.Lease, q.Lease}, {&s.BackoffMin, q.BackoffMin}, {&s.BackoffMax, q.BackoffMax}, {&s.RetainDead, q.RetainDead}, {&s.Expire, q.Expire}, {&s.WayBack, q.WayBack}} {
		if d.from != nil {
			*d.to = micros(*d.from)
		}
	}
	set(&s.Attempts, q.Attempts)
	set(&s.DropExpired, q.DropExpired)
	set(&s.ByKey, q.ByKey)
}

// fits says which setting is not one of the channel's kind.
func (s *Settings) fits(kind, name string) error {
	if kind == catalog.KindQueue {
		for field, given := range map[string]bool{"retain": s.Retain != nil, "retainBytes": s.RetainBytes != nil, "hold": s.Hold != nil, "holdBytes": s.HoldBytes != nil} {
			if given {
				return problem.New(problem.Invalid, "%s is a queue: it keeps what is not settled, and has no %s", name, field).Field(field).Next("how long dead letters stay is retainDead, how long messages may wait is expire")
			}
		}
		return nil
	}
	if s.Queue != (QueueChange{}) {
		return problem.New(problem.Invalid, "%s is a topic: leases, attempts and dead letters are settings of queues", name).Field("kind")
	}
	return nil
}

func duration(us int64) time.Duration { return time.Duration(us) * time.Microsecond }

func queueSettingsJSON(ch *catalog.Channel) map[string]any {
	s := ch.Queue.Settings
	return map[string]any{
		"partitions": ch.Partitions, "replicas": ch.Replicas, "maxBody": ch.MaxBody, "idWindow": address.FormatDuration(time.Duration(ch.IDWindowMS) * time.Millisecond),
		"paused": ch.Paused, "description": ch.Description, "labels": ch.Labels,
		"lease": address.FormatDuration(duration(s.Lease)), "attempts": s.Attempts, "backoff": BackoffText(s), "retainDead": address.FormatDuration(duration(s.RetainDead)),
		"expire": address.FormatDuration(duration(s.Expire)), "dropExpired": s.DropExpired, "order": OrderText(s), "wayBack": address.FormatDuration(duration(s.WayBack)),
	}
}

// BackoffText prints the shortest and the longest delay.
func BackoffText(s queue.Settings) string {
	return address.FormatDuration(duration(s.BackoffMin)) + ".." + address.FormatDuration(duration(s.BackoffMax))
}

// OrderText prints the order in which a queue hands out messages.
func OrderText(s queue.Settings) string {
	if s.ByKey {
		return "key"
	}
	return "none"
}

// queueEffects says what a change of a queue's settings means.
func queueEffects(old, changed *catalog.Channel) (effects []string) {
	was, is := old.Queue.Settings, changed.Queue.Settings
	if is.Attempts < was.Attempts {
		effects = append(effects, fmt.Sprintf("messages become dead letters after %s instead of %d; those that had more become so when their next one fails", words.Many(is.Attempts, "attempt"), was.Attempts))
	}
	if is.RetainDead < was.RetainDead {
		effects = append(effects, fmt.Sprintf("dead letters older than %s go at once; they cannot be brought back", address.FormatDuration(duration(is.RetainDead))))
	}
	if is.WayBack < was.WayBack {
		effects = append(effects, fmt.Sprintf("what was discarded more than %s ago goes at once", address.FormatDuration(duration(is.WayBack))))
	}
	if is.Expire != was.Expire && is.Expire > 0 {
		what := "become dead letters"
		if is.DropExpired {
			what = "are dropped"
		}
		effects = append(effects, fmt.Sprintf("messages that have waited longer than %s %s", address.FormatDuration(duration(is.Expire)), what))
	}
	return effects
}

func (m *queueMachine) status(g *replica.Group) *queue.Summary {
	s := &queue.Summary{}
	oldest := int64(-1)
	var holdings []queue.Holding
	m.look(func(q *queue.Queue) {
		s.Counts, oldest = q.Counts(), q.OldestWaiting()
		holdings = q.Holdings()
	})
	s.Asking = m.waiters.count.Load()
	s.Members = m.presence.members(holdings)
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
func (n *Node) Refresh(ctx context.Context, t *Topic, each []PartitionStatus) {
	ctx, cancel := context.WithTimeout(ctx, refreshTime)
	defer cancel()
	var group errgroup.Group
	group.SetLimit(16)
	for i, p := range t.Partitions() {
		if i >= len(each) || n.leads(p) {
			continue
		}
		group.Go(func() error {
			if a, err := n.askQueue(ctx, p, &queueAsk{Kind: "status"}); err == nil && a.Status != nil {
				each[i].Queue = a.Status
			}
			return nil
		})
	}
	_ = group.Wait() // nothing fails
}

// QueueCounts returns how many messages of a queue are in each state.
func (n *Node) QueueCounts(t *Topic) queue.Counts {
	_, each := n.Status(t, time.Now())
	return Summary(each).Counts
}

// Summary adds up the partitions of a queue.
func Summary(each []PartitionStatus) *queue.Summary {
	of := make([]*queue.Summary, len(each))
	for i := range each {
		of[i] = each[i].Queue
	}
	return queue.Sum(of)
}
