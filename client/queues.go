package client

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
)

// DeliveriesType is the media type of leased messages in binary form: 4 bytes
// little endian with the length of the answer as JSON without its messages,
// that JSON, and the messages as a batch in the same order.
const DeliveriesType = "application/vnd.steady-ferry.deliveries"

// Counts is how many messages of a queue are in each state.
type Counts = queue.Counts

// QueueState is the settings of a queue and where its messages are.
type QueueState struct {
	Counts
	Lease         string      `json:"lease"`
	AttemptLimit  int         `json:"attemptLimit"`
	Backoff       string      `json:"backoff"`
	RetainDead    string      `json:"retainDead"`
	Expire        string      `json:"expire"`
	DropExpired   bool        `json:"dropExpired"`
	Order         string      `json:"order"`
	WayBack       string      `json:"wayBack"`
	OldestWaiting *time.Time  `json:"oldestWaiting"`
	Asking        int64       `json:"asking"` // lease calls that wait for messages
	Members       []QueueHold `json:"members"`
}

// QueueHold is what a member of a queue holds.
type QueueHold struct {
	Member string    `json:"member"`
	Leased int       `json:"leased"`
	Since  time.Time `json:"since"` // of its oldest lease
	Due    time.Time `json:"due"`   // when its next lease runs out
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
	Lease     string `json:"lease"`
	Outcome   string `json:"outcome"`             // accept, release, reject, extend
	After     string `json:"after,omitempty"`     // of a release the delay, or auto for the queue's backoff; of an extension the time from now on
	Untouched bool   `json:"untouched,omitempty"` // a release that does not count as an attempt
	Reason    string `json:"reason,omitempty"`    // a short code; a rejection needs one
	Detail    string `json:"detail,omitempty"`    // up to 64 KiB
}

// Settled is what became of a Settlement. Only with done anything changed.
type Settled struct {
	Lease    string     `json:"lease"`
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
	Lease    string     `json:"lease"`
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

// Work settles leases of a queue and leases messages of it.
func (c *Client) Work(ctx context.Context, a address.Address, w WorkRequest) (*WorkAnswer, error) {
	body, err := json.Marshal(w)
	if err != nil {
		return nil, err
	}
	path := QueuePath(a) + "/lease"
	if w.Max == 0 {
		path = QueuePath(a) + "/settle"
	}
	response, err := c.Do(ctx, Request{Method: http.MethodPost, Path: path, Body: body, Header: http.Header{"Content-Type": {"application/json"}, "Accept": {DeliveriesType}}})
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	b, err := io.ReadAll(response.Body)
	if err != nil {
		return nil, err
	}
	return decodeDeliveries(a, b)
}

var errDeliveries = errors.New("the answer with leased messages is cut off")

func decodeDeliveries(a address.Address, b []byte) (*WorkAnswer, error) {
	if len(b) < 4 || int(binary.LittleEndian.Uint32(b)) > len(b)-4 {
		return nil, errDeliveries
	}
	n := binary.LittleEndian.Uint32(b)
	out := &WorkAnswer{}
	if err := json.Unmarshal(b[4:4+n], out); err != nil {
		return nil, err
	}
	if len(out.Deliveries) == 0 {
		return out, nil
	}
	batch, err := message.OpenBatch(b[4+n:])
	if err != nil {
		return nil, err
	}
	i := 0
	for m, err := range batch.Messages() {
		if err != nil || i == len(out.Deliveries) {
			return nil, errors.Join(err, errDeliveries)
		}
		d := &out.Deliveries[i]
		d.Message = MessageOf(a, &message.Stored{Message: *m, Partition: d.Partition, Offset: d.Offset, StoredAt: d.Time})
		i++
	}
	return out, nil
}
