package message

import (
	"errors"
	"fmt"
	"time"
)

// The record, little endian: what a segment file and a binary fetch are made
// of (docs/formats.md has the same table). The part from byte 24 on is the
// data of the Raft entry; for a batch it starts with the stamp, which the
// leader wrote when it proposed the entry.
//
//	 0  4  bytes of the data, from byte 24 on
//	 4  4  CRC32C of everything from byte 8 to the end
//	 8  8  Raft index
//	16  8  Raft term, and in its highest byte the kind
//	24  8  stamp: offset of the first message
//	32  8  stamp: time, microseconds since 1970
//	40  4  stamp: number of messages
//	44  1  zero; 1 for a command to routes
//	45  3  number of the principal that has published it; 0 for the service itself
//	48     batch
//
// A command has a stamp of no messages, and the command follows at byte 48.
// Records of other kinds have no stamp: their data follows at byte 24.
const (
	RecordPrefix = 24
	StampSize    = 24
	MaxRecord    = RecordPrefix + StampSize + BatchHeaderSize + placesSize + MaxBatchBytes
)

// Kind tells what a record holds.
type Kind uint8

// The kinds of records.
const (
	KindBatch      Kind = 1 // stamp and batch
	KindEmpty      Kind = 2 // nothing: a new leader's first entry
	KindMembership Kind = 3 // a change of the partition's members
	KindCommand    Kind = 4 // stamp without messages, and a command to a queue
	KindRoutes     Kind = 5 // stamp without messages, and a command to routes
)

// Stamp is the place and time that the leader gave a batch.
type Stamp struct {
	Offset int64
	Time   int64 // microseconds since 1970
	Count  uint32
	Routes bool   // it is of a command to routes
	By     uint32 // number of the principal that has published it; 0: the service itself
}

// MaxBy is the largest number of a principal.
const MaxBy = 1<<24 - 1

// Put writes the stamp to the first StampSize bytes of data.
func (s Stamp) Put(data []byte) {
	le.PutUint64(data, uint64(s.Offset))
	le.PutUint64(data[8:], uint64(s.Time))
	le.PutUint32(data[16:], s.Count)
	le.PutUint32(data[20:], s.By<<8)
	if s.Routes {
		data[20] = 1
	}
}

// StampOf reads the stamp of a batch's data.
func StampOf(data []byte) Stamp {
	return Stamp{Offset: int64(le.Uint64(data)), Time: int64(le.Uint64(data[8:])), Count: le.Uint32(data[16:]), Routes: data[20] == 1, By: le.Uint32(data[20:]) >> 8}
}

// End returns the offset after the batch's last message.
func (s Stamp) End() int64 { return s.Offset + int64(s.Count) }

// Record is one entry of a partition's log. Data begins with the stamp for a
// batch or a command.
type Record struct {
	Index uint64
	Term  uint64
	Kind  Kind
	Data  []byte
}

// Size returns the bytes of the record in a segment.
func (r Record) Size() int { return RecordPrefix + len(r.Data) }

// Stamped reports whether the record begins with a stamp.
func (r Record) Stamped() bool {
	return r.Kind == KindBatch || r.Kind == KindCommand || r.Kind == KindRoutes
}

// Stamp returns the stamp of a batch or a command.
func (r Record) Stamp() Stamp { return StampOf(r.Data) }

// Batch opens the batch of the record.
func (r Record) Batch() (Batch, error) { return OpenBatch(r.Data[StampSize:]) }

// Stored goes through the record's messages with their places; the message
// is valid until the next one.
func (r Record) Stored(partition int, yield func(*Stored) bool) error {
	batch := Batch{raw: r.Data[StampSize:]}
	stamp := r.Stamp()
	s := Stored{Partition: partition, Offset: stamp.Offset, StoredAt: time.UnixMicro(stamp.Time).UTC(), By: stamp.By}
	for m, err := range batch.Messages() {
		if err != nil {
			return err
		}
		s.Message = *m
		if !yield(&s) {
			return nil
		}
		s.Offset++
	}
	return nil
}

const kindShift = 56

// PutPrefix writes the record's first RecordPrefix bytes.
func (r Record) PutPrefix(prefix []byte) {
	le.PutUint32(prefix, uint32(len(r.Data)))
	le.PutUint64(prefix[8:], r.Index)
	le.PutUint64(prefix[16:], r.Term|uint64(r.Kind)<<kindShift)
	le.PutUint32(prefix[4:], r.checksum(prefix))
}

func (r Record) checksum(prefix []byte) uint32 {
	return update(Checksum(prefix[8:RecordPrefix]), r.Data)
}

// ErrRecord is wrapped by every error about a record that cannot be read;
// ErrShort is returned when the bytes end before the record does.
var (
	ErrRecord = errors.New("broken record")
	ErrShort  = errors.New("record is cut off")
)

// PeekRecord reads the prefix (and for a batch the stamp) at the start of b
// without checking the checksum. It returns the bytes that the whole record
// takes. Data is cut to what b has.
func PeekRecord(b []byte) (r Record, size int, err error) {
	if len(b) < RecordPrefix {
		return r, 0, ErrShort
	}
	length := int(le.Uint32(b))
	size = RecordPrefix + length
	kind := le.Uint64(b[16:])
	r = Record{Index: le.Uint64(b[8:]), Term: kind &^ (0xff << kindShift), Kind: Kind(kind >> kindShift)}
	if size > MaxRecord || r.Index == 0 || r.Kind < KindBatch || r.Kind > KindRoutes || r.Kind == KindBatch && length < StampSize+BatchHeaderSize || r.Stamped() && length < StampSize {
		return r, 0, fmt.Errorf("%w: its prefix makes no sense", ErrRecord)
	}
	r.Data = b[RecordPrefix:min(size, len(b))]
	if r.Stamped() && len(r.Data) < StampSize {
		return r, size, ErrShort
	}
	return r, size, nil
}

// ReadRecord reads and checks the record at the start of b and returns the
// bytes it takes. Data is part of b.
func ReadRecord(b []byte) (Record, int, error) {
	r, size, err := PeekRecord(b)
	if err != nil {
		return r, size, err
	}
	if size > len(b) {
		return r, size, ErrShort
	}
	if le.Uint32(b[4:]) != r.checksum(b) {
		return r, size, fmt.Errorf("%w: its checksum does not fit its bytes", ErrRecord)
	}
	return r, size, nil
}

// EachRecord goes through a stretch of records that has been checked.
func EachRecord(chunk []byte, yield func(Record) bool) {
	for len(chunk) > 0 {
		r, size, err := PeekRecord(chunk)
		if err != nil || !yield(r) {
			return
		}
		chunk = chunk[size:]
	}
}
