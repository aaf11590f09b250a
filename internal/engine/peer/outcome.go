package peer

import (
	"encoding/json"
	"errors"

	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/link"
	"steadyferry/internal/engine/replica"
)

// NotDone says why something was not done where it was asked, or, when that is
// not sure, may have been. It may be worth another try.
type NotDone struct {
	Reason error
	Sure   bool // that it was not done
}

func (e *NotDone) Error() string { return e.Reason.Error() }
func (e *NotDone) Unwrap() error { return e.Reason }

// NotLed says that what was to be done here is not led here: surely nothing
// was done.
func NotLed() error { return &NotDone{Reason: replica.ErrNotLeading, Sure: true} }

// What the answer to a call that changes something begins with.
const (
	isDone    = 0 // what was done follows
	isProblem = 1 // a problem.Problem as JSON
	notDone   = 2 // surely not: the reason
	isUnsure  = 3 // perhaps: the reason
)

// reasons are the errors that are the same at the other node.
var reasons = []error{replica.ErrNotLeading, replica.ErrNoMajority, replica.ErrDiskFull, replica.ErrFailed}

// Done begins an answer with what was done.
func Done(body []byte) []byte { return append([]byte{isDone}, body...) }

// Undone is the answer when something was not done: a problem as it is, with
// which the asker is done too, or why it may be tried again.
func Undone(err error, address string) []byte {
	var failed *NotDone
	if errors.As(err, &failed) {
		kind, reason := byte(isUnsure), reasons[0]
		if failed.Sure {
			kind = notDone
		}
		for _, known := range reasons {
			if errors.Is(failed.Reason, known) {
				reason = known
			}
		}
		return append([]byte{kind}, reason.Error()...)
	}
	var known *problem.Problem
	if !errors.As(err, &known) {
		known = problem.New(problem.Unavailable, "%s: %v", address, err)
	}
	b, err := json.Marshal(known)
	if err != nil {
		panic(err) // plain values
	}
	return append([]byte{isProblem}, b...)
}

// Outcome reads what Call returned of an answer by Done or Undone: what was
// done, or a *problem.Problem or *NotDone.
func Outcome(out []byte, err error) ([]byte, error) {
	switch {
	case errors.As(err, new(*link.Refused)):
		return nil, NotLed()
	case err != nil, len(out) == 0:
		return nil, &NotDone{Reason: errors.Join(err, replica.ErrNotLeading)}
	case out[0] == isDone:
		return out[1:], nil
	case out[0] == isProblem:
		p := &problem.Problem{}
		if err := json.Unmarshal(out[1:], p); err != nil {
			return nil, err
		}
		return nil, p
	}
	failed := &NotDone{Reason: reasons[0], Sure: out[0] == notDone}
	for _, known := range reasons {
		if string(out[1:]) == known.Error() {
			failed.Reason = known
		}
	}
	return nil, failed
}
