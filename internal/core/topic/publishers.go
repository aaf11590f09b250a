// Package topic is the state that a topic's partition derives from its log:
// which publishers' batches it has seen, which message ids came lately, what
// retention takes next, and how much will be kept.
package topic

import (
	"bytes"
	"container/list"
	"crypto/sha256"
	"encoding/binary"
	"fmt"

	"github.com/google/uuid"
)

// MaxPublishers is how many publishers a partition remembers; beyond it the
// one that was silent for longest is forgotten.
const MaxPublishers = 10_000

// lastBatches is how many batches of a publisher are kept with their offsets, so
// that a repeated one is answered with the offset of the original.
const lastBatches = 16

// MaxOrigins is how many origins a partition remembers: many more than jobs of
// the service can be under way.
const MaxOrigins = 100_000

// UnknownPublisher says that a publisher is not known, or not any more, and that
// its batch is not its first: whether it is a repeat cannot be told.
type UnknownPublisher struct {
	Publisher uuid.UUID
	Got       uint64
}

func (e *UnknownPublisher) Error() string {
	return fmt.Sprintf("publisher %s is not known here, or not any more, and sequence %d is not its first: begin with sequence 1 under a new publisher id", e.Publisher, e.Got)
}

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

	origins map[uuid.UUID]*list.Element
	lately  *list.List // of *origin, the one that sent last at the back
}

// origin is a job of the service that writes here: the number of its last
// batch, and where that is.
type origin struct {
	id     uuid.UUID
	last   uint64
	offset int64
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

// IDOf is under which id a publisher of a principal with a number is known: the id that another
// principal brings is another publisher's, so that nobody goes on, or breaks off, where somebody else
// is. 0 is the service itself.
func IDOf(id uuid.UUID, by uint32) uuid.UUID {
	if by == 0 {
		return id
	}
	sum := sha256.Sum256(binary.LittleEndian.AppendUint32(bytes.Clone(id[:]), by))
	return uuid.UUID(sum[:16])
}

// NewPublishers returns an empty memory.
func NewPublishers() *Publishers {
	return &Publishers{byID: map[uuid.UUID]*list.Element{}, recent: list.New(), origins: map[uuid.UUID]*list.Element{}, lately: list.New()}
}

// Check tells what to do with a batch: append it (repeat is false), or answer
// it with the offset of its original, which is -1 when that was too long ago
// to be remembered. The error is a *SequenceGap or an *UnknownPublisher.
func (p *Publishers) Check(id uuid.UUID, sequence uint64, count uint32) (offset int64, repeat bool, err error) {
	e, known := p.byID[id]
	if !known && sequence > 1 {
		return 0, false, &UnknownPublisher{Publisher: id, Got: sequence}
	}
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
	if len(of.batches) == lastBatches {
		of.batches = append(of.batches[:0], of.batches[1:]...)
	}
	of.batches = append(of.batches, seen{sequence, count, offset})
}

// CheckOrigin is Check for the number of a job's batch: what is not above the
// last one is a repeat, whatever is in it.
func (p *Publishers) CheckOrigin(id uuid.UUID, number uint64) (offset int64, repeat bool, err error) {
	e, known := p.origins[id]
	switch {
	case !known && number > 1:
		return 0, false, &UnknownPublisher{Publisher: id, Got: number}
	case !known:
		return 0, false, nil
	}
	of := e.Value.(*origin)
	switch {
	case number > of.last:
		return 0, false, nil
	case number == of.last:
		return of.offset, true, nil
	}
	return -1, true, nil
}

// NoteOrigin remembers a batch of a job that was appended at the offset.
func (p *Publishers) NoteOrigin(id uuid.UUID, number uint64, offset int64) {
	e, known := p.origins[id]
	if !known {
		if p.lately.Len() >= MaxOrigins {
			oldest := p.lately.Front()
			delete(p.origins, oldest.Value.(*origin).id)
			p.lately.Remove(oldest)
		}
		e = p.lately.PushBack(&origin{id: id})
		p.origins[id] = e
	}
	p.lately.MoveToBack(e)
	of := e.Value.(*origin)
	of.last, of.offset = number, offset
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
	b = le.AppendUint32(b, uint32(p.lately.Len()))
	for e := p.lately.Front(); e != nil; e = e.Next() {
		of := e.Value.(*origin)
		b = append(b, of.id[:]...)
		b = le.AppendUint64(b, of.last)
		b = le.AppendUint64(b, uint64(of.offset))
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
	if len(b) == 0 {
		return p, nil // from before there were origins
	}
	if len(b) < 4 || uint64(len(b)) < 4+uint64(le.Uint32(b))*originSize {
		return nil, short
	}
	n, b = le.Uint32(b), b[4:]
	for range n {
		of := &origin{id: uuid.UUID(b[:16]), last: le.Uint64(b[16:]), offset: int64(le.Uint64(b[24:]))}
		p.origins[of.id] = p.lately.PushBack(of)
		b = b[originSize:]
	}
	return p, nil
}

const originSize = 16 + 8 + 8

// Clone returns a copy that can go its own way.
func (p *Publishers) Clone() *Publishers {
	c := NewPublishers()
	for e := p.recent.Front(); e != nil; e = e.Next() {
		of := *e.Value.(*publisher)
		of.batches = append([]seen(nil), of.batches...)
		c.byID[of.id] = c.recent.PushBack(&of)
	}
	for e := p.lately.Front(); e != nil; e = e.Next() {
		of := *e.Value.(*origin)
		c.origins[of.id] = c.lately.PushBack(&of)
	}
	return c
}
