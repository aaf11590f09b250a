package message

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func built(t testing.TB, c Compression, messages ...*Message) Batch {
	var b Builder
	for _, m := range messages {
		b.Add(m)
	}
	batch, err := OpenBatch(bytes.Clone(b.Build(c, nil)))
	require.NoError(t, err)
	return batch
}

// Messages of a batch that a route sent as it was get their headers when they are read, the
// same wherever they are read, and the next route counts on.
func TestABatchThatARouteSentAsItWas(t *testing.T) {
	var all []*Message
	for i := range 5 {
		all = append(all, &Message{Key: "box-1", Body: fmt.Append(nil, i), Headers: []Header{{"region", "north"}}})
	}
	for _, c := range []Compression{Plain, Zstd} {
		sent := built(t, c, all...)
		r := &Route{ID: uuid.New(), Partition: 3, After: Place{Cut: 1, Offset: 90}, UpTo: Place{Cut: 1, Offset: 105}, Address: "coldchain/readings@all", Hops: 1}
		raw := sent.AppendRouted(nil, r)
		assert.Equal(t, RoutedSize(sent, r), len(raw))
		routed, err := OpenBatch(raw)
		require.NoError(t, err)
		require.NoError(t, routed.Verify(10))
		assert.Equal(t, r, routed.Route())
		want := func(place int) []Header {
			return []Header{{"region", "north"}, {HeaderRoute, "coldchain/readings@all"}, {HeaderRouteFrom, fmt.Sprintf("coldchain/readings#3:%d", 100+place)}, {HeaderHops, "1"}}
		}
		place := 0
		for m, err := range routed.Messages() {
			require.NoError(t, err)
			assert.Equal(t, want(place), m.Headers)
			assert.Equal(t, fmt.Sprint(place), string(m.Body))
			place++
		}
		assert.Equal(t, 5, place)
		require.NoError(t, routed.Pick([]int{1, 4}, func(i int, m *Message) {
			assert.Equal(t, want([]int{1, 4}[i]), m.Headers)
		}))
		assert.Equal(t, all[0].Headers, []Header{{"region", "north"}}, "the message itself is as it was")

		on := &Route{ID: uuid.New(), UpTo: Place{Cut: 1, Offset: 12}, Address: "coldchain/second@on", Hops: 2}
		again, err := OpenBatch(routed.AppendRouted(nil, on))
		require.NoError(t, err)
		assert.Equal(t, on, again.Route(), "what is told before it is told no more")
		assert.Equal(t, len(sent.Bytes())+atAddress-BatchHeaderSize+len(on.Address), len(again.Bytes()))

		for _, size := range []int{atAddress - 1, atAddress + 3} {
			cut := bytes.Clone(raw[:size])
			le.PutUint32(cut[atSize:], uint32(size-BatchHeaderSize))
			le.PutUint32(cut[atChecksum:], batchChecksum(cut))
			_, err = OpenBatch(cut)
			assert.ErrorIs(t, err, ErrBatch)
			for _, err := range (Batch{cut}).Messages() {
				assert.ErrorIs(t, err, ErrBatch)
			}
		}
	}
}

// inOne is InOnePartition by decoding each message.
func inOne(b Batch, count, without int, maxBody int64) (partition int, ok bool) {
	partition = -1
	for m, err := range b.Messages() {
		if err != nil || m.Terms != nil || int64(len(m.Body)) > maxBody {
			return 0, false
		}
		size := 0
		for _, h := range m.Headers {
			if size += len(h.Name) + len(h.Value); isMark([]byte(h.Name)) {
				return 0, false
			}
		}
		if len(m.Headers) > MaxHeaders-3 || size > MaxHeaderBytes/2 {
			return 0, false
		}
		at := without
		if m.Key != "" {
			at = PartitionOf(m.Key, count)
		}
		if partition >= 0 && at != partition {
			return 0, false
		}
		partition = at
	}
	return partition, true
}

func TestWhetherABatchBelongsInOnePartitionIsSeenWithoutDecoding(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	yes := 0
	for round := range 2000 {
		var all []*Message
		for range 1 + r.IntN(4) {
			m := randomMessage(r)
			switch r.IntN(12) {
			case 0:
				m.Terms = &Terms{NotBefore: time.UnixMicro(1)}
			case 2:
				for i := range 55 + r.IntN(10) {
					m.Headers = append(m.Headers, Header{fmt.Sprint("h", i), strings.Repeat("x", r.IntN(1200))})
				}
			case 1:
				m.Headers = append(m.Headers, Header{[]string{HeaderRoute, HeaderRouteFrom, HeaderHops}[r.IntN(3)], "x"})
			}
			all = append(all, m)
		}
		b := built(t, Compression(round%2), all...)
		count, without, maxBody := 1+r.IntN(3), r.IntN(2), int64(200+r.IntN(600))
		var scratch []byte
		want, ok := inOne(b, count, without, maxBody)
		got, is := b.InOnePartition(count, without, maxBody, &scratch)
		require.Equal(t, ok, is, "%v", all)
		if ok {
			require.Equal(t, want, got)
			yes++
		}
	}
	assert.Greater(t, yes, 200)
}

func FuzzInOnePartition(f *testing.F) {
	f.Add(built(f, Plain, &Message{Key: "a", Body: []byte("x")}, &Message{Key: "b", Headers: []Header{{HeaderHops, "1"}}}).Bytes())
	f.Add(built(f, Zstd, &Message{Key: "a", Body: []byte("x")}).Bytes())
	f.Fuzz(func(t *testing.T, raw []byte) {
		if len(raw) >= BatchHeaderSize {
			le.PutUint32(raw[atSize:], uint32(len(raw)-BatchHeaderSize))
			le.PutUint32(raw[atChecksum:], batchChecksum(raw))
		}
		b, err := OpenBatch(raw)
		if err != nil || b.Count() > 1000 {
			return
		}
		var scratch []byte
		got, is := b.InOnePartition(3, 1, 100, &scratch)
		if want, ok := inOne(b, 3, 1, 100); is {
			assert.True(t, ok, "what is sent as it is can be read")
			assert.Equal(t, want, got)
		}
	})
}
