package client

import (
	"context"
	"encoding/json"
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

// StreamFrame is what a member sends on a work stream: how many more messages
// it takes, and outcomes.
type StreamFrame struct {
	Credit int          `json:"credit,omitempty"`
	Settle []Settlement `json:"settle,omitempty"`
}

// WorkStream is a long-lived connection on which a member gets messages of a
// queue as its credit allows, and settles them. Outcomes that are ready at the
// same time go together.
type WorkStream struct {
	// Refused, if set before the first outcome, is told of leases that could
	// not be settled.
	Refused func(Settled)

	conn       *websocket.Conn
	address    address.Address
	deliveries chan Delivery
	done       chan struct{}
	wake       chan struct{}

	mu      sync.Mutex
	next    StreamFrame // to be sent
	unread  int         // outcomes that were sent and not answered
	err     error
	closing bool
}

// OpenWork connects a member to a queue. At most credit messages are leased
// and not settled at a time, 1 to 1000.
func (c *Client) OpenWork(ctx context.Context, a address.Address, member string, credit int) (*WorkStream, error) {
	if credit < 1 || credit > 1000 {
		return nil, fmt.Errorf("a credit of %d; allowed: 1 to 1000", credit)
	}
	dialer := websocket.Dialer{HandshakeTimeout: 10 * time.Second, ReadBufferSize: 16 << 10, WriteBufferSize: 16 << 10}
	var failed error
	for _, server := range c.order("") {
		target := "ws" + strings.TrimPrefix(server, "http") + "/api/v1" + QueuePath(a) + "/work?member=" + url.QueryEscape(member)
		conn, response, err := dialer.DialContext(ctx, target, http.Header{"Authorization": {"Bearer " + c.token}})
		if err == nil {
			s := &WorkStream{conn: conn, address: a, deliveries: make(chan Delivery, credit), done: make(chan struct{}), wake: make(chan struct{}, 1), next: StreamFrame{Credit: credit}}
			go s.read()
			go s.write()
			s.signal()
			return s, nil
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
		var answer *WorkAnswer
		if err == nil {
			answer, err = decodeDeliveries(s.address, b)
		}
		if err != nil {
			s.fail(fmt.Errorf("the work stream ended: %w", err))
			return
		}
		s.mu.Lock()
		s.unread -= len(answer.Settled)
		refused := s.Refused
		s.mu.Unlock()
		for _, one := range answer.Settled {
			if one.Result != ResultDone && refused != nil {
				refused(one)
			}
		}
		for _, d := range answer.Deliveries {
			s.deliveries <- d // it has room for all that the credit allows
		}
	}
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
		s.next = StreamFrame{}
		s.unread += len(frame.Settle)
		s.mu.Unlock()
		if frame.Credit == 0 && len(frame.Settle) == 0 {
			continue
		}
		b, err := json.Marshal(frame)
		if err == nil {
			s.conn.SetWriteDeadline(time.Now().Add(10 * time.Second))
			err = s.conn.WriteMessage(websocket.TextMessage, b)
		}
		if err != nil {
			s.fail(err)
			return
		}
	}
}

// Next returns the next message.
func (s *WorkStream) Next(ctx context.Context) (Delivery, error) {
	select {
	case d := <-s.deliveries:
		return d, nil
	case <-s.done:
		return Delivery{}, s.failure()
	case <-ctx.Done():
		return Delivery{}, ctx.Err()
	}
}

func (s *WorkStream) failure() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// Settle sends the outcome of a lease. Each but an extension gives the service
// credit for another message, unless the stream is being closed.
func (s *WorkStream) Settle(one Settlement) {
	s.mu.Lock()
	s.next.Settle = append(s.next.Settle, one)
	if one.Outcome != OutcomeExtend && !s.closing {
		s.next.Credit++
	}
	s.mu.Unlock()
	s.signal()
}

// Close gives back what was not handed out yet, waits until every outcome is
// answered, and ends the stream.
func (s *WorkStream) Close(ctx context.Context) error {
	s.mu.Lock()
	s.closing = true
	s.next.Credit = 0
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
		idle := len(s.next.Settle) == 0 && s.unread == 0 && len(s.deliveries) == 0
		s.mu.Unlock()
		if idle {
			s.conn.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, ""), time.Now().Add(time.Second))
			s.fail(errors.New("the work stream is closed"))
			return nil
		}
	}
}
