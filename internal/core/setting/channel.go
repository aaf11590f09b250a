package setting

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/placement"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/core/words"
)

// The kinds of channels.
const (
	Topic = "topic"
	Queue = "queue"
)

// Channel is how a topic or a queue is set, as the records keep it.
type Channel struct {
	Partitions  int               `json:"partitions"`
	Replicas    int               `json:"replicas"`
	RetainMS    int64             `json:"retainMs"`
	RetainBytes int64             `json:"retainBytes"`
	MaxBody     int64             `json:"maxBody"`
	IDWindowMS  int64             `json:"idWindowMs"`
	Paused      bool              `json:"paused"`
	Description string            `json:"description"`
	Hold        []string          `json:"hold"`      // groups whose unread messages retention leaves
	HoldBytes   int64             `json:"holdBytes"` // but no more than so much a partition
	Labels      map[string]string `json:"labels"`
	Queue       queue.Settings    `json:"queue"`
}

const (
	day       = 24 * time.Hour
	mostBytes = 1 << 50
	maxHolds  = 20
)

var (
	ofTopics = []string{Topic}
	ofQueues = []string{Queue}
)

// at makes Get and Put of a field, and in those of one that counts a unit of time.
func at[T, V any](field func(*T) *V) (func(*T) any, func(*T, any)) {
	return func(t *T) any { return *field(t) }, func(t *T, value any) { *field(t) = value.(V) }
}

func in[T any](unit time.Duration, field func(*T) *int64) (func(*T) any, func(*T, any)) {
	return func(t *T) any { return time.Duration(*field(t)) * unit }, func(t *T, value any) { *field(t) = int64(value.(time.Duration) / unit) }
}

// row is a setting that lies in one field.
func row[T, V any](s Setting[T], field func(*T) *V) *Setting[T] {
	s.Get, s.Put = at(field)
	return &s
}

// timed is a setting that lies in a field as so many of a unit.
func timed[T any](s Setting[T], unit time.Duration, field func(*T) *int64) *Setting[T] {
	s.Get, s.Put = in(unit, field)
	return &s
}

// Channels is what can be set on topics and queues.
var Channels = Table[Channel]{
	row(Setting[Channel]{Name: "partitionCount", AsFlag: "partitions", Label: "Partitions", Default: "1", Form: Number(1, address.MaxPartitions, ""),
		Help:    "`N` partitions; there can be more later, never fewer",
		Effects: partitionEffects, Refuse: refuseFewer, Careful: other(func(c *Channel) int64 { return int64(c.Partitions) })}, func(c *Channel) *int { return &c.Partitions }),
	row(Setting[Channel]{Name: "replicas", Label: "Replicas", Form: Number(1, placement.MaxReplicas, "; an odd number is best"),
		Help:    "`N` nodes hold each partition; unless set, 3 where there are 3 nodes, else 1",
		Effects: replicaEffects, Careful: other(func(c *Channel) int64 { return int64(c.Replicas) })}, func(c *Channel) *int { return &c.Replicas }),
	timed(Setting[Channel]{Name: "retain", Kinds: ofTopics, Label: "Keep for", Default: "7d", Form: Duration(topic.MinRetain, 36500*day, ""),
		Help:    "of a topic: `DURATION` for which messages are kept",
		Effects: retainEffects, Careful: less(func(c *Channel) int64 { return c.RetainMS })}, time.Millisecond, func(c *Channel) *int64 { return &c.RetainMS }),
	row(Setting[Channel]{Name: "retainBytes", Kinds: ofTopics, Label: "Keep of a partition", Default: "10GiB", Form: Size(topic.MinRetainBytes, mostBytes),
		Help:    "of a topic: `SIZE` that each partition keeps",
		Effects: retainBytesEffects, Careful: less(func(c *Channel) int64 { return c.RetainBytes })}, func(c *Channel) *int64 { return &c.RetainBytes }),
	row(Setting[Channel]{Name: "maxBody", Label: "Largest body", Default: "8MiB", Form: Size(1, message.MaxBody),
		Help:    "`SIZE` of the largest body",
		Effects: bodyEffects}, func(c *Channel) *int64 { return &c.MaxBody }),
	timed(Setting[Channel]{Name: "idWindow", Label: "Drop repeated ids within", Form: Duration(0, topic.MaxIDWindow, "off"),
		Help: "`DURATION` within which a repeated message id is dropped"}, time.Millisecond, func(c *Channel) *int64 { return &c.IDWindowMS }),
	timed(Setting[Channel]{Name: "lease", Kinds: ofQueues, Label: "A lease is for", Default: "45s", Form: Duration(100*time.Millisecond, day, ""),
		Help: "of a queue: `DURATION` for which a member holds a message"}, time.Microsecond, func(c *Channel) *int64 { return &c.Queue.Lease }),
	row(Setting[Channel]{Name: "attemptLimit", Kinds: ofQueues, Label: "Attempt limit", Default: "6", Form: Number(1, 1000, ""),
		Help:    "of a queue: after `N` attempts without acceptance a message becomes a dead letter",
		Effects: attemptEffects}, func(c *Channel) *int { return &c.Queue.Attempts }),
	{Name: "backoff", Kinds: ofQueues, Label: "Delay between attempts", Default: "1s..5m", Form: Durations(0, queue.MaxDelay),
		Help: "of a queue: `DURATION..DURATION`, the shortest and the longest delay after an attempt, doubled each time",
		Get:  func(c *Channel) any { return Span{micros(c.Queue.BackoffMin), micros(c.Queue.BackoffMax)} },
		Put: func(c *Channel, value any) {
			span := value.(Span)
			c.Queue.BackoffMin, c.Queue.BackoffMax = span.Least.Microseconds(), span.Most.Microseconds()
		}},
	timed(Setting[Channel]{Name: "retainDead", Kinds: ofQueues, Label: "Keep dead letters for", Default: "21d", Form: Duration(time.Second, 3650*day, ""),
		Help:    "of a queue: `DURATION` for which dead letters are kept",
		Effects: retainDeadEffects, Careful: less(func(c *Channel) int64 { return c.Queue.RetainDead })}, time.Microsecond, func(c *Channel) *int64 { return &c.Queue.RetainDead }),
	timed(Setting[Channel]{Name: "expire", Kinds: ofQueues, Label: "Messages may wait for", Form: Duration(0, 3650*day, "for ever"),
		Help:    "of a queue: `DURATION` that messages may wait",
		Effects: expireEffects, Careful: func(was, is *Channel) bool {
			return is.Queue.Expire > 0 && is.Queue.DropExpired && is.Queue != was.Queue
		}}, time.Microsecond, func(c *Channel) *int64 { return &c.Queue.Expire }),
	row(Setting[Channel]{Name: "dropExpired", Kinds: ofQueues, Label: "Drop what expires", Form: Switch(),
		Help: "of a queue: drop what expires instead of making dead letters of it"}, func(c *Channel) *bool { return &c.Queue.DropExpired }),
	{Name: "order", Kinds: ofQueues, Label: "Order", Default: "none", Fixed: true, Form: Choice("none", "key"),
		Help:   "of a queue: `MODE`: key for one at a time and in order for each key, or none",
		Refuse: refuseOrder,
		Get: func(c *Channel) any {
			if c.Queue.ByKey {
				return "key"
			}
			return "none"
		},
		Put: func(c *Channel, value any) { c.Queue.ByKey = value == "key" }},
	timed(Setting[Channel]{Name: "retainDiscarded", Kinds: ofQueues, Label: "Keep what is discarded for", Default: "24h", Form: Duration(0, 365*day, "at once"),
		Help:    "of a queue: `DURATION` in which what is discarded can be brought back",
		Effects: retainDiscardedEffects, Careful: less(func(c *Channel) int64 { return c.Queue.RetainDiscarded })}, time.Microsecond, func(c *Channel) *int64 { return &c.Queue.RetainDiscarded }),
	{Name: "hold", Kinds: ofTopics, Label: "Retention waits for groups", Form: Names(maxHolds),
		Help: "of a topic: `GROUPS`, with commas, whose unread messages retention leaves; none ends it",
		Get:  func(c *Channel) any { return c.Hold },
		Put: func(c *Channel, value any) {
			if c.Hold = value.([]string); c.HoldBytes == 0 {
				c.HoldBytes = 2 * c.RetainBytes
			}
		},
		Effects: holdEffects, Careful: func(was, is *Channel) bool {
			return slices.ContainsFunc(was.Hold, func(name string) bool { return !slices.Contains(is.Hold, name) })
		}},
	row(Setting[Channel]{Name: "holdBytes", Kinds: ofTopics, Label: "But keeps no more than", Form: Size(topic.MinRetainBytes, mostBytes),
		Help:    "of a topic: `SIZE` that a partition keeps for them at most, after which retention takes it all the same; unless set, twice -retain-bytes",
		Careful: less(func(c *Channel) int64 { return c.HoldBytes })}, func(c *Channel) *int64 { return &c.HoldBytes }),
	row(Setting[Channel]{Name: "paused", Label: "Paused", Form: Switch(),
		Help:    "take no messages; reading goes on",
		Effects: pauseEffects}, func(c *Channel) *bool { return &c.Paused }),
	row(Setting[Channel]{Name: "description", Label: "Description", Form: Sentence(MaxDescription),
		Help: "`TEXT` that says what it is for"}, func(c *Channel) *string { return &c.Description }),
	{Name: "labels", AsFlag: "label", Label: "Labels", Form: Labels(),
		Help: "`NAME=VALUE` to find it by; an empty value takes it away; may be repeated",
		Get:  func(c *Channel) any { return c.Labels },
		Put:  func(c *Channel, value any) { c.Labels = Merge(c.Labels, value.(map[string]string)) }},
}

// other and less say that what is careful is another value, or a lower one.
func other(of func(*Channel) int64) func(was, is *Channel) bool {
	return func(was, is *Channel) bool { return of(was) != of(is) }
}

func less(of func(*Channel) int64) func(was, is *Channel) bool {
	return func(was, is *Channel) bool { return of(is) < of(was) }
}

func millis(ms int64) time.Duration { return time.Duration(ms) * time.Millisecond }

func micros(us int64) time.Duration { return time.Duration(us) * time.Microsecond }

func refuseFewer(was, is *Channel, name string) *problem.Problem {
	if is.Partitions >= was.Partitions {
		return nil
	}
	return problem.New(problem.Conflict, "%s has %s, and they cannot become fewer", name, words.Many(was.Partitions, "partition")).Allowed(fmt.Sprintf("%d to %d", was.Partitions, address.MaxPartitions))
}

func refuseOrder(was, is *Channel, name string) *problem.Problem {
	if is.Queue.ByKey == was.Queue.ByKey {
		return nil
	}
	return problem.New(problem.Conflict, "the order of %s cannot be changed: messages are under way in it", name).Next("make another queue and replay to it")
}

func partitionEffects(was, is *Channel) []string {
	return []string{fmt.Sprintf("partitions %d to %d are added, empty. The partition of a key is its hash modulo their number, so that most keys go to another partition from now on: messages of one key that were sent before and after lie in different partitions and are no longer in one order", was.Partitions, is.Partitions-1)}
}

func replicaEffects(was, is *Channel) []string {
	text := fmt.Sprintf("%s copied to %s; publishing goes on meanwhile, and the new replicas count once they are in step", words.Many(was.Partitions, "partition is", "partitions are each"), words.Many(is.Replicas-was.Replicas, "more node"))
	if is.Replicas < was.Replicas {
		text = fmt.Sprintf("%s; %s may be lost from then on without an end to writing", words.Many(was.Replicas-is.Replicas, "replica of each partition goes", "replicas of each partition go"), placement.NodesText((is.Replicas-1)/2))
	}
	return append([]string{text}, placement.EvenEffect(is.Replicas)...)
}

func retainEffects(was, is *Channel) []string {
	if is.RetainMS >= was.RetainMS {
		return nil
	}
	return []string{fmt.Sprintf("messages are deleted when they are %s old, instead of %s", address.FormatDuration(millis(is.RetainMS)), address.FormatDuration(millis(was.RetainMS)))}
}

func retainBytesEffects(was, is *Channel) []string {
	if is.RetainBytes >= was.RetainBytes {
		return nil
	}
	return []string{fmt.Sprintf("each partition keeps %s, instead of %s", address.FormatSize(is.RetainBytes), address.FormatSize(was.RetainBytes))}
}

func bodyEffects(was, is *Channel) []string {
	if is.MaxBody >= was.MaxBody {
		return nil
	}
	return []string{fmt.Sprintf("bodies over %s are refused from now on; what is kept stays", address.FormatSize(is.MaxBody))}
}

func pauseEffects(_, is *Channel) []string {
	if is.Paused {
		return []string{"publishing is refused until the pause ends; reading goes on"}
	}
	return []string{"publishing goes on"}
}

func holdEffects(_, is *Channel) []string {
	if len(is.Hold) == 0 {
		return []string{"retention waits for no group any more: what is over its limits goes at once"}
	}
	return []string{fmt.Sprintf("retention leaves what %s has not read, up to %s a partition; beyond that it takes it all the same", strings.Join(slices.Sorted(slices.Values(is.Hold)), ", "), address.FormatSize(is.HoldBytes))}
}

func attemptEffects(was, is *Channel) []string {
	if is.Queue.Attempts >= was.Queue.Attempts {
		return nil
	}
	return []string{fmt.Sprintf("messages become dead letters after %s instead of %d; those that had more become so when their next one fails", words.Many(is.Queue.Attempts, "attempt"), was.Queue.Attempts)}
}

func retainDeadEffects(was, is *Channel) []string {
	if is.Queue.RetainDead >= was.Queue.RetainDead {
		return nil
	}
	return []string{fmt.Sprintf("dead letters older than %s go at once; they cannot be brought back", address.FormatDuration(micros(is.Queue.RetainDead)))}
}

func expireEffects(_, is *Channel) []string {
	if is.Queue.Expire == 0 {
		return nil
	}
	what := "become dead letters"
	if is.Queue.DropExpired {
		what = "are dropped"
	}
	return []string{fmt.Sprintf("messages that have waited longer than %s %s", address.FormatDuration(micros(is.Queue.Expire)), what)}
}

func retainDiscardedEffects(was, is *Channel) []string {
	if is.Queue.RetainDiscarded >= was.Queue.RetainDiscarded {
		return nil
	}
	return []string{fmt.Sprintf("what was discarded more than %s ago goes at once", address.FormatDuration(micros(is.Queue.RetainDiscarded)))}
}
