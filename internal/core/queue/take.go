package queue

import (
	"slices"

	"github.com/google/uuid"
)

// transfers are the messages that a route has taken and not sent yet, by their
// numbers: those of a route count on without gaps, and stand for offsets in its
// places.
type transfers struct {
	first   int64 // number of the first one
	offsets []int64
}

func (t *transfers) next() int64 { return t.first + int64(len(t.offsets)) }

// takeOn gives waiting messages to a route. Those that do not wait any more are left;
// with order by key, those too that come behind another one of their key which waits
// or is under way.
func (q *Queue) takeOn(c *Command) (taken int) {
	offsets := slices.Clone(c.Offsets)
	slices.Sort(offsets)
	offsets = slices.Compact(offsets)
	behind := map[uint32]bool{} // keys of which an earlier one waits
	at := q.head
	for _, offset := range offsets {
		if offset < 0 || offset >= q.end {
			continue
		}
		for ; q.settings.ByKey && at < offset; at++ {
			if _, gone := q.gone[at]; !gone && q.items.get(at) == nil {
				behind[q.keys[at-q.head]] = true
			}
		}
		it := q.items.get(offset)
		if it == nil {
			if _, gone := q.gone[offset]; gone || offset < q.head || q.settings.ByKey && !q.mayTake(offset, behind) {
				continue
			}
			it = q.pick(offset)
		} else if it.state != Waiting || it.key != 0 && !q.holds(it) {
			continue
		}
		q.give(c.Route, it)
		taken++
	}
	return taken
}

// mayTake reports whether nothing of the key of an untouched message is before it.
func (q *Queue) mayTake(offset int64, behind map[uint32]bool) bool {
	key := q.keys[offset-q.head]
	return key == 0 || !behind[key] && q.lanes[key] == nil
}

// holds reports whether an item is the next of its key.
func (q *Queue) holds(it *item) bool {
	l := q.lanes[it.key]
	return l == nil || l.holder == it.offset && !l.busy
}

func (q *Queue) give(route uuid.UUID, it *item) {
	t := q.taken[route]
	if t == nil {
		t = &transfers{}
		q.taken[route] = t
	}
	q.move(it, Taken)
	q.leave(it)
	it.serial, it.due = uint64(t.next()), q.now
	t.offsets = append(t.offsets, it.offset)
}

// Sent tells that a route has sent what it took, or copied, with numbers below one: that
// is done.
func (q *Queue) Sent(route uuid.UUID, number int64) {
	if c := q.copied[route]; c != nil {
		c.sent(number)
	}
	t := q.taken[route]
	for t != nil && len(t.offsets) > 0 && t.first < number {
		if it := q.items.get(t.offsets[0]); it != nil && it.state == Taken {
			q.counts.Accepted++
			q.finish(it, Event{Kind: SentOn, At: q.now, Began: it.due, Who: "route"})
		}
		t.first, t.offsets = t.first+1, t.offsets[1:]
	}
	q.findOldest()
}

// EndRoute gives back what a route has taken and not sent.
func (q *Queue) EndRoute(route uuid.UUID) {
	delete(q.copied, route)
	if t := q.taken[route]; t != nil {
		for _, offset := range t.offsets {
			if it := q.items.get(offset); it != nil && it.state == Taken {
				q.wait(it)
			}
		}
		delete(q.taken, route)
		q.starved = false
	}
}

// NextNumber returns the number that the next message has which a route takes or copies.
func (q *Queue) NextNumber(route uuid.UUID) int64 {
	if t := q.taken[route]; t != nil {
		return t.next()
	}
	if c := q.copied[route]; c != nil {
		return c.next()
	}
	return 0
}

// Transfers returns the offsets of what a route has taken with numbers from one to
// another one, and the first number that is not sent yet.
func (q *Queue) Transfers(route uuid.UUID, from, to int64) (offsets []int64, first int64) {
	t := q.taken[route]
	if t == nil {
		return nil, 0
	}
	from, to = max(from, t.first), min(to, t.next())
	if from < to {
		offsets = slices.Clone(t.offsets[from-t.first : to-t.first])
	}
	return offsets, t.first
}
