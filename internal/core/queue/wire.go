package queue

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/pack"
)

// LeaseID names a member's hold on a message: partition, offset and the number
// of the lease in its partition.
type LeaseID struct {
	Partition int
	Offset    int64
	Serial    uint64
}

// String prints the lease so that ParseLease reads it back.
func (l LeaseID) String() string {
	b := make([]byte, 0, 32)
	b = strconv.AppendInt(b, int64(l.Partition), 10)
	b = strconv.AppendInt(append(b, '-'), l.Offset, 10)
	return string(strconv.AppendUint(append(b, '-'), l.Serial, 10))
}

// ErrLease is wrapped by errors about texts that are no lease.
var ErrLease = errors.New("not a lease")

// ParseLease reads a lease.
func ParseLease(text string) (l LeaseID, err error) {
	partition, rest, _ := strings.Cut(text, "-")
	offset, serial, _ := strings.Cut(rest, "-")
	var e1, e2, e3 error
	l.Partition, e1 = strconv.Atoi(partition)
	l.Offset, e2 = strconv.ParseInt(offset, 10, 64)
	l.Serial, e3 = strconv.ParseUint(serial, 10, 64)
	if e1 != nil || e2 != nil || e3 != nil || l.Partition < 0 || l.Offset < 0 {
		return LeaseID{}, fmt.Errorf("%w: %q; allowed: what a lease call gave, such as 0-1200-57", ErrLease, text)
	}
	return l, nil
}

// MarshalText implements encoding.TextMarshaler.
func (l LeaseID) MarshalText() ([]byte, error) { return []byte(l.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (l *LeaseID) UnmarshalText(b []byte) (err error) {
	*l, err = ParseLease(string(b))
	return err
}

// WorkCall is what a member asks for in binary form: leases to settle, and how
// much to lease. docs/formats.md has it byte by byte.
type WorkCall struct {
	Member    string
	Partition int // -1: any
	Max       int
	For       int64 // microseconds; 0: as the queue is set
	Wait      int64 // microseconds
	AtOnce    bool
	Leases    []LeaseID
	Settle    []Settlement // of Leases, in their order
}

// Encode appends the call to buf.
func (w *WorkCall) Encode(buf []byte) []byte {
	buf = append(buf, b2i(w.AtOnce))
	buf = pack.Text(buf, w.Member)
	buf = binary.AppendVarint(buf, int64(w.Partition))
	buf = binary.AppendUvarint(buf, uint64(w.Max))
	buf = binary.AppendVarint(binary.AppendVarint(buf, w.For), w.Wait)
	buf = binary.AppendUvarint(buf, uint64(len(w.Settle)))
	for i := range w.Settle {
		s, l := &w.Settle[i], w.Leases[i]
		buf = binary.AppendUvarint(buf, uint64(l.Partition))
		buf = binary.AppendUvarint(binary.AppendUvarint(buf, uint64(l.Offset)), l.Serial)
		kind := byte(s.Outcome)
		if s.Untouched {
			kind |= 0x80
		}
		buf = append(buf, kind)
		if s.Outcome != Accept {
			buf = binary.AppendVarint(buf, s.After)
			buf = pack.Text(pack.Text(buf, s.Reason), s.Detail)
		}
	}
	return buf
}

// DecodeWork reads a call.
func DecodeWork(b []byte) (*WorkCall, error) {
	p := newParser(b, 0)
	w := &WorkCall{AtOnce: p.Byte() != 0, Member: p.Text(), Partition: int(p.Varint()), Max: int(p.Uvarint()), For: p.Varint(), Wait: p.Varint()}
	n := p.Count(4)
	w.Leases, w.Settle = make([]LeaseID, n), make([]Settlement, n)
	for i := range n {
		s, l := &w.Settle[i], &w.Leases[i]
		l.Partition, l.Offset, l.Serial = int(p.Uvarint()), int64(p.Uvarint()), p.Uvarint()
		kind := p.Byte()
		s.Outcome, s.Untouched = Outcome(kind&0x7f), kind&0x80 != 0
		if s.Outcome == 0 || s.Outcome >= outcomes {
			return nil, fmt.Errorf("%w: outcome %d", ErrCommand, s.Outcome)
		}
		if s.Outcome != Accept {
			s.After, s.Reason, s.Detail = p.Varint(), p.Text(), p.Text()
		}
	}
	if !p.Whole() {
		return nil, fmt.Errorf("%w: a call that is cut off", ErrCommand)
	}
	return w, nil
}

// Delivery is a message under a lease.
type Delivery struct {
	Lease    LeaseID
	Attempt  int
	Returns  int       // how often it came back from the dead letters
	Deadline time.Time // zero when it was accepted on delivery
	Message  *message.Stored
}

// WorkReply is the answer to a WorkCall in binary form. Messages are those of
// Leased; where they are nil, they are among the Records, which are whole
// records of the log.
type WorkReply struct {
	Settled []Settled
	Leased  []Delivery
	Records []Record
}

// Record is a record of the log of a partition, as it is stored.
type Record struct {
	Partition int
	Bytes     []byte
}

// Encode appends the reply to buf.
func (w *WorkReply) Encode(buf []byte) []byte {
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
func DecodeReply(b []byte) (*WorkReply, error) {
	p := newParser(b, 0)
	w := &WorkReply{Settled: make([]Settled, p.Count(3))}
	for i := range w.Settled {
		w.Settled[i] = Settled{Status: Status(p.Byte()), State: State(p.Byte()), Deadline: p.Varint()}
	}
	w.Leased = make([]Delivery, p.Count(7))
	own := make([]int64, len(w.Leased))
	for i := range w.Leased {
		l := &w.Leased[i]
		l.Lease = LeaseID{int(p.Uvarint()), int64(p.Uvarint()), p.Uvarint()}
		l.Attempt, l.Returns = int(p.Uvarint()), int(p.Uvarint())
		if at := p.Varint(); at != 0 {
			l.Deadline = time.UnixMicro(at).UTC()
		}
		own[i] = p.Varint()
	}
	batch, _ := p.bytes()
	records := make([]Record, p.Count(2))
	for i := range records {
		records[i].Partition = int(p.Uvarint())
		records[i].Bytes, _ = p.bytes()
	}
	if !p.Whole() {
		return nil, fmt.Errorf("%w: a reply that is cut off", ErrCommand)
	}
	return w, w.fill(own, batch, records)
}

// fill gives every lease its message: from the batch of its own, or from the
// records, which come in the order of the leases.
func (w *WorkReply) fill(own []int64, raw []byte, records []Record) error {
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
				return errors.Join(err, ErrCommand)
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
			return fmt.Errorf("%w: lease %s has no message", ErrCommand, w.Leased[i].Lease)
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
