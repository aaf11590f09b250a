package job

import "time"

// Turn is how often a job does what is due.
const Turn = 200 * time.Millisecond

// Pace tells how much is due, so that over time no more is done than the rate
// allows.
type Pace struct {
	owed float64
	last time.Time
}

// Due returns how much may be done now at a rate of so many a second, and counts
// it as done. The first call allows what one turn brings. What was not used in
// time is lost: a pause is not followed by a flood.
func (p *Pace) Due(now time.Time, rate float64) int {
	if p.last.IsZero() {
		p.last = now.Add(-Turn)
	}
	p.owed = min(p.owed+rate*now.Sub(p.last).Seconds(), 2*rate*Turn.Seconds()+1)
	p.last = now
	due := int(p.owed)
	p.owed -= float64(due)
	return due
}

// Unused gives back what was not done.
func (p *Pace) Unused(n int) { p.owed += float64(n) }
