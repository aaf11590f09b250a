package part

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strconv"
	"sync/atomic"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/rate"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/replica"
	"steadyferry/internal/engine/report"
)

// Key names the partition to the replicas of it.
func (p *Partition) Key() replica.Key {
	return replica.Key{Channel: p.Channel.ID, Partition: p.Number}
}

// Kind is what channels of one kind do otherwise than a topic; what is nil is
// as with topics.
type Kind struct {
	// Machine derives from a partition's log what the kind needs, beside what
	// base does.
	Machine func(base *Machine) replica.Machine
	// Retention is what is kept, whatever the channel's record says.
	Retention *topic.Retention
	// Tidy lets go of segments that are not needed, instead of retention.
	Tidy func(ctx context.Context, p *Partition, g *replica.Group)
	// Summary tells where the messages of a partition are that this node holds.
	Summary func(p *Partition, g *replica.Group) *queue.Summary
}

// plain is the kind of topics.
var plain = &Kind{}

// Machine returns what the kind of the channel derives from the partition's
// log, or nil when this node does not hold it.
func (p *Partition) Machine() replica.Machine {
	if m := p.machine.Load(); m != nil {
		return *m
	}
	return nil
}

// Replica returns the replica that this node holds, or nil.
func (p *Partition) Replica() *replica.Group { return p.group.Load() }

// Channel is a channel that this node serves: a topic, or a queue (IsQueue).
type Channel struct {
	ID         int64
	text       string // its address
	kind       *Kind
	placed     []*catalog.Placement // where its partitions were opened by; of followMu
	record     atomic.Pointer[catalog.Channel]
	partitions atomic.Pointer[[]*Partition]
	turn       atomic.Uint32 // the partition that the next batch without a key goes to
}

// Partition is one partition of a topic.
type Partition struct {
	Number   int
	Channel  *Channel
	group    atomic.Pointer[replica.Group]   // nil: not held by this node
	machine  atomic.Pointer[replica.Machine] // what the channel's kind derives from the log; nil: not held yet
	repair   repair
	counters rate.Counters
	history  rate.History
}

func newChannel(ch *catalog.Channel, kind *Kind) *Channel {
	t := &Channel{ID: ch.ID, kind: kind, text: ch.Address()}
	t.partitions.Store(&[]*Partition{})
	t.record.Store(ch)
	return t
}

// set makes a record the topic's; it reports whether it is another one.
func (t *Channel) set(ch *catalog.Channel) (changed bool) {
	old := t.record.Swap(ch)
	if old.RetainMS != ch.RetainMS || old.RetainBytes != ch.RetainBytes {
		for _, p := range t.Partitions() {
			if g := p.Replica(); g != nil {
				g.Journal().SetOptions(t.Retention().Segments())
			}
		}
	}
	return old.Revision != ch.Revision || old.Name != ch.Name || old.Partitions != ch.Partitions
}

// Record returns the channel's record.
func (t *Channel) Record() *catalog.Channel { return t.record.Load() }

// IsQueue reports whether messages are handed out under leases.
func (t *Channel) IsQueue() bool { return t.Record().Kind == catalog.KindQueue }

// OfGroup reports whether this is the queue with the dead letters of a group.
func (t *Channel) OfGroup() bool { return t.Record().GroupID.Valid }

// Partitions returns the topic's partitions by number.
func (t *Channel) Partitions() []*Partition { return *t.partitions.Load() }

// Address returns the topic's address.
func (t *Channel) Address() address.Address { return t.Record().At() }

// Retention is what is kept of each partition.
func (t *Channel) Retention() topic.Retention {
	ch := t.Record()
	if t.kind.Retention != nil {
		return *t.kind.Retention
	}
	return topic.Retention{Age: time.Duration(ch.RetainMS) * time.Millisecond, Bytes: ch.RetainBytes}
}

// HoldBytes is how much of a partition's log retention leaves, at most, to those that
// it waits for.
func (t *Channel) HoldBytes() int64 {
	keeps := t.Retention()
	return cmp.Or(t.Record().HoldBytes, 2*keeps.Bytes)
}

func (t *Channel) idWindow() time.Duration {
	return time.Duration(t.Record().IDWindowMS) * time.Millisecond
}

// Address returns the partition's address as text.
func (p *Partition) Address() string {
	a := p.Channel.Address()
	a.Partition = p.Number
	return a.String()
}

// Partition returns a partition by number.
func (t *Channel) Partition(number int) (*Partition, error) {
	partitions := t.Partitions()
	if number < 0 || number >= len(partitions) {
		return nil, problem.New(problem.NotFound, "%s has no partition %d", t.Address(), number).Field("partition").Allowed(fmt.Sprintf("0 to %d", len(partitions)-1))
	}
	return partitions[number], nil
}

// Here reports whether this node holds a replica of the partition.
func (p *Partition) Here() bool { return p.Replica() != nil }

// termsOf says which terms of delivery are not allowed here.
func (t *Channel) termsOf(batch message.Batch) error {
	for m, err := range batch.Messages() {
		if err != nil {
			return err
		}
		if err := t.allows(m); err != nil {
			return err
		}
	}
	return nil
}

// allows says why a message cannot be published on its terms. Only a group's
// member makes dead letters, and not by publishing.
func (t *Channel) allows(m *message.Message) error {
	switch {
	case m.Terms == nil:
		return nil
	case !t.IsQueue():
		return problem.New(problem.Invalid, "%s is a topic: it has no delayed delivery and no expiry of single messages", t.Address()).Field("notBefore").Next("send to a queue, or without them")
	case m.Terms.Reason != "" || m.Terms.Detail != "" || m.Terms.By != "" || m.Terms.From != "":
		return problem.New(problem.Invalid, "a message cannot be published as a dead letter").Field("reason").Next("lease it and reject it")
	case !m.Terms.NotBefore.IsZero() && time.Until(m.Terms.NotBefore) > queue.MaxDelay:
		return problem.New(problem.Invalid, "delivery not before %s", m.Terms.NotBefore.Format(time.RFC3339)).Field("notBefore").Allowed("up to 365d from now")
	}
	return nil
}

// NextTurn chooses the partitions one after the other.
func (t *Channel) NextTurn() int {
	return int((t.turn.Add(1) - 1) % uint32(len(t.Partitions())))
}

// CountOut notes what was handed to a reader here.
func (p *Partition) CountOut(messages, bytes int) {
	p.counters.MessagesOut.Add(int64(messages))
	p.counters.BytesOut.Add(int64(bytes))
}

// ReadProblem explains what a read of the partition has ended with.
func (p *Partition) ReadProblem(err error) error {
	var gone *journal.Gone
	var damage *journal.Damage
	switch {
	case errors.As(err, &gone):
		return problem.New(problem.Gone, "%s: retention has passed this offset", p.Address()).Field("from").Allowed("from offset:" + strconv.FormatInt(gone.First, 10) + " on")
	case errors.As(err, &damage):
		at := p.Channel.Address().At(p.Number, damage.From)
		return problem.New(problem.Damaged, "%s: %v", at, damage).Next("go on reading from offset:%d", damage.To)
	}
	return err
}

// Alone reports whether the replica here is the only one.
func (p *Partition) Alone() bool {
	g := p.Replica()
	return g != nil && len(g.Membership().Voters) == 1
}

// Totals returns what went in and out of the replica here since the node
// started.
func (p *Partition) Totals() rate.Totals { return p.counters.Read() }

// Rates returns what goes in and out here now.
func (p *Partition) Rates() rate.Flow { return p.history.PerSecond(clock.Now(), rateSpan) }

// here returns how the replica of this node is.
func (p *Partition) here(g *replica.Group, now time.Time) report.Partition {
	b := g.Journal().Bounds()
	s := report.Partition{Partition: p.Number, First: b.First, End: max(g.End(), b.First), Bytes: b.Bytes, Segments: b.Segments, State: StateReady,
		Rates: p.Rates()}
	if s.End > s.First {
		oldest, newest := time.UnixMicro(b.FirstTime).UTC(), time.UnixMicro(b.LastTime).UTC()
		s.Oldest, s.Newest = &oldest, &newest
	}
	if p.Channel.kind.Summary != nil {
		s.Queue = p.Channel.kind.Summary(p, g)
	}
	switch {
	case g.Stalled():
		s.State = StateDiskFull
	case g.Failed():
		s.State = StateFailed
	case g.LostEnd() != nil:
		s.State = StateLostEnd
	case len(g.Membership().Voters) == 1 && g.Refusal() != nil:
		s.State = StateStarting
	}
	return s
}
