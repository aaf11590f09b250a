package queues

import (
	"context"
	"encoding/json"
	"slices"

	"github.com/google/uuid"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
)

// QueueAsk is a question to the leader of a queue's partition, or something
// that an operator does there. Which fields count depends on Kind.
type QueueAsk struct {
	Kind    string        `json:"kind"` // causes, items, act, failed, status, origin
	States  []queue.State `json:"states,omitempty"`
	Cause   uint64        `json:"cause,omitempty"`
	Where   string        `json:"where,omitempty"`
	From    int64         `json:"from,omitempty"`
	Limit   int           `json:"limit,omitempty"`
	Offsets []int64       `json:"offsets,omitempty"`
	Since   int64         `json:"since,omitempty"`
	Bars    int           `json:"bars,omitempty"`
	Newest  bool          `json:"newest,omitempty"`
	Bare    bool          `json:"bare,omitempty"`   // of items: offsets alone
	Whole   bool          `json:"whole,omitempty"`  // of items: with their whole bodies
	Before  int64         `json:"before,omitempty"` // dead letters up to this time alone
	Who     string        `json:"who,omitempty"`
	Origin  string        `json:"origin,omitempty"`
	Story   bool          `json:"story,omitempty"` // of items: with what only the log tells

	Command []byte `json:"command,omitempty"`
}

// QueueAnswer is the answer to a queueAsk.
type QueueAnswer struct {
	Causes  []queue.Cause  `json:"causes,omitempty"`
	Status  *queue.Summary `json:"status,omitempty"`
	Items   []Item         `json:"items,omitempty"`
	Offsets []int64        `json:"offsets,omitempty"`
	Next    int64          `json:"next"` // offset to go on from, -1 at the end
	Looked  int64          `json:"looked"`
	Changed int            `json:"changed"`
	Time    int64          `json:"time"`
}

// Item is a message of a queue with what is known of it.
type Item struct {
	Info     queue.Info      `json:"info"`
	Details  []string        `json:"details"` // of Info.History, in its order
	Message  *message.Stored `json:"message"` // nil when its bytes are gone
	Original *message.Stored `json:"original,omitempty"`

	Publisher string `json:"publisher,omitempty"` // if it was asked for
}

// Detail returns the last detail of the message's history.
func (i *Item) Detail() string {
	for n := len(i.Details) - 1; n >= 0; n-- {
		if i.Details[n] != "" {
			return i.Details[n]
		}
	}
	return ""
}

// Facts are what a condition can ask of the message beside what it holds.
func (i *Item) Facts() expr.Facts {
	return expr.Facts{Attempts: i.Info.Attempts, Reason: i.Info.Reason, Detail: i.Detail()}
}

// AskQueue asks the leader of a partition, wherever that is.
func (qs *Queues) AskQueue(ctx context.Context, p *part.Partition, ask *QueueAsk) (*QueueAnswer, error) {
	return part.AtLeader(ctx, qs.parts, p, part.LeaderCall[*QueueAnswer]{
		Here: func() (*QueueAnswer, error) { return qs.answerQueue(ctx, p, ask) },
		There: func(leader uint64) (*QueueAnswer, error) {
			body, err := json.Marshal(ask)
			if err != nil {
				return nil, err
			}
			out, err := peer.Outcome(qs.peers.Call(ctx, leader, "queue", append(part.KeyBytes(p.Key()), body...)))
			if err != nil {
				return nil, err
			}
			a := &QueueAnswer{}
			return a, json.Unmarshal(out, a)
		},
		Harmless: true,
	})
}

// Taken returns messages that a route has taken, by their numbers from one to another
// one, as far as they fit into an answer. It is asked where the partition is led.
func (qs *Queues) Taken(ctx context.Context, p *part.Partition, route uuid.UUID, from, to int64) ([]Item, error) {
	m := machineOf(p)
	if m == nil {
		return nil, peer.NotLed()
	}
	var offsets []int64
	m.look(func(q *queue.Queue) { offsets, _ = q.Transfers(route, from, to) })
	if len(offsets) == 0 {
		return nil, nil
	}
	a, err := qs.answerQueue(ctx, p, &QueueAsk{Kind: "items", Offsets: offsets, Limit: len(offsets), Whole: true})
	if err != nil {
		return nil, err
	}
	return a.Items, nil
}

// Waiting returns up to so many messages that wait and fulfil a condition, from an
// offset on, and where to go on, -1 at the end.
func (qs *Queues) Waiting(ctx context.Context, p *part.Partition, where string, from int64, most int) (offsets []int64, next int64, err error) {
	a, err := qs.answerQueue(ctx, p, &QueueAsk{Kind: "items", States: []queue.State{queue.Waiting}, Where: where, From: from, Limit: most, Bare: true})
	if err != nil {
		return nil, 0, err
	}
	return a.Offsets, a.Next, nil
}

// Origin returns the dead letter that was made of what a group has read at an
// address, or else what is given.
func (qs *Queues) Origin(ctx context.Context, p *part.Partition, address string, otherwise int64) int64 {
	if a, err := qs.AskQueue(ctx, p, &QueueAsk{Kind: "origin", Origin: address}); err == nil && len(a.Offsets) > 0 {
		return a.Offsets[0]
	}
	return otherwise
}

// answerAsk answers another node.
func (qs *Queues) answerAsk(ctx context.Context, _ uint64, p *part.Partition, body []byte) ([]byte, error) {
	var ask QueueAsk
	if err := json.Unmarshal(body, &ask); err != nil {
		return nil, err
	}
	if !qs.parts.Leads(p) {
		return nil, replica.ErrNotLeading
	}
	a, err := qs.answerQueue(ctx, p, &ask)
	if err != nil {
		return peer.Undone(err, p.Address()), nil
	}
	b, err := json.Marshal(a)
	return peer.Done(b), err
}

// itemBytes bounds the bodies in one answer with items.
const itemBytes = 4 << 20

func (qs *Queues) answerQueue(ctx context.Context, p *part.Partition, ask *QueueAsk) (*QueueAnswer, error) {
	m, g := machineOf(p), p.Replica()
	if m == nil || g == nil {
		return nil, peer.NotLed()
	}
	out := &QueueAnswer{Next: -1}
	switch ask.Kind {
	case "causes":
		m.look(func(q *queue.Queue) {
			out.Causes, out.Time = q.Causes(ask.Since, clock.Now().UnixMicro(), ask.Bars), q.Now()
		})
	case "act":
		c, err := queue.Decode(ask.Command, 0)
		if err != nil {
			return nil, err
		}
		r, err := qs.command(ctx, p, c)
		out.Changed, out.Time = r.Changed, r.Time
		return out, err
	case "items":
		return out, qs.items(ctx, m, g, ask, out)
	case "status":
		out.Status = m.status(g)
	case "origin":
		m.look(func(q *queue.Queue) {
			if offset, known := q.Origin(ask.Origin); known {
				out.Offsets = []int64{offset}
			}
		})
	case "failed":
		return out, m.failedAgain(ctx, g, ask, out)
	default:
		return nil, peer.ErrCall
	}
	return out, nil
}

// lookAtOnce is how many messages are listed at a time, to be looked at one by
// one: each list takes a walk over all that is kept.
const lookAtOnce = 100_000

// items finds messages by their states, cause and condition, from an offset
// on; with Newest from it downward.
func (qs *Queues) items(ctx context.Context, m *queueMachine, g *replica.Group, ask *QueueAsk, out *QueueAnswer) error {
	var where *expr.Condition
	if ask.Where != "" {
		var err error
		if where, err = expr.Compile(ask.Where); err != nil {
			return err
		}
	}
	l := &lookout{qs: qs, m: m, g: g, ask: ask, out: out, where: where, matcher: where.Matcher(ctx)}
	if len(ask.Offsets) > 0 {
		_, err := l.through(ctx, ask.Offsets, true)
		return err
	}
	from := ask.From
	for ctx.Err() == nil {
		most := lookAtOnce
		if where == nil {
			most = ask.Limit - len(out.Items)
		}
		offsets := m.offsets(ask, from, most)
		last := len(offsets) < most
		if ask.Bare && where == nil {
			out.Offsets = offsets
			if !last {
				out.Next = nextFrom(offsets[len(offsets)-1], ask.Newest)
			}
			return nil
		}
		full, err := l.through(ctx, offsets, last)
		if err != nil || full || last {
			return err
		}
		if from = nextFrom(offsets[len(offsets)-1], ask.Newest); from < 0 {
			return nil
		}
	}
	return ctx.Err()
}

// offsets lists messages by what the queue knows of them.
func (m *queueMachine) offsets(ask *QueueAsk, from int64, most int) (found []int64) {
	f := queue.Filter{States: ask.States, Cause: ask.Cause, Before: ask.Before}
	m.look(func(q *queue.Queue) {
		if ask.Newest {
			found = q.OffsetsBefore(f, from, most)
		} else {
			found = q.Offsets(f, from, most)
		}
	})
	return found
}

// lookout looks at messages one by one, and gathers those that fit.
type lookout struct {
	qs      *Queues
	m       *queueMachine
	g       *replica.Group
	ask     *QueueAsk
	out     *QueueAnswer
	where   *expr.Condition
	matcher *expr.Matcher
	bytes   int
}

// through looks at the offsets. It reports whether the answer is full; then
// it says where to go on, unless nothing is left of the last offsets.
func (l *lookout) through(ctx context.Context, offsets []int64, last bool) (full bool, err error) {
	named := len(l.ask.Offsets) > 0
	for i, offset := range offsets {
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
		done, err := l.qs.parts.Turn(ctx)
		if err != nil {
			return false, err
		}
		item, err := l.m.item(l.g, offset)
		var fits bool
		if err == nil {
			fits, err = l.fits(item)
		}
		done()
		if err != nil {
			return false, err
		}
		l.out.Looked++
		if l.ask.Story {
			l.m.tell(ctx, l.g, item)
		}
		if !named && (item.Info.State == 0 || !slices.Contains(l.ask.States, item.Info.State)) {
			continue // it changed meanwhile
		}
		if !fits {
			continue
		}
		if l.ask.Bare {
			l.out.Offsets = append(l.out.Offsets, offset)
		} else {
			l.gather(item)
		}
		if len(l.out.Items)+len(l.out.Offsets) >= l.ask.Limit || l.bytes > itemBytes {
			if i < len(offsets)-1 || !last {
				l.out.Next = nextFrom(offset, l.ask.Newest)
			}
			return true, nil
		}
	}
	return false, nil
}

// gather adds an item to the answer, as a list shows it unless it is wanted
// whole.
func (l *lookout) gather(item *Item) {
	if !l.ask.Whole {
		item = item.short()
	}
	l.bytes += item.Size()
	l.out.Items = append(l.out.Items, *item)
}

// short is the item as a list has it.
func (i *Item) short() *Item {
	s := *i
	for _, m := range []**message.Stored{&s.Message, &s.Original} {
		if *m != nil {
			*m = (*m).Shorten(message.ShortBody)
		}
	}
	return &s
}

// Size is about the bytes that the item takes in an answer.
func (i *Item) Size() (bytes int) {
	for _, m := range []*message.Stored{i.Message, i.Original} {
		if m != nil {
			bytes += message.SizeOf(m)
		}
	}
	for _, d := range i.Details {
		bytes += len(d)
	}
	return bytes
}

func (l *lookout) fits(item *Item) (bool, error) {
	if l.where == nil {
		return true, nil
	}
	if item.Message == nil {
		return false, nil
	}
	ok, err := l.matcher.MatchWith(item.Message, item.Facts())
	if err != nil {
		return false, problem.New(problem.Invalid, "%v (offset %d)", err, item.Info.Offset).Field("where").Next("make the condition simpler")
	}
	return ok, nil
}

// failedAgain counts the dead letters since a time that a replay has sent: those
// that it returned, or with a condition those that fulfil it.
func (m *queueMachine) failedAgain(ctx context.Context, g *replica.Group, ask *QueueAsk, out *QueueAnswer) error {
	if ask.Where == "" {
		m.look(func(q *queue.Queue) { out.Looked = q.FailedAgain(ask.Since, ask.Who) })
		return nil
	}
	where, err := expr.Compile(ask.Where)
	if err != nil {
		return err
	}
	matcher := where.Matcher(ctx)
	var offsets []int64
	m.look(func(q *queue.Queue) {
		offsets = q.Offsets(queue.Filter{States: []queue.State{queue.Dead}, Since: ask.Since}, 0, maxFailed)
	})
	for _, offset := range offsets {
		if s := m.oneOf(g, bytesOf{offset: offset}); s != nil {
			if ok, err := matcher.Match(s); err == nil && ok {
				out.Looked++
			}
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return nil
}

// maxFailed bounds how many dead letters are looked at to judge a replay.
const maxFailed = 50_000

func nextFrom(offset int64, newest bool) int64 {
	if newest {
		return offset - 1
	}
	return offset + 1
}

// item gathers all that is known of one message.
func (m *queueMachine) item(g *replica.Group, offset int64) (*Item, error) {
	item := &Item{}
	known := false
	m.look(func(q *queue.Queue) { item.Info, known = q.Look(offset) })
	if !known {
		return nil, problem.New(problem.NotFound, "%s has no offset %d yet", m.Partition.Address(), offset).Field("offset")
	}
	j := g.Journal()
	item.Message = m.oneOf(g, bytesOf{offset, item.Info.Home, item.Info.Edited})
	if item.Info.Edited > 0 {
		item.Original = m.oneOf(g, bytesOf{offset: offset, home: item.Info.Home})
	}
	item.Details = make([]string, len(item.Info.History))
	for i, e := range item.Info.History {
		item.Details[i] = m.detail(j, e.Detail, item.Message)
	}
	return item, nil
}

// oneOf reads a message, nil if it is no longer kept or cannot be read.
func (m *queueMachine) oneOf(g *replica.Group, place bytesOf) *message.Stored {
	found, err := m.read(g.Journal(), g.Committed(), []bytesOf{place})
	if err != nil || len(found) == 0 || found[0] == nil {
		return nil
	}
	// Shared with other readers: a copy.
	s := *found[0]
	return &s
}
