package look

import (
	"context"
	"errors"
	"slices"
	"sync"
	"sync/atomic"

	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
)

// scanWorkers is how many partitions of one browse are looked through at the
// same time.
const scanWorkers = 4

// scanner looks through one partition and sends what it finds in blocks.
type scanner struct {
	span
	lk              *Look
	where           *expr.Condition
	backward        bool
	limit           int
	looked, damaged *atomic.Int64
	unlike          *unlike
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
	next := s.From
	end := s.To
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
		s.unlike.add(matcher)
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
			a := s.Partition.Channel.Address().At(s.Partition.Number, damage.From)
			block = append(block, found{damage: &form.Damage{Address: a.String(), Partition: s.Partition.Number, From: damage.From, To: damage.To}, offset: damage.From})
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
		done, err := s.lk.parts.Turn(ctx)
		if err != nil {
			return block, next, err
		}
		_, err = logs.EachMessage(ctx, chunk, s.Partition.Number, next, s.lk.parts.RoomToDecode, func(m *message.Stored) (bool, error) {
			if m.Offset >= to {
				return false, nil
			}
			next = m.Offset + 1
			s.looked.Add(1)
			ok, err := matcher.Match(m)
			if err != nil || !ok {
				return next < to, err
			}
			short := m.Shorten(message.ShortBody)
			block = append(block, found{message: match{short, s.Partition}, time: m.StoredAt, offset: m.Offset})
			for size += message.SizeOf(short); s.backward && (len(block) > most || size > s.most && len(block) > 1); {
				if old := block[0].message.stored; old != nil {
					size -= message.SizeOf(old)
				}
				first = block[0].offset + 1
				block = block[1:]
			}
			return next < to && !full(), nil
		})
		done()
		if err != nil {
			return block, next, tooMuch(err, s.Partition, next-1)
		}
	}
	return block, next, nil
}

// tooMuch tells of a condition on which message it takes too much work, and
// leaves other errors as they are.
func tooMuch(err error, p *part.Partition, offset int64) error {
	if !errors.Is(err, expr.ErrCost) {
		return err
	}
	return problem.New(problem.Invalid, "%v (%s)", err, p.Channel.Address().At(p.Number, offset)).Field("where").Next("make the condition simpler")
}

// unlike counts the messages to which a condition did not apply, since it compares
// unlike things.
type unlike struct {
	mu    sync.Mutex
	count int64  // guarded by mu
	why   string // guarded by mu: of the first that was heard of
}

// add adds what a matcher has come to.
func (u *unlike) add(m *expr.Matcher) {
	n, why := m.Unlike()
	if n == 0 {
		return
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.count += n; u.why == "" {
		u.why = why
	}
}

func (u *unlike) get() (int64, string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.count, u.why
}
