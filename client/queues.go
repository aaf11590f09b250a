package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/lease"
	"steadyferry/internal/core/queue"
)

// ParseLease reads a lease.
func ParseLease(text string) (Lease, error) { return lease.Parse(text) }

// QueuePath returns the path of a queue below /api/v1; that of a group's
// address is the one of its dead letters.
func QueuePath(a address.Address) string {
	name := strings.TrimPrefix(a.QueuePart().String(), a.Space+"/")
	return "/channels/" + url.PathEscape(a.Space) + "/" + url.PathEscape(name)
}

// Worked is the answer to Work.
type Worked struct {
	Settled []Settled // in the order of WorkRequest.Settle
	Leased  []Leased
}

var outcomes = map[string]queue.Outcome{OutcomeAccept: queue.Accept, OutcomeRelease: queue.Release, OutcomeReject: queue.Reject, OutcomeExtend: queue.Extend}

// encodeWork writes a request in binary form.
func encodeWork(w *WorkRequest) ([]byte, error) {
	call := lease.Call{Member: w.Member, Partition: -1, Max: w.Max, AtOnce: w.AcceptOnDelivery}
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

func decodeWorked(leases []Settlement, b []byte) (*Worked, error) {
	reply, err := lease.DecodeReply(b)
	if err != nil {
		return nil, err
	}
	if len(reply.Settled) != len(leases) {
		return nil, fmt.Errorf("%d outcomes were answered, and %d sent", len(reply.Settled), len(leases))
	}
	out := &Worked{Settled: make([]Settled, len(leases)), Leased: reply.Leased}
	for i, s := range reply.Settled {
		out.Settled[i] = Settled{Lease: leases[i].Lease, Result: form.ResultOf(s.Status)}
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
