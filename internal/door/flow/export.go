package flow

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/cloudevent"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/queues"
)

// maxExport bounds how many messages of a topic one file has.
const maxExport = 1 << 30

// export writes a selection into a file: of a topic what browse finds, of a
// queue its dead letters or what is in another state. What breaks off in the
// middle breaks the connection off, so that no part passes for the whole.
func (s *Flow) export(c *gin.Context) {
	format := c.DefaultQuery("format", client.FormatNDJSON)
	if format != client.FormatNDJSON && format != client.FormatCloudEvents {
		gate.WriteProblem(c, gate.Invalid("format", fmt.Sprintf("format is %q", format), client.FormatNDJSON+", "+client.FormatCloudEvents))
		return
	}
	t, ok := s.ChannelOf(c)
	if !ok {
		return
	}
	var err error
	f := &exportFile{server: s, c: c, format: format, topic: t}
	if t.IsQueue() {
		err = s.exportQueue(c, t, f)
	} else {
		err = s.exportTopic(c, f)
	}
	if c.IsAborted() {
		return
	}
	if err == nil {
		err = f.end()
	}
	if err != nil && f.lines != nil {
		panic(http.ErrAbortHandler)
	}
	gate.Refuse(c, err)
}

func (s *Flow) exportTopic(c *gin.Context, f *exportFile) error {
	sel, ok := s.selection(c, address.First)
	if !ok {
		return nil
	}
	if sel.Limit, ok = gate.IntQuery(c, "limit", maxExport, 1, maxExport); !ok {
		return nil
	}
	ctx, cancel := s.StreamContext(c)
	defer cancel()
	return s.Node.Look.Whole(ctx, sel, func(m *message.Stored) error {
		line := s.messageJSON(ctx, f.topic.Address(), m)
		line.KeepExact(m.Body)
		return f.write(line, &m.Message)
	})
}

func (s *Flow) exportQueue(c *gin.Context, t *part.Channel, f *exportFile) error {
	states, err := queue.ParseStates(c.Query("state"), "dead")
	if err != nil {
		return err
	}
	limit, ok := gate.IntQuery(c, "limit", 0, 0, maxExport)
	if !ok {
		return nil
	}
	sel := queues.Selection{States: states, Where: c.Query("where"), Limit: int64(limit)}
	if sel.Cause, err = queue.ParseCause(c.Query("cause")); err != nil {
		return err
	}
	ctx, cancel := s.StreamContext(c)
	defer cancel()
	return s.Node.Queues.EachItem(ctx, t, sel, func(item *queues.Item) error {
		if item.Message == nil {
			return nil // its bytes are gone
		}
		line := item.Form(t)
		line.KeepExact(item.Message.Body)
		return f.write(line, &item.Message.Message)
	})
}

// exportFile is a file of messages on its way to the client.
type exportFile struct {
	server *Flow
	c      *gin.Context
	format string
	topic  *part.Channel
	lines  *gate.LineWriter // nil before the head is answered
	count  int
}

// begin answers with the head of the file; what is refused is refused before.
func (f *exportFile) begin() {
	if f.lines != nil {
		return
	}
	suffix, mediaType := "ndjson", client.NDJSONType
	if f.format == client.FormatCloudEvents {
		suffix, mediaType = "json", client.CloudBatchType
	}
	name := strings.ReplaceAll(f.topic.Record().Name, "@", "-")
	f.c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-%s.%s"`, name, time.Now().UTC().Format("20060102T150405"), suffix))
	f.lines = f.server.NewLineWriter(f.c, mediaType, time.Minute)
	if f.format == client.FormatCloudEvents {
		f.lines.Text("[")
	}
}

func (f *exportFile) write(line any, m *message.Message) error {
	f.begin()
	f.count++
	if err := f.server.Node.Quotas.Pace(f.c, f.topic.Record().Space); err != nil {
		return err
	}
	if f.format == client.FormatNDJSON {
		return f.lines.Write(line, len(m.Body))
	}
	event, err := cloudevent.Encode(f.topic.Address().String(), m)
	if err != nil {
		return err
	}
	before := "\n"
	if f.count > 1 {
		before = ",\n"
	}
	return f.lines.Text(before + string(event))
}

func (f *exportFile) end() error {
	f.begin()
	if f.format == client.FormatCloudEvents {
		f.lines.Text("\n]\n")
	}
	return f.lines.Flush()
}
