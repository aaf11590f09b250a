package admit

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSlotsAreBoundedForEachAndForAll(t *testing.T) {
	s := NewSlots("searches", 2, 3, time.Second)
	leave, err := s.Enter("a")
	require.NoError(t, err)
	_, err = s.Enter("a")
	require.NoError(t, err)
	_, err = s.Enter("a")
	var full *Full
	require.ErrorAs(t, err, &full)
	assert.True(t, full.Own)
	assert.Equal(t, "2 searches of the same caller are under way, and more are not allowed", full.Error())
	_, err = s.Enter("b")
	require.NoError(t, err)
	_, err = s.Enter("c")
	require.ErrorAs(t, err, &full)
	assert.False(t, full.Own)
	leave()
	leave() // twice does no harm
	assert.Equal(t, 2, s.Open())
	_, err = s.Enter("c")
	assert.NoError(t, err)
}

func TestRatesForgiveWithTime(t *testing.T) {
	r := NewRates("sign-ins", 3, 10*time.Second)
	now := time.Unix(1e9, 0)
	for range 3 {
		require.NoError(t, r.Allow("a", now))
	}
	var full *Full
	require.ErrorAs(t, r.Allow("a", now), &full)
	assert.Equal(t, 10*time.Second, full.Retry.Round(time.Second))
	require.NoError(t, r.Allow("b", now))
	require.NoError(t, r.Allow("a", now.Add(11*time.Second)))
}

func TestCallersThatAreForgivenAreForgotten(t *testing.T) {
	r := NewRates("sign-ins", 3, time.Second)
	now := time.Unix(1e9, 0)
	for i := range maxCallers {
		require.NoError(t, r.Allow(fmt.Sprint(i), now))
	}
	require.NoError(t, r.Allow("one more", now))
	assert.LessOrEqual(t, len(r.by), maxCallers)
	require.NoError(t, r.Allow("later", now.Add(time.Hour)))
	assert.Less(t, len(r.by), maxCallers)
}

func TestSmallRequestsGoThroughWhateverTheLargeOnesHold(t *testing.T) {
	b := NewBytes(10<<20, 8<<20, 1<<20)
	ctx, cancel := context.WithCancel(t.Context())
	large := b.Hold("a")
	require.NoError(t, large.Grow(ctx, 8<<20))
	other := b.Hold("b")
	require.NoError(t, other.Grow(ctx, 1<<20))
	small := b.Hold("a")
	require.NoError(t, small.Grow(ctx, Little))
	cancel()
	assert.Error(t, b.Hold("c").Grow(ctx, Little+1), "the rest is for small ones")
	assert.Error(t, small.Grow(ctx, 1), "it would be a large one")
	for _, h := range []*Hold{large, other, small} {
		h.Release()
	}
	assert.Zero(t, b.Held())
	assert.Empty(t, b.by)
	assert.Zero(t, b.waiting.Len())
}

func TestOneCallerHoldsNoMoreThanItsShareAndHoldsUpNobody(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := NewBytes(10<<20, 4<<20, 1<<20)
		greedy := b.Hold("a")
		require.NoError(t, greedy.Grow(t.Context(), 4<<20))
		got := make(chan struct{})
		more := b.Hold("a")
		go func() {
			defer close(got)
			assert.NoError(t, more.Grow(t.Context(), 1<<20))
		}()
		synctest.Wait()
		require.NoError(t, b.Hold("b").Grow(t.Context(), 4<<20), "another one is not behind it")
		greedy.Release()
		<-got
		assert.EqualValues(t, 1<<20, b.by["a"])
	})
}

// Whatever comes and goes, the bounds hold, and nothing is left in the end.
func TestBytesAreNeverMoreThanThereAre(t *testing.T) {
	const all, each, reserve = 4 << 20, 2 << 20, 512 << 10
	b := NewBytes(all, each, reserve)
	var wg sync.WaitGroup
	for i := range 16 {
		wg.Go(func() {
			random := rand.New(rand.NewPCG(1, uint64(i)))
			for range 200 {
				ctx, cancel := context.WithTimeout(t.Context(), time.Duration(random.IntN(2000))*time.Microsecond)
				h := b.Hold(fmt.Sprint(i % 3))
				for range random.IntN(4) {
					before := h.bytes
					n := int64(random.IntN(300 << 10))
					if err := h.Grow(ctx, n); err == nil {
						assert.Equal(t, min(before+n, b.Room()), h.bytes)
					}
					assert.LessOrEqual(t, b.Held(), int64(all))
				}
				h.Release()
				cancel()
			}
		})
	}
	wg.Wait()
	assert.Zero(t, b.Held())
	assert.Empty(t, b.by)
	assert.Zero(t, b.waiting.Len())
}

// What is forgiven does not count, and what is refused does not either.
func TestWhatIsForgivenDoesNotCount(t *testing.T) {
	now := time.Unix(1e9, 0)
	r := NewRates("tries", 3, 2*time.Second)
	for range 100 {
		forgive, err := r.Try("a", now)
		require.NoError(t, err)
		forgive()
	}
	for range 3 {
		require.NoError(t, r.Allow("a", now))
	}
	for range 5 {
		forgive, err := r.Try("a", now)
		assert.Nil(t, forgive)
		var full *Full
		require.ErrorAs(t, err, &full)
		assert.Equal(t, 2*time.Second, full.Retry)
	}
	require.NoError(t, r.Allow("a", now.Add(2*time.Second)))
	require.Error(t, r.Allow("a", now.Add(2*time.Second)))
}
