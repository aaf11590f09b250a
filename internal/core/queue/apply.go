package queue

import "steadyferry/internal/core/message"

// Status is how a settlement ended.
type Status uint8

// How a settlement can end. Only after Done anything has changed.
const (
	Done    Status = iota
	NotHeld        // the lease ran out, or was settled before
	Unknown        // there never was such a lease
)

// Settled is the answer to a Settlement, in its place.
type Settled struct {
	Status   Status
	State    State // of the message now, 0: done
	Deadline int64 // after an extension
}

// Handed is a message that was leased.
type Handed struct {
	Offset   int64
	Serial   uint64
	Attempt  int
	Deadline int64
	Returns  int    // how often it had come back from the dead letters
	Home     uint64 // record with its content, 0: the batch in which it came
	Edited   uint64 // record with its edited content
}

// Result is what a command brought about.
type Result struct {
	Settled []Settled
	Handed  []Handed
	Changed int // messages that a return, discard, … changed
	Time    int64
}

// Apply carries out a command of the record with the index.
func (q *Queue) Apply(index uint64, stamp message.Stamp, c *Command) Result {
	q.advance(stamp.Time)
	r := Result{Time: q.now}
	switch c.Op {
	case OpWork:
		if len(c.Settle) > 0 {
			r.Settled = make([]Settled, len(c.Settle))
		}
		for i := range c.Settle {
			r.Settled[i] = q.settle(index, c.Who, &c.Settle[i])
		}
		r.Handed = q.lease(c)
	case OpConfigure:
		q.configure(*c.Settings)
	case OpReturn, OpDiscard, OpUndo, OpSendOn, OpEdit:
		r.Changed = q.act(index, c)
	case OpTake:
		r.Changed = q.takeOn(c)
	case OpCarry:
		for i := range c.Carried {
			if q.carry(index, &c.Carried[i]) {
				r.Changed++
			}
		}
	case OpCarryLetters:
		for i := range c.Carried {
			if q.carryLetter(index, &c.Carried[i]) {
				r.Changed++
			}
		}
	}
	q.findOldest()
	return r
}

func (q *Queue) configure(s Settings) {
	if s.ByKey && !q.settings.ByKey {
		q.keys = make([]uint32, q.end-q.head)
	}
	if !s.ByKey {
		q.keys = nil
	}
	q.settings = s
}

func (q *Queue) settle(index uint64, who string, s *Settlement) Settled {
	it := q.items.get(s.Offset)
	if it == nil || it.state != Leased || it.serial != s.Serial {
		if s.Offset >= q.end || s.Serial > q.serial || s.Serial == 0 {
			return Settled{Status: Unknown}
		}
		return Settled{Status: NotHeld}
	}
	switch s.Outcome {
	case Accept:
		q.counts.Accepted++
		run := q.leases.run(it)
		q.finish(it, Event{Kind: Accepted, At: q.now, Began: run.began, Who: run.member})
		return Settled{}
	case Extend:
		span := s.After
		if span <= 0 {
			span = q.settings.Lease
		}
		it.due = q.now + span
		q.leases.down(int(it.heapAt))
		q.leases.up(int(it.heapAt))
		return Settled{State: Leased, Deadline: it.due}
	}
	run := q.leases.run(it)
	e := Event{Kind: Released, At: q.now, Began: run.began, Who: run.member, Reason: s.Reason}
	if s.Detail != "" {
		e.Detail = Ref{Index: index, At: s.detailAt, Size: uint32(len(s.Detail))}
		q.story(it).pattern = Pattern(s.Detail)
	}
	if s.Outcome == Reject {
		e.Kind = Rejected
		if s.Detail == "" {
			q.story(it).pattern = ""
		}
		q.note(it, e)
		q.bury(it, s.Reason)
		q.counts.Rejected++
		return Settled{State: Dead}
	}
	after := s.After
	if after == Auto {
		after = q.settings.Backoff(int(it.attempts))
	}
	if s.Untouched {
		it.attempts--
		if after > 0 {
			q.delay(it, q.now+after)
		} else {
			q.again(it)
		}
	} else {
		q.failed(it, e, after)
	}
	return Settled{State: it.state}
}

// lease hands out up to c.Max messages: first those that came back, by
// offset, then those that nobody had yet.
func (q *Queue) lease(c *Command) (handed []Handed) {
	if c.Max <= 0 {
		return nil
	}
	run := &handout{member: c.Who, began: q.now}
	span := c.For
	if span <= 0 {
		span = q.settings.Lease
	}
	handed = make([]Handed, 0, min(c.Max, 128))
	for len(handed) < c.Max {
		if c.AtOnce && len(q.ready) == 0 && !q.settings.ByKey && q.passPlain() {
			q.serial++
			handed = append(handed, Handed{Offset: q.head - 1, Serial: q.serial, Attempt: 1})
			continue
		}
		it := q.nextReady()
		if it == nil {
			it = q.fresh()
		}
		if it == nil {
			q.starved = true
			break
		}
		q.serial++
		q.counts.Attempts++
		it.attempts++
		h := Handed{Offset: it.offset, Serial: q.serial, Attempt: int(it.attempts), Deadline: q.now + span}
		if s := q.storyOf(it); s != nil {
			h.Home, h.Edited, h.Returns = s.home, s.edited, s.returns()
		}
		if c.AtOnce {
			q.counts.Accepted++
			q.finish(it, Event{Kind: Accepted, At: q.now, Began: q.now, Who: c.Who})
		} else {
			q.move(it, Leased)
			it.serial, it.due = q.serial, h.Deadline
			q.leases.push(hold{it, run})
			if it.key != 0 {
				q.lanes[it.key].busy, it.holds = true, true
			}
		}
		handed = append(handed, h)
	}
	return handed
}

func (s *story) returns() (n int) {
	for _, e := range s.history {
		if e.Kind == Returned {
			n++
		}
	}
	return n
}

// passPlain takes the message at the head if nothing is known of it.
func (q *Queue) passPlain() bool {
	if q.head == q.end || !q.untouched() || q.past[q.head] != nil {
		return false
	}
	if len(q.expires) > 0 {
		delete(q.expires, q.head)
	}
	q.pass()
	q.counts.Waiting--
	q.counts.Attempts++
	q.counts.Accepted++
	return true
}

func (q *Queue) nextReady() *item {
	for len(q.ready) > 0 {
		it := q.items.get(q.ready.pop().offset)
		if it == nil || it.state != Waiting {
			continue
		}
		if it.key != 0 {
			if l := q.lanes[it.key]; l == nil || l.busy || l.holder != it.offset {
				continue
			}
		}
		return it
	}
	return nil
}

// fresh takes the first message behind the head that may be leased. With
// order by key it puts aside those whose key is under way.
func (q *Queue) fresh() *item {
	for q.head < q.end {
		if !q.untouched() {
			q.pass() // delayed, discarded, dead or done: it comes on its own, if at all
			continue
		}
		if q.loose >= max(q.settings.MaxBlocked, 1) && q.settings.ByKey {
			return nil
		}
		it := q.pick(q.head)
		q.pass()
		if it.key == 0 {
			return it
		}
		if l := q.lanes[it.key]; l != nil {
			l.behind.push(place{it.offset, it.offset})
			continue
		}
		q.lanes[it.key] = &lane{holder: it.offset}
		return it
	}
	return nil
}

// act carries out what an operator does to messages; those whose state does
// not go with it are left as they are.
func (q *Queue) act(index uint64, c *Command) (changed int) {
	e := Event{At: q.now, Who: c.Who, Reason: c.Reason}
	if c.Detail != "" {
		e.Detail = Ref{Index: index, At: c.detailAt, Size: uint32(len(c.Detail))}
	}
	for _, offset := range c.Offsets {
		if q.actOn(index, c, offset, e) {
			changed++
		}
	}
	return changed
}

func (q *Queue) actOn(index uint64, c *Command, offset int64, e Event) bool {
	it := q.items.get(offset)
	if it == nil {
		if _, gone := q.gone[offset]; gone || c.Op != OpDiscard || offset < q.head || offset >= q.end {
			return false
		}
		it = q.pick(offset)
	}
	switch {
	case c.Op == OpReturn && it.state == Dead:
		e.Kind = Returned
		q.note(it, e)
		q.exhume(it)
		it.attempts, it.expires, it.stored = 0, 0, 0
		if c.After > 0 {
			q.delay(it, q.now+c.After)
		} else {
			q.wait(it)
		}
	case c.Op == OpEdit && it.state == Dead:
		e.Kind = Edited
		q.note(it, e)
		q.story(it).edited = index
	case c.Op == OpSendOn && it.state == Dead:
		e.Kind = SentOn
		q.note(it, e)
		q.discard(it)
	case c.Op == OpDiscard && (it.state == Dead || it.state == Waiting || it.state == Delayed):
		e.Kind = DiscardedBy
		q.note(it, e)
		q.discard(it)
	case c.Op == OpUndo && it.state == Discarded:
		e.Kind = BroughtBack
		q.note(it, e)
		q.undo(it)
	default:
		return false
	}
	return true
}

func (q *Queue) discard(it *item) {
	it.was = it.state
	if it.state == Dead {
		q.exhume(it)
	}
	if it.state == Delayed {
		q.story(it).wasDue = it.due
	}
	q.move(it, Discarded)
	q.leave(it)
	it.due = q.now
	q.discards.push(place{q.now, it.offset})
}

func (q *Queue) undo(it *item) {
	s := q.story(it)
	switch was := it.was; {
	case was == Dead:
		q.lay(it, reasonOf(s.history)) // it was one before: routes have had it
	case was == Delayed && s.wasDue > q.now:
		q.delay(it, s.wasDue)
	case it.offset >= q.head && it.attempts == 0:
		// It waits behind the head again, as if nothing had been.
		q.move(it, Waiting)
		q.loose--
		q.starved = false
		if it.expires > 0 {
			q.expires[it.offset] = it.expires
			q.expiries.push(place{it.expires, it.offset})
		}
		q.oldest = min(q.oldest, it.offset)
		q.past[it.offset] = s
		delete(q.stories, it.offset)
		q.items.remove(it.offset)
	default:
		q.wait(it)
	}
}

// carry notes where the bytes of a message are from now on.
func (q *Queue) carry(index uint64, c *Carried) bool {
	it := q.items.get(c.Offset)
	if it == nil {
		return false
	}
	s := q.story(it)
	s.home = index
	if len(c.Edited) > 0 {
		s.edited = index
	}
	n := 0
	for i := range s.history {
		d := &s.history[i].Detail
		if d.Index == 0 || n == len(c.Details) {
			continue
		}
		*d = Ref{Index: index, At: c.detailsAt[n], Size: uint32(len(c.Details[n]))}
		n++
	}
	return true
}
