package logs

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/message"
)

// stretch is records with so many messages each, whose bodies are their
// offsets.
func stretch(sizes ...int) (chunk []byte) {
	offset := int64(0)
	for i, size := range sizes {
		var b message.Builder
		for k := range size {
			b.Add(&message.Message{Body: fmt.Append(nil, offset+int64(k))})
		}
		data := append(make([]byte, message.StampSize), b.Build(message.Plain, nil)...)
		message.Stamp{Offset: offset, Time: int64(i + 1), Count: uint32(size)}.Put(data)
		r := message.Record{Index: uint64(i + 1), Term: 1, Kind: message.KindBatch, Data: data}
		prefix := make([]byte, message.RecordPrefix)
		r.PutPrefix(prefix)
		chunk = append(append(chunk, prefix...), data...)
		offset += int64(size)
	}
	return chunk
}

func TestEachMessage(t *testing.T) {
	decoded, held := 0, 0
	room := func(context.Context, message.Record) (func(), error) {
		decoded++
		held++
		return func() { held-- }, nil
	}
	full, enough := errors.New("no room"), errors.New("enough")
	for name, c := range map[string]struct {
		from    int64
		yield   func(m *message.Stored) (bool, error)
		room    Room
		wanted  string
		more    bool
		err     error
		decoded int
	}{
		"all":                    {0, func(*message.Stored) (bool, error) { return true, nil }, room, "0 1 2 3 4 5", true, nil, 3},
		"from the middle":        {3, func(*message.Stored) (bool, error) { return true, nil }, room, "3 4 5", true, nil, 1},
		"from behind the end":    {6, func(*message.Stored) (bool, error) { return true, nil }, room, "", true, nil, 0},
		"until it is enough":     {0, func(m *message.Stored) (bool, error) { return m.Offset < 3, nil }, room, "0 1 2 3", false, nil, 3},
		"until an error":         {1, func(m *message.Stored) (bool, error) { return true, map[bool]error{true: enough}[m.Offset == 2] }, room, "1 2", false, enough, 2},
		"an error of the last":   {5, func(*message.Stored) (bool, error) { return true, enough }, room, "5", false, enough, 1},
		"an error, and no more":  {5, func(*message.Stored) (bool, error) { return false, enough }, room, "5", false, enough, 1},
		"without room to decode": {0, nil, func(context.Context, message.Record) (func(), error) { return nil, full }, "", false, full, 0},
	} {
		decoded = 0
		var seen []string
		more, err := EachMessage(accesstest.Owner(t), stretch(2, 1, 3), 4, c.from, c.room, func(m *message.Stored) (bool, error) {
			assert.Equal(t, 4, m.Partition)
			seen = append(seen, string(m.Body))
			return c.yield(m)
		})
		assert.Equal(t, c.wanted, strings.Join(seen, " "), name)
		assert.Equal(t, c.more, more, name)
		assert.Equal(t, c.err, err, name)
		assert.Equal(t, c.decoded, decoded, "%s: only what is meant is decoded", name)
		require.Zero(t, held, "%s: room is given back", name)
	}
	// What cannot be decoded is an error, and not the end.
	broken := stretch(1)
	for i := message.RecordPrefix + message.StampSize; i < len(broken); i++ {
		broken[i] ^= 0xff
	}
	_, err := EachMessage(accesstest.Owner(t), broken, 0, 0, room, func(*message.Stored) (bool, error) { return true, nil })
	assert.Error(t, err)
	assert.Zero(t, held)
}
