package message

import (
	"encoding/binary"
	"time"
)

// reader takes parts off the front of a payload; once a part is cut off it
// has failed and gives nothing more.
type reader struct {
	rest   []byte
	failed bool
}

func (r *reader) uvarint() uint64 {
	if len(r.rest) > 0 && r.rest[0] < 0x80 {
		v := r.rest[0]
		r.rest = r.rest[1:]
		return uint64(v)
	}
	v, n := binary.Uvarint(r.rest)
	if n <= 0 {
		r.failed = true
		return 0
	}
	r.rest = r.rest[n:]
	return v
}

func (r *reader) varint() int64 {
	v, n := binary.Varint(r.rest)
	if n <= 0 {
		r.failed = true
		return 0
	}
	r.rest = r.rest[n:]
	return v
}

func (r *reader) bytes() []byte {
	n := r.uvarint()
	if r.failed || n > uint64(len(r.rest)) {
		r.failed = true
		return nil
	}
	b := r.rest[:n:n]
	r.rest = r.rest[n:]
	return b
}

func (r *reader) text() string { return string(r.bytes()) }

func (r *reader) parts() byte {
	if len(r.rest) == 0 || r.rest[0]&^knownParts != 0 {
		r.failed = true
		return 0
	}
	a := r.rest[0]
	r.rest = r.rest[1:]
	return a
}

func (r *reader) message(m *Message, shared string, batchTime int64) {
	parts := r.parts()
	*m = Message{ContentType: shared, Headers: m.Headers[:0]}
	if parts&hasKey != 0 {
		m.Key = r.text()
	}
	if parts&hasTime != 0 {
		m.Time = time.UnixMicro(batchTime + r.varint()).UTC()
	}
	if parts&hasHeaders != 0 {
		n := r.uvarint()
		if n > MaxHeaders {
			r.failed = true
			return
		}
		for range n {
			name := r.text()
			m.Headers = append(m.Headers, Header{Name: name, Value: r.text()})
		}
	}
	if parts&hasContentType != 0 {
		m.ContentType = r.text()
	}
	if parts&hasID != 0 {
		m.ID = r.text()
	}
	if parts&hasTerms != 0 {
		m.Terms = r.terms()
	}
	m.Body = r.bytes()
}

func (r *reader) skipToBody() []byte {
	parts := r.parts()
	if parts&hasKey != 0 {
		r.bytes()
	}
	if parts&hasTime != 0 {
		r.varint()
	}
	if parts&hasHeaders != 0 {
		r.passHeaders(nil)
	}
	return r.passToBody(parts)
}

// passHeaders passes over headers, each of which may look at.
func (r *reader) passHeaders(each func(name, value []byte)) {
	n := r.uvarint()
	if n > MaxHeaders {
		r.failed = true
		return
	}
	for range n {
		name := r.bytes()
		if value := r.bytes(); each != nil {
			each(name, value)
		}
	}
}

// passToBody passes over what lies between the headers and the body.
func (r *reader) passToBody(parts byte) []byte {
	if parts&hasContentType != 0 {
		r.bytes()
	}
	if parts&hasID != 0 {
		r.bytes()
	}
	if parts&hasTerms != 0 {
		r.terms()
	}
	return r.bytes()
}

func (r *reader) terms() *Terms {
	t := &Terms{NotBefore: timeOf(r.varint()), Expires: timeOf(r.varint())}
	for _, text := range []*string{&t.Reason, &t.Detail, &t.By, &t.From} {
		*text = r.text()
	}
	return t
}
