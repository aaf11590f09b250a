package api

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/node"
)

// queueRoutes are the paths of queues below that of their channel.
func (s *Server) queueRoutes(ch *gin.RouterGroup) {
	ch.POST("/lease", s.lease)
	ch.POST("/settle", s.lease)
	s.deadRoutes(ch)
	ch.GET("/trace/:partition/:offset", s.trace)
	s.streamRoute(ch)
}

// queueOf finds the queue of the path; GROUP in TOPIC@GROUP is the one with
// the group's dead letters.
func (s *Server) queueOf(c *gin.Context) (*node.Topic, bool) {
	a, err := address.Parse(c.Param("space") + "/" + c.Param("channel"))
	if err == nil && a.Kind() != address.KindChannel && a.Kind() != address.KindGroup {
		err = invalid("address", fmt.Sprintf("%s is the address of a %s", a, a.Kind()), "a queue, or a group for its dead letters")
	}
	if refuse(c, err) {
		return nil, false
	}
	t, err := s.node.QueueAt(a)
	return t, !refuse(c, err)
}

func queueJSON(t *node.Topic, q *node.QueueStatus) *client.QueueState {
	set := t.Channel().Queue.Settings
	out := &client.QueueState{Counts: q.Counts, Lease: micros(set.Lease), AttemptLimit: set.Attempts, Backoff: node.BackoffText(set), RetainDead: micros(set.RetainDead),
		Expire: micros(set.Expire), DropExpired: set.DropExpired, Order: node.OrderText(set), WayBack: micros(set.WayBack), OldestWaiting: q.Oldest, Asking: q.Asking, Members: []client.QueueHold{}}
	for _, h := range q.Holdings {
		out.Members = append(out.Members, client.QueueHold{Member: h.Member, Leased: h.Leased, Since: time.UnixMicro(h.Oldest).UTC(), Due: time.UnixMicro(h.Due).UTC()})
	}
	return out
}

func micros(us int64) string { return address.FormatDuration(time.Duration(us) * time.Microsecond) }

// queueChange reads the settings that are not plain durations.
func queueChange(in client.Settings, out *node.QueueChange) error {
	if in.Order != nil {
		if *in.Order != "key" && *in.Order != "none" {
			return invalid("order", fmt.Sprintf("order is %q", *in.Order), "none, key")
		}
		byKey := *in.Order == "key"
		out.ByKey = &byKey
	}
	if in.Backoff != nil {
		least, most, ok := strings.Cut(*in.Backoff, "..")
		if !ok {
			most = least
		}
		for _, d := range []struct {
			text string
			to   **time.Duration
		}{{least, &out.BackoffMin}, {most, &out.BackoffMax}} {
			parsed, err := address.ParseDuration(d.text)
			if err != nil {
				return invalid("backoff", err.Error(), "SHORTEST..LONGEST, such as 1s..5m")
			}
			*d.to = &parsed
		}
	}
	return nil
}

var outcomes = map[string]queue.Outcome{client.OutcomeAccept: queue.Accept, client.OutcomeRelease: queue.Release, client.OutcomeReject: queue.Reject, client.OutcomeExtend: queue.Extend}

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

func workOf(in *client.WorkRequest, who string) (w node.Work, err error) {
	w = node.Work{Member: in.Member, Max: in.Max, AtOnce: in.AcceptOnDelivery, Partition: node.AnyPartition}
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
		w.Settle = make([]node.Settle, len(in.Settle))
	}
	for i := range in.Settle {
		from, to := &in.Settle[i], &w.Settle[i]
		if to.Lease, err = node.ParseLease(from.Lease); err != nil {
			return w, err
		}
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

var resultText = map[queue.Status]string{queue.Done: client.ResultDone, queue.NotHeld: client.ResultRanOut, queue.Unknown: client.ResultUnknown}

func settledJSON(done *node.Done) []client.Settled {
	out := make([]client.Settled, len(done.Settled))
	for i, d := range done.Settled {
		out[i] = client.Settled{Lease: d.Lease.String(), Result: resultText[d.Status]}
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
	var in client.WorkRequest
	d := json.NewDecoder(http.MaxBytesReader(c.Writer, c.Request.Body, maxWork))
	d.DisallowUnknownFields()
	if err := d.Decode(&in); err != nil {
		writeProblem(c, invalid("", "the body is not the JSON that is expected: "+err.Error(), "see /api/v1/openapi.json"))
		return
	}
	if strings.HasSuffix(c.FullPath(), "/settle") {
		if in.Max != 0 || len(in.Settle) == 0 {
			writeProblem(c, invalid("settle", "there is nothing to settle", "settle, with 1 to 10,000 outcomes; lease is another call"))
			return
		}
	} else if in.Max == 0 {
		in.Max = 1
	}
	w, err := workOf(&in, who(c))
	if refuse(c, err) {
		return
	}
	done, err := s.node.Work(c.Request.Context(), t, w)
	if refuse(c, err) {
		return
	}
	if c.GetHeader("Accept") == client.DeliveriesType {
		c.Data(http.StatusOK, client.DeliveriesType, appendDeliveries(done))
		return
	}
	out := client.WorkAnswer{Settled: settledJSON(done), Deliveries: make([]client.Delivery, len(done.Deliveries))}
	for i, d := range done.Deliveries {
		out.Deliveries[i] = deliveryJSON(t, d)
	}
	c.JSON(http.StatusOK, out)
}

func deliveryJSON(t *node.Topic, d node.Delivery) client.Delivery {
	out := client.Delivery{Lease: d.Lease.String(), Attempt: d.Attempt, Returns: d.Returns, Message: client.MessageOf(t.Address(), d.Message)}
	if !d.Deadline.IsZero() {
		out.Deadline = &d.Deadline
	}
	return out
}

// appendDeliveries writes the binary form of leased messages. What is known of
// each is written by hand: encoding/json would take longer than all the rest.
func appendDeliveries(done *node.Done) []byte {
	b := make([]byte, 4, 256+256*len(done.Deliveries))
	settled, err := json.Marshal(settledJSON(done))
	if err != nil {
		panic(err) // plain values
	}
	b = append(append(b, `{"settled":`...), settled...)
	b = append(b, `,"messages":[`...)
	var batch message.Builder
	for i, d := range done.Deliveries {
		if i > 0 {
			b = append(b, ',')
		}
		b = fmt.Appendf(b, `{"lease":"%d-%d-%d","attempt":%d,"returns":%d,"partition":%d,"offset":%d,"time":"`, d.Lease.Partition, d.Lease.Offset, d.Lease.Serial, d.Attempt, d.Returns, d.Lease.Partition, d.Lease.Offset)
		b = d.Message.StoredAt.AppendFormat(b, time.RFC3339Nano)
		b = append(b, '"')
		if !d.Deadline.IsZero() {
			b = append(b, `,"deadline":"`...)
			b = d.Deadline.AppendFormat(b, time.RFC3339Nano)
			b = append(b, '"')
		}
		b = append(b, '}')
		batch.Add(&d.Message.Message)
	}
	b = append(b, "]}"...)
	binary.LittleEndian.PutUint32(b, uint32(len(b)-4))
	if batch.Count() > 0 {
		b = append(b, batch.Build(message.Plain, nil)...)
	}
	return b
}
