package queues

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func woken(w *waiter) bool {
	select {
	case <-w.ready:
		return true
	default:
		return false
	}
}

// Who came first is woken first, and as many as there are messages for.
func TestWhoCameFirstIsWokenFirst(t *testing.T) {
	var w waiters
	a, b, c := w.add(1, make(chan struct{}, 1)), w.add(fairChunk, make(chan struct{}, 1)), w.add(1, make(chan struct{}, 1))
	w.wake(0)
	assert.False(t, woken(a))
	w.wake(1)
	assert.True(t, woken(a))
	assert.False(t, woken(b))
	w.wake(2)
	assert.True(t, woken(b), "it takes what is there")
	assert.False(t, woken(c))
	w.remove(b) // woken, and takes nothing
	assert.True(t, woken(c), "it is passed on")
	assert.Zero(t, w.count.Load())
	w.wake(5)
	w.remove(a)
}

// One that waits at several partitions uses one of those that woke it: the others
// wake somebody else.
func TestWhoIsWokenTwiceUsesOne(t *testing.T) {
	one, two := &queueMachine{}, &queueMachine{}
	w, there := waitAt([]*queueMachine{one, two}, "lana", 1)
	require.False(t, there)
	other := two.waiters.add(1, make(chan struct{}, 1))
	one.waiters.wake(1)
	two.waiters.wake(1)
	assert.False(t, woken(other))
	w.end(true)
	assert.True(t, woken(other))
	assert.Zero(t, one.waiters.count.Load()+two.waiters.count.Load())

	two.ready.Store(1)
	w, there = waitAt([]*queueMachine{one, two}, "lana", 1)
	assert.True(t, there)
	w.end(false)
	assert.Zero(t, one.waiters.count.Load()+two.waiters.count.Load())
}

// However requests come, go and are woken, no message lies there while somebody
// waits for it.
func TestNoMessageLiesWhileSomebodyWaits(t *testing.T) {
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 1))
		var w waiters
		ready := 0
		var waiting []*waiter
		take := func(i int) {
			waiting = append(waiting[:i], waiting[i+1:]...)
			if ready--; ready > 0 {
				w.wake(int64(ready))
			}
		}
		for range 300 {
			switch n := rng.IntN(4); {
			case n == 0:
				ready++
				w.wake(int64(ready))
			case n == 1 && ready == 0:
				waiting = append(waiting, w.add(1, make(chan struct{}, 1)))
			case n == 2 && len(waiting) > 0: // the time of one is over
				i := rng.IntN(len(waiting))
				one := waiting[i]
				waiting = append(waiting[:i], waiting[i+1:]...)
				w.remove(one)
			default:
				for i, one := range waiting {
					if ready > 0 && woken(one) {
						take(i)
						break
					}
				}
			}
		}
		for again := true; again; {
			again = false
			for i, one := range waiting {
				if ready > 0 && woken(one) {
					take(i)
					again = true
					break
				}
			}
		}
		require.False(t, ready > 0 && w.count.Load() > 0, "seed %d: %d messages lie there, %d wait", seed, ready, w.count.Load())
	}
}
