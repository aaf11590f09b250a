package flow

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/gorilla/websocket"

	"steadyferry/client"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/publishers"
	"steadyferry/internal/service/quotas"
)

// streamBatches is how many batches of one stream may be under way; what comes
// beyond them waits in the connection.
const streamBatches = 64

// publishStream takes batches over a WebSocket (RFC 6455). Each is answered by
// its number, as soon as it is kept; one that is refused does not end the stream.
// Batches that are under way at the same time keep no order among them.
func (s *Flow) publishStream(c *gin.Context) {
	t, ok := s.TopicOf(c)
	if !ok {
		return
	}
	conn, err := upgrader.Upgrade(c.Writer, c.Request, nil)
	if err != nil {
		return // it has answered
	}
	defer conn.Close()
	ctx, cancel := s.StreamContext(c)
	defer cancel()
	p := &publishStream{ctx: ctx, server: s, topic: t, conn: conn, who: gate.Who(c), publisher: s.publisher(c, t)}
	go p.ping(ctx)
	p.read()
	p.underWay.Wait() // what was taken is answered
}

type publishStream struct {
	ctx       context.Context // of the request
	server    *Flow
	topic     *part.Channel
	who       string
	publisher *publishers.Publisher
	conn      *websocket.Conn
	underWay  sync.WaitGroup
	ending    atomic.Bool
	mu        sync.Mutex // held while an answer is written
}

func (p *publishStream) ping(ctx context.Context) {
	tick := time.NewTicker(streamPing)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			p.ending.Store(true)
			p.conn.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseGoingAway, "the node is stopping"), time.Now().Add(time.Second))
			p.conn.SetReadDeadline(time.Now())
			return
		case <-tick.C:
			if p.conn.WriteControl(websocket.PingMessage, nil, time.Now().Add(streamWrite)) != nil {
				p.conn.Close()
				return
			}
		}
	}
}

// publishHead is what stands before a batch in a frame: its number and its
// partition plus one, 0 for any, 4 bytes each. It takes up the end of the room
// that a batch needs for its stamp.
const publishHead = 8

func (p *publishStream) read() {
	alive := aliveBy(p.conn, message.MaxBatchBytes+message.BatchHeaderSize+publishHead)
	room := make(chan struct{}, streamBatches)
	for {
		alive()
		if p.ending.Load() {
			return
		}
		_, r, err := p.conn.NextReader()
		if err != nil {
			return
		}
		hold := p.server.Node.Parts.Hold(p.who)
		data, err := p.readFrame(r, hold)
		if err != nil {
			hold.Release()
			return
		}
		if p.server.Node.Quotas.PaceIn(p.ctx, p.topic.Record().Space) != nil {
			hold.Release()
			return
		}
		room <- struct{}{}
		p.underWay.Go(func() {
			defer func() { <-room }()
			defer hold.Release()
			p.publish(data, hold)
		})
	}
}

// readFrame reads a frame so that its batch has room for a stamp before it.
// What has come of it counts as in hand.
func (p *publishStream) readFrame(r io.Reader, hold part.Hold) ([]byte, error) {
	const front = message.StampSize - publishHead
	data := make([]byte, front, 4096)
	for {
		if len(data) == cap(data) {
			if err := hold.Grow(context.Background(), int64(2*cap(data))); err != nil {
				return nil, err
			}
			data = append(make([]byte, 0, 3*cap(data)), data...)
		}
		n, err := r.Read(data[len(data):cap(data)])
		data = data[:len(data)+n]
		if err == io.EOF {
			err = nil
			if len(data) < message.StampSize {
				err = io.ErrUnexpectedEOF
			}
			return data, err
		}
		if err != nil {
			return nil, err
		}
	}
}

func (p *publishStream) publish(data []byte, hold part.Hold) {
	number, partition := client.PublishHead(data[message.StampSize-publishHead:])
	clear(data[:message.StampSize])
	ctx, cancel := context.WithTimeout(quotas.Patient(context.WithoutCancel(p.ctx)), gate.RequestTimeout) // what was taken is finished
	defer cancel()
	receipt, err := p.server.Node.Parts.PublishBatch(ctx, p.topic, partition, data, hold)
	var answer []byte
	if err != nil {
		text, marshalErr := json.Marshal(gate.ProblemOf(err))
		if marshalErr != nil {
			text = fmt.Appendf(nil, `{"detail":%q}`, err)
		}
		answer = client.AppendPublishAnswer(nil, number, nil, text)
	} else {
		r := form.Receipt{Partition: receipt.Partition, Offset: receipt.Offset, Count: receipt.Count, Time: receipt.Time, Repeat: receipt.Repeat}
		answer = client.AppendPublishAnswer(nil, number, &r, nil)
		if !receipt.Repeat {
			p.publisher.Sent(int64(receipt.Count))
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.conn.SetWriteDeadline(time.Now().Add(streamWrite))
	// Whoever does not hear the answer asks again under the same sequence.
	_ = p.conn.WriteMessage(websocket.BinaryMessage, answer)
}
