package sample

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"time"

	"steadyferry/internal/core/pack"
)

// ErrForm is wrapped by errors about blocks that cannot be read.
var ErrForm = errors.New("broken form of samples")

const form = 1

// A column is a number of runs, and each run a number of steps and what they have: 0
// unknown, or the difference to the value before, as a zigzag number from 1 on. Values are
// whole numbers of their last digit. Most things do not change most of the time.

// Encode appends the block to buf.
func (k *Kind) Encode(b *Block, buf []byte) []byte {
	buf = append(buf, form)
	buf = binary.AppendVarint(buf, b.Begin.Unix())
	buf = binary.AppendUvarint(buf, uint64(b.Step/time.Second))
	buf = binary.AppendUvarint(buf, uint64(len(b.Columns)))
	for v, column := range b.Columns {
		buf = binary.AppendUvarint(buf, uint64(len(column)))
		scale, last := k.scale(v), int64(0)
		for i := 0; i < len(column); {
			first, run := uint64(0), 0
			for ; i+run < len(column); run++ {
				code, next := codeOf(column[i+run], scale, last)
				if run == 0 {
					first = code
				} else if code != first {
					break
				}
				last = next
			}
			buf = binary.AppendUvarint(binary.AppendUvarint(buf, uint64(run)), first)
			i += run
		}
	}
	return buf
}

func (k *Kind) scale(value int) float64 {
	if value < len(k.Values) {
		return math.Pow10(k.Values[value].Digits)
	}
	return 1
}

// codeOf is what a value is written as behind another one, and the number that it is.
func codeOf(x, scale float64, last int64) (code uint64, next int64) {
	if math.IsNaN(x) {
		return 0, last
	}
	next = int64(math.Round(max(min(x*scale, 1<<62), -1<<62)))
	return zigzag(next-last) + 1, next
}

func zigzag(d int64) uint64 { return uint64(d)<<1 ^ uint64(d>>63) }

func unzigzag(u uint64) int64 { return int64(u>>1) ^ -int64(u&1) }

// mostSteps bounds the steps of a block that is read.
const mostSteps = 10_000

// Decode reads what Encode wrote. Values that the kind does not have are left out.
func (k *Kind) Decode(raw []byte) (*Block, error) {
	r := &pack.Reader{Rest: raw}
	if f := r.Byte(); f != form {
		return nil, fmt.Errorf("%w: form %d", ErrForm, f)
	}
	b := k.NewBlock(time.Unix(r.Varint(), 0).UTC(), time.Duration(r.Uvarint())*time.Second)
	if b.Step <= 0 || b.Step > 24*time.Hour {
		return nil, fmt.Errorf("%w: steps of %s", ErrForm, b.Step)
	}
	for v := range r.Count(1) {
		steps := r.Uvarint()
		if steps > mostSteps || r.Failed {
			return nil, fmt.Errorf("%w: %d steps", ErrForm, steps)
		}
		column, last := make([]float64, 0, steps), int64(0)
		for uint64(len(column)) < steps && !r.Failed {
			run, code := r.Uvarint(), r.Uvarint()
			if run == 0 || run > steps-uint64(len(column)) {
				return nil, fmt.Errorf("%w: a run of %d steps", ErrForm, run)
			}
			for range run {
				x := Unknown
				if code > 0 {
					last += unzigzag(code - 1)
					x = float64(last) / k.scale(v)
				}
				column = append(column, x)
			}
		}
		if v < len(b.Columns) {
			b.Columns[v] = column
		}
	}
	if !r.Whole() {
		return nil, fmt.Errorf("%w: it is cut off or has bytes too many", ErrForm)
	}
	return b, nil
}
