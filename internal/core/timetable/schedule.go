// Package timetable decides when chores run: by the clock, after a pause, or when an incident
// begins; and what is done of what was missed. It has no clock of its own.
package timetable

import (
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
)

// Late is how late a run may begin and not count as missed: nodes take over from each other
// in less.
const Late = time.Minute

// Schedule is when a chore runs.
type Schedule struct {
	clock *clockTimes
	every time.Duration
	watch string
	rest  time.Duration
	daily int
	skip  bool
	from  time.Time // from when it counts
}

// New reads when a chore runs, which counts from a time on.
func New(c *setting.Chore, from time.Time) (*Schedule, error) {
	s := &Schedule{every: time.Duration(c.EveryMS) * time.Millisecond, watch: c.When, rest: time.Duration(c.RestMS) * time.Millisecond, daily: c.Daily, skip: c.Missed == setting.MissedSkip, from: from}
	ways := 0
	for _, set := range []bool{c.At != "", c.EveryMS != 0, c.When != ""} {
		if set {
			ways++
		}
	}
	if ways != 1 {
		return nil, problem.New(problem.Invalid, "it is said in %d ways when it runs", ways).Field("at").Allowed("one of at (times), every (a pause) and when (a watch)")
	}
	if c.At != "" {
		var err error
		if s.clock, err = readClock(c.At, c.Zone); err != nil {
			return nil, problem.New(problem.Invalid, "%v", err).Field("at").Allowed("minute, hour, day of the month, month, day of the week, and a zone")
		}
		if s.clock.next(from).IsZero() {
			return nil, problem.New(problem.Invalid, "%q is never: there is no such day", c.At).Field("at")
		}
	}
	return s, nil
}

// Watch is the address of the watch whose incidents make it run, empty for one by time.
func (s *Schedule) Watch() string { return s.watch }

// Next returns the first time behind another one at which it runs; zero when it runs by
// incidents.
func (s *Schedule) Next(after time.Time) time.Time {
	switch {
	case s.clock != nil:
		return s.clock.next(after)
	case s.every > 0:
		if after.Before(s.from) {
			return s.from.Add(s.every)
		}
		return s.from.Add((after.Sub(s.from)/s.every + 1) * s.every)
	}
	return time.Time{}
}

// Coming returns the next times at which it runs, so many.
func (s *Schedule) Coming(after time.Time, most int) (all []time.Time) {
	for at := s.Next(after); !at.IsZero() && len(all) < most; at = s.Next(at) {
		all = append(all, at)
	}
	return all
}

// Due is what is to be done of the times that have come.
type Due struct {
	At     time.Time // the last time that has come: all up to it are done with; zero for none
	Run    bool      // it runs now, for that time
	Missed int       // times before it that nobody ran; up to mostCounted
}

// mostCounted bounds how many missed times are counted.
const mostCounted = 1000

// Decide says what is due of the times behind one that is done with, up to now. When that is
// yet to come the clock was wrong once: it goes on from now.
func (s *Schedule) Decide(done, now time.Time) (d Due) {
	if done.Sub(now) > Late {
		return Due{At: now}
	}
	for at := s.Next(done); !at.IsZero() && !at.After(now); at = s.Next(at) {
		d.At = at
		if d.Missed++; d.Missed > mostCounted {
			d.At = s.lastUpTo(now)
			break
		}
	}
	if d.At.IsZero() {
		return d
	}
	d.Missed--
	if d.Run = !s.skip || now.Sub(d.At) <= Late; !d.Run {
		d.Missed++
	}
	return d
}

// lastUpTo is the last time up to now, of a schedule that has had many.
func (s *Schedule) lastUpTo(now time.Time) (last time.Time) {
	for back := time.Minute; last.IsZero(); back *= 4 {
		for at := s.Next(now.Add(-back)); !at.IsZero() && !at.After(now); at = s.Next(at) {
			last = at
		}
	}
	return last
}

// Incident reports whether an incident that has begun makes it run, after runs that began at
// the times given.
func (s *Schedule) Incident(now time.Time, runs []time.Time) bool {
	today := 0
	for _, at := range runs {
		if now.Sub(at) < s.rest {
			return false
		}
		if now.Sub(at) < 24*time.Hour {
			today++
		}
	}
	return today < s.daily
}

// Words tell when a chore runs, in a few words.
func Words(c *setting.Chore) string {
	switch {
	case c.At != "":
		return c.At + " " + c.Zone
	case c.EveryMS != 0:
		return "every " + address.FormatDuration(time.Duration(c.EveryMS)*time.Millisecond)
	}
	return "when " + c.When
}
