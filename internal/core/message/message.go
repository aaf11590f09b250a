// Package message holds a message and the two binary forms in which many of
// them travel and are kept: the batch, as a publisher encodes it, and the
// record, a batch with the place that the log gave it.
package message

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/cespare/xxhash/v2"
	"github.com/google/uuid"
)

// Limits that hold for every message, whatever its topic allows.
const (
	MaxKey         = 1 << 10   // bytes of a key
	MaxID          = 256       // bytes of an id
	MaxContentType = 256       // bytes of a content type
	MaxHeaders     = 64        // headers of a message
	MaxHeaderBytes = 64 << 10  // bytes of all headers of a message
	MaxBody        = 64 << 20  // bytes of a body; a topic's own limit is lower
	MaxBatchBytes  = 128 << 20 // bytes of a batch, compressed or not
	MaxBatchCount  = 1 << 20   // messages of a batch
)

// Header is one name and value that a publisher put beside a body.
type Header struct{ Name, Value string }

// Message is what a publisher sends. A zero Time or an empty ID means that
// the publisher gave none.
type Message struct {
	ID          string
	Key         string
	ContentType string
	Headers     []Header
	Body        []byte
	Time        time.Time // the publisher's own time, kept to the microsecond
	Terms       *Terms    // of delivery from a queue; nil: at once, and for as long as the queue keeps it
}

// Stored is a message with the place and time that the log gave it.
type Stored struct {
	Message
	Partition int
	Offset    int64
	StoredAt  time.Time // stamped by the service, to the microsecond
	By        uint32    // number of the principal that has published it; 0: the service itself
	Whole     int       // bytes of the whole body when Body is only its beginning; else 0
	Kept      int       // bytes of the whole body as it is kept, when Body has others in the place of some; else 0
	Masked    []string  // what is hidden of it from who may not see it: key, headers, body, or fields of them
}

// Shorten copies the message, with no more than the first bytes of its body.
func (s *Stored) Shorten(bytes int) *Stored {
	k := *s
	if len(s.Body) > bytes {
		k.Whole = max(s.Whole, len(s.Body))
	}
	k.Body = append([]byte(nil), s.Body[:min(bytes, len(s.Body))]...)
	k.Headers = append([]Header(nil), s.Headers...)
	return &k
}

// Hide copies the message without what is in it: no key, no body, no headers but those that tell
// where it came from. How large that is stays known.
func (s *Stored) Hide() *Stored {
	k := *s
	k.Whole, k.Key, k.Headers, k.Body, k.Terms = s.Size(), "", nil, nil, s.Terms.WithoutDetail()
	for _, h := range s.Headers {
		if slices.Contains(origins, h.Name) {
			k.Headers = append(k.Headers, h)
		}
	}
	k.Masked = []string{"key", "headers", "body"}
	return &k
}

// Size returns the bytes of the whole body.
func (s *Stored) Size() int {
	if s.Kept > 0 {
		return s.Kept
	}
	return max(s.Whole, len(s.Body))
}

// Header returns the value of a header and whether it is there.
func (m *Message) Header(name string) (string, bool) {
	for _, h := range m.Headers {
		if h.Name == name {
			return h.Value, true
		}
	}
	return "", false
}

// ErrTooLarge is wrapped by errors about a part that is over its limit.
var ErrTooLarge = errors.New("too large")

// Check says which part of the message breaks a limit; maxBody is the topic's
// limit in bytes.
func (m *Message) Check(maxBody int64) error {
	switch {
	case int64(len(m.Body)) > maxBody:
		return fmt.Errorf("body: %d bytes; limit %d: %w", len(m.Body), maxBody, ErrTooLarge)
	case len(m.Key) > MaxKey:
		return fmt.Errorf("key: %d bytes; limit %d", len(m.Key), MaxKey)
	case len(m.ID) > MaxID:
		return fmt.Errorf("id: %d bytes; limit %d", len(m.ID), MaxID)
	case len(m.ContentType) > MaxContentType:
		return fmt.Errorf("contentType: %d bytes; limit %d", len(m.ContentType), MaxContentType)
	case len(m.Headers) > MaxHeaders:
		return fmt.Errorf("headers: %d of them; limit %d", len(m.Headers), MaxHeaders)
	}
	total := 0
	for i, h := range m.Headers {
		if h.Name == "" {
			return fmt.Errorf("headers: a name is empty")
		}
		if hasControl(h.Name) {
			return fmt.Errorf("headers: the name %q has control characters", h.Name)
		}
		for _, before := range m.Headers[:i] {
			if before.Name == h.Name {
				return fmt.Errorf("headers: %q comes twice; a name has one value", h.Name)
			}
		}
		if !utf8.ValidString(h.Name) || !utf8.ValidString(h.Value) {
			return fmt.Errorf("headers: %q is not UTF-8 text", h.Name)
		}
		total += len(h.Name) + len(h.Value)
	}
	if total > MaxHeaderBytes {
		return fmt.Errorf("headers: %d bytes; limit %d", total, MaxHeaderBytes)
	}
	if m.Terms != nil {
		if err := m.Terms.check(); err != nil {
			return err
		}
	}
	if hasControl(m.ContentType) {
		return fmt.Errorf("contentType: %q has control characters", m.ContentType)
	}
	if s := m.Time.Unix(); s < firstSecond || s > lastSecond {
		return fmt.Errorf("publisherTime: the year %d is not one of 1 to 9999", m.Time.Year())
	}
	if !utf8.ValidString(m.Key) || !utf8.ValidString(m.ID) || !utf8.ValidString(m.ContentType) {
		return fmt.Errorf("key, id and contentType must be UTF-8 text")
	}
	return nil
}

// Times that RFC 3339 can write, in seconds since 1970. A zero time is the first.
var (
	firstSecond = time.Time{}.Unix()
	lastSecond  = time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC).Unix()
)

// hasControl is asked for every message: most texts are plain ASCII.
func hasControl(text string) bool {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c == 0x7f || c >= 0x80 {
			return strings.ContainsFunc(text[i:], unicode.IsControl)
		}
	}
	return false
}

// PartitionOf returns the partition of a key among n: the key's XXH64 with
// seed 0, modulo n.
func PartitionOf(key string, n int) int {
	return int(xxhash.Sum64String(key) % uint64(n))
}

// DerivedID returns the id of the message at a place in a batch, made from
// the batch's own id: its last 62 bits, read as a number, plus the place.
func DerivedID(batch uuid.UUID, place int) string {
	id := deriveID(batch, place)
	return id.String()
}

func deriveID(batch uuid.UUID, place int) uuid.UUID {
	low := binary.BigEndian.Uint64(batch[8:])
	const variant = uint64(3) << 62
	low = low&variant | (low+uint64(place))&^variant
	binary.BigEndian.PutUint64(batch[8:], low)
	return batch
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func update(sum uint32, b []byte) uint32 { return crc32.Update(sum, castagnoli, b) }

// Checksum is the CRC32C that batches and records carry.
func Checksum(b []byte) uint32 { return crc32.Checksum(b, castagnoli) }

// messageBytes is about what a message takes beside its body.
const messageBytes = 400

// SizeOf is how many bytes a message takes in memory.
func SizeOf(m *Stored) int { return len(m.Body) + messageBytes }

// ShortBody is how much of a body a list has. Whole ones come one at a time.
const ShortBody = 64 << 10
