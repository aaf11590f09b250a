package api

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
)

// largeAnswer is from how many bytes of messages on encoding them waits for a
// turn: so many do it at once that a processor stays free for those who
// publish. Nobody holds a turn while a client takes what was encoded.
const largeAnswer = 8 << 10

// encode appends a value to out as JSON. Size is about how many bytes of
// messages are in it.
func (s *Server) encode(ctx context.Context, out *json.Encoder, v any, size int) error {
	if size >= largeAnswer {
		if err := s.encoding.Acquire(ctx, 1); err != nil {
			return err
		}
		defer s.encoding.Release(1)
	}
	return out.Encode(v)
}

// writePage answers with a value that has so many bytes of messages.
func (s *Server) writePage(c *gin.Context, v any, size int) {
	var b bytes.Buffer
	if refuse(c, s.encode(c, json.NewEncoder(&b), v, size)) {
		return
	}
	c.Data(http.StatusOK, "application/json; charset=utf-8", b.Bytes())
}

// lineWriter writes JSON values to a slow or quick reader.
type lineWriter struct {
	server   *Server
	ctx      context.Context
	buffered *bufio.Writer
	line     bytes.Buffer
	out      *json.Encoder // into line
	control  *http.ResponseController
	patience time.Duration
}

func (s *Server) newLineWriter(c *gin.Context, contentType string, patience time.Duration) *lineWriter {
	c.Header("Content-Type", contentType)
	c.Header("X-Accel-Buffering", "no")
	w := &lineWriter{server: s, ctx: c, buffered: bufio.NewWriterSize(c.Writer, 32<<10), control: http.NewResponseController(c.Writer), patience: patience}
	w.out = json.NewEncoder(&w.line)
	w.out.SetEscapeHTML(false)
	return w
}

func (w *lineWriter) pending() int { return w.buffered.Buffered() }

// write writes a value that has so many bytes of messages.
func (w *lineWriter) write(v any, size int) error {
	w.control.SetWriteDeadline(time.Now().Add(w.patience))
	w.line.Reset()
	if err := w.server.encode(w.ctx, w.out, v, size); err != nil {
		return err
	}
	_, err := w.buffered.Write(w.line.Bytes())
	return err
}

func (w *lineWriter) text(s string) error {
	_, err := w.buffered.WriteString(s)
	return err
}

func (w *lineWriter) flush() error {
	w.control.SetWriteDeadline(time.Now().Add(w.patience))
	if err := w.buffered.Flush(); err != nil {
		return err
	}
	return w.control.Flush()
}
