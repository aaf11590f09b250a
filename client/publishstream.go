package client

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/gorilla/websocket"

	"steadyferry/internal/core/address"
)

// PublishStream is a long-lived connection on which batches are published with
// less work than a request each. Any number of goroutines may use it; batches
// that are under way at the same time keep no order among them.
type PublishStream struct {
	conn *websocket.Conn

	writing sync.Mutex
	mu      sync.Mutex
	number  uint32
	waiting map[uint32]chan publishAnswer
	err     error
}

type publishAnswer struct {
	receipt Receipt
	err     error
}

// OpenPublish connects to a channel for publishing.
func (c *Client) OpenPublish(ctx context.Context, a address.Address) (*PublishStream, error) {
	conn, err := c.dial(ctx, ChannelPath(a)+"/publish")
	if err != nil {
		return nil, err
	}
	s := &PublishStream{conn: conn, waiting: map[uint32]chan publishAnswer{}}
	go s.read()
	return s, nil
}

// Publish sends a batch to a partition, or with -1 to any, and waits until it
// is kept. When ctx ends before, it is not known whether it is.
func (s *PublishStream) Publish(ctx context.Context, partition int, batch []byte) (Receipt, error) {
	answer := make(chan publishAnswer, 1)
	s.mu.Lock()
	if s.err != nil {
		defer s.mu.Unlock()
		return Receipt{}, s.err
	}
	s.number++
	number := s.number
	s.waiting[number] = answer
	s.mu.Unlock()
	frame := make([]byte, 8, 8+len(batch))
	binary.LittleEndian.PutUint32(frame, number)
	binary.LittleEndian.PutUint32(frame[4:], uint32(partition+1))
	s.writing.Lock()
	s.conn.SetWriteDeadline(time.Now().Add(10 * time.Second))
	err := s.conn.WriteMessage(websocket.BinaryMessage, append(frame, batch...))
	s.writing.Unlock()
	if err != nil {
		s.fail(err)
	}
	select {
	case a := <-answer:
		return a.receipt, a.err
	case <-ctx.Done():
		s.mu.Lock()
		delete(s.waiting, number)
		s.mu.Unlock()
		return Receipt{}, ctx.Err()
	}
}

// Close ends the stream. What is under way fails.
func (s *PublishStream) Close() error {
	s.conn.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, ""), time.Now().Add(time.Second))
	s.fail(errors.New("the publish stream is closed"))
	return nil
}

func (s *PublishStream) read() {
	for {
		_, b, err := s.conn.ReadMessage()
		var number uint32
		var a publishAnswer
		if err == nil {
			number, a.receipt, a.err, err = readPublishAnswer(b)
		}
		if err != nil {
			s.fail(fmt.Errorf("the publish stream ended: %w", err))
			return
		}
		s.mu.Lock()
		answer := s.waiting[number]
		delete(s.waiting, number)
		s.mu.Unlock()
		if answer != nil {
			answer <- a
		}
	}
}

func (s *PublishStream) fail(err error) {
	s.conn.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err == nil {
		s.err = err
	}
	for number, answer := range s.waiting {
		answer <- publishAnswer{err: s.err}
		delete(s.waiting, number)
	}
}

// PublishHead reads what stands before the batch in a frame of a publish
// stream: the batch's number, and its partition, -1 for any.
func PublishHead(b []byte) (number uint32, partition int) {
	return binary.LittleEndian.Uint32(b), int(binary.LittleEndian.Uint32(b[4:])) - 1
}

// AppendPublishAnswer appends the answer to a batch: its number, and a receipt
// or the JSON of a problem.
func AppendPublishAnswer(b []byte, number uint32, r *Receipt, problem []byte) []byte {
	b = binary.LittleEndian.AppendUint32(b, number)
	if r == nil {
		return append(append(b, 1), problem...)
	}
	b = append(b, 0)
	b = binary.AppendUvarint(b, uint64(r.Partition))
	b = binary.AppendVarint(b, r.Offset)
	b = binary.AppendUvarint(b, uint64(r.Count))
	b = binary.AppendVarint(b, r.Time.UnixMicro())
	repeat := byte(0)
	if r.Repeat {
		repeat = 1
	}
	return append(b, repeat)
}

var errAnswer = errors.New("an answer is cut off")

// readPublishAnswer reads an answer; refused is why a batch is not kept.
func readPublishAnswer(b []byte) (number uint32, r Receipt, refused, err error) {
	if len(b) < 5 {
		return 0, r, nil, errAnswer
	}
	number = binary.LittleEndian.Uint32(b)
	if b[4] != 0 {
		p := &Problem{}
		if err := json.Unmarshal(b[5:], p); err != nil {
			return 0, r, nil, err
		}
		return number, r, p, nil
	}
	rest := b[5:]
	var numbers [4]int64
	for i := range numbers {
		var n int
		if i%2 == 0 {
			var v uint64
			v, n = binary.Uvarint(rest)
			numbers[i] = int64(v)
		} else {
			numbers[i], n = binary.Varint(rest)
		}
		if n <= 0 {
			return 0, r, nil, errAnswer
		}
		rest = rest[n:]
	}
	if len(rest) != 1 {
		return 0, r, nil, errAnswer
	}
	return number, Receipt{Partition: int(numbers[0]), Offset: numbers[1], Count: int(numbers[2]), Time: time.UnixMicro(numbers[3]).UTC(), Repeat: rest[0] == 1}, nil, nil
}
