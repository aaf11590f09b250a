package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/queue"
)

// WorkType is the media type of calls and answers of members in binary form:
// docs/formats.md has them byte by byte.
const WorkType = "application/vnd.steady-ferry.work"

// Lease names a member's hold on a message.
type Lease = queue.LeaseID

// ParseLease reads a lease.
func ParseLease(text string) (Lease, error) { return queue.ParseLease(text) }

// Leased is a message under a lease.
type Leased = queue.Delivery

// Counts is how many messages of a queue are in each state.
type Counts = queue.Counts

// QueueState is the settings of a queue and where its messages are.
type QueueState struct {
	Counts
	Lease         string        `json:"lease"`
	AttemptLimit  int           `json:"attemptLimit"`
	Backoff       string        `json:"backoff"`
	RetainDead    string        `json:"retainDead"`
	Expire        string        `json:"expire"`
	DropExpired   bool          `json:"dropExpired"`
	Order         string        `json:"order"`
	WayBack       string        `json:"wayBack"`
	OldestWaiting *time.Time    `json:"oldestWaiting"`
	Asking        int64         `json:"asking"` // lease calls that wait for messages
	Members       []QueueMember `json:"members"`
}

// QueueMember is a member of a queue that holds messages, or was heard of in
// the last minute.
type QueueMember struct {
	Member string     `json:"member"`
	Leased int        `json:"leased"`
	Since  *time.Time `json:"since"` // of its oldest lease, null when it holds nothing
	Due    *time.Time `json:"due"`   // when its next lease runs out
	Seen   *time.Time `json:"seen"`  // when it last asked or settled; null when the leader has changed since
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
	ResultRanOut  = "ran out"
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

// QueuePath returns the path of a queue below /api/v1; that of a group's
// address is the one of its dead letters.
func QueuePath(a address.Address) string {
	name := a.Channel
	if a.Group != "" {
		name += "@" + a.Group
	}
	return "/channels/" + url.PathEscape(a.Space) + "/" + url.PathEscape(name)
}

// DeliveryOf returns the JSON form of a leased message of a queue.
func DeliveryOf(a address.Address, l *Leased) Delivery {
	return Delivery{Lease: l.Lease, Attempt: l.Attempt, Returns: l.Returns, Deadline: orNull(l.Deadline), Message: MessageOf(a.QueuePart(), l.Message)}
}

// Worked is the answer to Work.
type Worked struct {
	Settled []Settled // in the order of WorkRequest.Settle
	Leased  []Leased
}

var outcomes = map[string]queue.Outcome{OutcomeAccept: queue.Accept, OutcomeRelease: queue.Release, OutcomeReject: queue.Reject, OutcomeExtend: queue.Extend}

// encodeWork writes a request in binary form.
func encodeWork(w *WorkRequest) ([]byte, error) {
	call := queue.WorkCall{Member: w.Member, Partition: -1, Max: w.Max, AtOnce: w.AcceptOnDelivery}
	if w.Partition != nil {
		call.Partition = *w.Partition
	}
	var errs [2]error
	call.For, errs[0] = microsOf(w.For)
	call.Wait, errs[1] = microsOf(w.Wait)
	if err := errors.Join(errs[:]...); err != nil {
		return nil, err
	}
	size := 64 + len(w.Member)
	call.Leases, call.Settle = make([]Lease, len(w.Settle)), make([]queue.Settlement, len(w.Settle))
	for i := range w.Settle {
		s := &w.Settle[i]
		outcome := outcomes[s.Outcome]
		if outcome == 0 {
			return nil, &Problem{Status: http.StatusBadRequest, Detail: fmt.Sprintf("lease %s: outcome is %q", s.Lease, s.Outcome), Field: "outcome", Allowed: "accept, release, reject, extend"}
		}
		call.Leases[i] = s.Lease
		call.Settle[i] = queue.Settlement{Outcome: outcome, Untouched: s.Untouched, Reason: s.Reason, Detail: s.Detail}
		size += 20 + len(s.Reason) + len(s.Detail)
		if s.After == "auto" && outcome == queue.Release {
			call.Settle[i].After = queue.Auto
			continue
		}
		var err error
		if call.Settle[i].After, err = microsOf(s.After); err != nil {
			return nil, err
		}
	}
	return call.Encode(make([]byte, 0, size)), nil
}

func microsOf(text string) (int64, error) {
	if text == "" {
		return 0, nil
	}
	d, err := address.ParseDuration(text)
	return d.Microseconds(), err
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

func decodeWorked(leases []Settlement, b []byte) (*Worked, error) {
	reply, err := queue.DecodeReply(b)
	if err != nil {
		return nil, err
	}
	if len(reply.Settled) != len(leases) {
		return nil, fmt.Errorf("%d outcomes were answered, and %d sent", len(reply.Settled), len(leases))
	}
	out := &Worked{Settled: make([]Settled, len(leases)), Leased: reply.Leased}
	for i, s := range reply.Settled {
		out.Settled[i] = Settled{Lease: leases[i].Lease, Result: ResultOf(s.Status)}
		if s.Status == queue.Done {
			out.Settled[i].State = s.State.String()
		}
		if s.Deadline > 0 {
			at := time.UnixMicro(s.Deadline).UTC()
			out.Settled[i].Deadline = &at
		}
	}
	return out, nil
}

// Work settles leases of a queue and leases messages of it.
func (c *Client) Work(ctx context.Context, a address.Address, w WorkRequest) (*Worked, error) {
	body, err := encodeWork(&w)
	if err != nil {
		return nil, err
	}
	path := QueuePath(a) + "/lease"
	if w.Max == 0 {
		path = QueuePath(a) + "/settle"
	}
	response, err := c.Do(ctx, Request{Method: http.MethodPost, Path: path, Body: body, Header: http.Header{"Content-Type": {WorkType}, "Accept": {WorkType}}})
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	b, err := io.ReadAll(response.Body)
	if err != nil {
		return nil, err
	}
	return decodeWorked(w.Settle, b)
}
