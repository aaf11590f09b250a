package watch

import (
	"math"
	"time"
)

// State is what is known of one thing under a watch. The zero State is that of one that was
// never judged.
type State struct {
	Level Level     `json:"level"`
	Since time.Time `json:"since"` // it is at the level

	// Since when the figure has been at least as bad as a level without an end: what it
	// becomes when that has been long enough.
	Warns  time.Time `json:"warns,omitzero"`
	Alarms time.Time `json:"alarms,omitzero"`
	// Since when it has been better than the level that it is at.
	Better   time.Time `json:"better,omitzero"`
	BetterAs Level     `json:"betterAs,omitempty"` // the worst that it was since

	Unknown time.Time `json:"unknown,omitzero"` // since when there has been no figure
	Last    float64   `json:"last"`             // the last one that was known

	Begun  time.Time `json:"begun,omitzero"` // of the crossing that goes on: when the figure crossed
	Peak   float64   `json:"peak,omitempty"`
	PeakAt time.Time `json:"peakAt,omitzero"`
	Worst  Level     `json:"worst,omitempty"` // of the crossing
}

// Turn is what became of a thing in a step.
type Turn int

// The turns.
const (
	Stays Turn = iota
	Begins
	Rises // to an alarm
	Falls // to a warning
	Ends
)

// String is the turn's word.
func (t Turn) String() string { return [...]string{"stays", "begins", "rises", "falls", "ends"}[t] }

// Open reports whether a crossing goes on.
func (s *State) Open() bool { return s.Level > Calm }

// Step judges the next figure of a thing, which is sample.Unknown where none is. What is not
// known changes nothing: a crossing goes on, and what has lasted is not interrupted.
func (r *Rule) Step(s State, at time.Time, figure float64) (State, Turn) {
	if s.Since.IsZero() {
		s.Since = at
	}
	if math.IsNaN(figure) {
		if s.Unknown.IsZero() {
			s.Unknown = at
		}
		return s, Stays
	}
	s.Unknown, s.Last = time.Time{}, figure
	s.mark(r.levelOf(figure, s.Level), at)
	begins := !s.Open() && s.Warns.Equal(at)
	if begins || (s.Open() || !s.Warns.IsZero()) && r.Worse(figure, s.Peak) {
		s.Peak, s.PeakAt = figure, at
	}
	lasted := func(since time.Time) bool { return !since.IsZero() && at.Sub(since) >= r.For }
	switch {
	case s.Level < Alarm && lasted(s.Alarms):
		return s.to(Alarm, at)
	case s.Level < Warn && lasted(s.Warns):
		return s.to(Warn, at)
	case s.Open() && lasted(s.Better):
		return s.to(s.BetterAs, at)
	}
	return s, Stays
}

// levelOf is the level of a figure of a thing at a level: what is neither bad enough to begin
// nor good enough to end leaves it where it is.
func (r *Rule) levelOf(x float64, now Level) Level {
	reaches := func(level float64) bool { return x == level || r.Worse(x, level) }
	switch {
	case reaches(r.alarm), now == Alarm && r.Worse(x, r.calmAlarm):
		return Alarm
	case reaches(r.warn):
		return Warn
	case now > Calm && r.Worse(x, r.calm):
		return Warn
	}
	return Calm
}

// mark notes since when the figure has been at a level.
func (s *State) mark(is Level, at time.Time) {
	since := func(mark *time.Time, holds bool) {
		switch {
		case !holds:
			*mark = time.Time{}
		case mark.IsZero():
			*mark = at
		}
	}
	since(&s.Warns, is >= Warn)
	since(&s.Alarms, is >= Alarm)
	if is >= s.Level {
		s.Better, s.BetterAs = time.Time{}, Calm
		return
	}
	if s.Better.IsZero() {
		s.BetterAs = is
	}
	since(&s.Better, true)
	s.BetterAs = max(s.BetterAs, is)
}

// to changes the level.
func (s State) to(level Level, at time.Time) (State, Turn) {
	turn := Rises
	switch {
	case level == Calm:
		turn = Ends
	case s.Level == Calm:
		turn, s.Begun, s.Worst = Begins, s.Warns, level
	case level < s.Level:
		turn = Falls
	}
	s.Level, s.Since, s.Worst = level, at, max(s.Worst, level)
	s.Better, s.BetterAs = time.Time{}, Calm
	return s, turn
}
