package node

import (
	"context"
	"errors"
	"time"

	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
)

// LeftOut says that a tail skipped messages because its reader was too slow.
type LeftOut struct {
	Messages int64 `json:"messages"` // skipped now, whether the condition fits them or not
	Total    int64 `json:"total"`    // skipped since the tail began
}

// tailBacklog is how many messages of a partition a tail that has been at the
// end may fall behind before it skips to the end.
const tailBacklog = 10_000

// TailPositions is where a tail is: the next offset of each of its
// partitions. A tail that is begun with them goes on where another ended.
type TailPositions map[int]int64

type follower struct {
	partition *Partition
	cursor    *journal.Cursor
	next      int64
	caughtUp  bool
}

// Tail tells the messages of a selection from its From on as they arrive,
// until ctx ends or tell fails. Its To, Limit and order are not used. idle is
// called when all that is there has been told.
func (n *Node) Tail(ctx context.Context, s Selection, resume TailPositions, tell func(Event, TailPositions) error, idle func(TailPositions) error) error {
	numbers := s.Partitions
	if len(numbers) == 0 {
		for _, p := range s.Topic.Partitions() {
			numbers = append(numbers, p.Number)
		}
	}
	signal := make(chan struct{}, 1)
	now := time.Now()
	positions := TailPositions{}
	var followers []*follower
	for _, number := range numbers {
		p, err := s.Topic.Partition(number)
		if err != nil {
			return err
		}
		from, err := p.Resolve(s.From, now)
		if err != nil {
			return err
		}
		if at, ok := resume[number]; ok {
			from = at
		}
		from = min(max(from, p.First()), p.End())
		g := p.group.Load()
		defer g.Watch(signal)()
		followers = append(followers, &follower{partition: p, cursor: g.Journal().CursorAt(from), next: from})
		positions[number] = from
	}
	t := &tailer{matcher: s.Where.Matcher(), buffer: make([]byte, bufferFor(len(numbers))), positions: positions, tell: tell}
	removed := followers[0].partition.group.Load().Done()
	for {
		more := false
		for _, f := range followers {
			got, err := t.step(f)
			if err != nil {
				return err
			}
			more = more || got
			if ctx.Err() != nil {
				return ctx.Err()
			}
		}
		if more {
			continue
		}
		if err := idle(positions); err != nil {
			return err
		}
		select {
		case <-signal:
		case <-ctx.Done():
			return ctx.Err()
		case <-removed:
			return problem(NotFound, "%s was removed", s.Topic.Address())
		case <-time.After(15 * time.Second): // so that idle can show that the stream lives
		}
	}
}

type tailer struct {
	matcher   *expr.Matcher
	buffer    []byte
	positions TailPositions
	leftOut   int64
	tell      func(Event, TailPositions) error
}

// step tells one stretch of a partition and reports whether there was any.
func (t *tailer) step(f *follower) (bool, error) {
	g := f.partition.group.Load()
	if end := g.End(); f.next >= end {
		f.caughtUp = true
		return false, nil
	} else if f.caughtUp && end-f.next > tailBacklog {
		skipped := end - f.next
		t.leftOut += skipped
		f.next, f.cursor = end, g.Journal().CursorAt(end)
		t.positions[f.partition.Number] = end
		return true, t.tell(Event{LeftOut: &LeftOut{Messages: skipped, Total: t.leftOut}}, t.positions)
	}
	chunk, err := f.cursor.Read(t.buffer, g.Committed())
	var damage *journal.Damage
	var gone *journal.Gone
	switch {
	case errors.As(err, &damage):
		f.next = damage.To
		at := f.partition.topic.Address().At(f.partition.Number, damage.From)
		return true, t.tell(Event{Damage: &DamageAt{Address: at.String(), Partition: f.partition.Number, From: damage.From, To: damage.To}}, t.positions)
	case errors.As(err, &gone):
		t.leftOut += gone.First - f.next
		skipped := gone.First - f.next
		f.next, f.cursor = gone.First, g.Journal().CursorAt(gone.First)
		return true, t.tell(Event{LeftOut: &LeftOut{Messages: skipped, Total: t.leftOut}}, t.positions)
	case err != nil:
		return false, err
	case len(chunk) == 0:
		return false, nil
	}
	count := 0
	eachRecord(chunk, func(r message.Record) bool {
		err = r.Stored(f.partition.Number, func(m *message.Stored) bool {
			if m.Offset < f.next {
				return true
			}
			f.next = m.Offset + 1
			t.positions[f.partition.Number] = f.next
			var ok bool
			if ok, err = t.matcher.Match(m); err != nil {
				return false
			}
			if ok {
				count++
				err = t.tell(Event{Message: m}, t.positions)
			}
			return err == nil
		})
		return err == nil
	})
	f.partition.countOut(count, len(chunk))
	return true, err
}
