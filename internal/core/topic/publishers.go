// Package topic is the state that a topic's partition derives from its log:
// which publishers' batches it has seen, which message ids came lately, what
// retention takes next, and how much will be kept.
package topic

import (
	"container/list"
	"encoding/binary"
	"fmt"

	"github.com/google/uuid"
)

// MaxPublishers is how many publishers a partition remembers; beyond it the
// one that was silent for longest is forgotten.
const MaxPublishers = 10_000

// remembered is how many batches of a publisher are kept with their offsets,
// so that a repeated one is answered with the offset of the original.
const remembered = 5

// SequenceGap says that batches of a publisher are missing before this one.
type SequenceGap struct {
	Publisher uuid.UUID
	Got, Want uint64
}

func (e *SequenceGap) Error() string {
	return fmt.Sprintf("publisher %s sent sequence %d; the next one here is %d: send what is missing first, or take a new publisher id", e.Publisher, e.Got, e.Want)
}

// Publishers recognises batches that come twice. It is a deterministic
// function of the partition's log: every replica that notes the same batches
// in the same order has the same content.
type Publishers struct {
	byID   map[uuid.UUID]*list.Element
	recent *list.List // of *publisher, the one that sent last at the back
}

type publisher struct {
	id      uuid.UUID
	next    uint64 // sequence of the message after the last one
	batches []seen // oldest first
}

type seen struct {
	sequence uint64
	count    uint32
	offset   int64
}

// NewPublishers returns an empty memory.
func NewPublishers() *Publishers {
	return &Publishers{byID: map[uuid.UUID]*list.Element{}, recent: list.New()}
}

// Check tells what to do with a batch: append it (repeat is false), or answer
// it with the offset of its original, which is -1 when that was too long ago
// to be remembered. The error is a *SequenceGap.
func (p *Publishers) Check(id uuid.UUID, sequence uint64, count uint32) (offset int64, repeat bool, err error) {
	e, known := p.byID[id]
	if !known {
		return 0, false, nil
	}
	of := e.Value.(*publisher)
	switch {
	case sequence == of.next:
		return 0, false, nil
	case sequence > of.next || sequence+uint64(count) > of.next:
		return 0, false, &SequenceGap{Publisher: id, Got: sequence, Want: of.next}
	}
	for _, b := range of.batches {
		if sequence >= b.sequence && sequence < b.sequence+uint64(b.count) {
			return b.offset + int64(sequence-b.sequence), true, nil
		}
	}
	return -1, true, nil
}

// Note remembers a batch that was appended at the offset.
func (p *Publishers) Note(id uuid.UUID, sequence uint64, count uint32, offset int64) {
	e, known := p.byID[id]
	if !known {
		if p.recent.Len() >= MaxPublishers {
			oldest := p.recent.Front()
			delete(p.byID, oldest.Value.(*publisher).id)
			p.recent.Remove(oldest)
		}
		e = p.recent.PushBack(&publisher{id: id})
		p.byID[id] = e
	}
	p.recent.MoveToBack(e)
	of := e.Value.(*publisher)
	of.next = sequence + uint64(count)
	if len(of.batches) == remembered {
		of.batches = append(of.batches[:0], of.batches[1:]...)
	}
	of.batches = append(of.batches, seen{sequence, count, offset})
}

// Encode writes the memory so that DecodePublishers reads it back.
func (p *Publishers) Encode() []byte {
	le := binary.LittleEndian
	b := le.AppendUint32(nil, uint32(p.recent.Len()))
	for e := p.recent.Front(); e != nil; e = e.Next() {
		of := e.Value.(*publisher)
		b = append(b, of.id[:]...)
		b = le.AppendUint64(b, of.next)
		b = append(b, byte(len(of.batches)))
		for _, s := range of.batches {
			b = le.AppendUint64(b, s.sequence)
			b = le.AppendUint32(b, s.count)
			b = le.AppendUint64(b, uint64(s.offset))
		}
	}
	return b
}

// DecodePublishers reads what Encode wrote.
func DecodePublishers(b []byte) (*Publishers, error) {
	const head, batch = 16 + 8 + 1, 8 + 4 + 8
	le := binary.LittleEndian
	p := NewPublishers()
	if len(b) == 0 {
		return p, nil
	}
	short := fmt.Errorf("the publishers' state is cut off")
	if len(b) < 4 {
		return nil, short
	}
	n := le.Uint32(b)
	b = b[4:]
	for range n {
		if len(b) < head || len(b) < head+int(b[head-1])*batch {
			return nil, short
		}
		of := &publisher{id: uuid.UUID(b[:16]), next: le.Uint64(b[16:])}
		batches := int(b[head-1])
		b = b[head:]
		for range batches {
			of.batches = append(of.batches, seen{le.Uint64(b), le.Uint32(b[8:]), int64(le.Uint64(b[12:]))})
			b = b[batch:]
		}
		p.byID[of.id] = p.recent.PushBack(of)
	}
	return p, nil
}

// Clone returns a copy that can go its own way.
func (p *Publishers) Clone() *Publishers {
	c := NewPublishers()
	for e := p.recent.Front(); e != nil; e = e.Next() {
		of := *e.Value.(*publisher)
		of.batches = append([]seen(nil), of.batches...)
		c.byID[of.id] = c.recent.PushBack(&of)
	}
	return c
}
