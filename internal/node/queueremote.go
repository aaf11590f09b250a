package node

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"time"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/replica"
)

// A command that another node passes on: the time to wait, and the command.
// The answer begins as that to a batch does; what was done is JSON with its
// length before it, and the messages follow as a batch.

func (n *Node) workThere(ctx context.Context, p *Partition, leader uint64, c *queue.Command, wait time.Duration) (*worked, error) {
	body := binary.AppendUvarint(keyBytes(p.key()), uint64(wait.Microseconds()))
	out, err := n.peers.Call(ctx, leader, "work", c.Encode(body))
	if errors.As(err, new(*replica.Refused)) {
		return nil, &notTaken{replica.ErrNotLeading, true}
	}
	if err != nil || len(out) == 0 {
		return nil, &notTaken{errors.Join(err, replica.ErrNotLeading), false}
	}
	switch out[0] {
	case publishKept:
		return decodeWorked(p, out[1:])
	case publishProblem:
		p := &problem.Problem{}
		return nil, errors.Join(p, json.Unmarshal(out[1:], p))
	}
	return nil, &notTaken{replica.ErrNotLeading, out[0] == publishSure}
}

func decodeWorked(p *Partition, b []byte) (*worked, error) {
	if len(b) < 4 || int(binary.LittleEndian.Uint32(b)) > len(b)-4 {
		return nil, errors.New("the answer of another node is cut off")
	}
	head, rest := b[4:4+binary.LittleEndian.Uint32(b)], b[4+binary.LittleEndian.Uint32(b):]
	w := &worked{}
	if err := json.Unmarshal(head, &w.Result); err != nil {
		return nil, err
	}
	if len(w.Handed) == 0 {
		return w, nil
	}
	batch, err := message.OpenBatch(rest)
	if err != nil {
		return nil, err
	}
	for m, err := range batch.Messages() {
		if err != nil || len(w.Messages) == len(w.Handed) {
			return nil, errors.Join(err, message.ErrBatch)
		}
		s := &message.Stored{Message: *m, Partition: p.Number, Offset: w.Handed[len(w.Messages)].Offset}
		s.StoredAt, s.Headers = parseStored(m.Headers[0].Value), append([]message.Header(nil), m.Headers[1:]...)
		w.Messages = append(w.Messages, s)
	}
	return w, nil
}

func encodeWorked(w *worked) ([]byte, error) {
	head, err := json.Marshal(w.Result)
	if err != nil {
		return nil, err
	}
	out := binary.LittleEndian.AppendUint32([]byte{publishKept}, uint32(len(head)))
	out = append(out, head...)
	var b message.Builder
	for _, s := range w.Messages {
		one := s.Message
		one.Headers = append([]message.Header{{Name: storedHeader, Value: s.StoredAt.Format(timeForm)}}, s.Headers...)
		b.Add(&one)
	}
	if b.Count() > 0 {
		out = append(out, b.Build(message.Plain, nil)...)
	}
	return out, nil
}

// answerWork runs a command that another node passes on. It is not passed on
// again.
func (n *Node) answerWork(ctx context.Context, p *Partition, body []byte) []byte {
	wait, size := binary.Uvarint(body)
	if size <= 0 {
		return append([]byte{publishSure}, errCall.Error()...)
	}
	c, err := queue.Decode(body[size:], 0)
	var w *worked
	if err == nil && n.Serving() {
		w, err = n.workHere(ctx, p, c, time.Duration(wait)*time.Microsecond, false)
	} else if err == nil {
		err = &notTaken{replica.ErrNotLeading, true}
	}
	if err == nil {
		var out []byte
		if out, err = encodeWorked(w); err == nil {
			return out
		}
	}
	return refusal(p, err)
}

// refusal is what a call that failed is answered with.
func refusal(p *Partition, err error) []byte {
	var failed *notTaken
	if errors.As(err, &failed) {
		if failed.sure {
			return append([]byte{publishSure}, failed.err.Error()...)
		}
		return append([]byte{publishUnsure}, failed.err.Error()...)
	}
	var known *problem.Problem
	if !errors.As(err, &known) {
		known = problem.New(problem.Unavailable, "%s: %v", p.Address(), err)
	}
	b, err := json.Marshal(known)
	if err != nil {
		panic(err) // plain values
	}
	return append([]byte{publishProblem}, b...)
}
