// Package turns has requests that wait for messages be woken in the order in which they came, as
// many as there are messages for. It may be used at once by many.
package turns

import (
	"slices"
	"sync"
	"sync/atomic"
)

// Chunk is how many messages one request may take while others wait, even
// if nothing is left for them: they are first in turn then. Smaller shares
// would make many small steps of one.
const Chunk = 100

// Waiters are requests that wait for messages to lease, the one that came
// first in front.
type Waiters struct {
	mu    sync.Mutex
	list  []*Waiter
	count atomic.Int64
}

// Waiter is one request that waits for up to most messages. One that waits at
// several partitions has a waiter at each, with the same channel.
type Waiter struct {
	ready chan struct{} // signalled when messages are there; has room for one signal
	most  int
}

// Count is how many wait.
func (w *Waiters) Count() int64 { return w.count.Load() }

// Add lets a request wait.
func (w *Waiters) Add(most int, ready chan struct{}) *Waiter {
	one := &Waiter{ready, most}
	w.mu.Lock()
	w.list = append(w.list, one)
	w.count.Store(int64(len(w.list)))
	w.mu.Unlock()
	return one
}

// Leave ends the waiting, and reports whether it was woken before.
func (w *Waiters) Leave(one *Waiter) (woken bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	at := slices.Index(w.list, one)
	if at >= 0 {
		w.list = slices.Delete(w.list, at, at+1)
		w.count.Store(int64(len(w.list)))
	}
	return at < 0
}

// Remove ends the waiting. One that was woken meanwhile, and takes nothing,
// passes it on.
func (w *Waiters) Remove(one *Waiter) {
	if w.Leave(one) {
		w.Wake(1)
	}
}

// Wake wakes as many as there are messages for.
func (w *Waiters) Wake(ready int64) {
	if w.count.Load() == 0 {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	woken := 0
	for woken < len(w.list) && ready > 0 {
		one := w.list[woken]
		select {
		case one.ready <- struct{}{}:
		default: // it was woken at another partition
		}
		ready -= int64(min(one.most, Chunk))
		woken++
	}
	w.list = slices.Delete(w.list, 0, woken)
	w.count.Store(int64(len(w.list)))
}
