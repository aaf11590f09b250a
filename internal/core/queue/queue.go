package queue

import (
	"github.com/cespare/xxhash/v2"
	"github.com/google/uuid"

	"steadyferry/internal/core/message"
)

// item is a message that is not simply waiting behind the head, nor done.
type item struct {
	offset   int64
	due      int64  // leased: deadline; delayed: when it waits again; dead, discarded: since when
	expires  int64  // 0: never
	stored   int64  // about when it was published, 0: not known
	serial   uint64 // of its lease
	key      uint32 // hash, 0 without a key or order
	heapAt   int32  // place among the leases
	attempts uint16
	state    State
	was      State // of what is discarded
	holds    bool  // leased, or delayed after an attempt: what follows of its key waits
	told     bool  // it has a story
}

// handout is what one member was given at one time.
type handout struct {
	member string
	began  int64
}

// story is what happened to a message, and where its bytes are.
type story struct {
	history []Event
	cause   uint64 // of a dead letter
	home    uint64 // record with its content; 0: the batch in which it came
	edited  uint64 // record with its edited content; 0: none
	wasDue  int64  // of what was discarded while it was delayed
	pattern string // of the last detail
	from    string // of a dead letter of a group: where it was read
}

// story returns what happened to an item, and begins it if nothing has yet.
func (q *Queue) story(it *item) *story {
	s := q.stories[it.offset]
	if s == nil {
		s = &story{}
		q.stories[it.offset] = s
		it.told = true
	}
	return s
}

// storyOf returns what happened to an item, nil if nothing has yet.
func (q *Queue) storyOf(it *item) *story {
	if !it.told {
		return nil
	}
	return q.stories[it.offset]
}

// Finished is the story of a message that is done, kept for a while for those
// to which more happened than an acceptance at the first attempt.
type Finished struct {
	Offset       int64
	Home, Edited uint64 // as of an item
	History      []Event
}

// Limits of what a partition keeps in mind.
const (
	maxFinished = 4096   // stories of messages that are done
	maxDue      = 10_000 // changes that time brings about in one step
	maxHistory  = 1000   // events of a message; beyond it the oldest go
)

// DefaultMaxBlocked is how many messages a queue with order by key looks past
// because an earlier one of their key is not done.
const DefaultMaxBlocked = 100_000

// lane is a key of which a message is under way: its holder is leased, about
// to be leased again, or the next to be leased; the others wait behind it.
type lane struct {
	holder int64
	busy   bool // leased, or delayed after an attempt
	behind dueHeap
}

type causeText struct {
	reason, pattern string
	count           int64
}

// Queue is the state of a queue's partition. It is for one goroutine at a
// time.
type Queue struct {
	settings Settings
	head     int64 // offset of the first message that was never looked at
	end      int64
	oldest   int64  // no offset before it is untouched
	serial   uint64 // of the last lease
	now      int64
	counts   Counts
	loose    int  // items that wait
	starved  bool // the last lease found nothing more, and nothing has come since

	items    shelf
	stories  map[int64]*story   // of items
	past     map[int64]*story   // of messages behind the head to which something happened
	gone     map[int64]struct{} // behind the head, and done
	expires  map[int64]int64    // of messages behind the head with an expiry of their own
	stored   []place            // the first message behind the head of every second
	keys     []uint32           // of the messages behind the head, with order by key
	ready    dueHeap            // at is the offset too
	leases   leaseHeap
	delays   dueHeap
	expiries dueHeap
	deads    dueHeap
	discards dueHeap
	lanes    map[uint32]*lane
	causes   map[uint64]*causeText
	taken    map[uuid.UUID]*transfers // by routes
	copied   map[uuid.UUID]*copying   // by routes that read the dead letters
	origins  map[string]int64         // of dead letters that came from a group: from to offset
	finished []Finished               // a ring; turn is the oldest
	turn     int
}

// New returns the state of an empty log.
func New() *Queue {
	return &Queue{items: newShelf(), stories: map[int64]*story{}, past: map[int64]*story{}, gone: map[int64]struct{}{}, expires: map[int64]int64{}, lanes: map[uint32]*lane{}, causes: map[uint64]*causeText{}, taken: map[uuid.UUID]*transfers{}, copied: map[uuid.UUID]*copying{}, origins: map[string]int64{}}
}

// KeyHash is the hash by which messages of one key are told from others; two
// keys with the same one only wait for each other.
func KeyHash(key string) uint32 {
	if key == "" {
		return 0
	}
	return uint32(xxhash.Sum64String(key)>>32) | 1
}

// Publish puts the messages of a batch into the queue. Those with terms or,
// with order by key, all of them are looked at.
func (q *Queue) Publish(stamp message.Stamp, batch message.Batch) {
	q.advance(stamp.Time)
	if q.head == q.end {
		q.stored = q.stored[:0]
	}
	if n := len(q.stored); n == 0 || stamp.Time-q.stored[n-1].at >= 1e6 {
		q.stored = append(q.stored, place{stamp.Time, stamp.Offset})
	}
	q.end = stamp.End()
	q.starved = false
	q.counts.Waiting += int64(stamp.Count)
	offset := stamp.Offset
	if q.settings.ByKey || batch.HasTerms() {
		for m, err := range batch.Messages() {
			if err != nil || offset == q.end {
				break
			}
			if q.settings.ByKey {
				q.keys = append(q.keys, KeyHash(m.Key))
			}
			if m.Terms != nil {
				q.onTerms(offset, m)
			}
			offset++
		}
	}
	if q.settings.ByKey {
		for ; offset < q.end; offset++ {
			q.keys = append(q.keys, 0)
		}
	}
	q.findOldest()
}

func (q *Queue) onTerms(offset int64, m *message.Message) {
	t := m.Terms
	if t.Reason != "" {
		it := q.pick(offset)
		if t.From != "" {
			if _, known := q.origins[t.From]; known {
				q.drop(it) // its member said so twice
				return
			}
			q.origins[t.From] = offset
		}
		s := q.story(it)
		s.from, s.pattern = t.From, Pattern(t.Detail)
		s.history = []Event{{Kind: Rejected, At: q.now, Who: t.By, Reason: t.Reason, Detail: InTerms}}
		q.bury(it, t.Reason)
		q.counts.Rejected++
		return
	}
	if !t.Expires.IsZero() {
		q.expires[offset] = t.Expires.UnixMicro()
		q.expiries.push(place{t.Expires.UnixMicro(), offset})
	}
	if at := t.NotBefore; !at.IsZero() && at.UnixMicro() > q.now {
		it := q.pick(offset)
		it.due = at.UnixMicro()
		q.move(it, Delayed)
		q.delays.push(place{it.due, offset})
	}
}

// InTerms is the Ref of a detail that is part of the message's own terms.
var InTerms = Ref{At: 1}

// pick makes an item of a message behind the head.
func (q *Queue) pick(offset int64) *item {
	one := item{offset: offset, state: Waiting, stored: q.storedAt(offset)}
	if s := q.past[offset]; s != nil {
		q.stories[offset], one.told = s, true
		delete(q.past, offset)
	}
	if at, ok := q.expires[offset]; ok {
		one.expires = at
		delete(q.expires, offset)
	}
	if q.settings.ByKey {
		one.key = q.keys[offset-q.head]
	}
	q.loose++
	return q.items.add(one)
}

// findOldest moves oldest to the first message that nobody had and to which
// nothing has happened.
func (q *Queue) findOldest() {
	for q.oldest = max(q.oldest, q.head); q.oldest < q.end; q.oldest++ {
		if _, gone := q.gone[q.oldest]; !gone && q.items.get(q.oldest) == nil {
			return
		}
	}
}

func (q *Queue) storedAt(offset int64) int64 {
	for i := len(q.stored) - 1; i >= 0; i-- {
		if q.stored[i].offset <= offset {
			return q.stored[i].at
		}
	}
	return 0
}

// pass moves the head past one message.
func (q *Queue) pass() {
	delete(q.gone, q.head)
	q.head++
	if q.settings.ByKey {
		q.keys = q.keys[1:]
	}
	for len(q.stored) > 1 && q.stored[1].offset <= q.head {
		q.stored = q.stored[1:]
	}
}

// untouched reports whether the message at the head waits there and nowhere
// else.
func (q *Queue) untouched() bool {
	_, gone := q.gone[q.head]
	return !gone && q.items.get(q.head) == nil
}

// move changes an item's state and the counts.
func (q *Queue) move(it *item, to State) {
	*q.counts.of(it.state)--
	*q.counts.of(to)++
	if it.state == Waiting {
		q.loose--
	}
	if to == Waiting {
		q.loose++
	}
	if it.state == Leased {
		q.leases.remove(it)
	}
	it.state = to
}

// drop forgets an item: it is done.
func (q *Queue) drop(it *item) {
	q.move(it, 0)
	q.leave(it)
	if it.offset >= q.head {
		q.gone[it.offset] = struct{}{}
	}
	if s := q.storyOf(it); s != nil {
		if s.from != "" {
			delete(q.origins, s.from)
		}
		delete(q.stories, it.offset)
	}
	q.items.remove(it.offset)
}

// finish forgets an item with a story, and keeps the story for a while.
func (q *Queue) finish(it *item, e Event) {
	if s := q.storyOf(it); s != nil {
		q.note(it, e)
		f := Finished{Offset: it.offset, Home: s.home, Edited: s.edited, History: s.history}
		if len(q.finished) < maxFinished {
			q.finished = append(q.finished, f)
		} else {
			q.finished[q.turn] = f
			q.turn = (q.turn + 1) % maxFinished
		}
	}
	q.drop(it)
}

func (q *Queue) note(it *item, e Event) {
	s := q.story(it)
	if len(s.history) >= maxHistory {
		s.history = s.history[1:]
	}
	s.history = append(s.history, e)
}

// wait puts an item where it will be leased from.
func (q *Queue) wait(it *item) {
	q.move(it, Waiting)
	if at := q.expiry(it); at > 0 {
		q.expiries.push(place{at, it.offset})
	}
	q.join(it)
}

func (q *Queue) makeReady(offset int64) {
	q.ready.push(place{offset, offset})
	q.starved = false
}

// join makes a waiting item ready, or puts it behind others of its key.
func (q *Queue) join(it *item) {
	if it.key == 0 {
		q.makeReady(it.offset)
		return
	}
	l := q.lanes[it.key]
	switch {
	case l == nil:
		q.lanes[it.key] = &lane{holder: it.offset}
	case l.holder == it.offset && !l.busy:
	case !l.busy && it.offset < l.holder:
		l.behind.push(place{l.holder, l.holder})
		l.holder = it.offset
	default:
		l.behind.push(place{it.offset, it.offset})
		return
	}
	q.makeReady(it.offset)
}

// leave lets the next of its key go on when an item no longer holds it up.
func (q *Queue) leave(it *item) {
	l := q.lanes[it.key]
	if it.key == 0 || l == nil || l.holder != it.offset {
		return
	}
	it.holds = false
	for len(l.behind) > 0 {
		next := q.items.get(l.behind.pop().offset)
		if next != nil && next.state == Waiting && next.offset != it.offset {
			l.holder, l.busy = next.offset, false
			q.makeReady(next.offset)
			return
		}
	}
	delete(q.lanes, it.key)
}
