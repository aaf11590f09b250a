package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/gorilla/websocket"

	"steadyferry/client"
	"steadyferry/internal/node"
)

// Times and sizes of a work stream.
const (
	streamFrame = 4 << 20 // bytes of a frame of the member
	streamPing  = 10 * time.Second
	streamIdle  = 30 * time.Second // without a sign of life
	streamWrite = 10 * time.Second
)

var upgrader = websocket.Upgrader{ReadBufferSize: 16 << 10, WriteBufferSize: 16 << 10}

// workStream serves one member over a WebSocket (RFC 6455): the member gives
// credit and sends outcomes as JSON text, leased messages and what became of
// the outcomes come as binary frames in the form of client.DeliveriesType.
func (s *Server) workStream(c *gin.Context) {
	t, ok := s.queueOf(c)
	if !ok {
		return
	}
	member := c.Query("member")
	if member == "" {
		member = who(c)
	}
	conn, err := upgrader.Upgrade(c.Writer, c.Request, nil)
	if err != nil {
		return // it has answered
	}
	defer conn.Close()
	ctx, cancel := s.streamContext(c)
	defer cancel()
	s.node.Streams.Add(1)
	defer s.node.Streams.Add(-1)
	w := &workStream{node: s.node, topic: t, member: member, conn: conn, frames: make(chan client.StreamFrame, 16)}
	go func() {
		defer cancel()
		w.read()
	}()
	err = w.serve(ctx)
	code, text := websocket.CloseGoingAway, "the node is stopping"
	if err != nil {
		code, text = websocket.ClosePolicyViolation, problemOf(err).Detail
	}
	conn.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(code, text[:min(len(text), 120)]), time.Now().Add(time.Second))
}

type workStream struct {
	node   *node.Node
	topic  *node.Topic
	member string
	conn   *websocket.Conn
	frames chan client.StreamFrame
	credit int
}

func (w *workStream) read() {
	defer close(w.frames)
	w.conn.SetReadLimit(streamFrame)
	alive := func() { w.conn.SetReadDeadline(time.Now().Add(streamIdle)) }
	w.conn.SetPongHandler(func(string) error { alive(); return nil })
	for {
		alive()
		_, b, err := w.conn.ReadMessage()
		if err != nil {
			return
		}
		var f client.StreamFrame
		if err := json.Unmarshal(b, &f); err != nil {
			f = client.StreamFrame{Credit: -1}
		}
		w.frames <- f
	}
}

// serve settles and leases as the member says. What waits for messages can be
// interrupted at any moment, what takes them cannot: none gets lost between.
func (w *workStream) serve(ctx context.Context) error {
	ping := time.NewTicker(streamPing)
	defer ping.Stop()
	var ready chan struct{}
	stop := func() {}
	defer func() { stop() }()
	for {
		var f client.StreamFrame
		var ok bool
		select {
		case <-ctx.Done():
			return nil
		case <-ping.C:
			if w.conn.WriteControl(websocket.PingMessage, nil, time.Now().Add(streamWrite)) != nil {
				return nil
			}
			continue
		case <-ready:
		case f, ok = <-w.frames:
			if !ok {
				return nil
			}
		}
		stop()
		ready = nil
		if f.Credit < 0 || w.credit+f.Credit > node.MaxLease {
			return invalid("credit", fmt.Sprintf("a credit of %d, with %d open", f.Credit, w.credit), fmt.Sprintf("0 to %d in all", node.MaxLease))
		}
		w.credit += f.Credit
		if err := w.work(ctx, f.Settle); err != nil {
			return err
		}
		if w.credit > 0 {
			waiting, cancel := context.WithCancel(ctx)
			stop = cancel
			done := make(chan struct{})
			ready = done
			go func() {
				if w.node.AwaitWork(waiting, w.topic) == nil {
					close(done)
				}
			}()
		}
	}
}

func (w *workStream) work(ctx context.Context, settle []client.Settlement) error {
	if len(settle) == 0 && w.credit == 0 {
		return nil
	}
	work, err := workOf(&client.WorkRequest{Member: w.member, Settle: settle, Max: w.credit}, w.member)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), requestTimeout)
	defer cancel()
	done, err := w.node.Work(ctx, w.topic, work)
	if err != nil {
		return err
	}
	if len(done.Settled) == 0 && len(done.Deliveries) == 0 {
		return nil
	}
	w.credit -= len(done.Deliveries)
	w.conn.SetWriteDeadline(time.Now().Add(streamWrite))
	return w.conn.WriteMessage(websocket.BinaryMessage, appendDeliveries(done))
}

// streamRoute is where the stream of a queue begins.
func (s *Server) streamRoute(ch *gin.RouterGroup) {
	ch.Handle(http.MethodGet, "/work", s.workStream)
}
