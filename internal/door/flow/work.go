package flow

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/lease"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/strict"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/queues"
)

// lease settles leases and leases more.
func (s *Flow) lease(c *gin.Context) {
	t, ok := s.QueueOf(c)
	if !ok {
		return
	}
	w, err := s.readWork(c)
	if gate.Refuse(c, err) {
		return
	}
	if strings.HasSuffix(c.FullPath(), "/settle") {
		if w.Max != 0 || len(w.Settle) == 0 {
			gate.WriteProblem(c, gate.Invalid("settle", "there is nothing to settle", "settle, with 1 to 10,000 outcomes; lease is another call"))
			return
		}
	} else if w.Max == 0 {
		w.Max = 1
	}
	w.Raw = c.GetHeader("Accept") == form.WorkType
	done, err := s.Node.Queues.Work(c.Request.Context(), t, w)
	if gate.Refuse(c, err) {
		return
	}
	if w.Raw {
		c.Data(http.StatusOK, form.WorkType, done.Encode())
		return
	}
	out := form.WorkAnswer{Settled: settledJSON(done), Deliveries: make([]form.Delivery, len(done.Leased))}
	for i := range done.Leased {
		out.Deliveries[i] = form.DeliveryOf(t.Address(), &done.Leased[i])
	}
	c.JSON(http.StatusOK, out)
}

// readWork reads what a member asks for, as JSON or in binary form.
func (s *Flow) readWork(c *gin.Context) (queues.Work, error) {
	body := http.MaxBytesReader(c.Writer, c.Request.Body, maxWork)
	if c.GetHeader("Content-Type") != form.WorkType {
		var in form.WorkRequest
		data, err := io.ReadAll(body)
		if err == nil {
			err = strict.Unmarshal(data, &in)
		}
		if err != nil {
			return queues.Work{}, gate.Invalid("", "the body is not the JSON that is expected: "+err.Error(), "see /api/v1/openapi.json")
		}
		return workOf(&in, gate.Who(c))
	}
	b, err := io.ReadAll(body)
	if err != nil {
		return queues.Work{}, err
	}
	return decodeWork(b, gate.Who(c))
}

var outcomes = map[string]queue.Outcome{form.OutcomeAccept: queue.Accept, form.OutcomeRelease: queue.Release, form.OutcomeReject: queue.Reject, form.OutcomeExtend: queue.Extend}

// maxWork is how many bytes a request with outcomes may have.
const maxWork = 32 << 20

func workOf(in *form.WorkRequest, who string) (w queues.Work, err error) {
	w = queues.Work{Member: in.Member, Max: in.Max, AtOnce: in.AcceptOnDelivery, Partition: part.AnyPartition}
	if w.Member == "" {
		w.Member = who
	}
	if in.Partition != nil {
		w.Partition = *in.Partition
	}
	if w.For, err = gate.DurationField("for", in.For); err != nil {
		return w, err
	}
	if w.Wait, err = gate.DurationField("wait", in.Wait); err != nil {
		return w, err
	}
	if w.Wait < 0 || w.Wait > gate.MaxWait {
		return w, gate.Invalid("wait", "wait is "+in.Wait, "0s to "+address.FormatDuration(gate.MaxWait))
	}
	if len(in.Settle) > 0 {
		w.Settle = make([]queues.Settle, len(in.Settle))
	}
	for i := range in.Settle {
		from, to := &in.Settle[i], &w.Settle[i]
		to.Lease = from.Lease
		if to.Outcome = outcomes[from.Outcome]; to.Outcome == 0 {
			return w, gate.Invalid("outcome", fmt.Sprintf("lease %s: outcome is %q", from.Lease, from.Outcome), "accept, release, reject, extend")
		}
		to.Untouched, to.Reason, to.Detail = from.Untouched, from.Reason, from.Detail
		if from.After == "auto" && to.Outcome == queue.Release {
			to.After = queue.Auto
		} else if to.After, err = gate.DurationField("after", from.After); err != nil {
			return w, err
		}
	}
	return w, nil
}

func settledJSON(done *queues.Done) []form.Settled {
	out := make([]form.Settled, len(done.Settled))
	for i, d := range done.Settled {
		out[i] = form.Settled{Lease: d.Lease, Result: form.ResultOf(d.Status)}
		if d.Status == queue.Done {
			out[i].State = d.State.String()
		}
		if !d.Deadline.IsZero() {
			out[i].Deadline = &d.Deadline
		}
	}
	return out
}

// decodeWork reads the binary form.
func decodeWork(b []byte, who string) (w queues.Work, err error) {
	call, err := lease.DecodeWork(b)
	if err != nil {
		return w, gate.Invalid("", err.Error(), "docs/formats.md describes a call")
	}
	w = queues.Work{Member: call.Member, Partition: call.Partition, Max: call.Max, AtOnce: call.AtOnce, For: time.Duration(call.For) * time.Microsecond, Wait: time.Duration(call.Wait) * time.Microsecond}
	if w.Member == "" {
		w.Member = who
	}
	if w.Wait < 0 || w.Wait > gate.MaxWait {
		return w, gate.Invalid("wait", "wait is "+w.Wait.String(), "0s to "+address.FormatDuration(gate.MaxWait))
	}
	w.Settle = make([]queues.Settle, len(call.Settle))
	for i := range call.Settle {
		from := &call.Settle[i]
		w.Settle[i] = queues.Settle{Lease: call.Leases[i], Outcome: from.Outcome, After: time.Duration(from.After) * time.Microsecond, Untouched: from.Untouched, Reason: from.Reason, Detail: from.Detail}
		if from.After == queue.Auto {
			w.Settle[i].After = queue.Auto
		}
	}
	return w, nil
}
