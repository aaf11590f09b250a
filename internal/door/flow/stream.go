package flow

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/gorilla/websocket"

	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service"
	"steadyferry/internal/service/queues"
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
// credit (Max of a call) and sends outcomes, leased messages and what became of
// the outcomes come back; all as binary frames in the form of client.WorkType.
func (s *Flow) workStream(c *gin.Context) {
	t, ok := s.QueueOf(c)
	if !ok {
		return
	}
	member := c.Query("member")
	if member == "" {
		member = gate.Who(c)
	}
	conn, err := upgrader.Upgrade(c.Writer, c.Request, nil)
	if err != nil {
		return // it has answered
	}
	defer conn.Close()
	ctx, cancel := s.StreamContext(c)
	defer cancel()
	w := &workStream{node: s.Node, topic: t, member: member, conn: conn, frames: make(chan queues.Work, 16)}
	go func() {
		defer cancel()
		w.read(ctx)
	}()
	err = w.serve(ctx)
	code, text := websocket.CloseGoingAway, "the node is stopping"
	if errors.Is(err, errMemberGone) {
		return // what it holds is handed out again when its leases run out
	}
	if err != nil {
		code, text = websocket.ClosePolicyViolation, gate.ProblemOf(err).Detail
	}
	conn.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(code, text[:min(len(text), 120)]), time.Now().Add(time.Second))
}

var errMemberGone = errors.New("the member is gone")

type workStream struct {
	node   *service.Services
	topic  *part.Channel
	member string
	conn   *websocket.Conn
	frames chan queues.Work
	credit int
}

// aliveBy bounds what a stream's frames may have, and returns what is called
// before each read: a connection ends that gives no sign of life.
func aliveBy(conn *websocket.Conn, limit int64) func() {
	conn.SetReadLimit(limit)
	alive := func() { conn.SetReadDeadline(time.Now().Add(streamIdle)) }
	conn.SetPongHandler(func(string) error { alive(); return nil })
	return alive
}

func (w *workStream) read(ctx context.Context) {
	defer close(w.frames)
	alive := aliveBy(w.conn, streamFrame)
	for {
		alive()
		_, b, err := w.conn.ReadMessage()
		if err != nil {
			return
		}
		f, err := decodeWork(b, w.member)
		if err != nil {
			f = queues.Work{Max: -1}
		}
		select {
		case w.frames <- f:
		case <-ctx.Done():
			return
		}
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
		var f queues.Work
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
		if f.Max < 0 || w.credit+f.Max > queues.MaxLease {
			return gate.Invalid("credit", fmt.Sprintf("a credit of %d, with %d open", f.Max, w.credit), fmt.Sprintf("0 to %d in all", queues.MaxLease))
		}
		w.credit += f.Max
		if err := w.work(ctx, f.Settle); err != nil {
			return err
		}
		if w.credit > 0 {
			waiting, cancel := context.WithCancel(ctx)
			stop = cancel
			done := make(chan struct{})
			ready = done
			credit := w.credit
			go func() {
				if w.node.Queues.AwaitWork(waiting, w.topic, w.member, credit) == nil {
					close(done)
				}
			}()
		}
	}
}

func (w *workStream) work(ctx context.Context, settle []queues.Settle) error {
	if len(settle) == 0 && w.credit == 0 {
		return nil
	}
	space := w.topic.Record().Space
	if w.credit > 0 {
		if err := w.node.Quotas.Pace(ctx, space); err != nil {
			return nil // the stream is over
		}
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), gate.RequestTimeout)
	defer cancel()
	done, err := w.node.Queues.Work(ctx, w.topic, queues.Work{Member: w.member, Partition: part.AnyPartition, Settle: settle, Max: w.credit, Raw: true})
	if err != nil {
		return err
	}
	if len(done.Settled) == 0 && len(done.Leased) == 0 {
		return nil
	}
	w.credit -= len(done.Leased)
	w.conn.SetWriteDeadline(time.Now().Add(streamWrite))
	frame := done.Encode()
	w.node.Quotas.Gave(ctx, space, len(frame))
	if w.conn.WriteMessage(websocket.BinaryMessage, frame) != nil {
		return errMemberGone
	}
	return nil
}
