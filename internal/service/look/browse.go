package look

import (
	"context"
	"slices"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/mask"
	"steadyferry/internal/core/message"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
)

// Selection is which messages of a topic are meant: the same thing wherever
// messages are chosen.
type Selection struct {
	Topic      *part.Channel
	Partitions []int // none: all
	From, To   address.Position
	Where      *expr.Condition // nil: all
	Limit      int
	Recent     bool // the limit takes the most recent messages instead of the first
	Newest     bool // they come newest first
	AnyReplica bool // also from replicas that may be behind
}

// Limits of a browse.
const (
	DefaultBrowseLimit = 500
	MaxBrowseLimit     = 100_000

	keptBytes  = 32 << 20 // of messages that are kept to be shown in another order than they are found in
	aheadBytes = 16 << 20 // of messages that are found ahead in all partitions together
)

// Event is one thing that a browse or a tail has to tell; one field is set.
type Event struct {
	Message  *message.Stored
	Progress *form.Progress
	LeftOut  *form.LeftOut
	Damage   *form.Damage
}

type span struct {
	Partition *part.Partition
	log       logs.Log
	From, To  int64
}

// Spans returns which offsets of which partitions are meant, and how many messages those are in all.
func (lk *Look) Spans(ctx context.Context, s *Selection, now time.Time) ([]span, int64, error) {
	numbers := s.Partitions
	if len(numbers) == 0 {
		for _, p := range s.Topic.Partitions() {
			numbers = append(numbers, p.Number)
		}
	}
	var spans []span
	var total int64
	for _, number := range numbers {
		p, err := s.Topic.Partition(number)
		if err != nil {
			return nil, 0, err
		}
		l, err := logs.Open(ctx, lk.parts, p, s.AnyReplica)
		if err != nil {
			return nil, 0, err
		}
		from, err := logs.Resolve(ctx, lk.parts, p, l, s.From, now)
		if err != nil {
			return nil, 0, err
		}
		to, err := logs.Resolve(ctx, lk.parts, p, l, s.To, now)
		if err != nil {
			return nil, 0, err
		}
		from, to = max(from, l.First()), min(to, l.End())
		if from < to {
			spans = append(spans, span{p, l, from, to})
			total += to - from
		}
	}
	return spans, total, nil
}

// Came counts the messages that came into a channel since a time, of those that are kept;
// atLeast reports that others came which are not.
func (lk *Look) Came(ctx context.Context, t *part.Channel, since time.Time) (messages int64, atLeast bool, err error) {
	sel := Selection{Topic: t, From: address.Position{Kind: address.AtTime, Time: since}, To: address.Position{Kind: address.End}}
	spans, messages, err := lk.Spans(ctx, &sel, time.Now())
	for _, s := range spans {
		// What begins where the log does may have begun before.
		if first := s.log.First(); first > 0 && s.From == first {
			atLeast = true
		}
	}
	return messages, atLeast, err
}

// Whole goes through what is meant, each message with the whole of its body: browsing shortens
// large ones, here each of those is read alone.
func (lk *Look) Whole(ctx context.Context, s Selection, f func(m *message.Stored) error) error {
	sight, err := sees(ctx, &s)
	if err != nil {
		return err
	}
	return lk.browse(ctx, s, func(e Event) error {
		m := e.Message
		if m == nil {
			return nil
		}
		if m.Whole > 0 {
			p, err := s.Topic.Partition(m.Partition)
			if err == nil {
				m, err = logs.Message(ctx, lk.parts, p, m.Offset, s.AnyReplica)
			}
			if err != nil {
				return err
			}
		}
		return f(sight.Show(m))
	})
}

// sees is what whoever asks sees of what is selected, or why they may not select it so.
func sees(ctx context.Context, s *Selection) (*mask.Sight, error) {
	at := s.Topic.Record().Address()
	if err := access.Check(ctx, access.SeeContent, at); err != nil {
		return nil, err
	}
	err := access.Masked(ctx, access.SeeContent, at, func(sight *mask.Sight) error { return sight.Condition(s.Where) })
	return access.Sight(ctx, access.SeeContent, at), err
}

// Browse looks through a selection and tells what it finds, with its progress
// now and then, until it is through, has found the limit, or tell returns an
// error. Messages of several partitions come in the order of their times.
func (lk *Look) Browse(ctx context.Context, s Selection, tell func(Event) error) error {
	sight, err := sees(ctx, &s)
	if err != nil {
		return err
	}
	return lk.browse(ctx, s, func(e Event) error {
		e.Message = sight.Show(e.Message)
		return tell(e)
	})
}

func (lk *Look) browse(ctx context.Context, s Selection, tell func(Event) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	spans, total, err := lk.Spans(ctx, &s, time.Now())
	if err != nil {
		return err
	}
	var looked, damaged atomic.Int64
	var unlike unlike
	var scanning errgroup.Group
	scanning.SetLimit(-1)
	defer scanning.Wait()
	defer cancel()
	merge := &merger{newest: s.Recent}
	slots := make(chan struct{}, max(2, scanWorkers))
	for _, span := range spans {
		sc := &scanner{lk: lk, span: span, where: s.Where, backward: s.Recent, limit: s.Limit, looked: &looked, damaged: &damaged, unlike: &unlike,
			out: make(chan []found, 1), slots: slots, buffer: bufferFor(len(spans)), most: min(max(aheadBytes/max(len(spans), 1), 32<<10), 1<<20)}
		merge.inputs = append(merge.inputs, &input{scanner: sc})
		scanning.Go(func() error { return sc.run(ctx) })
	}
	full := false
	progress := func(found int64) Event {
		p := &form.Progress{LookedAt: looked.Load(), Total: total, Found: found, Damaged: damaged.Load(), Full: full}
		p.Unlike, p.Why = unlike.get()
		return Event{Progress: p}
	}
	ticker := time.NewTicker(200 * time.Millisecond)
	defer ticker.Stop()
	var kept []*message.Stored
	keptSize := 0
	count := int64(0)
	backwards := s.Newest != s.Recent // what is found last is shown first
	for count < int64(s.Limit) {
		f, ok, err := merge.next(ctx, ticker.C, func() error { return tell(progress(count)) })
		if err != nil {
			return err
		}
		if !ok {
			break
		}
		if f.damage != nil {
			if err := tell(Event{Damage: f.damage}); err != nil {
				return err
			}
			continue
		}
		count++
		f.message.addCount()
		if backwards {
			kept = append(kept, f.message.stored)
			if keptSize += message.SizeOf(f.message.stored); keptSize > keptBytes {
				full = true
				break
			}
		} else if err := tell(Event{Message: f.message.stored}); err != nil {
			return err
		}
	}
	slices.Reverse(kept)
	for _, m := range kept {
		if err := tell(Event{Message: m}); err != nil {
			return err
		}
	}
	return tell(progress(count))
}

// A forward scan hands over what it found after so many bytes of the log,
// then after twice as many, up to the most: the first messages come soon, and
// a limit that is small costs little.
const (
	firstBlock = 64 << 10
	mostBlock  = 1 << 20
)
