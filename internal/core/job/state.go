// Package job decides about work that goes on by itself: in which states it is,
// what may be asked of it in each, how much of it is due, and when it must stop.
package job

import (
	"fmt"
	"slices"
)

// State is how a job is.
type State string

// States of jobs.
const (
	Running    State = "running"
	Paused     State = "paused"
	Cancelling State = "cancelling" // what it had begun goes back
	Done       State = "done"
	Cancelled  State = "cancelled"
	Halted     State = "halted" // by itself: too much failed again
	Failed     State = "failed"
)

// Open are the states of jobs that have not ended.
var Open = []State{Running, Paused, Cancelling}

// Ended reports whether a job in the state is over.
func (s State) Ended() bool { return !slices.Contains(Open, s) }

// Wishes are the states that may be asked for.
var Wishes = []State{Running, Paused, Cancelled}

// Ask returns the state of a job that is asked to be in another. One that goes
// back when it is cancelled (back) is cancelling first. An empty wish is none.
func (s State) Ask(wish State, back bool) (State, error) {
	switch {
	case s.Ended():
		return s, fmt.Errorf("it has ended: it is %s", s)
	case wish == "" || wish == s:
		return s, nil
	case !slices.Contains(Wishes, wish):
		return s, fmt.Errorf("state is %q", wish)
	case s == Cancelling:
		return s, fmt.Errorf("it is being cancelled already")
	case wish == Cancelled && back:
		return Cancelling, nil
	}
	return wish, nil
}

// Finish returns the state of a job that has nothing left to do.
func (s State) Finish() State {
	if s == Cancelling {
		return Cancelled
	}
	return Done
}

// minFailed is from how many failures on a job is judged.
const minFailed = 5

// TooMany reports whether so much of what was done failed again that a job must
// stop: more than the share, of at least enough to judge by.
func TooMany(done, failed int64, above float64) bool {
	return failed >= minFailed && float64(failed) > above*float64(done)
}
