package topic

import (
	"fmt"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/journal"
)

func TestABatchThatComesTwiceIsAnsweredWithItsFirstPlace(t *testing.T) {
	p := NewPublishers()
	id := uuid.New()
	_, repeat, err := p.Check(id, 1, 3)
	require.NoError(t, err)
	assert.False(t, repeat)
	for i := range uint64(20) {
		p.Note(id, 1+3*i, 3, int64(100+3*i))
	}
	restored, err := DecodePublishers(p.Encode())
	require.NoError(t, err)
	for name, m := range map[string]*Publishers{"itself": p, "a clone": p.Clone(), "saved and loaded": restored} {
		offset, repeat, err := m.Check(id, 58, 3)
		require.NoError(t, err, name)
		assert.True(t, repeat)
		assert.EqualValues(t, 157, offset)
		offset, repeat, err = m.Check(id, 59, 1)
		require.NoError(t, err)
		assert.True(t, repeat)
		assert.EqualValues(t, 158, offset, "a part of a batch")
		offset, repeat, err = m.Check(id, 13, 3)
		require.NoError(t, err)
		assert.True(t, repeat)
		assert.EqualValues(t, 112, offset, "the first of the last sixteen")
		offset, repeat, err = m.Check(id, 10, 3)
		require.NoError(t, err)
		assert.True(t, repeat)
		assert.EqualValues(t, -1, offset, "too long ago")
		_, repeat, err = m.Check(id, 61, 3)
		require.NoError(t, err)
		assert.False(t, repeat, "the next one")
		var gap *SequenceGap
		_, _, err = m.Check(id, 62, 3)
		require.ErrorAs(t, err, &gap)
		assert.EqualValues(t, 61, gap.Want)
		_, _, err = m.Check(id, 60, 3)
		assert.ErrorAs(t, err, &gap, "it is half known")
	}
	_, err = DecodePublishers(p.Encode()[:30])
	assert.Error(t, err)
}

func TestAnUnknownPublisherBeginsWithItsFirstBatch(t *testing.T) {
	p := NewPublishers()
	for _, first := range []uint64{0, 1} {
		_, repeat, err := p.Check(uuid.New(), first, 3)
		require.NoError(t, err)
		assert.False(t, repeat)
	}
	var unknown *UnknownPublisher
	_, _, err := p.Check(uuid.New(), 2, 3)
	require.ErrorAs(t, err, &unknown)
	assert.ErrorContains(t, err, "sequence 2 is not its first")
}

func TestABatchOfAJobIsKeptOnceWhateverIsInIt(t *testing.T) {
	p := NewPublishers()
	id := uuid.New()
	_, _, err := p.CheckOrigin(id, 2)
	require.ErrorAs(t, err, new(*UnknownPublisher), "what it did before is not known")
	_, repeat, err := p.CheckOrigin(id, 1)
	require.NoError(t, err)
	assert.False(t, repeat)
	p.NoteOrigin(id, 1, 100)
	p.NoteOrigin(id, 2, 105)
	restored, err := DecodePublishers(p.Encode())
	require.NoError(t, err)
	for name, m := range map[string]*Publishers{"itself": p, "a clone": p.Clone(), "saved and loaded": restored} {
		offset, repeat, err := m.CheckOrigin(id, 2)
		require.NoError(t, err, name)
		assert.True(t, repeat)
		assert.EqualValues(t, 105, offset)
		_, repeat, _ = m.CheckOrigin(id, 1)
		assert.True(t, repeat, "it was on its way for long")
		_, repeat, err = m.CheckOrigin(id, 3)
		require.NoError(t, err)
		assert.False(t, repeat)
	}
	// Publishers that come and go do not push it out.
	for range MaxPublishers + 1 {
		p.Note(uuid.New(), 1, 1, 0)
	}
	_, repeat, _ = p.CheckOrigin(id, 2)
	assert.True(t, repeat)
	_, err = DecodePublishers(p.Encode()[:len(p.Encode())-1])
	assert.Error(t, err)
}

func TestThePublisherThatWasSilentForLongestIsForgotten(t *testing.T) {
	p := NewPublishers()
	ids := make([]uuid.UUID, MaxPublishers+1)
	for i := range ids {
		ids[i] = uuid.New()
		p.Note(ids[i], 1, 1, int64(i))
		p.Note(ids[0], uint64(i+1), 1, 0) // the first one stays busy
	}
	_, repeat, err := p.Check(ids[1], 1, 1)
	require.NoError(t, err)
	assert.False(t, repeat, "forgotten")
	_, _, err = p.Check(ids[1], 2, 1)
	require.Error(t, err, "and what it sends next is not taken for its first")
	_, repeat, _ = p.Check(ids[0], 1, 1)
	assert.True(t, repeat)
}

func TestIDsAreRememberedForTheWindow(t *testing.T) {
	w := NewIDs(time.Second)
	for i := range int64(5000) {
		w.Note(fmt.Sprint("id-", i), i, i*1000)
	}
	offset, known := w.Offset("id-4500", 5_000_000)
	assert.True(t, known)
	assert.EqualValues(t, 4500, offset)
	_, known = w.Offset("id-3999", 5_000_000)
	assert.False(t, known)
	assert.Equal(t, 1000, w.Len(), "the others are forgotten")
}

func TestRetentionDropsWholeSegmentsPastEitherLimit(t *testing.T) {
	minute := time.Minute.Microseconds()
	segments := []journal.SegmentInfo{{Bytes: 100, LastTime: 10 * minute}, {Bytes: 100, LastTime: 20 * minute}, {Bytes: 100, LastTime: 30 * minute}, {Bytes: 50, LastTime: 40 * minute}}
	for _, c := range []struct {
		name string
		r    Retention
		now  int64
		want int
	}{
		{"young and small", Retention{time.Hour, 1000}, 60 * minute, 0},
		{"the first is too old", Retention{time.Hour, 1000}, 71 * minute, 1},
		{"all are too old, the active one stays", Retention{time.Hour, 1000}, 500 * minute, 3},
		{"too large by a little", Retention{time.Hour, 349}, 60 * minute, 1},
		{"too large by two", Retention{time.Hour, 200}, 60 * minute, 2},
		{"too large, the active one stays", Retention{time.Hour, 1}, 60 * minute, 3},
	} {
		assert.Equal(t, c.want, c.r.Drop(segments, c.now), c.name)
	}
	assert.True(t, Retention{Age: time.Hour}.ActiveIsOld(segments, 101*minute))
	assert.False(t, Retention{Age: time.Hour}.ActiveIsOld(segments, 99*minute))
}

func TestTheForecastSaysWhichLimitCounts(t *testing.T) {
	r := Retention{Age: 24 * time.Hour, Bytes: 1 << 30}
	f := r.Predict(1000, 10, 6, 3)
	assert.Equal(t, "age", f.LimitedBy)
	assert.EqualValues(t, 1000*86400*3, f.Bytes)
	assert.EqualValues(t, 10*86400, f.Messages)
	f = r.Predict(1<<20, 10, 6, 1)
	assert.Equal(t, "bytes", f.LimitedBy)
	assert.EqualValues(t, 6<<30, f.Bytes)
	assert.Equal(t, 6144*time.Second, f.Span)
}

func TestRetentionIsHeldBackUpToALimit(t *testing.T) {
	segments := []journal.SegmentInfo{{Bytes: 100}, {Bytes: 100}, {Bytes: 100}, {Bytes: 50}}
	start := func(n int) int64 { return int64(n) * 10 } // ten messages a segment
	for name, c := range map[string]struct {
		drop        int
		upTo, limit int64
		want        int
	}{
		"nothing read":            {3, 0, 1000, 0},
		"read into the second":    {3, 15, 1000, 1},
		"a segment read whole":    {3, 20, 1000, 2},
		"all read":                {3, 40, 1000, 3},
		"nothing to drop":         {0, 0, 1000, 0},
		"only so much is held":    {3, 0, 260, 1},
		"the limit is all beyond": {3, 0, 10, 3},
	} {
		assert.Equal(t, c.want, HoldBack(segments, c.drop, start, c.upTo, c.limit), name)
	}
}
