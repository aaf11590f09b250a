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

func randomMessage(r *rand.Rand) *Message {
	text := func(most int) string { return strings.Repeat("é7", r.IntN(most)) }
	m := &Message{Key: text(4), Body: []byte(text(300))}
	if r.IntN(2) == 0 {
		m.ID = "id-" + text(5)
	}
	if r.IntN(2) == 0 {
		m.ContentType = []string{"application/json", "text/plain"}[r.IntN(2)]
	}
	if r.IntN(2) == 0 {
		m.Time = time.UnixMicro(r.Int64N(1 << 51)).UTC()
	}
	for i := range r.IntN(4) {
		m.Headers = append(m.Headers, Header{Name: string(rune('a'+i)) + text(3), Value: text(20)})
	}
	return m
}

func TestAnyBatchIsReadBackAsItWasMade(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	var b Builder
	for round := range 200 {
		var sent []*Message
		for range 1 + r.IntN(40) {
			m := randomMessage(r)
			sent = append(sent, m)
			b.Add(m)
		}
		var publisher *Publisher
		if round%2 == 0 {
			publisher = &Publisher{ID: uuid.New(), Sequence: r.Uint64()}
		}
		batch, err := OpenBatch(b.Build(Compression(round%2), publisher))
		require.NoError(t, err)
		require.NoError(t, batch.Verify(MaxBody))
		assert.Equal(t, publisher, batch.Publisher())
		assert.Equal(t, len(sent), batch.Count())
		seen, total, ids := 0, 0, map[string]bool{}
		for m, err := range batch.Messages() {
			require.NoError(t, err)
			want := *sent[seen]
			if want.ID == "" {
				id, err := uuid.Parse(m.ID)
				require.NoError(t, err)
				assert.EqualValues(t, 7, id.Version())
				assert.False(t, ids[m.ID], "derived ids differ")
				ids[m.ID] = true
				want.ID = m.ID
			}
			if len(want.Headers) == 0 {
				want.Headers = m.Headers
			}
			assert.Equal(t, want, *m)
			total += len(m.Body)
			seen++
		}
		bodies, err := batch.Bodies(nil)
		require.NoError(t, err)
		assert.Equal(t, total, bodies)
	}
}

func TestBrokenBatchesAreRefused(t *testing.T) {
	var b Builder
	b.Add(&Message{Body: []byte("hello")})
	good := append([]byte(nil), b.Build(Plain, nil)...)
	for name, broken := range map[string][]byte{
		"empty":        {},
		"cut off":      good[:len(good)-1],
		"longer":       append(append([]byte(nil), good...), 0),
		"other magic":  append([]byte("XXXX"), good[4:]...),
		"flipped body": flip(good, len(good)-1),
		"flipped head": flip(good, 20),
	} {
		_, err := OpenBatch(broken)
		assert.ErrorIs(t, err, ErrBatch, name)
	}
	b.Add(&Message{Body: make([]byte, 100)})
	batch, err := OpenBatch(b.Build(Plain, nil))
	require.NoError(t, err)
	assert.ErrorIs(t, batch.Verify(99), ErrTooLarge)
}

func flip(b []byte, at int) []byte {
	c := append([]byte(nil), b...)
	c[at] ^= 1
	return c
}

// Whatever the bytes, reading ends without a panic, and what Verify lets
// through can be read to its end.
func FuzzBatch(f *testing.F) {
	var b Builder
	b.Add(&Message{Key: "k", ID: "i", Body: []byte("body"), Headers: []Header{{"a", "b"}}, Time: time.UnixMicro(5)})
	b.Add(&Message{Body: []byte("2")})
	f.Add(append([]byte(nil), b.Build(Plain, nil)...), uint32(2))
	b.Add(&Message{Body: []byte(strings.Repeat("z", 300))})
	f.Add(append([]byte(nil), b.Build(Zstd, &Publisher{})...), uint32(1))
	f.Fuzz(func(t *testing.T, raw []byte, count uint32) {
		if len(raw) >= BatchHeaderSize { // let the fuzzer past the checksum
			le.PutUint32(raw, batchMagic)
			le.PutUint32(raw[4:], uint32(len(raw)-BatchHeaderSize))
			le.PutUint32(raw[16:], count)
			if le.Uint32(raw[20:]) > 1<<20 {
				le.PutUint32(raw[20:], 1<<20)
			}
			le.PutUint32(raw[8:], Checksum(raw[12:]))
		}
		batch, err := OpenBatch(raw)
		if err != nil || batch.Verify(1<<20) != nil {
			return
		}
		n := 0
		for _, err := range batch.Messages() {
			require.NoError(t, err)
			n++
		}
		require.Equal(t, batch.Count(), n)
	})
}

func FuzzRecord(f *testing.F) {
	r := Record{Index: 7, Term: 2, Kind: KindEmpty}
	b := make([]byte, RecordPrefix)
	r.PutPrefix(b)
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		r, size, err := ReadRecord(b)
		if err != nil {
			return
		}
		again := make([]byte, RecordPrefix)
		r.PutPrefix(again)
		assert.Equal(t, b[:RecordPrefix], again)
		assert.Equal(t, b[RecordPrefix:size], r.Data)
	})
}

func TestPartitionOfAKeyIsTheDocumentedHash(t *testing.T) {
	assert.Equal(t, int(uint64(0xef46db3751d8e999)%6), PartitionOf("", 6), "XXH64 of nothing with seed 0")
	counts := make([]int, 6)
	for i := range 6000 {
		counts[PartitionOf("box-"+strings.Repeat("x", i%50)+string(rune('a'+i%26))+time.Duration(i).String(), 6)]++
	}
	for _, n := range counts {
		assert.InDelta(t, 1000, n, 150)
	}
}

func BenchmarkBuildAndVerify(b *testing.B) {
	m := &Message{Body: make([]byte, 100), ContentType: "text/plain"}
	var builder Builder
	b.SetBytes(1000 * 100)
	for b.Loop() {
		for range 1000 {
			builder.Add(m)
		}
		batch, err := OpenBatch(builder.Build(Plain, nil))
		if err != nil || batch.Verify(1000) != nil {
			b.Fatal(err)
		}
	}
}

func TestABatchOfARoute(t *testing.T) {
	var b Builder
	for i := range 3 {
		b.Add(&Message{Key: "box-1", Body: []byte(fmt.Sprint(i)), ContentType: "text/plain"})
	}
	for _, c := range []Compression{Plain, Zstd} {
		for i := range 3 {
			b.Add(&Message{Key: "box-1", Body: []byte(fmt.Sprint(i)), ContentType: "text/plain"})
		}
		sent, err := OpenBatch(bytes.Clone(b.Build(c, &Publisher{ID: uuid.New(), Sequence: 5})))
		require.NoError(t, err)
		r := &Route{ID: uuid.New(), Partition: 9, After: Place{Epoch: 1, Cut: 2, Offset: 3}, UpTo: Place{Epoch: 4, Cut: 5, Offset: 6}, Recovered: 7}
		routed, err := OpenBatch(sent.AppendRouted([]byte("stamp"), r)[5:])
		require.NoError(t, err)
		require.NoError(t, routed.Verify(100))
		assert.Equal(t, r, routed.Route())
		assert.Nil(t, sent.Route())
		assert.Nil(t, routed.Publisher(), "its messages are no publisher's")
		var before, after []Message
		for m, err := range sent.Messages() {
			require.NoError(t, err)
			before = append(before, *m)
		}
		for m, err := range routed.Messages() {
			require.NoError(t, err)
			after = append(after, *m)
		}
		assert.Equal(t, before, after, "and their ids stay")
		on := &Route{ID: uuid.New()}
		again, err := OpenBatch(routed.AppendRouted(nil, on))
		require.NoError(t, err)
		assert.Equal(t, on, again.Route())
		assert.Equal(t, len(routed.Bytes()), len(again.Bytes()), "places do not pile up")
		cut := bytes.Clone(routed.Bytes()[:BatchHeaderSize+8])
		le.PutUint32(cut[atSize:], 8)
		le.PutUint32(cut[atChecksum:], batchChecksum(cut))
		_, err = OpenBatch(cut)
		assert.ErrorIs(t, err, ErrBatch)
	}
}
