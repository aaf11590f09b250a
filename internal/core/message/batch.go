package message

import (
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/klauspost/compress/zstd"
)

// The batch, little endian (docs/formats.md has the same table). What is counted
// comes first, then who sent it, then how, and at last the checksum.
//
//	 0  4  "SFB2"
//	 4  4  number of messages, at least 1
//	 8  4  bytes that follow the header
//	12  4  bytes of the payload before compression
//	16 16  batch id, a UUIDv7 from which the messages' ids are derived
//	32 16  publisher id, zero without the flag; of a route, its id
//	48  8  sequence of the first message, zero without the flag; of a route, the
//	       partition of its source
//	56  8  batch time: the publisher's, microseconds since 1970; 0 none
//	64  1  compression of the payload: 0 none, 1 zstd
//	65  1  flags: 1 the publisher sent its id and sequence, 2 a message has
//	       terms of delivery, 4 the publisher is a job of the service, and the
//	       sequence counts its batches, 8 a route sent it, 16 as it was
//	66  2  zero
//	68  4  CRC32C of bytes 0 to 67 and what follows the header
//	72     with flag 8 the places of the route, then the payload
//
// The places: 8 bytes each of epoch, cut and offset up to which the target must
// have its messages, the same of that up to which it has them then, and how often
// the target partition was recovered by force. With flag 16, a byte with the routes
// that the messages came through, 2 bytes with the length of the route's address,
// and that: they are the last of the source's messages before the offset up to which
// the target has them then, and get their headers of the route when they are read.
//
// The payload: the content type shared by the messages (uvarint length,
// bytes), then the messages. Each one: a byte that tells which parts it has,
// then those parts in this order, then the body.
//
//	bit 0 key           uvarint length, bytes
//	bit 1 time          varint microseconds after the batch time
//	bit 2 headers       uvarint count, then per header name and value,
//	                    each a uvarint length and bytes
//	bit 3 content type  uvarint length, bytes (instead of the shared one)
//	bit 4 id            uvarint length, bytes (without it the id is derived)
//	bit 5 terms         see Terms: varint microseconds since 1970 of not
//	                    before and of expires (0 none), then reason, detail,
//	                    by and from, each a uvarint length and bytes
//	body                uvarint length, bytes
const (
	BatchHeaderSize = 72
	batchMagic      = 0x32424653 // "SFB2"
)

// Where the fields of the header are.
const (
	atCount       = 4
	atSize        = 8
	atRawSize     = 12
	atBatchID     = 16
	atPublisher   = 32
	atSequence    = 48
	atTime        = 56
	atCompression = 64
	atFlags       = 65
	atChecksum    = 68
)

const (
	hasKey = 1 << iota
	hasTime
	hasHeaders
	hasContentType
	hasID
	hasTerms
	knownParts = 1<<6 - 1
)

const (
	flagPublisher = 1
	flagTerms     = 2
	flagOrigin    = 4
	flagRoute     = 8
	flagWhole     = 16
)

// Compression of a batch's payload.
type Compression uint8

// The compressions of a batch.
const (
	Plain Compression = iota
	Zstd
)

// ErrBatch is wrapped by every error about a batch that cannot be read.
var ErrBatch = errors.New("broken batch")

var le = binary.LittleEndian

// Publisher is the identity under which a publisher's batches are
// recognised when they come twice.
type Publisher struct {
	ID       uuid.UUID
	Sequence uint64 // of the batch's first message; the next batch continues after its last
	Origin   bool   // of a job of the service: Sequence is the number of the batch, from 1
}

// Builder gathers messages to a batch. The zero value is ready to use and
// can be used again after Build.
type Builder struct {
	buf         []byte
	contentType string
	time        int64 // that of the batch
	count       int
	terms       bool
}

// Add appends a message. It does not check limits: see Message.Check.
func (b *Builder) Add(m *Message) {
	if b.count == 0 {
		b.contentType = m.ContentType
		b.time = 0
		if !m.Time.IsZero() {
			b.time = m.Time.UnixMicro()
		}
		b.buf = slices.Grow(b.buf[:0], BatchHeaderSize+len(m.Body)+64)[:BatchHeaderSize]
		b.buf = appendText(b.buf, m.ContentType)
	}
	parts := byte(0)
	if m.Key != "" {
		parts |= hasKey
	}
	if !m.Time.IsZero() {
		parts |= hasTime
	}
	if len(m.Headers) > 0 {
		parts |= hasHeaders
	}
	if m.ContentType != b.contentType {
		parts |= hasContentType
	}
	if m.ID != "" {
		parts |= hasID
	}
	if m.Terms != nil {
		parts |= hasTerms
		b.terms = true
	}
	buf := append(b.buf, parts)
	if parts&hasKey != 0 {
		buf = appendText(buf, m.Key)
	}
	if parts&hasTime != 0 {
		buf = binary.AppendVarint(buf, m.Time.UnixMicro()-b.time)
	}
	if parts&hasHeaders != 0 {
		buf = binary.AppendUvarint(buf, uint64(len(m.Headers)))
		for _, h := range m.Headers {
			buf = appendText(appendText(buf, h.Name), h.Value)
		}
	}
	if parts&hasContentType != 0 {
		buf = appendText(buf, m.ContentType)
	}
	if parts&hasID != 0 {
		buf = appendText(buf, m.ID)
	}
	if m.Terms != nil {
		buf = m.Terms.append(buf)
	}
	buf = binary.AppendUvarint(buf, uint64(len(m.Body)))
	b.buf = append(buf, m.Body...)
	b.count++
}

func appendText(buf []byte, s string) []byte {
	return append(binary.AppendUvarint(buf, uint64(len(s))), s...)
}

// Count returns the number of messages added since the last Build.
func (b *Builder) Count() int { return b.count }

// Size returns the bytes of the batch so far, before compression.
func (b *Builder) Size() int { return len(b.buf) }

var (
	encoder, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
	decoder, _ = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(MaxBatchBytes), zstd.WithDecoderConcurrency(0))
)

// Build returns the batch and empties the builder. The bytes are valid until
// the next Add. A nil publisher sends no identity.
func (b *Builder) Build(c Compression, p *Publisher) []byte {
	raw := len(b.buf) - BatchHeaderSize
	out := b.buf
	if c == Zstd {
		out = encoder.EncodeAll(b.buf[BatchHeaderSize:], make([]byte, BatchHeaderSize, BatchHeaderSize+raw/2))
	}
	h := out[:BatchHeaderSize]
	clear(h)
	le.PutUint32(h, batchMagic)
	le.PutUint32(h[atCount:], uint32(b.count))
	le.PutUint32(h[atSize:], uint32(len(out)-BatchHeaderSize))
	le.PutUint32(h[atRawSize:], uint32(raw))
	id := uuid.Must(uuid.NewV7())
	copy(h[atBatchID:], id[:])
	if p != nil {
		copy(h[atPublisher:], p.ID[:])
		le.PutUint64(h[atSequence:], p.Sequence)
		h[atFlags] = flagPublisher
		if p.Origin {
			h[atFlags] |= flagOrigin
		}
	}
	le.PutUint64(h[atTime:], uint64(b.time))
	h[atCompression] = byte(c)
	if b.terms {
		h[atFlags] |= flagTerms
	}
	le.PutUint32(h[atChecksum:], batchChecksum(out))
	b.count, b.terms = 0, false
	return out
}

// batchChecksum is that of a whole batch, but for the place where it stands.
func batchChecksum(raw []byte) uint32 {
	return update(Checksum(raw[:atChecksum]), raw[BatchHeaderSize:])
}

// Batch is a batch whose header and checksum have been checked. Its payload
// is read by Messages.
type Batch struct{ raw []byte }

// OpenBatch checks the header and the checksum of the bytes, which must be
// one whole batch. It does not look at the messages: see Batch.Verify.
func OpenBatch(raw []byte) (Batch, error) {
	if len(raw) < BatchHeaderSize {
		return Batch{}, fmt.Errorf("%w: %d bytes, and the header alone has %d", ErrBatch, len(raw), BatchHeaderSize)
	}
	b := Batch{raw}
	switch {
	case le.Uint32(raw) != batchMagic:
		return Batch{}, fmt.Errorf("%w: it does not start with SFB2", ErrBatch)
	case int(le.Uint32(raw[atSize:])) != len(raw)-BatchHeaderSize:
		return Batch{}, fmt.Errorf("%w: its header tells of %d bytes after it, and %d are there", ErrBatch, le.Uint32(raw[atSize:]), len(raw)-BatchHeaderSize)
	case raw[atCompression] > byte(Zstd):
		return Batch{}, fmt.Errorf("%w: compression %d; allowed: 0 none, 1 zstd", ErrBatch, raw[atCompression])
	case raw[atFlags]&flagRoute != 0 && (raw[atFlags]&(flagPublisher|flagOrigin) != 0 || len(raw) < BatchHeaderSize+placesSize):
		return Batch{}, fmt.Errorf("%w: the places of a route are cut off, or a publisher sent it too", ErrBatch)
	case raw[atFlags]&flagWhole != 0 && (raw[atFlags]&flagRoute == 0 || len(raw) < atAddress || len(raw) < b.head()):
		return Batch{}, fmt.Errorf("%w: the address of a route is cut off", ErrBatch)
	case b.Count() < 1 || b.Count() > MaxBatchCount:
		return Batch{}, fmt.Errorf("%w: %d messages; allowed: 1 to %d", ErrBatch, b.Count(), MaxBatchCount)
	case b.RawSize() > MaxBatchBytes:
		return Batch{}, fmt.Errorf("%w: %d bytes before compression; limit %d: %w", ErrBatch, b.RawSize(), MaxBatchBytes, ErrTooLarge)
	case le.Uint32(raw[atChecksum:]) != batchChecksum(raw):
		return Batch{}, fmt.Errorf("%w: its checksum does not fit its bytes", ErrBatch)
	}
	return b, nil
}

// Count returns the number of messages that the header tells of.
func (b Batch) Count() int { return int(le.Uint32(b.raw[atCount:])) }

// RawSize returns the bytes of the payload before compression.
func (b Batch) RawSize() int { return int(le.Uint32(b.raw[atRawSize:])) }

// Bytes returns the batch as it was encoded.
func (b Batch) Bytes() []byte { return b.raw }

// Compression returns how the payload is compressed.
func (b Batch) Compression() Compression { return Compression(b.raw[atCompression]) }

// Publisher returns the publisher's identity, or nil when it sent none.
func (b Batch) Publisher() *Publisher {
	if b.raw[atFlags]&flagPublisher == 0 {
		return nil
	}
	return &Publisher{ID: uuid.UUID(b.raw[atPublisher:atSequence]), Sequence: le.Uint64(b.raw[atSequence:]), Origin: b.raw[atFlags]&flagOrigin != 0}
}

// head is where the payload begins.
func (b Batch) head() int {
	switch b.raw[atFlags] & (flagRoute | flagWhole) {
	case flagRoute:
		return BatchHeaderSize + placesSize
	case flagRoute | flagWhole:
		if len(b.raw) < atAddress {
			return atAddress
		}
		return atAddress + int(le.Uint16(b.raw[atAddress-2:]))
	}
	return BatchHeaderSize
}

// HasTerms reports whether a message of the batch has terms of delivery.
func (b Batch) HasTerms() bool { return b.raw[atFlags]&flagTerms != 0 }

// Payload returns the payload without compression, into scratch if it fits.
func (b Batch) Payload(scratch []byte) ([]byte, error) {
	if len(b.raw) < b.head() {
		return nil, fmt.Errorf("%w: %d bytes, and what comes before the payload has %d", ErrBatch, len(b.raw), b.head())
	}
	payload := b.raw[b.head():]
	if b.Compression() == Zstd {
		var err error
		if payload, err = decoder.DecodeAll(payload, scratch[:0]); err != nil {
			return nil, fmt.Errorf("%w: zstd: %v", ErrBatch, err)
		}
	}
	if len(payload) != b.RawSize() {
		return nil, fmt.Errorf("%w: %d bytes of payload, and its header tells of %d", ErrBatch, len(payload), b.RawSize())
	}
	return payload, nil
}

// Messages goes through the messages of the batch by their place in it. The
// message is valid until the next one; its Body is part of the payload. An
// error ends the sequence.
func (b Batch) Messages() iter.Seq2[*Message, error] {
	return func(yield func(*Message, error) bool) {
		payload, err := b.Payload(nil)
		if err != nil {
			yield(nil, err)
			return
		}
		r := reader{rest: payload}
		shared := r.text()
		batchTime := int64(le.Uint64(b.raw[atTime:]))
		batchID := uuid.UUID(b.raw[atBatchID:atPublisher])
		marks, whole := b.marks()
		var m Message
		for place := range b.Count() {
			r.message(&m, shared, batchTime)
			if r.failed {
				yield(nil, fmt.Errorf("%w: message %d of %d is cut off or malformed", ErrBatch, place+1, b.Count()))
				return
			}
			if m.ID == "" {
				m.ID = DerivedID(batchID, place)
			}
			if whole {
				m.Headers = marks.add(m.Headers, place)
			}
			if !yield(&m, nil) {
				return
			}
		}
		if len(r.rest) > 0 {
			yield(nil, fmt.Errorf("%w: %d bytes after its last message", ErrBatch, len(r.rest)))
		}
	}
}

// Pick goes through the messages at some places of the batch, which rise. The
// others are skipped without being decoded.
func (b Batch) Pick(places []int, yield func(i int, m *Message)) error {
	payload, err := b.Payload(nil)
	if err != nil {
		return err
	}
	r := reader{rest: payload}
	shared := r.text()
	batchTime := int64(le.Uint64(b.raw[atTime:]))
	batchID := uuid.UUID(b.raw[atBatchID:atPublisher])
	marks, whole := b.marks()
	at := 0
	for i, place := range places {
		for ; at < place && !r.failed; at++ {
			r.skipToBody()
		}
		var m Message
		r.message(&m, shared, batchTime)
		at++
		if r.failed || place >= b.Count() {
			return fmt.Errorf("%w: message %d of %d is cut off or malformed", ErrBatch, place+1, b.Count())
		}
		if m.ID == "" {
			m.ID = DerivedID(batchID, place)
		}
		if whole {
			m.Headers = marks.add(m.Headers, place)
		}
		yield(i, &m)
	}
	return nil
}

// Bodies is Messages for readers that only count and measure: it decodes no
// ids and makes no strings. It returns the bytes of all bodies.
func (b Batch) Bodies(yield func(body []byte)) (total int, err error) {
	payload, err := b.Payload(nil)
	if err != nil {
		return 0, err
	}
	r := reader{rest: payload}
	r.bytes()
	for place := range b.Count() {
		body := r.skipToBody()
		if r.failed {
			return total, fmt.Errorf("%w: message %d of %d is cut off or malformed", ErrBatch, place+1, b.Count())
		}
		total += len(body)
		if yield != nil {
			yield(body)
		}
	}
	if len(r.rest) > 0 {
		return total, fmt.Errorf("%w: %d bytes after its last message", ErrBatch, len(r.rest))
	}
	return total, nil
}

// Verify reads every message of the batch and checks its limits, so that
// nothing that cannot be read back is ever stored.
func (b Batch) Verify(maxBody int64) error {
	payload, err := b.Payload(nil)
	if err != nil {
		return err
	}
	r := reader{rest: payload}
	shared := r.bytes()
	if len(shared) > MaxContentType {
		return fmt.Errorf("%w: contentType: %d bytes; limit %d", ErrBatch, len(shared), MaxContentType)
	}
	var m Message
	for place := range b.Count() {
		// A message with nothing but a body needs no decoding to be checked.
		if len(r.rest) > 0 && r.rest[0]&^hasTime == 0 {
			body := r.skipToBody()
			if !r.failed && int64(len(body)) <= maxBody {
				continue
			}
			m = Message{Body: body}
		} else {
			r.message(&m, "", 0)
		}
		if r.failed {
			return fmt.Errorf("%w: message %d of %d is cut off or malformed", ErrBatch, place+1, b.Count())
		}
		if err := m.Check(maxBody); err != nil {
			return fmt.Errorf("message %d of %d: %w", place+1, b.Count(), err)
		}
	}
	if len(r.rest) > 0 {
		return fmt.Errorf("%w: %d bytes after its last message", ErrBatch, len(r.rest))
	}
	return nil
}

// Time returns the publisher's time of the first message, zero when it gave
// none.
func (b Batch) Time() time.Time {
	if at := le.Uint64(b.raw[atTime:]); at != 0 {
		return time.UnixMicro(int64(at)).UTC()
	}
	return time.Time{}
}
