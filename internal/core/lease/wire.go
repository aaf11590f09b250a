// Package lease has what members and a queue say to each other: the names of leases, and
// calls and answers in binary form.
package lease

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/pack"
	"steadyferry/internal/core/queue"
)

// ID names a member's hold on a message: partition, offset, the number of the lease in its
// partition, and the proof that it was given to whom it comes back from.
type ID struct {
	Partition int
	Offset    int64
	Serial    uint64
	Proof     uint64
}

// String prints the lease so that Parse reads it back.
func (l ID) String() string {
	b := make([]byte, 0, 48)
	b = strconv.AppendInt(b, int64(l.Partition), 10)
	b = strconv.AppendInt(append(b, '-'), l.Offset, 10)
	b = strconv.AppendUint(append(b, '-'), l.Serial, 10)
	return string(strconv.AppendUint(append(b, '-'), l.Proof, 36))
}

// Err is wrapped by errors about texts that are no lease.
var Err = errors.New("not a lease")

// Parse reads a lease.
func Parse(text string) (l ID, err error) {
	partition, rest, _ := strings.Cut(text, "-")
	offset, rest, _ := strings.Cut(rest, "-")
	serial, proof, _ := strings.Cut(rest, "-")
	var e1, e2, e3, e4 error
	l.Partition, e1 = strconv.Atoi(partition)
	l.Offset, e2 = strconv.ParseInt(offset, 10, 64)
	l.Serial, e3 = strconv.ParseUint(serial, 10, 64)
	l.Proof, e4 = strconv.ParseUint(proof, 36, 64)
	if errors.Join(e1, e2, e3, e4) != nil || l.Partition < 0 || l.Offset < 0 {
		return ID{}, fmt.Errorf("%w: %q; allowed: what a lease call gave, such as 0-1200-57-1y2p0ij32e8e7", Err, text)
	}
	return l, nil
}

// MarshalText implements encoding.TextMarshaler.
func (l ID) MarshalText() ([]byte, error) { return []byte(l.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (l *ID) UnmarshalText(b []byte) (err error) {
	*l, err = Parse(string(b))
	return err
}

// Call is what a member asks for in binary form: leases to settle, and how
// much to lease. docs/formats.md has it byte by byte.
type Call struct {
	Member    string
	Partition int // -1: any
	Max       int
	For       int64 // microseconds; 0: as the queue is set
	Wait      int64 // microseconds
	AtOnce    bool
	Leases    []ID
	Settle    []queue.Settlement // of Leases, in their order
}

// Encode appends the call to buf.
func (w *Call) Encode(buf []byte) []byte {
	if w.AtOnce {
		buf = append(buf, 1)
	} else {
		buf = append(buf, 0)
	}
	buf = pack.Text(buf, w.Member)
	buf = binary.AppendVarint(buf, int64(w.Partition))
	buf = binary.AppendUvarint(buf, uint64(w.Max))
	buf = binary.AppendVarint(binary.AppendVarint(buf, w.For), w.Wait)
	buf = binary.AppendUvarint(buf, uint64(len(w.Settle)))
	for i := range w.Settle {
		s, l := &w.Settle[i], w.Leases[i]
		buf = binary.AppendUvarint(buf, uint64(l.Partition))
		buf = binary.AppendUvarint(binary.AppendUvarint(buf, uint64(l.Offset)), l.Serial)
		buf = binary.LittleEndian.AppendUint64(buf, l.Proof)
		kind := byte(s.Outcome)
		if s.Untouched {
			kind |= 0x80
		}
		buf = append(buf, kind)
		if s.Outcome != queue.Accept {
			buf = binary.AppendVarint(buf, s.After)
			buf = pack.Text(pack.Text(buf, s.Reason), s.Detail)
		}
	}
	return buf
}

// DecodeWork reads a call.
func DecodeWork(b []byte) (*Call, error) {
	p := &pack.Reader{Rest: b}
	w := &Call{AtOnce: p.Byte() != 0, Member: p.Text(), Partition: int(p.Varint()), Max: int(p.Uvarint()), For: p.Varint(), Wait: p.Varint()}
	n := p.Count(12)
	w.Leases, w.Settle = make([]ID, n), make([]queue.Settlement, n)
	for i := range n {
		s, l := &w.Settle[i], &w.Leases[i]
		l.Partition, l.Offset, l.Serial, l.Proof = int(p.Uvarint()), int64(p.Uvarint()), p.Uvarint(), proofIn(p)
		kind := p.Byte()
		s.Outcome, s.Untouched = queue.Outcome(kind&0x7f), kind&0x80 != 0
		if !s.Outcome.Known() {
			return nil, fmt.Errorf("%w: outcome %d", queue.ErrCommand, s.Outcome)
		}
		if s.Outcome != queue.Accept {
			s.After, s.Reason, s.Detail = p.Varint(), p.Text(), p.Text()
		}
	}
	if !p.Whole() {
		return nil, fmt.Errorf("%w: a call that is cut off", queue.ErrCommand)
	}
	return w, nil
}

func proofIn(p *pack.Reader) uint64 {
	b := p.Fixed(8)
	if p.Failed {
		return 0
	}
	return binary.LittleEndian.Uint64(b)
}

// Delivery is a message under a lease.
type Delivery struct {
	Lease    ID
	Attempt  int
	Returns  int       // how often it came back from the dead letters
	Deadline time.Time // zero when it was accepted on delivery
	Message  *message.Stored
}

// Reply is the answer to a Call in binary form. Messages are those of
// Leased; where they are nil, they are among the Records, which are whole
// records of the log.
type Reply struct {
	Settled []queue.Settled
	Leased  []Delivery
	Records []Record
}

// Record is a record of the log of a partition, as it is stored.
type Record struct {
	Partition int
	Bytes     []byte
}

// Encode appends the reply to buf.
func (w *Reply) Encode(buf []byte) []byte {
	buf = binary.AppendUvarint(buf, uint64(len(w.Settled)))
	for _, s := range w.Settled {
		buf = append(buf, byte(s.Status), byte(s.State))
		buf = binary.AppendVarint(buf, s.Deadline)
	}
	buf = binary.AppendUvarint(buf, uint64(len(w.Leased)))
	var batch message.Builder
	for i := range w.Leased {
		l := &w.Leased[i]
		buf = binary.AppendUvarint(binary.AppendUvarint(binary.AppendUvarint(buf, uint64(l.Lease.Partition)), uint64(l.Lease.Offset)), l.Lease.Serial)
		buf = binary.LittleEndian.AppendUint64(buf, l.Lease.Proof)
		buf = binary.AppendUvarint(binary.AppendUvarint(buf, uint64(l.Attempt)), uint64(l.Returns))
		deadline := int64(0)
		if !l.Deadline.IsZero() {
			deadline = l.Deadline.UnixMicro()
		}
		buf = binary.AppendVarint(buf, deadline)
		stored := int64(0)
		if l.Message != nil {
			stored = l.Message.StoredAt.UnixMicro()
			batch.Add(&l.Message.Message)
		}
		buf = binary.AppendVarint(buf, stored)
	}
	var own []byte
	if batch.Count() > 0 {
		own = batch.Build(message.Plain, nil)
	}
	buf = pack.Text(buf, string(own))
	buf = binary.AppendUvarint(buf, uint64(len(w.Records)))
	for _, r := range w.Records {
		buf = binary.AppendUvarint(buf, uint64(r.Partition))
		buf = binary.AppendUvarint(buf, uint64(len(r.Bytes)))
		buf = append(buf, r.Bytes...)
	}
	return buf
}

// DecodeReply reads a reply; every lease in it has its message.
func DecodeReply(b []byte) (*Reply, error) {
	p := &pack.Reader{Rest: b}
	w := &Reply{Settled: make([]queue.Settled, p.Count(3))}
	for i := range w.Settled {
		w.Settled[i] = queue.Settled{Status: queue.Status(p.Byte()), State: queue.State(p.Byte()), Deadline: p.Varint()}
	}
	w.Leased = make([]Delivery, p.Count(15))
	own := make([]int64, len(w.Leased))
	for i := range w.Leased {
		l := &w.Leased[i]
		l.Lease = ID{int(p.Uvarint()), int64(p.Uvarint()), p.Uvarint(), proofIn(p)}
		l.Attempt, l.Returns = int(p.Uvarint()), int(p.Uvarint())
		if at := p.Varint(); at != 0 {
			l.Deadline = time.UnixMicro(at).UTC()
		}
		own[i] = p.Varint()
	}
	batch := p.Bytes()
	records := make([]Record, p.Count(2))
	for i := range records {
		records[i].Partition = int(p.Uvarint())
		records[i].Bytes = p.Bytes()
	}
	if !p.Whole() {
		return nil, fmt.Errorf("%w: a reply that is cut off", queue.ErrCommand)
	}
	return w, w.fill(own, batch, records)
}

// fill gives every lease its message: from the batch of its own, or from the
// records, which come in the order of the leases.
func (w *Reply) fill(own []int64, raw []byte, records []Record) error {
	if len(raw) > 0 {
		batch, err := message.OpenBatch(raw)
		if err != nil {
			return err
		}
		i := 0
		for m, err := range batch.Messages() {
			for i < len(own) && own[i] == 0 {
				i++
			}
			if err != nil || i == len(own) {
				return errors.Join(err, queue.ErrCommand)
			}
			w.Leased[i].Message = copyOf(&message.Stored{Message: *m, Partition: w.Leased[i].Lease.Partition, Offset: w.Leased[i].Lease.Offset, StoredAt: time.UnixMicro(own[i]).UTC()})
			i++
		}
	}
	for _, r := range records {
		record, _, err := message.ReadRecord(r.Bytes)
		if err != nil {
			return err
		}
		stamp := record.Stamp()
		wanted := make([]int, stamp.Count) // places of leases, plus one
		found := 0
		for i := range w.Leased {
			if l := &w.Leased[i]; l.Message == nil && l.Lease.Partition == r.Partition && l.Lease.Offset >= stamp.Offset && l.Lease.Offset < stamp.End() {
				wanted[l.Lease.Offset-stamp.Offset] = i + 1
				found++
			}
		}
		err = record.Stored(r.Partition, func(s *message.Stored) bool {
			if at := wanted[s.Offset-stamp.Offset]; at > 0 {
				w.Leased[at-1].Message = copyOf(s)
				found--
			}
			return found > 0
		})
		if err != nil {
			return err
		}
	}
	for i := range w.Leased {
		if w.Leased[i].Message == nil {
			return fmt.Errorf("%w: lease %s has no message", queue.ErrCommand, w.Leased[i].Lease)
		}
	}
	return nil
}

func copyOf(s *message.Stored) *message.Stored {
	one := *s
	if len(s.Headers) > 0 {
		one.Headers = append([]message.Header(nil), s.Headers...)
	}
	return &one
}
