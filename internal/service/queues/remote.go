package queues

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"time"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
)

// A command that another node passes on: the time to wait, and the command.
// The answer begins as that to a batch does; what was done is JSON with its
// length before it, and the messages follow as a batch.

func (qs *Queues) workThere(ctx context.Context, p *part.Partition, leader uint64, c *queue.Command, wait time.Duration) (*worked, error) {
	body := binary.AppendUvarint(part.KeyBytes(p.Key()), uint64(wait.Microseconds()))
	out, err := peer.Outcome(qs.peers.Call(ctx, leader, "work", c.Encode(body)))
	if err != nil {
		return nil, err
	}
	return decodeWorked(p, out)
}

func decodeWorked(p *part.Partition, b []byte) (*worked, error) {
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
	out := binary.LittleEndian.AppendUint32(nil, uint32(len(head)))
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
func (qs *Queues) answerWork(ctx context.Context, _ uint64, p *part.Partition, body []byte) ([]byte, error) {
	wait, size := binary.Uvarint(body)
	if size <= 0 || !qs.parts.Serving() {
		return peer.Undone(peer.NotLed(), p.Address()), nil
	}
	c, err := queue.Decode(body[size:], 0)
	if err != nil {
		return peer.Undone(err, p.Address()), nil
	}
	// The node that passes it on has asked; this one asks again.
	if err := mayCommand(ctx, p.Channel, c); err != nil {
		return peer.Undone(err, p.Address()), nil
	}
	w, err := qs.workHere(ctx, p, c, time.Duration(wait)*time.Microsecond, false)
	if err != nil {
		return peer.Undone(err, p.Address()), nil
	}
	out, err := encodeWorked(w)
	return peer.Done(out), err
}
