package flow

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/mask"
	"steadyferry/internal/core/message"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/look"
)

// partitionOf finds the partition of the path, or answers with the problem.
func (s *Flow) partitionOf(c *gin.Context) (*part.Channel, *part.Partition, bool) {
	t, ok := s.TopicOf(c)
	if !ok {
		return nil, nil, false
	}
	number, err := strconv.Atoi(c.Param("partition"))
	if err != nil {
		gate.WriteProblem(c, gate.Invalid("partition", fmt.Sprintf("partition is %q", c.Param("partition")), fmt.Sprintf("0 to %d", t.Record().Partitions-1)))
		return nil, nil, false
	}
	p, err := t.Partition(number)
	return t, p, !gate.Refuse(c, err)
}

func positionQuery(c *gin.Context, name string, otherwise address.PositionKind) (address.Position, bool) {
	text := c.Query(name)
	if text == "" {
		return address.Position{Kind: otherwise}, true
	}
	p, err := address.ParsePosition(text)
	if err != nil {
		problem := gate.ProblemOf(err)
		problem.Field = name
		gate.WriteProblem(c, problem)
		return p, false
	}
	return p, true
}

// Answer headers of a fetch.
const (
	headerNext  = "Ferry-Next"
	headerFirst = "Ferry-First"
	headerEnd   = "Ferry-End"
	headerCount = "Ferry-Count"
)

// Sizes of a fetch.
const (
	defaultFetch = 2 << 20
	maxFetch     = 16 << 20
)

// fetch answers with the next records of a partition, as they are stored or
// as NDJSON, waiting for the first one if asked to.
func (s *Flow) fetch(c *gin.Context) {
	t, p, ok := s.partitionOf(c)
	if !ok {
		return
	}
	from, ok := positionQuery(c, "from", address.First)
	if !ok {
		return
	}
	size, ok := gate.IntQuery(c, "maxBytes", defaultFetch, 1024, maxFetch)
	if !ok {
		return
	}
	wait, err := address.ParseDuration(c.DefaultQuery("wait", "0s"))
	if err != nil || wait > gate.MaxWait {
		gate.WriteProblem(c, gate.Invalid("wait", fmt.Sprintf("wait is %q", c.Query("wait")), "0s to 30s"))
		return
	}
	ctx, cancel := s.StreamContext(c)
	defer cancel()
	reading, err := logs.OpenFetch(ctx, s.Node.Parts, p, from, gate.BoolQuery(c, "any"))
	if gate.Refuse(c, err) {
		return
	}
	// What waits must not hold a buffer; the first look needs a small one.
	f, err := reading.Read(ctx, make([]byte, 4096), wait)
	if err == nil && len(f.Records) > 0 && size > 4096 {
		if err = s.fetching.Acquire(ctx, int64(size)); err == nil {
			defer s.fetching.Release(int64(size))
			f, err = reading.Read(ctx, make([]byte, size), 0)
		}
	}
	if ctx.Err() != nil && err == nil {
		err = ctx.Err()
	}
	if gate.Refuse(c, err) {
		return
	}
	reading.Delivered(f)
	s.tellLeader(c, t, p.Number)
	h := c.Writer.Header()
	h.Set(headerNext, strconv.FormatInt(f.Next, 10))
	h.Set(headerFirst, strconv.FormatInt(f.First, 10))
	h.Set(headerEnd, strconv.FormatInt(f.End, 10))
	h.Set(headerCount, strconv.Itoa(f.Count))
	http.NewResponseController(c.Writer).SetWriteDeadline(time.Now().Add(time.Minute))
	sight := access.Sight(c, access.Read, t.Record().Address())
	if !strings.Contains(c.GetHeader("Accept"), form.RecordsType) {
		c.Header("Content-Type", form.NDJSONType)
		s.writeLines(c, t, f.Records, p.Number, reading.Offset(), sight)
		return
	}
	if !sight.Whole() {
		if f.Records, err = message.ShowRecords(f.Records, p.Number, sight.Show); gate.Refuse(c, err) {
			return
		}
	}
	h.Set("Content-Length", strconv.Itoa(len(f.Records)))
	c.Header("Content-Type", form.RecordsType)
	c.Status(http.StatusOK)
	c.Writer.Write(f.Records)
}

func (s *Flow) writeLines(c *gin.Context, t *part.Channel, records []byte, partition int, offset int64, sight *mask.Sight) {
	w := bufio.NewWriterSize(c.Writer, 32<<10)
	defer w.Flush()
	out := json.NewEncoder(w)
	out.SetEscapeHTML(false)
	for len(records) > 0 {
		r, size, err := message.PeekRecord(records)
		if err != nil {
			return
		}
		records = records[size:]
		r.Stored(partition, func(m *message.Stored) bool {
			return m.Offset < offset || out.Encode(form.MessageOf(t.Address(), sight.Show(m))) == nil
		})
	}
}

// message answers with one message, or with format=raw with its body alone.
func (s *Flow) message(c *gin.Context) {
	t, p, ok := s.partitionOf(c)
	if !ok {
		return
	}
	offset, err := strconv.ParseInt(c.Param("offset"), 10, 64)
	if err != nil || offset < 0 {
		gate.WriteProblem(c, gate.Invalid("offset", fmt.Sprintf("offset is %q", c.Param("offset")), "a whole number from 0"))
		return
	}
	m, err := logs.Message(c, s.Node.Parts, p, offset, gate.BoolQuery(c, "any"))
	if gate.Refuse(c, err) {
		return
	}
	m = access.Sight(c, access.SeeContent, t.Record().Address()).Show(m)
	if c.Query("format") == "raw" {
		gate.WriteBody(c, t, m)
		return
	}
	gate.WriteJSON(c, s.messageJSON(c, t.Address(), gate.Shown(m)))
}

// selection reads the part of a selection that browse and tail share.
func (s *Flow) selection(c *gin.Context, from address.PositionKind) (look.Selection, bool) {
	sel := look.Selection{AnyReplica: gate.BoolQuery(c, "any")}
	t, ok := s.TopicOf(c)
	if !ok {
		return sel, false
	}
	sel.Topic = t
	for _, list := range c.QueryArray("partition") {
		for text := range strings.SplitSeq(list, ",") {
			number, err := strconv.Atoi(text)
			if err != nil {
				gate.WriteProblem(c, gate.Invalid("partition", fmt.Sprintf("partition is %q", text), fmt.Sprintf("0 to %d", t.Record().Partitions-1)))
				return sel, false
			}
			if _, err := t.Partition(number); gate.Refuse(c, err) {
				return sel, false
			}
			sel.Partitions = append(sel.Partitions, number)
		}
	}
	if sel.From, ok = positionQuery(c, "from", from); !ok {
		return sel, false
	}
	if sel.To, ok = positionQuery(c, "to", address.End); !ok {
		return sel, false
	}
	if where := strings.TrimSpace(c.Query("where")); where != "" {
		condition, err := expr.Compile(where)
		if gate.Refuse(c, err) {
			return sel, false
		}
		sel.Where = condition
	}
	return sel, true
}

func oneOf(c *gin.Context, name, otherwise, other string) (string, bool) {
	v := c.DefaultQuery(name, otherwise)
	if v != otherwise && v != other {
		gate.WriteProblem(c, gate.Invalid(name, fmt.Sprintf("%s is %q", name, v), otherwise+" or "+other))
		return "", false
	}
	return v, true
}

// browse streams what it finds as NDJSON, with its progress between.
func (s *Flow) browse(c *gin.Context) {
	sel, ok := s.selection(c, address.First)
	if !ok {
		return
	}
	if sel.Limit, ok = gate.IntQuery(c, "limit", look.DefaultBrowseLimit, 1, look.MaxBrowseLimit); !ok {
		return
	}
	take, ok := oneOf(c, "take", "first", "recent")
	if !ok {
		return
	}
	order, ok := oneOf(c, "order", "oldest", "newest")
	if !ok {
		return
	}
	sel.Recent, sel.Newest = take == "recent", order == "newest"
	ctx, cancel := s.StreamContext(c)
	defer cancel()
	w := s.NewLineWriter(c, form.NDJSONType, time.Minute)
	a := sel.Topic.Address()
	err := s.Node.Look.Browse(ctx, sel, func(e look.Event) error {
		if err := w.Write(s.eventJSON(c, a, e), gate.BytesOf(e.Message)); err != nil {
			return err
		}
		if e.Progress != nil {
			return w.Flush()
		}
		return nil
	})
	if err != nil && ctx.Err() == nil {
		if !c.Writer.Written() && w.Pending() == 0 {
			gate.Refuse(c, err)
			return
		}
		w.Write(form.Event{Problem: gate.ProblemOf(err)}, 0)
	}
	w.Flush()
}

// messageJSON is a message with who has published it.
func (s *Flow) messageJSON(ctx context.Context, a address.Address, m *message.Stored) form.Message {
	out := form.MessageOf(a, m)
	out.By = s.Node.Publishers.Named(ctx, m.By)
	return out
}

func (s *Flow) eventJSON(ctx context.Context, a address.Address, e look.Event) form.Event {
	out := form.Event{Progress: e.Progress, LeftOut: e.LeftOut, Damage: e.Damage}
	if e.Message != nil {
		m := s.messageJSON(ctx, a, e.Message)
		out.Message = &m
	}
	return out
}

// tail streams messages as they arrive, as server-sent events. The id of an
// event is the place after it, with which a reader can go on elsewhere.
func (s *Flow) tail(c *gin.Context) {
	sel, ok := s.selection(c, address.End)
	if !ok {
		return
	}
	resume, err := parsePositions(c.GetHeader("Last-Event-ID"))
	if gate.Refuse(c, err) {
		return
	}
	ctx, cancel := s.StreamContext(c)
	defer cancel()
	w := s.NewLineWriter(c, "text/event-stream", 5*time.Minute)
	// The headers go out at once, so that the reader knows it is connected.
	if w.Text(": tail\n\n") != nil || w.Flush() != nil {
		return
	}
	a := sel.Topic.Address()
	place := formatPositions()
	noted := sync.OnceFunc(func() { s.Shows(c, sel.Topic.Record().Address()) })
	err = s.Node.Look.Tail(ctx, sel, resume, func(e look.Event, at look.TailPositions) error {
		noted()
		if err := s.Node.Quotas.Pace(ctx, a.Space); err != nil {
			return err
		}
		w.Text("id: " + place(at) + "\ndata: ")
		if err := w.Write(s.eventJSON(c, a, e), gate.BytesOf(e.Message)); err != nil {
			return err
		}
		return w.Text("\n")
	}, func(at look.TailPositions) error {
		w.Text("id: " + place(at) + "\n: here\n\n")
		return w.Flush()
	})
	if err != nil && ctx.Err() == nil {
		w.Text("data: ")
		w.Write(form.Event{Problem: gate.ProblemOf(err)}, 0)
		w.Text("\n")
		w.Flush()
	}
}

// formatPositions returns what formats the places of one tail.
func formatPositions() func(at look.TailPositions) string {
	var numbers []int // in order; partitions may be added, but do not go
	var b []byte
	return func(at look.TailPositions) string {
		if len(numbers) != len(at) {
			numbers = slices.Sorted(maps.Keys(at))
		}
		b = b[:0]
		for _, p := range numbers {
			if len(b) > 0 {
				b = append(b, ',')
			}
			b = strconv.AppendInt(b, int64(p), 10)
			b = append(b, ':')
			b = strconv.AppendInt(b, at[p], 10)
		}
		return string(b)
	}
}

func parsePositions(text string) (look.TailPositions, error) {
	if text == "" {
		return nil, nil
	}
	at := look.TailPositions{}
	for part := range strings.SplitSeq(text, ",") {
		partition, offset, _ := strings.Cut(part, ":")
		p, err := strconv.Atoi(partition)
		o, offsetErr := strconv.ParseInt(offset, 10, 64)
		if errors.Join(err, offsetErr) != nil {
			return nil, gate.Invalid("Last-Event-ID", fmt.Sprintf("%q is not a place in a tail", text), "the id of an event of this tail")
		}
		at[p] = o
	}
	return at, nil
}
