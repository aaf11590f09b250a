package look

import (
	"container/heap"
	"context"
	"time"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/engine/part"
)

func bufferFor(partitions int) int {
	return min(max(4<<20/max(partitions, 1), 16<<10), 256<<10)
}

type match struct {
	stored    *message.Stored
	partition *part.Partition
}

func (m match) addCount() { m.partition.CountOut(1, len(m.stored.Body)) }

type found struct {
	message match
	damage  *form.Damage
	time    time.Time
	offset  int64
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

func (m *merger) Len() int { return len(m.heap) }

func (m *merger) Swap(i, j int) { m.heap[i], m.heap[j] = m.heap[j], m.heap[i] }

func (m *merger) Less(i, j int) bool {
	a, b := m.heap[i], m.heap[j]
	if c := a.block[0].time.Compare(b.block[0].time); c != 0 {
		return c < 0 != m.newest
	}
	return a.scanner.Partition.Number < b.scanner.Partition.Number
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
