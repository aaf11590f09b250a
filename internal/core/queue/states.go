// Package queue is the state that a queue's partition derives from its log:
// which messages wait, which are leased, delayed, dead or discarded, and what
// has happened to each. It is a deterministic function of the log: batches put
// messages into it, commands change them, and every command carries the time
// that the leader stamped on it. It reads no clock and no message from disk.
package queue

import "fmt"

// State is where a message of a queue is. The last one, done, is kept nowhere:
// a message that is behind the head and has no other state is done.
type State uint8

// The states of a message, and how they change:
//
//	by            from              to
//	publish       -                 waiting, delayed (not before), dead (a group's)
//	lease         waiting           leased; done if accepted at once
//	accept        leased            done
//	release       leased            waiting, delayed (after); dead after the last attempt
//	reject        leased            dead
//	run out       leased            waiting, delayed (backoff); dead after the last attempt
//	extend        leased            leased
//	due           delayed           waiting
//	expire        waiting, delayed  dead; done if the queue drops them
//	return        dead              waiting, delayed (after)
//	edit          dead              dead, with another content
//	discard       waiting, delayed, dead    discarded
//	take back     discarded         waiting, delayed, dead: what it was
//	send on       dead              discarded, as sent on
//	take          waiting           taken: a route sends it on
//	sent          taken             done
//	end           taken             waiting: the route has ended
//	forget        dead, discarded   done, when the time to keep them is over
const (
	Waiting State = iota + 1
	Leased
	Delayed
	Dead
	Discarded
	Taken
	states
)

var stateNames = [states]string{"done", "waiting", "leased", "delayed", "dead", "discarded", "taken"}

// String returns the state's name.
func (s State) String() string {
	if s < states {
		return stateNames[s]
	}
	return fmt.Sprintf("state %d", s)
}

// ParseState reads a state's name.
func ParseState(text string) (State, bool) {
	for s, name := range stateNames {
		if name == text && s > 0 {
			return State(s), true
		}
	}
	return 0, false
}

// StateNames lists the states of messages that are kept.
func StateNames() []string { return stateNames[1:] }

// Counts is how many messages are in each state. Done counts those that were
// accepted, dropped or forgotten.
type Counts struct {
	Waiting   int64 `json:"waiting"`
	Leased    int64 `json:"leased"`
	Delayed   int64 `json:"delayed"`
	Dead      int64 `json:"dead"`
	Discarded int64 `json:"discarded"`
	Taken     int64 `json:"taken"` // by routes, to send them on
	Accepted  int64 `json:"accepted"`
	Attempts  int64 `json:"attempts"` // leases handed out
	Rejected  int64 `json:"rejected"` // messages that became dead letters
}

// Kept is how many messages there are that are not settled.
func (c Counts) Kept() int64 { return c.Waiting + c.Leased + c.Delayed + c.Dead }

func (c *Counts) of(s State) *int64 {
	switch s {
	case Waiting:
		return &c.Waiting
	case Leased:
		return &c.Leased
	case Delayed:
		return &c.Delayed
	case Dead:
		return &c.Dead
	case Discarded:
		return &c.Discarded
	case Taken:
		return &c.Taken
	}
	return new(int64)
}

// Add adds the counts of another partition.
func (c *Counts) Add(o Counts) {
	c.Waiting += o.Waiting
	c.Leased += o.Leased
	c.Delayed += o.Delayed
	c.Dead += o.Dead
	c.Discarded += o.Discarded
	c.Taken += o.Taken
	c.Accepted += o.Accepted
	c.Attempts += o.Attempts
	c.Rejected += o.Rejected
}

// EventKind is what happened to a message.
type EventKind uint8

// The kinds of events in a message's history.
const (
	Released EventKind = iota + 1
	RanOut
	Rejected
	UsedUp // its last attempt ended without acceptance
	Expired
	Returned
	Edited
	DiscardedBy
	BroughtBack
	SentOn
	Accepted
	eventKinds
)

var eventNames = [eventKinds]string{"", "released", "ran-out", "rejected", "attempts-used-up", "expired", "returned", "edited", "discarded", "brought-back", "sent-on", "accepted"}

// String returns the event's name.
func (k EventKind) String() string {
	if k < eventKinds {
		return eventNames[k]
	}
	return fmt.Sprintf("event %d", k)
}

// Event is one thing that happened to a message. Times are microseconds since
// 1970; Began is when the lease began, 0 for what is not an attempt.
type Event struct {
	Kind   EventKind
	At     int64
	Began  int64
	Who    string
	Reason string
	Detail Ref
}

// Ref is a text that is kept in the log: Size bytes from At in the data of the
// record Index. The zero Ref is the empty text.
type Ref struct {
	Index uint64
	At    uint32
	Size  uint32
}

// Settings of a queue, as the log has them. Times are microseconds.
type Settings struct {
	Lease           int64 `json:"lease"`    // how long a member holds a message
	Attempts        int   `json:"attempts"` // the attempt limit
	BackoffMin      int64 `json:"backoffMin"`
	BackoffMax      int64 `json:"backoffMax"`
	RetainDead      int64 `json:"retainDead"`
	Expire          int64 `json:"expire"` // 0: never
	DropExpired     bool  `json:"dropExpired"`
	ByKey           bool  `json:"byKey"`           // one at a time and in order for each key
	RetainDiscarded int64 `json:"retainDiscarded"` // for how long what is discarded can be brought back
	MaxBlocked      int   `json:"maxBlocked"`      // messages looked past for those of other keys
}

// Backoff is the delay after an attempt, counted from 1: the shortest one,
// doubled with each attempt up to the longest.
func (s *Settings) Backoff(attempt int) int64 {
	d := s.BackoffMin
	for i := 1; i < attempt && d < s.BackoffMax; i++ {
		d *= 2
	}
	return max(min(d, s.BackoffMax), 0)
}

// Reasons that the queue itself gives.
const (
	ReasonUsedUp  = "attempts-used-up"
	ReasonExpired = "expired"
)
