package queue

import (
	"github.com/cespare/xxhash/v2"
)

// again makes an item ready after an attempt: it stays before those of its
// key that came later.
func (q *Queue) again(it *item) {
	q.leave(it)
	q.wait(it)
}

// bury makes a dead letter of an item. Its last event says why.
func (q *Queue) bury(it *item, reason string) {
	q.lay(it, reason)
	q.copy(it)
}

// lay puts an item among the dead letters.
func (q *Queue) lay(it *item, reason string) {
	s := q.story(it)
	s.cause = causeID(reason, s.pattern)
	c := q.causes[s.cause]
	if c == nil {
		c = &causeText{reason: reason, pattern: s.pattern}
		q.causes[s.cause] = c
	}
	s.pattern = c.pattern // one string for all
	c.count++
	q.move(it, Dead)
	q.leave(it)
	it.due = q.now
	q.deads.push(place{q.now, it.offset})
}

// causeID is the cause of a dead letter: a number made from its reason and the
// pattern of its detail.
func causeID(reason, pattern string) uint64 {
	return xxhash.Sum64String(reason+"\x00"+pattern)&(1<<32-1) | 1
}

// exhume takes a dead letter out of the count of its cause.
func (q *Queue) exhume(it *item) {
	cause := q.story(it).cause
	if c := q.causes[cause]; c != nil {
		if c.count--; c.count == 0 {
			delete(q.causes, cause)
		}
	}
}

// failed ends an attempt without acceptance: the message waits, is delayed,
// or, after the last attempt, becomes a dead letter.
func (q *Queue) failed(it *item, e Event, after int64) {
	if q.settings.Attempts > 0 && int(it.attempts) >= q.settings.Attempts {
		q.note(it, e)
		q.note(it, Event{Kind: UsedUp, At: q.now, Reason: ReasonUsedUp, Detail: lastDetail(q.story(it).history)})
		q.bury(it, ReasonUsedUp)
		q.counts.Rejected++
		return
	}
	q.note(it, e)
	if after > 0 {
		q.delay(it, q.now+after)
	} else {
		q.again(it)
	}
}

func lastDetail(history []Event) Ref {
	for i := len(history) - 1; i >= 0; i-- {
		if history[i].Detail != (Ref{}) {
			return history[i].Detail
		}
	}
	return Ref{}
}
