package turns

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func woken(w *Waiter) bool {
	select {
	case <-w.ready:
		return true
	default:
		return false
	}
}

// Who came first is woken first, and as many as there are messages for.
func TestWhoCameFirstIsWokenFirst(t *testing.T) {
	var w Waiters
	a, b, c := w.Add(1, make(chan struct{}, 1)), w.Add(Chunk, make(chan struct{}, 1)), w.Add(1, make(chan struct{}, 1))
	w.Wake(0)
	assert.False(t, woken(a))
	w.Wake(1)
	assert.True(t, woken(a))
	assert.False(t, woken(b))
	w.Wake(2)
	assert.True(t, woken(b), "it takes what is there")
	assert.False(t, woken(c))
	w.Remove(b) // woken, and takes nothing
	assert.True(t, woken(c), "it is passed on")
	assert.Zero(t, w.Count())
	w.Wake(5)
	w.Remove(a)
}

// However requests come, go and are woken, no message lies there while somebody
// waits for it.
func TestNoMessageLiesWhileSomebodyWaits(t *testing.T) {
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 1))
		var w Waiters
		ready := 0
		var waiting []*Waiter
		take := func(i int) {
			waiting = append(waiting[:i], waiting[i+1:]...)
			if ready--; ready > 0 {
				w.Wake(int64(ready))
			}
		}
		for range 300 {
			switch n := rng.IntN(4); {
			case n == 0:
				ready++
				w.Wake(int64(ready))
			case n == 1 && ready == 0:
				waiting = append(waiting, w.Add(1, make(chan struct{}, 1)))
			case n == 2 && len(waiting) > 0: // the time of one is over
				i := rng.IntN(len(waiting))
				one := waiting[i]
				waiting = append(waiting[:i], waiting[i+1:]...)
				w.Remove(one)
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
		require.False(t, ready > 0 && w.Count() > 0, "seed %d: %d messages lie there, %d wait", seed, ready, w.Count())
	}
}
