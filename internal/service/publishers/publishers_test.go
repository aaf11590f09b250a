package publishers

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRatesAreThoseOfTheLastMinute(t *testing.T) {
	ps := &Publishers{}
	now := time.Now()
	box := ps.Of(1, "box-gateway")
	assert.Empty(t, ps.here(now), "who has sent nothing is no publisher")
	for range 3 {
		box.Sent(50)
		ps.Tend(now)
	}
	all := ps.here(now)
	require.Len(t, all, 1)
	assert.InDelta(t, 5, all[0].Rate, 0.01, "of the half minute that was seen")
	for range 5 {
		ps.Tend(now)
	}
	assert.InDelta(t, 50.0/60, ps.here(now)[0].Rate, 0.01)
	for range 3 {
		ps.Tend(now)
	}
	assert.Zero(t, ps.here(now)[0].Rate, "silent, and still known")
	ps.Tend(now.Add(keptFor + time.Minute))
	assert.Empty(t, ps.here(now))
	assert.Zero(t, ps.kept.Load())
}

func TestHowManyAreKnownIsBounded(t *testing.T) {
	ps := &Publishers{}
	for n := range mostKept + 10 {
		ps.Of(1, fmt.Sprint(n)).Sent(1)
	}
	assert.Len(t, ps.here(time.Now()), mostKept)
	assert.Nil(t, ps.Of(2, "one more"))
	assert.NotNil(t, ps.Of(1, "7"))
}

func TestManyCountAtOnce(t *testing.T) {
	ps := &Publishers{}
	var all sync.WaitGroup
	for n := range 8 {
		all.Go(func() {
			for range 1000 {
				ps.Of(int64(n%2), "box-gateway").Sent(1)
			}
			ps.here(time.Now())
		})
	}
	all.Wait()
	ps.Tend(time.Now())
	sum := 0.0
	for _, p := range ps.here(time.Now()) {
		sum += p.Rate * Every.Seconds()
	}
	assert.InDelta(t, 8000, sum, 1e-6)
}

func BenchmarkSent(b *testing.B) {
	ps := &Publishers{}
	for b.Loop() {
		ps.Of(1, "box-gateway").Sent(1)
	}
}
