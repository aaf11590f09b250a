package journal

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

func record(index uint64, term uint64, offset int64, bodies ...string) message.Record {
	var b message.Builder
	for _, body := range bodies {
		b.Add(&message.Message{Body: []byte(body)})
	}
	batch := b.Build(message.Plain, nil)
	data := make([]byte, message.StampSize+len(batch))
	message.Stamp{Offset: offset, Time: 1000 * int64(index), Count: uint32(len(bodies))}.Put(data)
	copy(data[message.StampSize:], batch)
	return message.Record{Index: index, Term: term, Kind: message.KindBatch, Data: data}
}

func open(t *testing.T, dir string, o Options) (*Store, *Journal) {
	t.Helper()
	if o.SegmentBytes == 0 {
		o.SegmentBytes = 1 << 20
	}
	store, err := openStore(dir, 1<<20)
	require.NoError(t, err)
	j, err := store.Open("1/0", o)
	require.NoError(t, err)
	return store, j
}

// crash leaves the store as a killed process does: nothing is flushed.
func crash(s *Store) {
	for _, j := range s.open {
		j.closeFiles()
	}
	s.log.close()
}

// bodies reads everything committed from an offset; damage is listed as a gap.
func bodies(t *testing.T, j *Journal, from int64, committed uint64) []string {
	t.Helper()
	var out []string
	c := j.CursorAt(from)
	dst := make([]byte, 300)
	for {
		chunk, err := c.Read(dst, committed)
		if d, ok := err.(*Damage); ok {
			out = append(out, fmt.Sprintf("damaged %d-%d", d.From, d.To))
			continue
		}
		require.NoError(t, err)
		if len(chunk) == 0 {
			return out
		}
		for len(chunk) > 0 {
			r, n, err := message.ReadRecord(chunk)
			require.NoError(t, err)
			require.NoError(t, r.Stored(0, func(s *message.Stored) bool {
				if s.Offset >= from {
					out = append(out, fmt.Sprintf("%d=%s", s.Offset, s.Body))
				}
				return true
			}))
			chunk = chunk[n:]
		}
	}
}

func TestAppendedRecordsAreReadBackAfterACrash(t *testing.T) {
	dir := t.TempDir()
	store, j := open(t, dir, Options{})
	require.NoError(t, j.Append([]message.Record{record(1, 1, 0, "a", "b"), {Index: 2, Term: 1, Kind: message.KindEmpty}, record(3, 2, 2, "c")}))
	require.NoError(t, j.SetVote(2, 1, 3))
	require.NoError(t, store.FlushTogether([]*Journal{j}))
	assert.Equal(t, []string{"0=a", "1=b", "2=c"}, bodies(t, j, 0, 3))
	assert.Equal(t, []string{"1=b"}, bodies(t, j, 1, 2), "what is not committed is not read")
	crash(store)

	_, j = open(t, dir, Options{})
	assert.Equal(t, []string{"0=a", "1=b", "2=c"}, bodies(t, j, 0, 3))
	assert.Equal(t, State{Term: 2, Vote: 1, Commit: 3}, j.State())
	b := j.Bounds()
	assert.Equal(t, uint64(3), b.LastIdx)
	assert.Equal(t, uint64(2), b.LastTerm)
	assert.Equal(t, int64(3), b.Next)
}

// The page cache may lose everything that was not synced in a segment file;
// the sync log must bring it back.
func TestTheSyncLogBringsBackWhatSegmentsLost(t *testing.T) {
	for name, lose := range map[string]func(path string) error{
		"all":      os.Remove,
		"the tail": func(path string) error { return os.Truncate(path, 100) },
		"a hole": func(path string) error {
			f, err := os.OpenFile(path, os.O_WRONLY, 0)
			if err != nil {
				return err
			}
			defer f.Close()
			_, err = f.WriteAt(make([]byte, 150), 200)
			return err
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			store, j := open(t, dir, Options{})
			for i := uint64(1); i <= 20; i++ {
				require.NoError(t, j.Append([]message.Record{record(i, 1, int64(i-1), fmt.Sprint(i))}))
				require.NoError(t, j.SetVote(1, 7, i))
				require.NoError(t, store.FlushTogether([]*Journal{j}))
			}
			want := bodies(t, j, 0, 20)
			crash(store)
			require.NoError(t, lose(segmentPath(filepath.Join(dir, "1/0"), 1)))
			require.NoError(t, os.Remove(filepath.Join(dir, "1/0", stateFileName)))

			_, j = open(t, dir, Options{})
			assert.Len(t, want, 20)
			assert.Equal(t, want, bodies(t, j, 0, 20))
			assert.Equal(t, State{Term: 1, Vote: 7, Commit: 20}, j.State())
		})
	}
}

func TestTheSyncLogIsUsedInTurns(t *testing.T) {
	dir := t.TempDir()
	store, j := open(t, dir, Options{SegmentBytes: 1 << 30})
	store.log.limit = 64 << 10
	body := strings.Repeat("x", 1000)
	for i := uint64(1); i <= 500; i++ {
		require.NoError(t, j.Append([]message.Record{record(i, 1, int64(i-1), body)}))
		require.NoError(t, store.FlushTogether([]*Journal{j}))
	}
	assert.Greater(t, store.log.generation, uint64(5))
	crash(store)
	_, j = open(t, dir, Options{})
	assert.Len(t, bodies(t, j, 0, 500), 500)
}

func TestATornTailIsCutAndDamageInTheMiddleIsNamed(t *testing.T) {
	dir := t.TempDir()
	store, j := open(t, dir, Options{})
	positions := []int64{}
	for i := uint64(1); i <= 5; i++ {
		positions = append(positions, j.active().size.Load())
		require.NoError(t, j.Append([]message.Record{record(i, 1, int64(2*i-2), "first", "second")}))
	}
	require.NoError(t, j.Flush())
	end := j.active().size.Load()
	require.NoError(t, store.Close())

	path := segmentPath(filepath.Join(dir, "1/0"), 1)
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{0xff}, positions[2]+100) // record 3: offsets 4 and 5
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("half a record"), end)
	require.NoError(t, err)
	require.NoError(t, f.Close())

	_, j = open(t, dir, Options{})
	assert.Equal(t, int64(len("half a record")), j.TornBytes())
	assert.Equal(t, []string{"0=first", "1=second", "2=first", "3=second", "damaged 4-6", "6=first", "7=second", "8=first", "9=second"}, bodies(t, j, 0, 5))
	assert.Equal(t, int64(10), j.Bounds().Next)
}

func TestDamageAtTheEndOfASegmentIsNamed(t *testing.T) {
	store, j := open(t, t.TempDir(), Options{SegmentBytes: 500})
	for i := uint64(1); i <= 6; i++ {
		require.NoError(t, j.Append([]message.Record{record(i, 1, int64(i-1), strings.Repeat("y", 60))}))
	}
	require.NoError(t, store.FlushTogether([]*Journal{j}))
	require.Len(t, j.segments, 3)
	first := j.segments[0]
	f, err := first.open()
	require.NoError(t, err)
	_, err = f.WriteAt([]byte{0xff}, first.size.Load()-5)
	require.NoError(t, err)
	got := bodies(t, j, 0, 6)
	require.Len(t, got, 6)
	assert.Equal(t, "damaged 1-2", got[1])
}

func TestConflictingRecordsReplaceTheTail(t *testing.T) {
	dir := t.TempDir()
	store, j := open(t, dir, Options{SegmentBytes: 400})
	for i := uint64(1); i <= 6; i++ {
		require.NoError(t, j.Append([]message.Record{record(i, 1, int64(i-1), fmt.Sprint("old", i))}))
		require.NoError(t, store.FlushTogether([]*Journal{j}))
	}
	require.NoError(t, j.Append([]message.Record{record(3, 2, 2, "new3"), record(4, 2, 3, "new4")}))
	require.NoError(t, store.FlushTogether([]*Journal{j}))
	want := []string{"0=old1", "1=old2", "2=new3", "3=new4"}
	assert.Equal(t, want, bodies(t, j, 0, 9))
	crash(store)
	_, j = open(t, dir, Options{})
	assert.Equal(t, want, bodies(t, j, 0, 9), "nothing that was cut off comes back")
	term, err := j.TermOf(2)
	require.NoError(t, err)
	assert.Equal(t, uint64(1), term)
	assert.Error(t, j.Append([]message.Record{record(9, 2, 4, "gap")}))
}

func TestDropRemovesWholeSegmentsAndStaysDroppedAfterACrash(t *testing.T) {
	dir := t.TempDir()
	store, j := open(t, dir, Options{SegmentBytes: 400})
	for i := uint64(1); i <= 12; i++ {
		require.NoError(t, j.Append([]message.Record{record(i, 3, int64(i-1), fmt.Sprint(i))}))
		require.NoError(t, store.FlushTogether([]*Journal{j}))
	}
	stale := j.CursorAt(0)
	segments := len(j.segments)
	require.Greater(t, segments, 3)
	require.NoError(t, j.Drop(2))
	first := j.Bounds().First
	assert.Positive(t, first)
	_, err := stale.Read(make([]byte, 4096), 12)
	var gone *Gone
	require.ErrorAs(t, err, &gone)
	assert.Equal(t, first, gone.First)
	crash(store)

	_, j = open(t, dir, Options{})
	assert.Equal(t, first, j.Bounds().First, "the sync log must not bring dropped segments back")
	assert.Equal(t, int(12-first), len(bodies(t, j, first, 12)))
	term, err := j.TermOf(j.Bounds().FirstIdx - 1)
	require.NoError(t, err)
	assert.Equal(t, uint64(3), term)
	require.NoError(t, j.Drop(100))
	assert.Len(t, j.segments, 1, "the active segment stays")
}

// The sync log may have only the later bytes of a segment that was dropped: its
// header was in a file of the log that has been begun anew since.
func TestPartsOfADroppedSegmentInTheSyncLogDoNoHarm(t *testing.T) {
	dir := t.TempDir()
	store, j := open(t, dir, Options{SegmentBytes: 400})
	require.NoError(t, j.Append([]message.Record{record(1, 3, 0, "1")}))
	require.NoError(t, j.Flush())
	require.NoError(t, j.Append([]message.Record{record(2, 3, 1, "2")}))
	require.NoError(t, store.FlushTogether([]*Journal{j}))
	require.NoError(t, j.Roll())
	require.NoError(t, j.Append([]message.Record{record(3, 3, 2, "3")}))
	require.NoError(t, j.Roll())
	require.NoError(t, j.Append([]message.Record{record(4, 3, 3, "4")}))
	require.NoError(t, store.FlushTogether([]*Journal{j}))
	require.NoError(t, j.Drop(1))
	crash(store)
	_, j = open(t, dir, Options{})
	assert.Equal(t, []string{"2=3", "3=4"}, bodies(t, j, 2, 4))
}

// Against a plain slice: offsets, times and indexes find their place whatever
// the sizes of records and segments are.
func TestPlacesAreFoundAsInAPlainList(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	store, j := open(t, t.TempDir(), Options{SegmentBytes: 2 << 20})
	var starts []int64
	offset := int64(0)
	for i := uint64(1); i <= 300; i++ {
		texts := make([]string, 1+random.IntN(5))
		for k := range texts {
			texts[k] = strings.Repeat("z", random.IntN(20_000))
		}
		starts = append(starts, offset)
		require.NoError(t, j.Append([]message.Record{record(i, 1, offset, texts...)}))
		offset += int64(len(texts))
	}
	require.NoError(t, store.FlushTogether([]*Journal{j}))
	require.Greater(t, len(j.segments), 2)
	for range 200 {
		i := random.IntN(300)
		at, err := j.OffsetAt(int64(i+1) * 1000)
		require.NoError(t, err)
		assert.Equal(t, starts[i], at)
		at, err = j.OffsetAt(int64(i)*1000 + 1)
		require.NoError(t, err)
		assert.Equal(t, starts[i], at, "between two batches the later one counts")

		records, lost, err := j.Records(uint64(i+1), uint64(i+2), 0)
		require.NoError(t, err)
		assert.Empty(t, lost)
		assert.Equal(t, starts[i], records[0].Stamp().Offset)
		rest, _, err := j.Records(uint64(i+1), 301, 100<<20)
		require.NoError(t, err)
		assert.Len(t, rest, 300-i, "over the ends of segments")
		behind, err := j.BehindOf(uint64(i))
		require.NoError(t, err)
		assert.Equal(t, offset-starts[i], behind.Messages, "counted exactly")
		assert.Equal(t, int64(i+1)*1000, behind.Time)
		assert.GreaterOrEqual(t, j.BytesAfter(uint64(i)), behind.Bytes)
		assert.Less(t, j.BytesAfter(uint64(i)), behind.Bytes+2*markInterval)
		term, err := j.TermOf(uint64(i + 1))
		require.NoError(t, err)
		assert.EqualValues(t, 1, term)

		chunk, err := j.CursorAt(starts[i]).Read(make([]byte, 100), 300)
		require.NoError(t, err)
		r, _, err := message.ReadRecord(chunk)
		require.NoError(t, err)
		assert.Equal(t, starts[i], r.Stamp().Offset)

		end := offset
		if i < 299 {
			end = starts[i+1]
		}
		stamp, ok, err := j.StampOf(starts[i] + random.Int64N(end-starts[i]))
		require.NoError(t, err)
		require.True(t, ok)
		assert.Equal(t, starts[i], stamp.Offset, "the batch that holds the message")
		assert.EqualValues(t, (i+1)*1000, stamp.Time)
		assert.InDelta(t, j.BytesAfter(uint64(i)), j.BytesFrom(starts[i]), markInterval)

		before := starts[i] + 1
		block := j.BlockBefore(before)
		assert.Less(t, block, before)
	}
	_, ok, err := j.StampOf(offset)
	require.NoError(t, err)
	assert.False(t, ok, "the end has no stamp")
	assert.Zero(t, j.BytesFrom(offset))
	late, err := j.OffsetAt(301_000)
	require.NoError(t, err)
	assert.Equal(t, offset, late)
}

// A replica that was left behind begins again at another place, and stays
// there whatever happens.
func TestALogBeginsAgainElsewhere(t *testing.T) {
	dir := t.TempDir()
	store, j := open(t, dir, Options{})
	require.NoError(t, j.Append([]message.Record{record(1, 1, 0, "a"), record(2, 1, 1, "b")}))
	require.NoError(t, store.FlushTogether([]*Journal{j}))
	require.NoError(t, j.SetVote(4, 2, 2))
	require.NoError(t, j.Restart(101, 3, 500, 7000))
	b := j.Bounds()
	assert.Equal(t, []any{uint64(101), uint64(100), uint64(3), int64(500), int64(500)}, []any{b.FirstIdx, b.LastIdx, b.LastTerm, b.First, b.Next})
	require.NoError(t, j.Append([]message.Record{record(101, 4, 500, "c")}))
	require.NoError(t, store.FlushTogether([]*Journal{j}))
	crash(store)
	store, j = open(t, dir, Options{})
	assert.Equal(t, []string{"500=c"}, bodies(t, j, 500, 101), "the sync log brings nothing old back")
	assert.Equal(t, State{Term: 4, Vote: 2, Commit: 100, Start: 101}, j.State(), "term and vote stay")

	require.NoError(t, store.Retire(j, "kept"))
	assert.False(t, store.Holds("1/0"))
	assert.Equal(t, []string{"1"}, store.Trees())
	j, err := store.Open("1/0", Options{SegmentBytes: 1 << 20})
	require.NoError(t, err)
	assert.Zero(t, j.Bounds().LastIdx)
}

// What another replica has whole mends what is damaged here, byte for byte.
func TestDamagedRecordsAreMended(t *testing.T) {
	_, j := open(t, t.TempDir(), Options{SegmentBytes: 400})
	var all []message.Record
	for i := range uint64(12) {
		r := record(i+1, 1, int64(i), fmt.Sprintf("body-%d", i))
		all = append(all, r)
		require.NoError(t, j.Append([]message.Record{r}))
	}
	require.NoError(t, j.Flush())
	require.Greater(t, len(j.segments), 3)
	for _, s := range j.segments[:3] {
		b, err := os.ReadFile(s.path)
		require.NoError(t, err)
		b[len(b)-3] ^= 0xff
		require.NoError(t, os.WriteFile(s.path, b, 0o600))
	}
	_, lost, err := j.Records(1, 13, 1<<20)
	require.NoError(t, err)
	require.Len(t, lost, 3)
	for _, index := range lost {
		n, err := j.Repair(all[index-1 : index])
		require.NoError(t, err)
		require.Equal(t, 1, n)
	}
	records, lost, err := j.Records(1, 13, 1<<20)
	require.NoError(t, err)
	assert.Empty(t, lost)
	assert.Equal(t, all, records)
	assert.Len(t, bodies(t, j, 0, 12), 12)
}

func FuzzOpenAfterAnyBytes(f *testing.F) {
	good := record(1, 1, 0, "hello")
	prefix := make([]byte, message.RecordPrefix)
	good.PutPrefix(prefix)
	f.Add(append(prefix, good.Data...), uint16(3))
	f.Add([]byte("no record at all"), uint16(0))
	f.Fuzz(func(t *testing.T, tail []byte, flip uint16) {
		dir := t.TempDir()
		store, j := open(t, dir, Options{})
		require.NoError(t, j.Append([]message.Record{record(1, 1, 0, "kept"), record(2, 1, 1, "kept too")}))
		require.NoError(t, j.Flush())
		path, size := j.active().path, j.active().size.Load()
		require.NoError(t, store.Close())
		for i := range 2 { // the sync log must not help
			require.NoError(t, os.Remove(syncLogPath(dir, i)))
		}
		if int(flip) < len(tail) {
			tail[flip] ^= 0x40
		}
		f, err := os.OpenFile(path, os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteAt(tail, size)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		_, j = open(t, dir, Options{})
		got := bodies(t, j, 0, 2)
		require.GreaterOrEqual(t, len(got), 2)
		assert.Equal(t, []string{"0=kept", "1=kept too"}, got[:2])
	})
}
