package look

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/mask"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
)

// tailBacklog is how many messages of a partition a tail that has been at the
// end may fall behind before it skips to the end.
const tailBacklog = 10_000

// TailPositions is where a tail is: the next offset of each of its
// partitions. A tail that is begun with them goes on where another ended.
type TailPositions map[int]int64

// tailIdle is after how long without messages a tail shows that it lives.
const tailIdle = 3 * time.Second

// tailLost is how long a tail goes on at a replica that knows no leader:
// after it, the reader is sent to look for another node.
const tailLost = 3 * time.Second

// Tail tells the messages of a selection from its From on as they arrive,
// until ctx ends or tell fails. Its To, Limit and order are not used. idle is
// called when all that is there has been told.
func (lk *Look) Tail(ctx context.Context, s Selection, resume TailPositions, tell func(Event, TailPositions) error, idle func(TailPositions) error) error {
	sight, err := sees(ctx, &s)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	positions := TailPositions{}
	followers, err := lk.followers(ctx, s, resume, positions)
	if err != nil {
		return err
	}
	t := &tailer{lk: lk, where: s.Where != nil, matcher: s.Where.Matcher(ctx), sight: sight, buffer: make([]byte, bufferFor(len(followers))), positions: positions, tell: tell}
	signal, ended := make(chan struct{}, 1), make(chan error, 1)
	var waiting errgroup.Group
	defer waiting.Wait()
	defer cancel()
	for _, f := range followers {
		// A partition of this node signals; for one elsewhere a goroutine
		// waits there.
		if here := f.log.Here(); here != nil {
			defer here.Watch(signal)()
			continue
		}
		f.asked = make(chan int64, 1)
		waiting.Go(func() error { return f.await(ctx, signal, ended) })
	}
	looked := time.NewTicker(time.Second)
	defer looked.Stop()
	told, lost := time.Time{}, time.Time{}
	for {
		more := false
		for _, f := range followers {
			got, err := t.step(ctx, f)
			if err != nil {
				return err
			}
			more = more || got
			if ctx.Err() != nil {
				return ctx.Err()
			}
		}
		if more {
			told = time.Time{}
			continue
		}
		if time.Since(told) > tailIdle {
			if err := idle(positions); err != nil {
				return err
			}
			told = time.Now()
		}
		select {
		case <-signal:
		case err := <-ended:
			return err
		case <-ctx.Done():
			return ctx.Err()
		case <-looked.C:
			if lost, err = lk.stillThere(s.Topic, followers, lost, s.AnyReplica); err != nil {
				return err
			}
		}
	}
}

// followers opens the partitions of a tail.
func (lk *Look) followers(ctx context.Context, s Selection, resume, positions TailPositions) ([]*tailed, error) {
	numbers := s.Partitions
	if len(numbers) == 0 {
		for _, p := range s.Topic.Partitions() {
			numbers = append(numbers, p.Number)
		}
	}
	now := time.Now()
	var all []*tailed
	for _, number := range numbers {
		p, err := s.Topic.Partition(number)
		if err != nil {
			return nil, err
		}
		l, err := logs.Open(ctx, lk.parts, p, s.AnyReplica)
		if err != nil {
			return nil, err
		}
		from, err := logs.Resolve(ctx, lk.parts, p, l, s.From, now)
		if err != nil {
			return nil, err
		}
		if at, ok := resume[number]; ok {
			from = at
		}
		// A place that another node gave may lie a moment ahead of the end
		// that is known here.
		from = max(from, l.First())
		if _, resumed := resume[number]; !resumed {
			from = min(from, l.End())
		}
		all = append(all, &tailed{partition: p, log: l, reader: l.Reader(from), next: from})
		positions[number] = from
	}
	return all, nil
}

// tailed is a partition of a tail.
type tailed struct {
	partition *part.Partition
	log       logs.Log
	reader    logs.Reader
	next      int64
	caughtUp  bool

	asked chan int64   // of a partition elsewhere: the offset behind which to wait
	found atomic.Int64 // its end, as the wait found it
}

// await waits at another node for what follows.
func (f *tailed) await(ctx context.Context, signal chan struct{}, ended chan error) error {
	remote := f.log.Again(ctx)
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case offset := <-f.asked:
			if err := remote.Wait(ctx, offset, 24*time.Hour); err != nil {
				select {
				case ended <- err:
				default:
				}
				return err
			}
			f.found.Store(remote.End())
		}
		select {
		case signal <- struct{}{}:
		default:
		}
	}
}

// stillThere ends a tail whose topic was removed, or whose replica here no
// longer hears of the others.
func (lk *Look) stillThere(t *part.Channel, followers []*tailed, lost time.Time, any bool) (time.Time, error) {
	leaderless := false
	for _, f := range followers {
		here := f.log.Here()
		if here == nil {
			continue
		}
		select {
		case <-here.Done():
			if lk.catalog.View().Channels[t.Address().String()] == nil {
				return lost, problem.New(problem.NotFound, "%s was removed", t.Address())
			}
			return lost, problem.New(problem.Unavailable, "%s: %v", f.partition.Address(), part.ErrMoved).Next("go on at the same place with another connection")
		default:
		}
		leaderless = leaderless || here.Membership().Lead == 0
	}
	switch {
	case !leaderless || any:
		return time.Time{}, nil
	case lost.IsZero():
		return time.Now(), nil
	case time.Since(lost) > tailLost:
		return lost, problem.New(problem.Unavailable, "%s: a partition has no leader that this node can reach", t.Address()).Next("go on at the same place with another node")
	}
	return lost, nil
}

type tailer struct {
	matcher   *expr.Matcher
	sight     *mask.Sight
	lk        *Look
	where     bool // there is a condition
	buffer    []byte
	positions TailPositions
	leftOut   int64
	tell      func(Event, TailPositions) error
}

// match runs the condition, in turn with others.
func (t *tailer) match(ctx context.Context, m *message.Stored) (bool, error) {
	if !t.where {
		return true, nil
	}
	done, err := t.lk.parts.Turn(ctx)
	if err != nil {
		return false, err
	}
	defer done()
	return t.matcher.Match(m)
}

// step tells one stretch of a partition and reports whether there was any.
func (t *tailer) step(ctx context.Context, f *tailed) (bool, error) {
	if end := f.end(); f.next >= end {
		f.caughtUp = true
		f.ask()
		return false, nil
	} else if f.caughtUp && end-f.next > tailBacklog {
		skipped := end - f.next
		t.leftOut += skipped
		f.next, f.reader = end, f.log.Reader(end)
		t.positions[f.partition.Number] = end
		return true, t.tell(Event{LeftOut: &form.LeftOut{Messages: skipped, Total: t.leftOut}}, t.positions)
	}
	chunk, err := f.reader.Read(t.buffer)
	var damage *journal.Damage
	var gone *journal.Gone
	switch {
	case errors.As(err, &damage):
		f.next = damage.To
		at := f.partition.Channel.Address().At(f.partition.Number, damage.From)
		return true, t.tell(Event{Damage: &form.Damage{Address: at.String(), Partition: f.partition.Number, From: damage.From, To: damage.To}}, t.positions)
	case errors.As(err, &gone):
		t.leftOut += gone.First - f.next
		skipped := gone.First - f.next
		f.next, f.reader = gone.First, f.log.Reader(gone.First)
		return true, t.tell(Event{LeftOut: &form.LeftOut{Messages: skipped, Total: t.leftOut}}, t.positions)
	case err != nil:
		return false, err
	case len(chunk) == 0:
		f.ask()
		return false, nil
	}
	count, bytes := 0, 0
	_, err = logs.EachMessage(ctx, chunk, f.partition.Number, f.next, t.lk.parts.RoomToTell, func(m *message.Stored) (bool, error) {
		f.next = m.Offset + 1
		t.positions[f.partition.Number] = f.next
		ok, err := t.match(ctx, m)
		if err != nil || !ok {
			return true, tooMuch(err, f.partition, m.Offset)
		}
		count++
		bytes += len(m.Body)
		return true, t.tell(Event{Message: t.sight.Show(m)}, t.positions)
	})
	f.partition.CountOut(count, bytes)
	return true, err
}

// end returns the offset after the last message that is known.
func (f *tailed) end() int64 {
	if f.asked != nil {
		return max(f.found.Load(), f.log.End())
	}
	return f.log.End()
}

// ask has the partition elsewhere waited at.
func (f *tailed) ask() {
	if f.asked == nil {
		return
	}
	select {
	case f.asked <- f.next:
	default: // it is being waited at
	}
}
