package replay

import "time"

// Step is how often a replay sends what is due.
const Step = 200 * time.Millisecond

// MaxStep is how many messages go in one step at most; a rate may take several
// steps at a time.
const MaxStep = 5000

// Pace tells how many messages are due, so that over time no more go than the
// rate allows.
type Pace struct {
	owed float64
	last time.Time
}

// Due returns how many messages may go now at a rate of so many a second, and
// counts them as sent. The first call allows what one step brings. What was not
// used in time is lost: a pause is not followed by a flood.
func (p *Pace) Due(now time.Time, rate float64) int {
	if p.last.IsZero() {
		p.last = now.Add(-Step)
	}
	p.owed = min(p.owed+rate*now.Sub(p.last).Seconds(), 2*rate*Step.Seconds()+1)
	p.last = now
	due := int(p.owed)
	p.owed -= float64(due)
	return due
}

// Unused gives back what was not sent.
func (p *Pace) Unused(n int) { p.owed += float64(n) }

// TooMany reports whether so many of the sent messages failed again that a
// replay must stop: more than the share, of at least enough to judge by.
func TooMany(sent, failed int64, above float64) bool {
	return failed >= minFailed && float64(failed) > above*float64(sent)
}

// minFailed is from how many failures on a replay is judged.
const minFailed = 5
