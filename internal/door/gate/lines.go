package gate

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"steadyferry/internal/core/message"
	"steadyferry/internal/engine/part"

	"github.com/gin-gonic/gin"
)

// largeAnswer is from how many bytes of messages on encoding them waits for a
// turn: so many do it at once that a processor stays free for those who
// publish. Nobody holds a turn while a client takes what was encoded.
const largeAnswer = 8 << 10

// Encode appends a value to out as JSON. Size is about how many bytes of
// messages are in it.
func (g *Gate) Encode(ctx context.Context, out *json.Encoder, v any, size int) error {
	if size >= largeAnswer {
		if err := g.encoding.Acquire(ctx, 1); err != nil {
			return err
		}
		defer g.encoding.Release(1)
	}
	return out.Encode(v)
}

// WritePage answers with a value that has so many bytes of messages.
func (g *Gate) WritePage(c *gin.Context, v any, size int) {
	var b bytes.Buffer
	if Refuse(c, g.Encode(c, json.NewEncoder(&b), v, size)) {
		return
	}
	c.Data(http.StatusOK, "application/json; charset=utf-8", b.Bytes())
}

// LineWriter writes JSON values to a slow or quick reader.
type LineWriter struct {
	gate     *Gate
	ctx      context.Context
	buffered *bufio.Writer
	line     bytes.Buffer
	out      *json.Encoder // into line
	control  *http.ResponseController
	patience time.Duration
}

// NewLineWriter begins an answer; a reader that takes nothing for as long as the
// patience lasts is left.
func (g *Gate) NewLineWriter(c *gin.Context, contentType string, patience time.Duration) *LineWriter {
	c.Header("Content-Type", contentType)
	c.Header("X-Accel-Buffering", "no")
	w := &LineWriter{gate: g, ctx: c, buffered: bufio.NewWriterSize(c.Writer, 32<<10), control: http.NewResponseController(c.Writer), patience: patience}
	w.out = json.NewEncoder(&w.line)
	w.out.SetEscapeHTML(false)
	return w
}

// Pending returns how many bytes are not flushed.
func (w *LineWriter) Pending() int { return w.buffered.Buffered() }

// write writes a value that has so many bytes of messages.
func (w *LineWriter) Write(v any, size int) error {
	w.control.SetWriteDeadline(time.Now().Add(w.patience))
	w.line.Reset()
	if err := w.gate.Encode(w.ctx, w.out, v, size); err != nil {
		return err
	}
	_, err := w.buffered.Write(w.line.Bytes())
	return err
}

// Text writes text as it is.
func (w *LineWriter) Text(s string) error {
	w.control.SetWriteDeadline(time.Now().Add(w.patience))
	_, err := w.buffered.WriteString(s)
	return err
}

// Flush sends what is written.
func (w *LineWriter) Flush() error {
	w.control.SetWriteDeadline(time.Now().Add(w.patience))
	if err := w.buffered.Flush(); err != nil {
		return err
	}
	return w.control.Flush()
}

// wholeBody is up to how large a body goes into JSON with the rest of its
// message; as a file (format=raw) it goes whole.
const wholeBody = 1 << 20

// Shown is a message as JSON shows it.
func Shown(m *message.Stored) *message.Stored {
	if len(m.Body) > wholeBody {
		return m.Shorten(message.ShortBody)
	}
	return m
}

// WriteJSON answers without escaping < and > in bodies, which are data.
func WriteJSON(c *gin.Context, v any) {
	c.Header("Content-Type", "application/json")
	out := json.NewEncoder(c.Writer)
	out.SetEscapeHTML(false)
	out.Encode(v)
}

// WriteBody answers with a body as a file: whatever it is, a browser must not
// run it here.
func WriteBody(c *gin.Context, t *part.Channel, m *message.Stored) {
	c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-%d-%d.bin"`, t.Record().Name, m.Partition, m.Offset))
	c.Data(http.StatusOK, "application/octet-stream", m.Body)
}

// BytesOf returns how many bytes of body a message has, if there is one.
func BytesOf(m *message.Stored) int {
	if m == nil {
		return 0
	}
	return len(m.Body)
}
