package manage

import (
	"errors"
	"fmt"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/placement"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/service/change"
	"steadyferry/internal/service/queues"
)

// Settings are what can be set on a topic or a queue; nil leaves a setting as
// it is.
type Settings struct {
	Partitions  *int
	Replicas    *int
	Retain      *time.Duration
	RetainBytes *int64
	MaxBody     *int64
	IDWindow    *time.Duration
	Paused      *bool
	Description *string
	Hold        *[]string
	HoldBytes   *int64
	Queue       QueueChange
	Labels      map[string]string // an empty value takes a label away
	Revision    *int64            // from which the change is made; nil: whichever it is
}

// check says which setting is out of its range.
func (s *Settings) check() error {
	switch {
	case s.Partitions != nil && (*s.Partitions < 1 || *s.Partitions > address.MaxPartitions):
		return problem.New(problem.Invalid, "%d partitions", *s.Partitions).Field("partitions").Allowed(fmt.Sprintf("1 to %d", address.MaxPartitions))
	case s.Replicas != nil && (*s.Replicas < 1 || *s.Replicas > placement.MaxReplicas):
		return problem.New(problem.Invalid, "%d replicas", *s.Replicas).Field("replicas").Allowed(fmt.Sprintf("1 to %d; an odd number is best", placement.MaxReplicas))
	case s.Retain != nil && (*s.Retain < topic.MinRetain || *s.Retain > 36500*24*time.Hour):
		return problem.New(problem.Invalid, "retention of %s", address.FormatDuration(*s.Retain)).Field("retain").Allowed("1m to 36500d")
	case s.RetainBytes != nil && (*s.RetainBytes < topic.MinRetainBytes || *s.RetainBytes > 1<<50):
		return problem.New(problem.Invalid, "retention of %s a partition", address.FormatSize(*s.RetainBytes)).Field("retainBytes").Allowed("1MiB to 1024TiB")
	case s.MaxBody != nil && (*s.MaxBody < 1 || *s.MaxBody > message.MaxBody):
		return problem.New(problem.Invalid, "bodies of up to %s", address.FormatSize(*s.MaxBody)).Field("maxBody").Allowed("1B to 64MiB")
	case s.IDWindow != nil && (*s.IDWindow < 0 || *s.IDWindow > topic.MaxIDWindow):
		return problem.New(problem.Invalid, "a window of %s", address.FormatDuration(*s.IDWindow)).Field("idWindow").Allowed("0s (off) to 1h")
	case s.Hold != nil && len(*s.Hold) > maxHolds:
		return problem.New(problem.Invalid, "%d groups to wait for", len(*s.Hold)).Field("hold").Allowed(fmt.Sprintf("up to %d", maxHolds))
	case s.HoldBytes != nil && (*s.HoldBytes < topic.MinRetainBytes || *s.HoldBytes > 1<<50):
		return problem.New(problem.Invalid, "at most %s a partition for groups", address.FormatSize(*s.HoldBytes)).Field("holdBytes").Allowed("1MiB to 1024TiB")
	}
	return errors.Join(s.Queue.check(), change.CheckText(s.Description, s.Labels))
}

// maxHolds is for how many groups retention can wait.
const maxHolds = 20

func (s *Settings) apply(ch *catalog.Channel) {
	change.Set(&ch.Partitions, s.Partitions)
	change.Set(&ch.Replicas, s.Replicas)
	change.Set(&ch.RetainBytes, s.RetainBytes)
	change.Set(&ch.MaxBody, s.MaxBody)
	change.Set(&ch.Paused, s.Paused)
	change.Set(&ch.Description, s.Description)
	change.Set(&ch.HoldBytes, s.HoldBytes)
	if s.Hold != nil {
		ch.Hold = *s.Hold
		if ch.HoldBytes == 0 {
			ch.HoldBytes = 2 * ch.RetainBytes
		}
	}
	if s.Retain != nil {
		ch.RetainMS = s.Retain.Milliseconds()
	}
	if s.IDWindow != nil {
		ch.IDWindowMS = s.IDWindow.Milliseconds()
	}
	s.Queue.apply(&ch.Queue.Settings)
	ch.Labels = change.MergeLabels(ch.Labels, s.Labels)
}

// settingsJSON is how the logbook and previews show a topic's settings.
func settingsJSON(ch *catalog.Channel) map[string]any {
	if ch.Kind == catalog.KindQueue {
		return queueSettingsJSON(ch)
	}
	return map[string]any{
		"partitions": ch.Partitions, "replicas": ch.Replicas, "retain": address.FormatDuration(time.Duration(ch.RetainMS) * time.Millisecond),
		"retainBytes": ch.RetainBytes, "maxBody": ch.MaxBody, "idWindow": address.FormatDuration(time.Duration(ch.IDWindowMS) * time.Millisecond),
		"paused": ch.Paused, "description": ch.Description, "labels": ch.Labels, "hold": []string(ch.Hold), "holdBytes": ch.HoldBytes,
	}
}

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

func (q *QueueChange) check() error {
	for _, l := range []struct {
		name        string
		value       *time.Duration
		least, most time.Duration
		allowed     string
	}{
		{"lease", q.Lease, 100 * time.Millisecond, queues.MaxLeaseTime, "100ms to 24h"},
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
			*d.to = queues.Micros(*d.from)
		}
	}
	change.Set(&s.Attempts, q.Attempts)
	change.Set(&s.DropExpired, q.DropExpired)
	change.Set(&s.ByKey, q.ByKey)
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

func queueSettingsJSON(ch *catalog.Channel) map[string]any {
	s := ch.Queue.Settings
	return map[string]any{
		"partitions": ch.Partitions, "replicas": ch.Replicas, "maxBody": ch.MaxBody, "idWindow": address.FormatDuration(time.Duration(ch.IDWindowMS) * time.Millisecond),
		"paused": ch.Paused, "description": ch.Description, "labels": ch.Labels,
		"lease": address.FormatDuration(queues.Duration(s.Lease)), "attempts": s.Attempts, "backoff": BackoffText(s), "retainDead": address.FormatDuration(queues.Duration(s.RetainDead)),
		"expire": address.FormatDuration(queues.Duration(s.Expire)), "dropExpired": s.DropExpired, "order": OrderText(s), "wayBack": address.FormatDuration(queues.Duration(s.WayBack)),
	}
}

// BackoffText prints the shortest and the longest delay.
func BackoffText(s queue.Settings) string {
	return address.FormatDuration(queues.Duration(s.BackoffMin)) + ".." + address.FormatDuration(queues.Duration(s.BackoffMax))
}

// OrderText prints the order in which a queue hands out messages.
func OrderText(s queue.Settings) string {
	if s.ByKey {
		return "key"
	}
	return "none"
}
