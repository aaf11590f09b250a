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

// The batch, little endian (docs/formats.md has the same table):
//
//	 0  4  "SFB1"
//	 4  4  bytes of the payload that follows the header
//	 8  4  CRC32C of everything from byte 12 to the end
//	12  1  compression of the payload: 0 none, 1 zstd
//	13  1  flags: 1 the publisher sent its id and sequence, 2 a message has
//	       terms of delivery, 4 the publisher is a job of the service, and the
//	       sequence counts its batches
//	14  2  zero
//	16  4  number of messages, at least 1
//	20  4  bytes of the payload before compression
//	24  8  the publisher's base time, microseconds since 1970; 0 none
//	32 16  publisher id, zero without the flag
//	48  8  sequence of the first message, zero without the flag
//	56 16  batch id, a UUIDv7 from which the messages' ids are derived
//	72     payload
//
// The payload: the content type shared by the messages (uvarint length,
// bytes), then the messages. Each one: attributes (1 byte), then the parts
// whose bit is set, in this order, then the body.
//
//	bit 0 id            uvarint length, bytes (without it the id is derived)
//	bit 1 key           uvarint length, bytes
//	bit 2 content type  uvarint length, bytes (instead of the shared one)
//	bit 3 time          varint microseconds after the base time
//	bit 4 headers       uvarint count, then per header name and value,
//	                    each a uvarint length and bytes
//	bit 5 terms         see Terms: varint microseconds since 1970 of not
//	                    before and of expires (0 none), then reason, detail,
//	                    by and from, each a uvarint length and bytes
//	body                uvarint length, bytes
const (
	BatchHeaderSize = 72
	batchMagic      = 0x31424653 // "SFB1"
)

const (
	hasID = 1 << iota
	hasKey
	hasContentType
	hasTime
	hasHeaders
	hasTerms
	knownAttributes = 1<<6 - 1
)

const (
	flagPublisher = 1
	flagTerms     = 2
	flagOrigin    = 4
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
	base        int64
	count       int
	terms       bool
}

// Add appends a message. It does not check limits: see Message.Check.
func (b *Builder) Add(m *Message) {
	if b.count == 0 {
		b.contentType = m.ContentType
		b.base = 0
		if !m.Time.IsZero() {
			b.base = m.Time.UnixMicro()
		}
		b.buf = slices.Grow(b.buf[:0], BatchHeaderSize+len(m.Body)+64)[:BatchHeaderSize]
		b.buf = appendText(b.buf, m.ContentType)
	}
	attributes := byte(0)
	if m.ID != "" {
		attributes |= hasID
	}
	if m.Key != "" {
		attributes |= hasKey
	}
	if m.ContentType != b.contentType {
		attributes |= hasContentType
	}
	if !m.Time.IsZero() {
		attributes |= hasTime
	}
	if len(m.Headers) > 0 {
		attributes |= hasHeaders
	}
	if m.Terms != nil {
		attributes |= hasTerms
		b.terms = true
	}
	buf := append(b.buf, attributes)
	if attributes&hasID != 0 {
		buf = appendText(buf, m.ID)
	}
	if attributes&hasKey != 0 {
		buf = appendText(buf, m.Key)
	}
	if attributes&hasContentType != 0 {
		buf = appendText(buf, m.ContentType)
	}
	if attributes&hasTime != 0 {
		buf = binary.AppendVarint(buf, m.Time.UnixMicro()-b.base)
	}
	if attributes&hasHeaders != 0 {
		buf = binary.AppendUvarint(buf, uint64(len(m.Headers)))
		for _, h := range m.Headers {
			buf = appendText(appendText(buf, h.Name), h.Value)
		}
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
	le.PutUint32(h[4:], uint32(len(out)-BatchHeaderSize))
	h[12] = byte(c)
	le.PutUint32(h[16:], uint32(b.count))
	le.PutUint32(h[20:], uint32(raw))
	le.PutUint64(h[24:], uint64(b.base))
	if p != nil {
		h[13] = flagPublisher
		if p.Origin {
			h[13] |= flagOrigin
		}
		copy(h[32:48], p.ID[:])
		le.PutUint64(h[48:], p.Sequence)
	}
	if b.terms {
		h[13] |= flagTerms
	}
	id := uuid.Must(uuid.NewV7())
	copy(h[56:72], id[:])
	le.PutUint32(h[8:], Checksum(out[12:]))
	b.count, b.terms = 0, false
	return out
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
		return Batch{}, fmt.Errorf("%w: it does not start with SFB1", ErrBatch)
	case int(le.Uint32(raw[4:])) != len(raw)-BatchHeaderSize:
		return Batch{}, fmt.Errorf("%w: its header tells of %d bytes after it, and %d are there", ErrBatch, le.Uint32(raw[4:]), len(raw)-BatchHeaderSize)
	case raw[12] > byte(Zstd):
		return Batch{}, fmt.Errorf("%w: compression %d; allowed: 0 none, 1 zstd", ErrBatch, raw[12])
	case b.Count() < 1 || b.Count() > MaxBatchCount:
		return Batch{}, fmt.Errorf("%w: %d messages; allowed: 1 to %d", ErrBatch, b.Count(), MaxBatchCount)
	case b.RawSize() > MaxBatchBytes:
		return Batch{}, fmt.Errorf("%w: %d bytes before compression, and the limit is %d: %w", ErrBatch, b.RawSize(), MaxBatchBytes, ErrTooLarge)
	case le.Uint32(raw[8:]) != Checksum(raw[12:]):
		return Batch{}, fmt.Errorf("%w: its checksum does not fit its bytes", ErrBatch)
	}
	return b, nil
}

// Count returns the number of messages that the header tells of.
func (b Batch) Count() int { return int(le.Uint32(b.raw[16:])) }

// RawSize returns the bytes of the payload before compression.
func (b Batch) RawSize() int { return int(le.Uint32(b.raw[20:])) }

// Bytes returns the batch as it was encoded.
func (b Batch) Bytes() []byte { return b.raw }

// Compression returns how the payload is compressed.
func (b Batch) Compression() Compression { return Compression(b.raw[12]) }

// Publisher returns the publisher's identity, or nil when it sent none.
func (b Batch) Publisher() *Publisher {
	if b.raw[13]&flagPublisher == 0 {
		return nil
	}
	return &Publisher{ID: uuid.UUID(b.raw[32:48]), Sequence: le.Uint64(b.raw[48:]), Origin: b.raw[13]&flagOrigin != 0}
}

// HasTerms reports whether a message of the batch has terms of delivery.
func (b Batch) HasTerms() bool { return b.raw[13]&flagTerms != 0 }

// Payload returns the payload without compression, into scratch if it fits.
func (b Batch) Payload(scratch []byte) ([]byte, error) {
	payload := b.raw[BatchHeaderSize:]
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
		base := int64(le.Uint64(b.raw[24:]))
		batchID := uuid.UUID(b.raw[56:72])
		var m Message
		for place := range b.Count() {
			r.message(&m, shared, base)
			if r.failed {
				yield(nil, fmt.Errorf("%w: message %d of %d is cut off or malformed", ErrBatch, place+1, b.Count()))
				return
			}
			if m.ID == "" {
				m.ID = DerivedID(batchID, place)
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
	base := int64(le.Uint64(b.raw[24:]))
	batchID := uuid.UUID(b.raw[56:72])
	at := 0
	for i, place := range places {
		for ; at < place && !r.failed; at++ {
			r.skipToBody()
		}
		var m Message
		r.message(&m, shared, base)
		at++
		if r.failed || place >= b.Count() {
			return fmt.Errorf("%w: message %d of %d is cut off or malformed", ErrBatch, place+1, b.Count())
		}
		if m.ID == "" {
			m.ID = DerivedID(batchID, place)
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
		return fmt.Errorf("%w: contentType: %d bytes, and the limit is %d", ErrBatch, len(shared), MaxContentType)
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
	if at := le.Uint64(b.raw[24:]); at != 0 {
		return time.UnixMicro(int64(at)).UTC()
	}
	return time.Time{}
}
