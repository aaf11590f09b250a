package queue

// delay keeps an item away until a time. After an attempt it still holds up
// what follows of its key.
func (q *Queue) delay(it *item, until int64) {
	q.move(it, Delayed)
	it.due = until
	q.delays.push(place{until, it.offset})
	if at := q.expiry(it); at > 0 {
		q.expiries.push(place{at, it.offset})
	}
	if it.attempts == 0 {
		q.leave(it)
	}
}

// expiry returns when an item expires, 0 if it does not.
func (q *Queue) expiry(it *item) int64 {
	at := it.expires
	if q.settings.Expire > 0 && it.stored > 0 {
		// A second later: stored is known to the second.
		if all := it.stored + q.settings.Expire + 1e6; at == 0 || all < at {
			at = all
		}
	}
	return at
}

// advance lets time pass: leases run out, delays end, messages expire, and
// what was kept long enough goes. At most maxDue things happen at once; the
// rest follow with the next command.
func (q *Queue) advance(t int64) {
	q.now = max(q.now, t)
	left := maxDue
	for left > 0 && len(q.leases) > 0 && q.leases[0].it.due <= q.now {
		it, run := q.leases[0].it, q.leases[0].run
		e := Event{Kind: RanOut, At: q.now, Began: run.began, Who: run.member}
		q.failed(it, e, q.settings.Backoff(int(it.attempts)))
		left--
	}
	left -= q.take(&q.delays, q.now, left, func(it *item, at int64) bool {
		if it == nil || it.state != Delayed || it.due != at {
			return false
		}
		q.again(it)
		return true
	})
	for left > 0 && len(q.expiries) > 0 && q.expiries[0].at <= q.now {
		p := q.expiries.pop()
		it := q.items.get(p.offset)
		if it == nil && p.offset >= q.head && q.expires[p.offset] == p.at {
			it = q.pick(p.offset)
		}
		if it != nil && (it.state == Waiting || it.state == Delayed) && q.expiry(it) == p.at {
			q.expire(it)
			left--
		}
	}
	left = q.expireOld(left)
	if q.settings.RetainDead > 0 {
		left -= q.take(&q.deads, q.now-q.settings.RetainDead, left, q.forgetDead)
	}
	q.take(&q.discards, q.now-q.settings.RetainDiscarded, left, func(it *item, at int64) bool {
		if it == nil || it.state != Discarded || it.due != at {
			return false
		}
		q.drop(it)
		return true
	})
}

func (q *Queue) forgetDead(it *item, at int64) bool {
	if it == nil || it.state != Dead || it.due != at {
		return false
	}
	q.exhume(it)
	q.drop(it)
	return true
}

func (q *Queue) take(h *dueHeap, upTo int64, most int, f func(it *item, at int64) bool) (done int) {
	for done < most && len(*h) > 0 && (*h)[0].at <= upTo {
		p := h.pop()
		if f(q.items.get(p.offset), p.at) {
			done++
		}
	}
	return done
}

// expireOld lets messages behind the head expire that the queue's own limit
// has passed; their times are known to the second.
func (q *Queue) expireOld(left int) int {
	for left > 0 && q.settings.Expire > 0 && q.head < q.end && len(q.stored) > 0 {
		if q.stored[0].at+q.settings.Expire+1e6 > q.now {
			break
		}
		if q.untouched() {
			q.expire(q.pick(q.head))
			left--
		}
		q.pass()
	}
	return left
}

func (q *Queue) expire(it *item) {
	if q.settings.DropExpired {
		q.finish(it, Event{Kind: Expired, At: q.now})
		return
	}
	q.note(it, Event{Kind: Expired, At: q.now, Reason: ReasonExpired})
	q.bury(it, ReasonExpired)
	q.counts.Rejected++
}
