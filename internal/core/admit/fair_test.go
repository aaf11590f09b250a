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

func TestWhoIsAloneHasNoBound(t *testing.T) {
	f := NewFair(100, 10, time.Second)
	for range 50 {
		_, err := f.Enter(t.Context(), "loud", 90)
		require.NoError(t, err)
	}
}

func TestOneThatFloodsWaitsForItsOwn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := NewFair(100, 10, time.Second)
		leaveCalm, err := f.Enter(t.Context(), "calm", 1)
		require.NoError(t, err)
		var leave []func()
		for range 5 {
			l, err := f.Enter(t.Context(), "loud", 1) // counts as 10
			require.NoError(t, err)
			leave = append(leave, l)
		}
		got := make(chan func(), 2)
		for range 2 {
			go func() {
				l, err := f.Enter(t.Context(), "loud", 10)
				assert.NoError(t, err)
				got <- l
			}()
			synctest.Wait()
		}
		assert.Empty(t, got, "its half is used up")
		for range 4 {
			_, err := f.Enter(t.Context(), "calm", 10)
			require.NoError(t, err, "the other half is not")
		}
		gone, cancel := context.WithCancel(t.Context())
		cancel()
		_, err = f.Enter(gone, "loud", 10)
		require.ErrorIs(t, err, context.Canceled)
		leave[0]()
		synctest.Wait()
		assert.Len(t, got, 1)
		leave[1]()
		synctest.Wait()
		assert.Len(t, got, 2)
		leaveCalm()
	})
}

func TestSomethingLargeIsLetInAlone(t *testing.T) {
	f := NewFair(100, 10, time.Second)
	_, err := f.Enter(t.Context(), "calm", 1)
	require.NoError(t, err)
	leave, err := f.Enter(t.Context(), "loud", 1000)
	require.NoError(t, err, "it has nothing there")
	late, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer cancel()
	_, err = f.Enter(late, "loud", 10)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	leave()
	_, err = f.Enter(t.Context(), "loud", 10)
	require.NoError(t, err)
}

func TestWhoBringsNothingCountsNoMore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := NewFair(100, 10, time.Second)
		leave, err := f.Enter(t.Context(), "calm", 1)
		require.NoError(t, err)
		leave()
		for range 5 {
			_, err := f.Enter(t.Context(), "loud", 10)
			require.NoError(t, err)
		}
		time.Sleep(3 * time.Second)
		for range 20 {
			_, err := f.Enter(t.Context(), "loud", 10)
			require.NoError(t, err, "it is alone again")
		}
		assert.Len(t, f.by, 1)
	})
}

// Whatever comes and goes: nobody has more than its part beyond one thing, all that waits gets
// in, and nothing stays behind.
func TestEachHasItsPart(t *testing.T) {
	const room = 1000
	f := NewFair(room, 1, time.Hour)
	names := []string{"a", "b", "c", "d"}
	for _, name := range names {
		leave, err := f.Enter(t.Context(), name, 1)
		require.NoError(t, err)
		leave()
	}
	var wg sync.WaitGroup
	for i := range 24 {
		wg.Go(func() {
			r := rand.New(rand.NewPCG(uint64(i), 3))
			for range 300 {
				ctx, cancel := context.WithTimeout(t.Context(), time.Duration(r.IntN(4000))*time.Microsecond)
				leave, err := f.Enter(ctx, names[i%len(names)], int64(1+r.IntN(200)))
				f.mu.Lock()
				for who, s := range f.by {
					assert.LessOrEqual(t, s.underWay, int64(room/len(names)), who)
				}
				f.mu.Unlock()
				if err == nil {
					leave()
				}
				cancel()
			}
		})
	}
	wg.Wait()
	for who, s := range f.by {
		assert.Zero(t, s.underWay, who)
		assert.Zero(t, s.waiting.Len(), who)
	}
}

func BenchmarkFair(b *testing.B) {
	f := NewFair(512<<10, 32<<10, 4*time.Second)
	for i := range 1000 {
		leave, _ := f.Enter(b.Context(), fmt.Sprint(i), 100)
		leave()
	}
	b.ReportAllocs()
	for b.Loop() {
		leave, err := f.Enter(b.Context(), "calm", 100)
		if err != nil {
			b.Fatal(err)
		}
		leave()
	}
}
