package client

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/gorilla/websocket"

	"steadyferry/internal/core/address"
)

// WorkStream is a long-lived connection on which a member gets messages of a
// queue as its credit allows, and settles them. Outcomes that are ready at the
// same time go together.
type WorkStream struct {
	// Refused, if set before the first outcome, is told of leases that could
	// not be settled.
	Refused func(Settled)

	conn       *websocket.Conn
	address    address.Address
	deliveries chan Leased
	done       chan struct{}
	wake       chan struct{}

	mu      sync.Mutex
	next    WorkRequest  // to be sent; Max is how many more messages the member takes
	unread  []Settlement // outcomes that were sent and not answered
	err     error
	closing bool
}

// OpenWork connects a member to a queue. At most credit messages are leased
// and not settled at a time, 1 to 1000.
func (c *Client) OpenWork(ctx context.Context, a address.Address, member string, credit int) (*WorkStream, error) {
	if credit < 1 || credit > 1000 {
		return nil, fmt.Errorf("a credit of %d; allowed: 1 to 1000", credit)
	}
	conn, err := c.dial(ctx, QueuePath(a)+"/work?member="+url.QueryEscape(member))
	if err != nil {
		return nil, err
	}
	s := &WorkStream{conn: conn, address: a, deliveries: make(chan Leased, credit), done: make(chan struct{}), wake: make(chan struct{}, 1), next: WorkRequest{Max: credit}}
	go s.read()
	go s.write()
	s.signal()
	return s, nil
}

// dial opens a WebSocket to the first server that answers.
func (c *Client) dial(ctx context.Context, path string) (*websocket.Conn, error) {
	dialer := websocket.Dialer{TLSClientConfig: c.tls, HandshakeTimeout: 10 * time.Second, ReadBufferSize: 16 << 10, WriteBufferSize: 16 << 10}
	var failed error
	for _, server := range c.order("") {
		conn, response, err := dialer.DialContext(ctx, "ws"+strings.TrimPrefix(server, "http")+"/api/v1"+path, c.streamHead())
		if err == nil {
			return conn, nil
		}
		if response != nil && response.StatusCode >= 300 {
			return nil, checkAnswer(response)
		}
		failed = err
	}
	return nil, fmt.Errorf("%w: %w", ErrUnreachable, failed)
}

func (s *WorkStream) signal() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

func (s *WorkStream) fail(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err == nil {
		s.err = err
		close(s.done)
		s.conn.Close()
	}
}

func (s *WorkStream) read() {
	for {
		_, b, err := s.conn.ReadMessage()
		var answer *Worked
		if err == nil {
			answer, err = s.answer(b)
		}
		if err != nil {
			s.fail(fmt.Errorf("the work stream ended: %w", err))
			return
		}
		for _, one := range answer.Settled {
			if one.Result != ResultDone && s.Refused != nil {
				s.Refused(one)
			}
		}
		for _, d := range answer.Leased {
			s.deliveries <- d // it has room for all that the credit allows
		}
	}
}

// answer reads a frame. Outcomes are answered in the order in which they were
// sent.
func (s *WorkStream) answer(b []byte) (*Worked, error) {
	n, _ := binary.Uvarint(b)
	s.mu.Lock()
	defer s.mu.Unlock()
	if n > uint64(len(s.unread)) {
		return nil, errors.New("more outcomes were answered than sent")
	}
	answer, err := decodeWorked(s.unread[:n], b)
	if err == nil {
		s.unread = s.unread[n:]
	}
	return answer, err
}

func (s *WorkStream) write() {
	for {
		select {
		case <-s.wake:
		case <-s.done:
			return
		}
		s.mu.Lock()
		frame := s.next
		s.next = WorkRequest{}
		s.unread = append(s.unread, frame.Settle...)
		s.mu.Unlock()
		if frame.Max == 0 && len(frame.Settle) == 0 {
			continue
		}
		b, err := encodeWork(&frame)
		if err == nil {
			s.conn.SetWriteDeadline(time.Now().Add(10 * time.Second))
			err = s.conn.WriteMessage(websocket.BinaryMessage, b)
		}
		if err != nil {
			s.fail(err)
			return
		}
	}
}

// Next returns the next message.
func (s *WorkStream) Next(ctx context.Context) (Leased, error) {
	select {
	case d := <-s.deliveries:
		return d, nil
	case <-s.done:
		return Leased{}, s.failure()
	case <-ctx.Done():
		return Leased{}, ctx.Err()
	}
}

func (s *WorkStream) failure() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// Settle sends the outcomes of leases, together. Each but an extension gives
// the service credit for another message, unless the stream is being closed.
func (s *WorkStream) Settle(outcomes ...Settlement) {
	s.mu.Lock()
	for _, one := range outcomes {
		s.next.Settle = append(s.next.Settle, one)
		if one.Outcome != OutcomeExtend && !s.closing {
			s.next.Max++
		}
	}
	s.mu.Unlock()
	s.signal()
}

// Close gives back what was not handed out yet, waits until every outcome is
// answered, and ends the stream.
func (s *WorkStream) Close(ctx context.Context) error {
	s.mu.Lock()
	s.closing = true
	s.next.Max = 0
	s.mu.Unlock()
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case d := <-s.deliveries:
			s.Settle(Settlement{Lease: d.Lease, Outcome: OutcomeRelease, Untouched: true})
			continue
		case <-s.done:
			return s.failure()
		case <-ctx.Done():
			s.fail(ctx.Err())
			return ctx.Err()
		case <-tick.C:
		}
		s.mu.Lock()
		idle := len(s.next.Settle) == 0 && len(s.unread) == 0 && len(s.deliveries) == 0
		s.mu.Unlock()
		if idle {
			s.conn.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, ""), time.Now().Add(time.Second))
			s.fail(errors.New("the work stream is closed"))
			return nil
		}
	}
}

// streamHead is the head of a request that becomes a stream.
func (c *Client) streamHead() http.Header {
	head := http.Header{}
	if c.token != "" {
		head.Set("Authorization", "Bearer "+c.token)
	}
	if c.Program != "" {
		head.Set(HeaderProgram, c.Program)
	}
	return head
}
