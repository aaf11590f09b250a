package form

import (
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/lease"
	"steadyferry/internal/core/queue"
)

// WorkType is the media type of calls and answers of members in binary form:
// docs/formats.md has them byte by byte.
const WorkType = "application/vnd.steady-ferry.work"

// Lease names a member's hold on a message.
type Lease = lease.ID

// Leased is a message under a lease.
type Leased = lease.Delivery

// Counts is how many messages of a queue are in each state.
type Counts = queue.Counts

// QueueState is the settings of a queue and where its messages are.
type QueueState struct {
	Counts
	Lease           string        `json:"lease"`
	AttemptLimit    int           `json:"attemptLimit"`
	Backoff         string        `json:"backoff"`
	RetainDead      string        `json:"retainDead"`
	Expire          string        `json:"expire"`
	DropExpired     bool          `json:"dropExpired"`
	Order           string        `json:"order"`
	RetainDiscarded string        `json:"retainDiscarded"`
	OldestWaiting   *time.Time    `json:"oldestWaiting"`
	Asking          int64         `json:"asking"` // lease calls that wait for messages
	Members         []QueueMember `json:"members"`
}

// QueueMember is a member of a queue that holds messages, or was heard of in
// the last minute.
type QueueMember struct {
	Member   string     `json:"member"`
	Leased   int        `json:"leased"`
	Since    *time.Time `json:"since"`    // of its oldest lease, null when it holds nothing
	Deadline *time.Time `json:"deadline"` // when its next lease runs out
	Seen     *time.Time `json:"seen"`     // when it last asked or settled; null when the leader has changed since
}

// Outcomes of a lease.
const (
	OutcomeAccept  = "accept"
	OutcomeRelease = "release"
	OutcomeReject  = "reject"
	OutcomeExtend  = "extend"
)

// Settlement ends a lease, or extends it.
type Settlement struct {
	Lease     Lease  `json:"lease"`
	Outcome   string `json:"outcome"`             // accept, release, reject, extend
	After     string `json:"after,omitempty"`     // of a release the delay, or auto for the queue's backoff; of an extension the time from now on
	Untouched bool   `json:"untouched,omitempty"` // a release that does not count as an attempt
	Reason    string `json:"reason,omitempty"`    // a short code; a rejection needs one
	Detail    string `json:"detail,omitempty"`    // up to 64 KiB
}

// Settled is what became of a Settlement. Only with done anything changed.
type Settled struct {
	Lease    Lease      `json:"lease"`
	Result   string     `json:"result"`             // done, ran out, unknown
	State    string     `json:"state,omitempty"`    // of the message now
	Deadline *time.Time `json:"deadline,omitempty"` // after an extension
}

// Results of a settlement.
const (
	ResultDone    = "done"
	ResultRanOut  = "ran-out"
	ResultUnknown = "unknown"
)

// WorkRequest settles leases, and leases more.
type WorkRequest struct {
	Member           string       `json:"member,omitempty"`
	Settle           []Settlement `json:"settle,omitempty"`
	Max              int          `json:"max,omitempty"`  // messages to lease
	Wait             string       `json:"wait,omitempty"` // for the first one
	For              string       `json:"for,omitempty"`  // time of the leases, instead of the queue's
	AcceptOnDelivery bool         `json:"acceptOnDelivery,omitempty"`
	Partition        *int         `json:"partition,omitempty"`
}

// Delivery is a message under a lease.
type Delivery struct {
	Lease    Lease      `json:"lease"`
	Attempt  int        `json:"attempt"`
	Deadline *time.Time `json:"deadline,omitempty"`
	Returns  int        `json:"returns"` // how often it came back from the dead letters
	Message
}

// WorkAnswer is the answer to a WorkRequest.
type WorkAnswer struct {
	Settled    []Settled  `json:"settled"`
	Deliveries []Delivery `json:"messages"`
}

// DeliveryOf returns the JSON form of a leased message of a queue.
func DeliveryOf(a address.Address, l *Leased) Delivery {
	return Delivery{Lease: l.Lease, Attempt: l.Attempt, Returns: l.Returns, Deadline: orNull(l.Deadline), Message: MessageOf(a.QueuePart(), l.Message)}
}

// ResultOf names what became of a settlement.
func ResultOf(s queue.Status) string {
	switch s {
	case queue.Done:
		return ResultDone
	case queue.NotHeld:
		return ResultRanOut
	}
	return ResultUnknown
}
