package node

import (
	"cmp"
	"container/heap"
	"context"
	"errors"
	"slices"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
)

// Selection is which messages of a topic are meant: the same thing wherever
// messages are chosen.
type Selection struct {
	Topic      *Topic
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

// Progress tells how far a browse is.
type Progress struct {
	LookedAt int64 `json:"lookedAt"` // messages
	Total    int64 `json:"total"`    // messages between from and to
	Found    int64 `json:"found"`
	Damaged  int64 `json:"damaged"`        // messages that are broken on disk
	Full     bool  `json:"full,omitempty"` // it ended before its limit, since no more fits into one answer
}

// Event is one thing that a browse or a tail has to tell; one field is set.
type Event struct {
	Message  *message.Stored
	Progress *Progress
	LeftOut  *LeftOut
	Damage   *DamageAt
}

// DamageAt is a stretch of a partition that is broken on disk.
type DamageAt struct {
	Address   string `json:"address"`
	Partition int    `json:"partition"`
	From      int64  `json:"from"`
	To        int64  `json:"to"` // not included
}

type span struct {
	partition *Partition
	log       log
	from, to  int64
}

func (n *Node) spans(ctx context.Context, s *Selection, now time.Time) ([]span, int64, error) {
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
		l, err := n.openLog(ctx, p, s.AnyReplica)
		if err != nil {
			return nil, 0, err
		}
		from, err := n.resolve(ctx, p, l, s.From, now)
		if err != nil {
			return nil, 0, err
		}
		to, err := n.resolve(ctx, p, l, s.To, now)
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

// Browse looks through a selection and tells what it finds, with its progress
// now and then, until it is through, has found the limit, or tell returns an
// error. Messages of several partitions come in the order of their times.
func (n *Node) Browse(ctx context.Context, s Selection, tell func(Event) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	spans, total, err := n.spans(ctx, &s, time.Now())
	if err != nil {
		return err
	}
	var looked, damaged atomic.Int64
	var scanning errgroup.Group
	scanning.SetLimit(-1)
	defer scanning.Wait()
	defer cancel()
	merge := &merger{newest: s.Recent}
	slots := make(chan struct{}, max(2, scanWorkers))
	for _, span := range spans {
		sc := &scanner{node: n, span: span, where: s.Where, backward: s.Recent, limit: s.Limit, looked: &looked, damaged: &damaged,
			out: make(chan []found, 1), slots: slots, buffer: bufferFor(len(spans)), most: min(max(aheadBytes/max(len(spans), 1), 32<<10), 1<<20)}
		merge.inputs = append(merge.inputs, &input{scanner: sc})
		scanning.Go(func() error { return sc.run(ctx) })
	}
	full := false
	progress := func(found int64) Event {
		return Event{Progress: &Progress{LookedAt: looked.Load(), Total: total, Found: found, Damaged: damaged.Load(), Full: full}}
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
			if keptSize += sizeOf(f.message.stored); keptSize > keptBytes {
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

// scanWorkers is how many partitions of one browse are looked through at the
// same time.
const scanWorkers = 4

func bufferFor(partitions int) int {
	return min(max(4<<20/max(partitions, 1), 16<<10), 256<<10)
}

type match struct {
	stored    *message.Stored
	partition *Partition
}

func (m match) addCount() { m.partition.countOut(1, len(m.stored.Body)) }

type found struct {
	message match
	damage  *DamageAt
	time    time.Time
	offset  int64
}

// scanner looks through one partition and sends what it finds in blocks.
type scanner struct {
	span
	node            *Node
	where           *expr.Condition
	backward        bool
	limit           int
	looked, damaged *atomic.Int64
	out             chan []found
	slots           chan struct{}
	buffer          int
	block           int   // bytes that a forward scan looks through at a time
	most            int   // bytes of messages in a block of them
	err             error // set before out is closed
}

func (s *scanner) run(ctx context.Context) error {
	defer close(s.out)
	matcher := s.where.Matcher(ctx)
	sent := 0
	next := s.from
	end := s.to
	for next < end && sent < s.limit {
		select {
		case s.slots <- struct{}{}:
		case <-ctx.Done():
			return ctx.Err()
		}
		var block []found
		var err error
		if s.backward {
			var lo int64
			if lo, err = s.log.BlockBefore(end); err == nil {
				lo = max(lo, next)
				block, lo, err = s.scan(ctx, matcher, lo, end, s.limit-sent)
				slices.Reverse(block)
				end = lo
			}
		} else {
			s.block = min(max(2*s.block, firstBlock), mostBlock)
			block, next, err = s.scan(ctx, matcher, next, end, s.limit-sent)
		}
		<-s.slots
		if err != nil {
			s.err = err
			return err
		}
		sent += len(block)
		if len(block) > 0 {
			select {
			case s.out <- block:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
	return nil
}

// A forward scan hands over what it found after so many bytes of the log,
// then after twice as many, up to the most: the first messages come soon, and
// a limit that is small costs little.
const (
	firstBlock = 64 << 10
	mostBlock  = 1 << 20
)

// scan looks through offsets from to below to and returns where it stopped: a
// forward scan where the next one goes on, a backward scan the offset from which
// on it has all that it found. What is found is bounded in number and in bytes:
// a forward scan stops, a backward one lets go of the oldest.
func (s *scanner) scan(ctx context.Context, matcher *expr.Matcher, from, to int64, most int) (block []found, next int64, err error) {
	cursor := s.log.Reader(from)
	buffer := make([]byte, s.buffer)
	read, size, first := 0, 0, from
	full := func() bool { return !s.backward && (len(block) >= most || size >= s.most) }
	next = from
	defer func() {
		if s.backward {
			next = first
		}
	}()
	for next < to && !full() && ctx.Err() == nil && (s.backward || read < s.block) {
		chunk, err := cursor.Read(buffer)
		var damage *journal.Damage
		var gone *journal.Gone
		switch {
		case errors.As(err, &damage):
			s.damaged.Add(damage.To - damage.From)
			s.looked.Add(min(damage.To, to) - next)
			a := s.partition.topic.Address().At(s.partition.Number, damage.From)
			block = append(block, found{damage: &DamageAt{Address: a.String(), Partition: s.partition.Number, From: damage.From, To: damage.To}, offset: damage.From})
			next = damage.To
			continue
		case errors.As(err, &gone):
			// Retention passed while we looked.
			s.looked.Add(min(gone.First, to) - next)
			next = gone.First
			cursor = s.log.Reader(next)
			continue
		case err != nil:
			return block, next, err
		case len(chunk) == 0:
			return block, to, nil
		}
		read += len(chunk)
		done, err := s.node.turn(ctx)
		if err != nil {
			return block, next, err
		}
		eachRecord(chunk, func(r message.Record) bool {
			done, decodeErr := s.node.roomToDecode(ctx, r)
			if err = decodeErr; err != nil {
				return false
			}
			defer done()
			recordErr := r.Stored(s.partition.Number, func(m *message.Stored) bool {
				if m.Offset < next {
					return true
				}
				if m.Offset >= to || full() {
					return false
				}
				next = m.Offset + 1
				s.looked.Add(1)
				ok, matchErr := matcher.Match(m)
				if matchErr != nil {
					err = matchErr
					return false
				}
				if ok {
					short := m.Shorten(ShortBody)
					block = append(block, found{message: match{short, s.partition}, time: m.StoredAt, offset: m.Offset})
					for size += sizeOf(short); s.backward && (len(block) > most || size > s.most && len(block) > 1); {
						if old := block[0].message.stored; old != nil {
							size -= sizeOf(old)
						}
						first = block[0].offset + 1
						block = block[1:]
					}
				}
				return true
			})
			err = cmp.Or(err, recordErr)
			return err == nil && next < to && !full() && ctx.Err() == nil
		})
		done()
		if err != nil {
			return block, next, tooMuch(err, s.partition, next-1)
		}
	}
	return block, next, nil
}

// tooMuch tells of a condition on which message it takes too much work, and
// leaves other errors as they are.
func tooMuch(err error, p *Partition, offset int64) error {
	if !errors.Is(err, expr.ErrCost) {
		return err
	}
	return problem.New(problem.Invalid, "%v (%s)", err, p.topic.Address().At(p.Number, offset)).Field("where").Next("make the condition simpler")
}

// merger brings what the scanners find into the order of time.
type merger struct {
	newest bool
	inputs []*input
	heap   []*input
	filled bool
}

type input struct {
	scanner *scanner
	block   []found
}

func (m *merger) Len() int      { return len(m.heap) }
func (m *merger) Swap(i, j int) { m.heap[i], m.heap[j] = m.heap[j], m.heap[i] }
func (m *merger) Less(i, j int) bool {
	a, b := m.heap[i], m.heap[j]
	if c := a.block[0].time.Compare(b.block[0].time); c != 0 {
		return c < 0 != m.newest
	}
	return a.scanner.partition.Number < b.scanner.partition.Number
}
func (m *merger) Push(x any) { m.heap = append(m.heap, x.(*input)) }
func (m *merger) Pop() any {
	last := m.heap[len(m.heap)-1]
	m.heap = m.heap[:len(m.heap)-1]
	return last
}

// next returns the next thing found; ok is false at the end. While it waits
// it calls tick.
func (m *merger) next(ctx context.Context, ticks <-chan time.Time, tick func() error) (f found, ok bool, err error) {
	if !m.filled {
		for _, in := range m.inputs {
			if ok, err := in.fill(ctx, ticks, tick); err != nil {
				return f, false, err
			} else if ok {
				m.heap = append(m.heap, in)
			}
		}
		heap.Init(m)
		m.filled = true
	}
	if len(m.heap) == 0 {
		return f, false, nil
	}
	select {
	case <-ticks:
		if err := tick(); err != nil {
			return f, false, err
		}
	default:
	}
	in := m.heap[0]
	f, in.block = in.block[0], in.block[1:]
	if len(in.block) > 0 {
		heap.Fix(m, 0)
		return f, true, nil
	}
	more, err := in.fill(ctx, ticks, tick)
	if err != nil {
		return f, false, err
	}
	if more {
		heap.Fix(m, 0)
	} else {
		heap.Pop(m)
	}
	return f, true, nil
}

func (in *input) fill(ctx context.Context, ticks <-chan time.Time, tick func() error) (bool, error) {
	for {
		select {
		case block, ok := <-in.scanner.out:
			if !ok {
				return false, in.scanner.err
			}
			in.block = block
			return true, nil
		case <-ticks:
			if err := tick(); err != nil {
				return false, err
			}
		case <-ctx.Done():
			return false, ctx.Err()
		}
	}
}
