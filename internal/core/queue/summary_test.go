package queue

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestTheSummariesOfPartitionsAddUp(t *testing.T) {
	early, late := time.UnixMicro(1), time.UnixMicro(2)
	holds := func(name string, leased int, oldest, due, seen int64) Member {
		return Member{Holding{Member: name, Leased: leased, Oldest: oldest, Due: due}, seen}
	}
	a := &Summary{Counts: Counts{Waiting: 2, Leased: 3}, Oldest: &late, Asking: 1, Members: []Member{holds("lana", 3, 50, 90, 7), holds("idle", 0, 0, 0, 5)}}
	b := &Summary{Counts: Counts{Waiting: 1, Leased: 2, Dead: 4}, Oldest: &early, Asking: 2, Members: []Member{holds("lana", 1, 40, 80, 6), holds("idle", 1, 30, 60, 9)}}
	sum := Sum([]*Summary{a, nil, b})
	assert.Equal(t, Counts{Waiting: 3, Leased: 5, Dead: 4}, sum.Counts)
	assert.Equal(t, &early, sum.Oldest)
	assert.EqualValues(t, 3, sum.Asking)
	assert.Equal(t, []Member{holds("lana", 4, 40, 80, 7), holds("idle", 1, 30, 60, 9)}, sum.Members, "nothing held has no oldest")
	assert.Equal(t, holds("lana", 3, 50, 90, 7), a.Members[0], "what is added up stays as it was")
	assert.Equal(t, &Summary{Members: []Member{}}, Sum(nil))
}
