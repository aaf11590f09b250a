package flow

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
	"golang.org/x/sync/semaphore"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/cloudevent"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/strict"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/publishers"
	"steadyferry/internal/service/quotas"
)

// Request headers of a message that is sent as a raw body.
const (
	headerKey       = "Ferry-Key"
	headerID        = "Ferry-Id"
	headerTime      = "Ferry-Publisher-Time"
	headerPublisher = "Ferry-Publisher"
	headerSequence  = "Ferry-Sequence"
	headerAfter     = "Ferry-After"
	headerNotBefore = "Ferry-Not-Before"
	headerExpires   = "Ferry-Expires"
	headerPrefix    = "Ferry-Header-"
	cloudPrefix     = "Ce-"
)

// publish takes messages in whichever form the content type names.
func (s *Flow) publish(c *gin.Context) {
	t, ok := s.TopicOf(c)
	if !ok {
		return
	}
	partition, ok := gate.IntQuery(c, "partition", part.AnyPartition, 0, 1<<30)
	if !ok {
		return
	}
	mediaType := c.GetHeader("Content-Type")
	if strings.ContainsAny(mediaType, "; ABCDEFGHIJKLMNOPQRSTUVWXYZ") {
		mediaType, _, _ = mime.ParseMediaType(mediaType)
	}
	if mediaType == form.NDJSONType {
		s.publishLines(c, t, partition)
		return
	}
	limit := message.MaxBatchBytes + int64(message.BatchHeaderSize)
	if mediaType != form.BatchType {
		limit = t.Record().MaxBody*2 + 1<<20 // JSON around a body, base64 in it
	}
	ctx := c.Request.Context()
	hold := s.Node.Parts.Hold(gate.Who(c))
	defer hold.Release()
	data, err := gate.ReadBody(ctx, c, hold, message.StampSize, limit)
	if gate.Refuse(c, err) {
		return
	}
	var receipts []part.Receipt
	if mediaType == form.BatchType {
		var r part.Receipt
		if r, err = s.Node.Parts.PublishBatch(ctx, t, partition, data, hold); err == nil {
			receipts = []part.Receipt{r}
		}
	} else {
		receipts, err = s.publishOne(ctx, c, t, partition, mediaType, data[message.StampSize:], hold)
	}
	if partition != part.AnyPartition {
		s.tellLeader(c, t, partition)
	}
	if gate.Refuse(c, err) {
		return
	}
	out := published(receipts)
	s.publisher(c, t).Sent(int64(out.Accepted))
	c.Writer.Header()["Content-Type"] = gate.JSONType
	c.Writer.Write(appendPublished(make([]byte, 0, 160), out))
}

// publisher counts what comes of a request: by the principal, and the program that it names.
func (s *Flow) publisher(c *gin.Context, t *part.Channel) *publishers.Publisher {
	name := gate.Who(c)
	if program := c.GetHeader(form.HeaderProgram); program != "" && address.CheckName(program) == nil {
		name = program + " (" + name + ")"
	}
	return s.Node.Publishers.Of(t.ID, name)
}

// headerLeader names the node that leads the partition of a request, when it
// is another one: a client that asks it next time saves a step.
const headerLeader = "Ferry-Leader"

func (s *Flow) tellLeader(c *gin.Context, t *part.Channel, partition int) {
	if p, err := t.Partition(partition); err == nil {
		if leader := s.Node.Parts.LeaderURL(p); leader != "" {
			c.Writer.Header().Set(headerLeader, leader)
		}
	}
}

// appendPublished writes the answer as JSON. It does by hand what
// encoding/json does, since it is half the work of answering a small request.
func appendPublished(b []byte, p form.Published) []byte {
	b = append(b, `{"accepted":`...)
	b = strconv.AppendInt(b, int64(p.Accepted), 10)
	b = append(b, `,"dropped":`...)
	b = strconv.AppendInt(b, int64(p.Dropped), 10)
	b = append(b, `,"receipts":[`...)
	for i, r := range p.Receipts {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(b, `{"partition":`...)
		b = strconv.AppendInt(b, int64(r.Partition), 10)
		b = append(b, `,"offset":`...)
		b = strconv.AppendInt(b, r.Offset, 10)
		b = append(b, `,"count":`...)
		b = strconv.AppendInt(b, int64(r.Count), 10)
		b = append(b, `,"time":"`...)
		b = r.Time.AppendFormat(b, time.RFC3339Nano)
		b = append(b, `","repeat":`...)
		b = strconv.AppendBool(b, r.Repeat)
		b = append(b, '}')
	}
	return append(b, "]}"...)
}

func published(receipts []part.Receipt) form.Published {
	out := form.Published{Receipts: make([]form.Receipt, len(receipts))}
	for i, r := range receipts {
		if r.Repeat {
			out.Dropped += r.Count
		} else {
			out.Accepted += r.Count
		}
		out.Dropped += r.Dropped
		out.Receipts[i] = form.Receipt{Partition: r.Partition, Offset: r.Offset, Count: r.Count, Time: r.Time, Repeat: r.Repeat}
	}
	return out
}

// publishOne publishes a raw body, a JSON message or CloudEvents.
func (s *Flow) publishOne(ctx context.Context, c *gin.Context, t *part.Channel, partition int, mediaType string, body []byte, hold part.Hold) ([]part.Receipt, error) {
	switch mediaType {
	case form.MessageType:
		m, err := form.ParseMessage(body)
		if err != nil {
			return nil, err
		}
		return s.Node.Parts.PublishMessages(ctx, t, partition, []*message.Message{m})
	case form.CloudEventType:
		m, err := cloudevent.Parse(body)
		if err != nil {
			return nil, err
		}
		return s.Node.Parts.PublishMessages(ctx, t, partition, []*message.Message{m})
	case form.CloudBatchType:
		var events []json.RawMessage
		if err := strict.Unmarshal(body, &events); err != nil {
			return nil, gate.Invalid("body", "not a JSON array of CloudEvents: "+err.Error(), "")
		}
		messages := make([]*message.Message, len(events))
		for i, e := range events {
			m, err := cloudevent.Parse(e)
			if err != nil {
				return nil, fmt.Errorf("event %d: %w", i+1, err)
			}
			messages[i] = m
		}
		return s.Node.Parts.PublishMessages(ctx, t, partition, messages)
	}
	m, publisher, err := rawMessage(c, body)
	if err != nil {
		return nil, err
	}
	if publisher == nil {
		return s.Node.Parts.PublishMessages(ctx, t, partition, []*message.Message{m})
	}
	if err := m.Check(t.Record().MaxBody); err != nil {
		return nil, gate.Invalid("", err.Error(), "")
	}
	if partition == part.AnyPartition && m.Key != "" {
		partition = message.PartitionOf(m.Key, t.Record().Partitions)
	}
	if partition == part.AnyPartition {
		return nil, gate.Invalid("partition", "a publisher's sequence counts the messages of one partition", "a key, or partition=N")
	}
	var b message.Builder
	b.Add(m)
	batch := b.Build(message.Plain, publisher)
	r, err := s.Node.Parts.PublishBatch(ctx, t, partition, append(make([]byte, message.StampSize, message.StampSize+len(batch)), batch...), hold)
	return []part.Receipt{r}, err
}

// rawMessage makes a message of a raw body and the request's headers, which
// may be those of a CloudEvent in binary mode.
func rawMessage(c *gin.Context, body []byte) (*message.Message, *message.Publisher, error) {
	h := c.Request.Header
	m := &message.Message{Body: body, ContentType: c.GetHeader("Content-Type"), Key: h.Get(headerKey), ID: h.Get(headerID)}
	if key, ok := c.GetQuery("key"); ok {
		if m.Key != "" && m.Key != key {
			return nil, nil, gate.Invalid("key", fmt.Sprintf("key is %q, and %s is %q", key, headerKey, m.Key), "one of them")
		}
		m.Key = key
	}
	cloud := h.Get("Ce-Specversion") != ""
	var err error
	for name, values := range h {
		if len(values) > 1 && (strings.HasPrefix(name, "Ferry-") || name == "Content-Type" || cloud && strings.HasPrefix(name, cloudPrefix)) {
			return nil, nil, gate.Invalid(name, fmt.Sprintf("%s comes %d times", name, len(values)), "one value")
		}
		if short, ok := strings.CutPrefix(name, headerPrefix); ok {
			m.Headers = append(m.Headers, message.Header{Name: strings.ToLower(short), Value: values[0]})
		} else if short, ok := strings.CutPrefix(name, cloudPrefix); ok && cloud {
			if err = cloudevent.Set(m, strings.ToLower(short), unescapeCloud(values[0])); err != nil {
				return nil, nil, err
			}
		}
	}
	if text := h.Get(headerTime); text != "" {
		if m.Time, err = time.Parse(time.RFC3339Nano, text); err != nil {
			return nil, nil, gate.Invalid(headerTime, fmt.Sprintf("%q is not a time", text), "a time of RFC 3339, such as 2026-11-23T08:00:00Z")
		}
	}
	if m.Terms, err = rawTerms(h); err != nil {
		return nil, nil, err
	}
	if cloud {
		if err := cloudevent.Check(m); err != nil {
			return nil, nil, err
		}
	}
	text := h.Get(headerPublisher)
	if text == "" {
		return m, nil, nil
	}
	id, err := uuid.Parse(text)
	if err != nil {
		return nil, nil, gate.Invalid(headerPublisher, fmt.Sprintf("%q is not a publisher id", text), "a UUID")
	}
	sequence, err := strconv.ParseUint(h.Get(headerSequence), 10, 63)
	if err != nil {
		return nil, nil, gate.Invalid(headerSequence, fmt.Sprintf("%q is not a sequence", h.Get(headerSequence)), "a whole number")
	}
	return m, &message.Publisher{ID: id, Sequence: sequence}, nil
}

// unescapeCloud undoes the percent-encoding of attribute values in HTTP
// headers.
func unescapeCloud(value string) string {
	if text, err := url.PathUnescape(value); err == nil {
		return text
	}
	return value
}

// rawTerms reads when a queue shall hand out a raw message.
func rawTerms(h http.Header) (*message.Terms, error) {
	after, at, expires := h.Get(headerAfter), h.Get(headerNotBefore), h.Get(headerExpires)
	if after == "" && at == "" && expires == "" {
		return nil, nil
	}
	t := &message.Terms{}
	if after != "" {
		d, err := address.ParseDuration(after)
		if err != nil {
			return nil, gate.Invalid(headerAfter, err.Error(), "")
		}
		t.NotBefore = time.Now().Add(d).UTC()
	}
	for _, v := range []struct {
		name, text string
		to         *time.Time
	}{{headerNotBefore, at, &t.NotBefore}, {headerExpires, expires, &t.Expires}} {
		if v.text == "" {
			continue
		}
		parsed, err := time.Parse(time.RFC3339Nano, v.text)
		if err != nil {
			return nil, gate.Invalid(v.name, fmt.Sprintf("%q is not a time", v.text), "a time of RFC 3339, such as 2026-11-23T08:00:00Z")
		}
		*v.to = parsed.UTC()
	}
	return t, nil
}

// Bounds of what is gathered from an NDJSON stream before it is published.
const (
	lineBatchCount = 2000
	lineBatchBytes = 1 << 20
)

// lineReader reads lines in a goroutine of its own, so that its user can go
// on when none comes for a while.
type lineReader struct {
	lines chan []byte
	ahead *semaphore.Weighted // bytes of lines that its user has not taken yet
	err   error               // valid once lines is closed
}

// taken says that a line is used up.
func (r *lineReader) taken(line []byte) { r.ahead.Release(aheadOf(line)) }

func aheadOf(line []byte) int64 { return int64(min(len(line), lineBatchBytes)) }

func (s *Flow) readLines(c *gin.Context, limit int, done context.Context) *lineReader {
	r := &lineReader{lines: make(chan []byte, 64), ahead: semaphore.NewWeighted(lineBatchBytes)}
	hold := s.Node.Parts.Hold(gate.Who(c))
	control := http.NewResponseController(c.Writer)
	in := bufio.NewReaderSize(c.Request.Body, 64<<10)
	go func() {
		defer close(r.lines)
		defer hold.Release()
		for {
			if in.Buffered() == 0 {
				control.SetReadDeadline(time.Now().Add(gate.BodyStall))
			}
			var line []byte
			if line, r.err = readLine(done, in, hold, limit); r.err != nil {
				return
			}
			if r.err = r.ahead.Acquire(done, aheadOf(line)); r.err != nil {
				return
			}
			hold.Release()
			select {
			case r.lines <- line:
			case <-done.Done():
				return
			}
		}
	}()
	return r
}

// lineLinger is how long lines wait for others to be published with.
const lineLinger = 5 * time.Millisecond

// publishLines publishes a stream of JSON messages, one a line. What came
// before a wrong line is kept, and the answer says how much that is.
func (s *Flow) publishLines(c *gin.Context, t *part.Channel, partition int) {
	hold := s.Node.Parts.Hold(gate.Who(c))
	defer hold.Release()
	done, cancel := context.WithCancel(context.WithoutCancel(c))
	defer cancel()
	p := &linePublisher{server: s, topic: t, partition: partition, ctx: context.WithoutCancel(c), hold: hold, publisher: s.publisher(c, t)}
	p.total.Receipts = []form.Receipt{}
	control := http.NewResponseController(c.Writer)
	control.SetWriteDeadline(time.Time{}) // lines may come for hours
	number, err := p.run(s.readLines(c, int(t.Record().MaxBody*2)+1<<16, done))
	if flushErr := p.flush(); flushErr != nil {
		err = flushErr
	}
	control.SetWriteDeadline(time.Now().Add(gate.AnswerTime))
	if err == nil {
		c.JSON(http.StatusOK, p.total)
		return
	}
	problem := *gate.ProblemOf(err)
	problem.Line = number
	problem.Accepted = &p.total.Accepted
	gate.WriteProblem(c, &problem)
}

// linePublisher gathers the messages of a stream and publishes them.
type linePublisher struct {
	server    *Flow
	topic     *part.Channel
	partition int
	ctx       context.Context
	gathered  []*message.Message
	bytes     int
	hold      part.Hold // of what is gathered
	publisher *publishers.Publisher
	total     form.Published
}

// run publishes line after line and returns the number of the one at which it
// stopped.
func (p *linePublisher) run(in *lineReader) (number int, err error) {
	linger := time.NewTimer(lineLinger)
	defer linger.Stop()
	for number = 1; ; {
		select {
		case line, ok := <-in.lines:
			if !ok {
				if in.err == io.EOF {
					return 0, nil
				}
				return number, in.err
			}
			err := p.add(bytes.TrimSpace(line))
			in.taken(line)
			if err != nil {
				return number, err
			}
			number++
			if len(p.gathered) < lineBatchCount && p.bytes < lineBatchBytes {
				if len(p.gathered) == 1 {
					linger.Reset(lineLinger)
				}
				continue
			}
		case <-linger.C:
		}
		if err := p.flush(); err != nil {
			return number, err
		}
	}
}

func (p *linePublisher) add(line []byte) error {
	if len(line) == 0 {
		return nil
	}
	m, err := form.ParseMessage(line)
	if err != nil {
		return err
	}
	if err := m.Check(p.topic.Record().MaxBody); errors.Is(err, message.ErrTooLarge) {
		return problem.New(problem.TooLarge, "%v", err)
	} else if err != nil {
		return gate.Invalid("", err.Error(), "")
	}
	p.gathered = append(p.gathered, m)
	p.bytes += len(line)
	return p.hold.Grow(p.ctx, int64(2*len(line)))
}

func (p *linePublisher) flush() error {
	if len(p.gathered) == 0 {
		return nil
	}
	if err := p.server.Node.Quotas.PaceIn(p.ctx, p.topic.Record().Space); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(quotas.Patient(p.ctx), gate.RequestTimeout)
	defer cancel()
	receipts, err := p.server.Node.Parts.PublishMessages(ctx, p.topic, p.partition, p.gathered)
	kept := published(receipts)
	p.total.Accepted += kept.Accepted
	p.publisher.Sent(int64(kept.Accepted))
	p.total.Dropped += kept.Dropped
	p.total.Receipts = append(p.total.Receipts, kept.Receipts...)
	p.total.Receipts = p.total.Receipts[max(len(p.total.Receipts)-1000, 0):]
	p.gathered, p.bytes = nil, 0
	p.hold.Release()
	return err
}

// readLine reads one line of at most limit bytes; its bytes are its own, and
// count as in hand when they are many.
func readLine(ctx context.Context, r *bufio.Reader, hold part.Hold, limit int) ([]byte, error) {
	var line []byte
	for {
		part, err := r.ReadSlice('\n')
		if len(line)+len(part) > cap(line) && len(line) > 0 {
			if err := hold.Grow(ctx, int64(2*len(line))); err != nil {
				return nil, err
			}
		}
		line = append(line, part...)
		if len(line) > limit {
			return nil, problem.New(problem.TooLarge, "the line has more than %d bytes", limit)
		}
		switch {
		case err == bufio.ErrBufferFull:
			continue
		case err == io.EOF && len(line) > 0:
			return line, nil
		}
		return line, err
	}
}
