package journal

import (
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

// filled makes a log of n records of one message each, in several segments,
// stops it in order, and returns what was in it.
func filled(t *testing.T, dir string, n int) (all []message.Record, paths []string) {
	store, j := open(t, dir, Options{SegmentBytes: 400})
	for i := range uint64(n) {
		r := record(i+1, 1+i/5, int64(i), fmt.Sprintf("body-%d", i))
		all = append(all, r)
		require.NoError(t, j.SetVote(1+i/5, 1, i))
		require.NoError(t, j.Append([]message.Record{r}))
	}
	require.NoError(t, j.Flush())
	for _, s := range j.segments {
		paths = append(paths, s.path)
	}
	require.NoError(t, store.Close())
	require.Greater(t, len(paths), 3)
	return all, paths
}

func (j *Journal) all(t *testing.T) (records []message.Record, lost []uint64) {
	records, lost, err := j.Records(j.segments[0].base, j.last+1, 1<<20)
	require.NoError(t, err)
	return records, lost
}

// mend fetches what is lost, as from another replica.
func (j *Journal) mend(t *testing.T, from []message.Record) {
	for range 20 {
		_, lost := j.all(t)
		if len(lost) == 0 {
			return
		}
		row := 1
		for row < len(lost) && lost[row] == lost[0]+uint64(row) {
			row++
		}
		n, err := j.Repair(from[lost[0]-1 : lost[0]-1+uint64(row)])
		require.NoError(t, err)
		require.Positive(t, n)
	}
	t.Fatal("it is not mended")
}

func TestSegmentsThatAreCutOffOrGoneAreDamageAndCanBeMended(t *testing.T) {
	for name, c := range map[string]struct {
		hurt    func(t *testing.T, paths []string)
		damaged string // the first that reading names
	}{
		"the end of an ended segment": {func(t *testing.T, paths []string) {
			info, err := os.Stat(paths[1])
			require.NoError(t, err)
			require.NoError(t, os.Truncate(paths[1], info.Size()-200))
		}, "damaged"},
		"all of an ended segment but its header": {func(t *testing.T, paths []string) { require.NoError(t, os.Truncate(paths[1], segmentHeaderSize)) }, "damaged"},
		"an ended segment":                       {func(t *testing.T, paths []string) { require.NoError(t, os.Remove(paths[1])) }, "damaged"},
		"two of them": {func(t *testing.T, paths []string) {
			require.NoError(t, os.Remove(paths[1]))
			require.NoError(t, os.Remove(paths[2]))
		}, "damaged"},
		"the first one": {func(t *testing.T, paths []string) { require.NoError(t, os.Remove(paths[0])) }, "damaged 0-"},
		"nothing can be read in one": {func(t *testing.T, paths []string) {
			require.NoError(t, os.WriteFile(paths[1], make([]byte, 300), 0o600))
		}, "damaged"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			all, paths := filled(t, dir, 20)
			c.hurt(t, paths)
			for range 2 { // also when it is opened again
				store, j := open(t, dir, Options{SegmentBytes: 400})
				first := j.Bounds()
				assert.EqualValues(t, 0, first.First)
				assert.EqualValues(t, 20, first.Next)
				assert.EqualValues(t, 1, first.FirstIdx)
				read := bodies(t, j, 0, 20)
				assert.Contains(t, fmt.Sprint(read), c.damaged)
				_, lost := j.all(t)
				assert.Len(t, read, 20-len(lost)+1, "what is lost comes as one gap")
				require.NoError(t, store.Close())
			}
			store, j := open(t, dir, Options{SegmentBytes: 400})
			j.mend(t, all)
			got, _ := j.all(t)
			assert.Equal(t, all, got)
			assert.Len(t, bodies(t, j, 0, 20), 20)
			require.NoError(t, j.Append([]message.Record{record(21, 9, 20, "more")}))
			require.NoError(t, store.Close())
			_, j = open(t, dir, Options{SegmentBytes: 400})
			assert.Len(t, bodies(t, j, 0, 21), 21)
		})
	}
}

func TestADamagedHeaderIsWrittenAnew(t *testing.T) {
	for segment := range 3 {
		for _, at := range []int64{0, 9, 17, 25, 33, 41} {
			t.Run(fmt.Sprintf("segment %d byte %d", segment, at), func(t *testing.T) {
				dir := t.TempDir()
				all, paths := filled(t, dir, 20)
				which := []int{0, 2, len(paths) - 1}[segment]
				b, err := os.ReadFile(paths[which])
				require.NoError(t, err)
				whole := string(b[:segmentHeaderSize])
				b[at] ^= 0x40
				require.NoError(t, os.WriteFile(paths[which], b, 0o600))
				_, j := open(t, dir, Options{SegmentBytes: 400})
				assert.Len(t, j.Mended(), 1)
				got, lost := j.all(t)
				assert.Equal(t, all, got)
				assert.Empty(t, lost)
				assert.Len(t, bodies(t, j, 0, 20), 20)
				b, err = os.ReadFile(paths[which])
				require.NoError(t, err)
				for _, part := range [][2]int{{0, 32}} { // the time may be later than it was
					assert.Equal(t, whole[part[0]:part[1]], string(b[part[0]:part[1]]))
				}
			})
		}
	}
}

func TestWithoutItsStateALogIsThereAndSaysSo(t *testing.T) {
	for name, hurt := range map[string]func(path string) error{
		"both slots damaged": func(path string) error { return os.WriteFile(path, make([]byte, 1024), 0o600) },
		"the file is gone":   os.Remove,
	} {
		dir := t.TempDir()
		_, _ = filled(t, dir, 20)
		require.NoError(t, hurt(dir+"/1/0/state"))
		_, j := open(t, dir, Options{SegmentBytes: 400})
		assert.True(t, j.StateLost(), name)
		assert.Len(t, bodies(t, j, 0, 20), 20, name)
	}
	_, j := open(t, t.TempDir(), Options{})
	assert.False(t, j.StateLost(), "a new one has none yet")
}

func TestALogGoesOnBehindAnEndThatIsLost(t *testing.T) {
	dir := t.TempDir()
	_, paths := filled(t, dir, 20)
	last := paths[len(paths)-1]
	info, err := os.Stat(last)
	require.NoError(t, err)
	require.NoError(t, os.Truncate(last, info.Size()-150))
	store, j := open(t, dir, Options{SegmentBytes: 400})
	end := j.Bounds()
	require.Less(t, end.LastIdx, uint64(20))
	require.NoError(t, j.Skip(20, Place{Term: 4, Offset: 20, Time: 20_000}))
	assert.Error(t, j.Skip(20, Place{}))
	require.NoError(t, j.Append([]message.Record{record(21, 9, 20, "more")}))
	require.NoError(t, j.Flush())
	crash(store)
	_, j = open(t, dir, Options{SegmentBytes: 400})
	read := bodies(t, j, end.Next-1, 21)
	assert.Equal(t, []string{fmt.Sprintf("%d=body-%d", end.Next-1, end.Next-1), fmt.Sprintf("damaged %d-20", end.Next), "20=more"}, read)
	assert.EqualValues(t, 21, j.Bounds().Next)
}

func TestWhereTheFirstSegmentBeganIsKnownByWhoDroppedWhatWasBefore(t *testing.T) {
	dir := t.TempDir()
	all, _ := filled(t, dir, 20)
	store, j := open(t, dir, Options{SegmentBytes: 400})
	require.NoError(t, j.Drop(2))
	start := j.Bounds()
	require.NoError(t, store.Close())
	require.NoError(t, os.Remove(segmentPath(dir+"/1/0", start.FirstIdx)))
	origin := func(index uint64) (Place, bool) {
		assert.Equal(t, start.FirstIdx, index)
		return Place{start.FirstTerm, start.First, start.FirstTime}, true
	}
	_, j = open(t, dir, Options{SegmentBytes: 400, Origin: origin})
	assert.Equal(t, start.First, j.Bounds().First)
	assert.Equal(t, start.FirstTerm, j.Bounds().FirstTerm)
	_, lost := j.all(t)
	assert.NotEmpty(t, lost)
	j.mend(t, all)
}
