package expr

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"time"
	"unicode/utf8"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"steadyferry/internal/core/message"
)

// Value is a compiled expression that gives a value of a message. It can be
// used by many goroutines.
type Value struct{ plan *plan }

// CompileValue reads an expression over the same names as a condition. The
// error is an *Error.
func CompileValue(source string) (*Value, error) {
	p, err := compile(source)
	if err != nil {
		return nil, err
	}
	return &Value{p}, nil
}

// Computer computes values of one message after another. It is for one
// goroutine.
type Computer struct{ evaluator *evaluator }

// Computer returns a computer whose evaluations end when ctx does.
func (v *Value) Computer(ctx context.Context) *Computer { return &Computer{v.plan.evaluator(ctx)} }

// Of computes the value for a message, as JSON. The error is ErrCost or that
// of the context when it was stopped.
func (c *Computer) Of(s *message.Stored, f Facts) (out json.RawMessage, err error) {
	e := c.evaluator
	e.begin(s, f)
	defer e.end()
	v, err := e.eval()
	if err != nil {
		if stopped := e.meter.stopped(err); stopped != nil {
			return nil, stopped
		}
		return nil, err
	}
	defer func() {
		// Also what is written is paid for, and may be stopped.
		switch p := recover().(type) {
		case nil:
		case error:
			out, err = nil, e.meter.stopped(p)
			if err == nil {
				panic(p)
			}
		default:
			panic(p)
		}
	}()
	return e.meter.json(nil, v)
}

// json appends a value as JSON.
func (m *meter) json(b []byte, v ref.Val) ([]byte, error) {
	m.pay(1)
	var err error
	switch x := v.(type) {
	case types.Null:
		return append(b, "null"...), nil
	case types.Bool:
		return strconv.AppendBool(b, bool(x)), nil
	case types.Int:
		return strconv.AppendInt(b, int64(x), 10), nil
	case types.Uint:
		return strconv.AppendUint(b, uint64(x), 10), nil
	case types.Double:
		if f := float64(x); math.IsNaN(f) || math.IsInf(f, 0) {
			return nil, fmt.Errorf("it gives %v, which is no JSON value", f)
		}
		return m.plain(b, float64(x), 24)
	case types.String:
		return m.plain(b, string(x), 6*len(x))
	case types.Bytes:
		m.make(2 * len(x))
		return m.plain(b, base64.StdEncoding.EncodeToString(x), 2*len(x))
	case types.Timestamp:
		return m.plain(b, x.Time, 40)
	case types.Duration:
		return m.plain(b, strconv.FormatFloat(time.Duration(x.Duration).Seconds(), 'f', -1, 64)+"s", 40)
	case object:
		b = append(b, '{')
		first := true
		for name, value := range x.members() {
			if !first {
				b = append(b, ',')
			}
			first = false
			if b, err = m.json(b, types.String(x.t.stringAt(name))); err == nil {
				b, err = m.json(append(b, ':'), x.t.valueAt(value))
			}
			if err != nil {
				return nil, err
			}
		}
		return append(b, '}'), nil
	case traits.Lister:
		b = append(b, '[')
		for it, first := x.Iterator(), true; it.HasNext() == types.True; first = false {
			if !first {
				b = append(b, ',')
			}
			if b, err = m.json(b, it.Next()); err != nil {
				return nil, err
			}
		}
		return append(b, ']'), nil
	case traits.Mapper:
		b = append(b, '{')
		for it, first := x.Iterator(), true; it.HasNext() == types.True; first = false {
			key := it.Next()
			name, ok := key.(types.String)
			if !ok {
				return nil, fmt.Errorf("it gives a map with a key that is a %s, which is no JSON value", key.Type())
			}
			if !first {
				b = append(b, ',')
			}
			if b, err = m.json(b, name); err == nil {
				b, err = m.json(append(b, ':'), x.Get(key))
			}
			if err != nil {
				return nil, err
			}
		}
		return append(b, '}'), nil
	}
	return nil, fmt.Errorf("it gives a %s, which is no JSON value", v.Type())
}

// plain appends what encoding/json writes, at most so many bytes.
func (m *meter) plain(b []byte, v any, most int) ([]byte, error) {
	m.make(most)
	if s, ok := v.(string); ok && !utf8.ValidString(s) {
		m.make(3 * len(s))
	}
	one, err := json.Marshal(v)
	return append(b, one...), err
}
