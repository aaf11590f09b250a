package endpoint

import "time"

const (
	// failAfter is how many failures in a row, of whichever messages, say that it is
	// the place that fails.
	failAfter = 4
	// firstRate is the deliveries a second after a place has come back; the rate
	// doubles each second in which something was delivered and nothing failed, and
	// fullRate is that which is no limit any more.
	firstRate = 4
	fullRate  = 4096
)

// Health is how a place outside does, as all nodes tell each other.
type Health struct {
	FailingSince time.Time `json:"failingSince"` // zero: it does not
	LastGood     time.Time `json:"lastGood"`
	NextTry      time.Time `json:"nextTry"` // while it fails
	Failures     int       `json:"failures"`
	Last         Answer    `json:"last"`          // the last one, good or bad
	Ends         time.Time `json:"ends,omitzero"` // of the certificate that the place has shown last
}

// Failing reports whether deliveries wait.
func (h *Health) Failing() bool { return !h.FailingSince.IsZero() }

// Breaker holds deliveries back while a place fails: then one message at a time is
// tried, and after a success the rate grows from a small one. It is for one goroutine
// at a time.
type Breaker struct {
	Health
	probing bool
	rate    float64   // deliveries a second; 0: no limit
	raised  time.Time // when the rate was raised
	next    time.Time // before which no delivery begins, at the rate
	row     int       // failures in a row
	first   time.Time // the first of those
}

// Ask tells how long a delivery has to wait. While the place fails, it asks again after
// that; with 0 it may begin, and probe tells that it is the one by which it is seen whether
// the place is back. Else its turn is after that, and it need not ask again. Each that
// begins ends with Good, Bad or Cancel.
func (b *Breaker) Ask(now time.Time) (wait time.Duration, probe bool) {
	if b.Failing() {
		if b.probing {
			return time.Second, false
		}
		if wait := b.NextTry.Sub(now); wait > 0 {
			return wait, false
		}
		b.probing = true
		return 0, true
	}
	if b.rate == 0 {
		return 0, false
	}
	turn := later(b.next, now)
	b.next = turn.Add(time.Duration(float64(time.Second) / b.rate))
	return turn.Sub(now), false
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// Good takes on that a delivery was answered: well, or so that it is the message's
// fault. back tells that the place was failing until now.
func (b *Breaker) Good(a Answer) (back bool) {
	back = b.Failing()
	b.LastGood = a.At
	b.answered(a)
	b.row, b.Failures, b.probing = 0, 0, false
	if back {
		b.FailingSince, b.NextTry = time.Time{}, time.Time{}
		b.rate, b.raised, b.next = firstRate, a.At, a.At
	}
	if b.rate > 0 && a.At.Sub(b.raised) >= time.Second {
		if b.rate, b.raised = b.rate*2, a.At; b.rate >= fullRate {
			b.rate = 0
		}
	}
	return back
}

func (b *Breaker) answered(a Answer) {
	b.Last = a
	if !a.Ends.IsZero() {
		b.Ends = a.Ends
	}
}

// Bad takes on that a delivery failed by the place's fault. pause is how long to wait
// after so many failures (from 1). fails tells that the place counts as failing from
// now on.
func (b *Breaker) Bad(a Answer, pause func(failures int) time.Duration) (fails bool) {
	b.answered(a)
	if b.row == 0 {
		b.first = a.At
	}
	b.row++
	b.raised = a.At
	if b.Failing() {
		if b.probing {
			b.Failures++
			b.NextTry = a.At.Add(max(pause(b.Failures), a.After))
		}
		b.probing = false
		return false
	}
	if b.row < failAfter && a.After == 0 {
		return false
	}
	b.FailingSince, b.Failures = b.first, 1
	b.NextTry = a.At.Add(max(pause(1), a.After))
	return true
}

// Cancel takes back a delivery that came to no end.
func (b *Breaker) Cancel() { b.probing = false }

// TryNow has a failing place tried at once.
func (b *Breaker) TryNow(now time.Time) {
	if b.Failing() {
		b.NextTry = now
	}
}

// Rate is the deliveries a second that are let through at most; 0: there is no limit.
func (b *Breaker) Rate() float64 { return b.rate }

// Adopt takes on how the place does as another node has seen it later.
func (b *Breaker) Adopt(h Health) {
	switch {
	case h.Failing() && !b.Failing() && h.FailingSince.After(b.LastGood):
		b.Health = h
	case h.Failing() && b.Failing() && h.NextTry.After(b.NextTry) && !b.probing:
		b.Health = h
	case !h.Failing() && b.Failing() && h.LastGood.After(b.FailingSince) && h.LastGood.After(b.Last.At):
		b.Good(h.Last)
	}
	b.LastGood = later(b.LastGood, h.LastGood)
	if b.Ends.IsZero() {
		b.Ends = h.Ends
	}
}

// GivesUp reports whether a message is not to be tried any more: it is older than the
// limit, and it, or the place, has been failing for as long.
func GivesUp(now, stored, failing time.Time, limit time.Duration) bool {
	return limit > 0 && !failing.IsZero() && now.Sub(later(stored, failing)) >= limit
}
