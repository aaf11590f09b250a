// Package pack reads and writes the small binary forms that commands and states in
// the logs have: numbers of variable length, and texts behind their length.
package pack

import "encoding/binary"

// Reader takes parts off the front of Rest. Once a part is cut off it has failed and
// gives nothing more.
type Reader struct {
	Rest   []byte
	Failed bool
}

func (r *Reader) fail() { r.Failed, r.Rest = true, nil }

// Uvarint reads a number that is not negative.
func (r *Reader) Uvarint() uint64 {
	v, n := binary.Uvarint(r.Rest)
	if n <= 0 {
		r.fail()
		return 0
	}
	r.Rest = r.Rest[n:]
	return v
}

// Varint reads a number.
func (r *Reader) Varint() int64 {
	v, n := binary.Varint(r.Rest)
	if n <= 0 {
		r.fail()
		return 0
	}
	r.Rest = r.Rest[n:]
	return v
}

// Byte reads a byte.
func (r *Reader) Byte() byte {
	if len(r.Rest) == 0 {
		r.fail()
		return 0
	}
	b := r.Rest[0]
	r.Rest = r.Rest[1:]
	return b
}

// Fixed reads so many bytes, which are part of what is read.
func (r *Reader) Fixed(n int) []byte {
	if n > len(r.Rest) {
		r.fail()
		return make([]byte, n)
	}
	b := r.Rest[:n:n]
	r.Rest = r.Rest[n:]
	return b
}

// Bytes reads a text, which is part of what is read.
func (r *Reader) Bytes() []byte {
	n := r.Uvarint()
	if n > uint64(len(r.Rest)) {
		r.fail()
		return nil
	}
	return r.Fixed(int(n))
}

// Text reads a text.
func (r *Reader) Text() string { return string(r.Bytes()) }

// Count reads how many things of at least so many bytes follow.
func (r *Reader) Count(least int) int {
	n := r.Uvarint()
	if n > uint64(len(r.Rest)/max(least, 1)) {
		r.fail()
		return 0
	}
	return int(n)
}

// Whole reports whether all was read, and nothing was cut off.
func (r *Reader) Whole() bool { return !r.Failed && len(r.Rest) == 0 }

// Text appends a text that Reader.Text reads.
func Text(buf []byte, s string) []byte {
	return append(binary.AppendUvarint(buf, uint64(len(s))), s...)
}
