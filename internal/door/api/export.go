package api

import (
	"bufio"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/cloudevent"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/look"
	"steadyferry/internal/service/queues"
)

// maxExport bounds how many messages of a topic one file has.
const maxExport = 1 << 30

// export writes a selection into a file: of a topic what browse finds, of a
// queue its dead letters or what is in another state. What breaks off in the
// middle breaks the connection off, so that no part passes for the whole.
func (s *Server) export(c *gin.Context) {
	format := c.DefaultQuery("format", client.FormatNDJSON)
	if format != client.FormatNDJSON && format != client.FormatCloudEvents {
		writeProblem(c, invalid("format", fmt.Sprintf("format is %q", format), client.FormatNDJSON+", "+client.FormatCloudEvents))
		return
	}
	t, ok := s.channelOf(c)
	if !ok {
		return
	}
	var err error
	f := &exportFile{server: s, c: c, format: format, topic: t, control: http.NewResponseController(c.Writer)}
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
	if err != nil && f.out != nil {
		panic(http.ErrAbortHandler)
	}
	refuse(c, err)
}

func (s *Server) exportTopic(c *gin.Context, f *exportFile) error {
	sel, ok := s.selection(c, address.First)
	if !ok {
		return nil
	}
	if sel.Limit, ok = intQuery(c, "limit", maxExport, 1, maxExport); !ok {
		return nil
	}
	ctx, cancel := s.streamContext(c)
	defer cancel()
	return s.node.Look.Browse(ctx, sel, func(e look.Event) error {
		if e.Message == nil {
			return nil
		}
		if e.Message.Whole > 0 {
			// Browse shortens large bodies; here each is read whole, one at a time.
			p, err := f.topic.Partition(e.Message.Partition)
			if err == nil {
				e.Message, err = s.node.Parts.Message(ctx, p, e.Message.Offset, sel.AnyReplica)
			}
			if err != nil {
				return err
			}
		}
		line := form.MessageOf(f.topic.Address(), e.Message)
		line.KeepExact(e.Message.Body)
		return f.write(line, &e.Message.Message)
	})
}

func (s *Server) exportQueue(c *gin.Context, t *part.Channel, f *exportFile) error {
	states, err := statesOf(c.Query("state"), "dead")
	if err != nil {
		return err
	}
	limit, ok := intQuery(c, "limit", 0, 0, maxExport)
	if !ok {
		return nil
	}
	sel := queues.Selection{States: states, Where: c.Query("where"), Limit: int64(limit)}
	if sel.Cause, err = queues.ParseCause(c.Query("cause")); err != nil {
		return err
	}
	ctx, cancel := s.streamContext(c)
	defer cancel()
	return s.node.Queues.EachItem(ctx, t, sel, func(item *queues.Item) error {
		if item.Message == nil {
			return nil // its bytes are gone
		}
		line := itemJSON(t, item)
		line.KeepExact(item.Message.Body)
		return f.write(line, &item.Message.Message)
	})
}

// exportFile is a file of messages on its way to the client.
type exportFile struct {
	server  *Server
	c       *gin.Context
	format  string
	topic   *part.Channel
	control *http.ResponseController
	out     *bufio.Writer
	lines   *lineWriter
	count   int
}

// begin answers with the head of the file; what is refused is refused before.
func (f *exportFile) begin() {
	if f.out != nil {
		return
	}
	suffix, mediaType := "ndjson", client.NDJSONType
	if f.format == client.FormatCloudEvents {
		suffix, mediaType = "json", client.CloudBatchType
	}
	name := strings.ReplaceAll(f.topic.Record().Name, "@", "-")
	f.c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-%s.%s"`, name, time.Now().UTC().Format("20060102T150405"), suffix))
	f.lines = f.server.newLineWriter(f.c, mediaType, time.Minute)
	f.out = f.lines.buffered
	if f.format == client.FormatCloudEvents {
		f.out.WriteString("[")
	}
}

func (f *exportFile) write(line any, m *message.Message) error {
	f.begin()
	f.count++
	if f.format == client.FormatNDJSON {
		return f.lines.write(line, len(m.Body))
	}
	event, err := cloudevent.Encode(f.topic.Address().String(), m)
	if err != nil {
		return err
	}
	if f.count > 1 {
		f.out.WriteString(",")
	}
	f.out.WriteString("\n")
	f.control.SetWriteDeadline(time.Now().Add(f.lines.patience))
	_, err = f.out.Write(event)
	return err
}

func (f *exportFile) end() error {
	f.begin()
	if f.format == client.FormatCloudEvents {
		f.out.WriteString("\n]\n")
	}
	return f.lines.flush()
}
