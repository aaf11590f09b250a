package sample

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"time"

	"github.com/klauspost/compress/zstd"

	"steadyferry/internal/core/pack"
)

// Thing is one that is measured, by its kind's name and its id there.
type Thing struct {
	Kind string
	ID   int64
}

// Stretch is what was measured of all things in a short time.
type Stretch struct {
	Begin  time.Time
	Step   time.Duration
	Blocks map[Thing]*Block
}

// NewStretch returns one with nothing in it.
func NewStretch(begin time.Time, step time.Duration) *Stretch {
	return &Stretch{Begin: begin, Step: step, Blocks: map[Thing]*Block{}}
}

// Put sets what was measured of a thing at a time, in the order of its kind's values.
func (s *Stretch) Put(t Thing, at time.Time, values []float64) {
	b := s.Blocks[t]
	if b == nil {
		k := Named(t.Kind)
		if k == nil {
			return
		}
		b = k.NewBlock(s.Begin, s.Step)
		s.Blocks[t] = b
	}
	b.Put(at, values)
}

var (
	encoder, _ = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	decoder, _ = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(mostStretch), zstd.WithDecoderConcurrency(0))
)

// mostStretch bounds the bytes of a stretch that is read.
const mostStretch = 256 << 20

// Encode returns the stretch, compressed.
func (s *Stretch) Encode() []byte {
	var buf []byte
	buf = binary.AppendVarint(buf, s.Begin.Unix())
	buf = binary.AppendUvarint(buf, uint64(s.Step/time.Second))
	buf = binary.AppendUvarint(buf, uint64(len(s.Blocks)))
	things := make([]Thing, 0, len(s.Blocks))
	for t := range s.Blocks {
		things = append(things, t)
	}
	slices.SortFunc(things, func(a, b Thing) int { return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.ID, b.ID)) })
	for _, t := range things {
		buf = binary.AppendVarint(pack.Text(buf, t.Kind), t.ID)
		buf = pack.Text(buf, string(Named(t.Kind).Encode(s.Blocks[t], nil)))
	}
	return encoder.EncodeAll(buf, nil)
}

// DecodeStretch reads what Encode wrote. Things of kinds that are not known are left out.
func DecodeStretch(raw []byte) (*Stretch, error) {
	return decodeStretch(raw, func(Thing) bool { return true })
}

// EachBlock reads what was measured of those things of what Encode wrote that are wanted.
func EachBlock(raw []byte, wanted func(Thing) bool, do func(Thing, *Block)) error {
	s, err := decodeStretch(raw, wanted)
	if err != nil {
		return err
	}
	for t, b := range s.Blocks {
		do(t, b)
	}
	return nil
}

// decodeStretch reads what is wanted of a stretch.
func decodeStretch(raw []byte, wanted func(Thing) bool) (*Stretch, error) {
	buf, err := decoder.DecodeAll(raw, nil)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrForm, err)
	}
	r := &pack.Reader{Rest: buf}
	s := NewStretch(time.Unix(r.Varint(), 0).UTC(), time.Duration(r.Uvarint())*time.Second)
	for range r.Count(3) {
		t := Thing{Kind: r.Text(), ID: r.Varint()}
		k, b := Named(t.Kind), r.Bytes()
		if k == nil || !wanted(t) {
			continue
		}
		if s.Blocks[t], err = k.Decode(b); err != nil {
			return nil, err
		}
	}
	if !r.Whole() {
		return nil, fmt.Errorf("%w: it is cut off or has bytes too many", ErrForm)
	}
	return s, nil
}

// Join puts what a block has into another one of the same steps.
func (b *Block) Join(other *Block) {
	values := make([]float64, len(b.Columns))
	for i := range other.Len() {
		for v := range values {
			values[v] = other.At(v, i)
		}
		b.Put(other.Begin.Add(time.Duration(i)*other.Step), values)
	}
}
