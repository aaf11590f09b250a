package api

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/strict"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/queues"
)

// queueRoutes are the paths of queues below that of their channel.
func (s *Server) queueRoutes(ch *gin.RouterGroup, stream, search gin.HandlerFunc) {
	ch.POST("/lease", s.lease)
	ch.POST("/settle", s.lease)
	s.deadRoutes(ch, search)
	ch.GET("/trace/:partition/:offset", search, s.trace)
	ch.GET("/work", stream, s.workStream)
}

// queueOf finds the queue of the path; GROUP in TOPIC@GROUP is the one with
// the group's dead letters.
func (s *Server) queueOf(c *gin.Context) (*part.Channel, bool) {
	a, err := address.Parse(c.Param("space") + "/" + c.Param("channel"))
	if err == nil && a.Kind() != address.KindChannel && a.Kind() != address.KindGroup {
		err = invalid("address", fmt.Sprintf("%s is the address of a %s", a, a.Kind()), "a queue, or a group for its dead letters")
	}
	if refuse(c, err) {
		return nil, false
	}
	t, err := s.node.Queues.At(a)
	return t, !refuse(c, err)
}

func queueJSON(t *part.Channel, q *queue.Summary) *form.QueueState {
	set := setting.Channels.Show(&t.Record().Channel, setting.Queue)
	text := func(name string) string { return set[name].(string) }
	out := &form.QueueState{Counts: q.Counts, Lease: text("lease"), AttemptLimit: set["attempts"].(int), Backoff: text("backoff"), RetainDead: text("retainDead"),
		Expire: text("expire"), DropExpired: set["dropExpired"].(bool), Order: text("order"), WayBack: text("wayBack"), OldestWaiting: q.Oldest, Asking: q.Asking, Members: []form.QueueMember{}}
	for _, m := range q.Members {
		out.Members = append(out.Members, form.QueueMember{Member: m.Member, Leased: m.Leased, Since: microsTime(m.Oldest), Due: microsTime(m.Due), Seen: microsTime(m.Seen)})
	}
	return out
}

var outcomes = map[string]queue.Outcome{form.OutcomeAccept: queue.Accept, form.OutcomeRelease: queue.Release, form.OutcomeReject: queue.Reject, form.OutcomeExtend: queue.Extend}

// maxWork is how many bytes a request with outcomes may have.
const maxWork = 32 << 20

func durationField(name, text string) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	d, err := address.ParseDuration(text)
	if err != nil {
		return 0, invalid(name, err.Error(), "")
	}
	return d, nil
}

func workOf(in *form.WorkRequest, who string) (w queues.Work, err error) {
	w = queues.Work{Member: in.Member, Max: in.Max, AtOnce: in.AcceptOnDelivery, Partition: part.AnyPartition}
	if w.Member == "" {
		w.Member = who
	}
	if in.Partition != nil {
		w.Partition = *in.Partition
	}
	if w.For, err = durationField("for", in.For); err != nil {
		return w, err
	}
	if w.Wait, err = durationField("wait", in.Wait); err != nil {
		return w, err
	}
	if w.Wait < 0 || w.Wait > maxWait {
		return w, invalid("wait", "wait is "+in.Wait, "0s to "+address.FormatDuration(maxWait))
	}
	if len(in.Settle) > 0 {
		w.Settle = make([]queues.Settle, len(in.Settle))
	}
	for i := range in.Settle {
		from, to := &in.Settle[i], &w.Settle[i]
		to.Lease = from.Lease
		if to.Outcome = outcomes[from.Outcome]; to.Outcome == 0 {
			return w, invalid("outcome", fmt.Sprintf("lease %s: outcome is %q", from.Lease, from.Outcome), "accept, release, reject, extend")
		}
		to.Untouched, to.Reason, to.Detail = from.Untouched, from.Reason, from.Detail
		if from.After == "auto" && to.Outcome == queue.Release {
			to.After = queue.Auto
		} else if to.After, err = durationField("after", from.After); err != nil {
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

// lease settles leases and leases more.
func (s *Server) lease(c *gin.Context) {
	t, ok := s.queueOf(c)
	if !ok {
		return
	}
	w, err := s.readWork(c)
	if refuse(c, err) {
		return
	}
	if strings.HasSuffix(c.FullPath(), "/settle") {
		if w.Max != 0 || len(w.Settle) == 0 {
			writeProblem(c, invalid("settle", "there is nothing to settle", "settle, with 1 to 10,000 outcomes; lease is another call"))
			return
		}
	} else if w.Max == 0 {
		w.Max = 1
	}
	w.Raw = c.GetHeader("Accept") == form.WorkType
	done, err := s.node.Queues.Work(c.Request.Context(), t, w)
	if refuse(c, err) {
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
func (s *Server) readWork(c *gin.Context) (queues.Work, error) {
	body := http.MaxBytesReader(c.Writer, c.Request.Body, maxWork)
	if c.GetHeader("Content-Type") != form.WorkType {
		var in form.WorkRequest
		data, err := io.ReadAll(body)
		if err == nil {
			err = strict.Unmarshal(data, &in)
		}
		if err != nil {
			return queues.Work{}, invalid("", "the body is not the JSON that is expected: "+err.Error(), "see /api/v1/openapi.json")
		}
		return workOf(&in, who(c))
	}
	b, err := io.ReadAll(body)
	if err != nil {
		return queues.Work{}, err
	}
	return decodeWork(b, who(c))
}

// decodeWork reads the binary form.
func decodeWork(b []byte, who string) (w queues.Work, err error) {
	call, err := queue.DecodeWork(b)
	if err != nil {
		return w, invalid("", err.Error(), "docs/formats.md describes a call")
	}
	w = queues.Work{Member: call.Member, Partition: call.Partition, Max: call.Max, AtOnce: call.AtOnce, For: time.Duration(call.For) * time.Microsecond, Wait: time.Duration(call.Wait) * time.Microsecond}
	if w.Member == "" {
		w.Member = who
	}
	if w.Wait < 0 || w.Wait > maxWait {
		return w, invalid("wait", "wait is "+w.Wait.String(), "0s to "+address.FormatDuration(maxWait))
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
