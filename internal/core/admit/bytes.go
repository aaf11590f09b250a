package admit

import (
	"container/list"
	"context"
	"sync"
)

// Bytes is memory that requests share while they hold what has come of their
// bodies. What is announced does not count. A part of it is kept for those that
// hold little, so that small requests go through whatever the large ones do,
// and no caller holds more than a share of the rest. It is safe for concurrent
// use.
type Bytes struct {
	all, each int64 // bytes for all, and for the large requests of one caller
	reserve   int64 // of all, for requests that hold little

	mu      sync.Mutex
	held    int64
	by      map[string]int64 // of large requests, by caller
	waiting *list.List       // of *wish
}

// Little is up to how many bytes a request is a small one.
const Little = 64 << 10

type wish struct {
	hold  *Hold
	bytes int64
	ready chan struct{}
}

// NewBytes returns room for so many bytes, of which one caller's large
// requests hold up to each, and reserve is kept for small ones.
func NewBytes(all, each, reserve int64) *Bytes {
	return &Bytes{all: all, each: each, reserve: reserve, by: map[string]int64{}, waiting: list.New()}
}

// Hold is what one request holds. It is for one goroutine.
type Hold struct {
	of    *Bytes
	who   string
	bytes int64
}

// Hold begins to count for a request of a caller.
func (b *Bytes) Hold(who string) *Hold { return &Hold{of: b, who: who} }

// Also begins another hold of the same caller.
func (h *Hold) Also() *Hold { return h.of.Hold(h.who) }

// Room returns the most that one request can ever hold.
func (b *Bytes) Room() int64 { return min(b.each, b.all-b.reserve) }

// fits reports whether a hold may grow. The caller holds mu.
func (b *Bytes) fits(h *Hold, n int64) bool {
	if h.bytes+n <= Little {
		return b.held+n <= b.all
	}
	return b.held+n <= b.all-b.reserve && b.by[h.who]+b.large(h, n) <= b.each
}

// large returns by how much the caller's large requests grow.
func (b *Bytes) large(h *Hold, n int64) int64 {
	switch {
	case h.bytes+n <= Little:
		return 0
	case h.bytes <= Little:
		return h.bytes + n
	}
	return n
}

func (b *Bytes) take(h *Hold, n int64) {
	if grows := b.large(h, n); grows > 0 {
		b.by[h.who] += grows
	}
	b.held += n
	h.bytes += n
}

// GrowNow lets the request hold n bytes more if there is room for them now, as
// nearly always, and reports whether there was.
func (h *Hold) GrowNow(n int64) bool {
	b := h.of
	if n = min(n, b.Room()-h.bytes); n <= 0 {
		return true
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.fits(h, n) {
		return false
	}
	b.take(h, n)
	return true
}

// Grow waits until the request may hold n bytes more, or ctx ends. More than
// Room is never to be had: it counts as Room.
func (h *Hold) Grow(ctx context.Context, n int64) error {
	b := h.of
	if n = min(n, b.Room()-h.bytes); n <= 0 {
		return nil
	}
	b.mu.Lock()
	if b.fits(h, n) {
		b.take(h, n)
		b.mu.Unlock()
		return nil
	}
	w := &wish{hold: h, bytes: n, ready: make(chan struct{})}
	e := b.waiting.PushBack(w)
	b.mu.Unlock()
	select {
	case <-w.ready:
		return nil
	case <-ctx.Done():
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	select {
	case <-w.ready: // it was granted meanwhile
		return nil
	default:
	}
	b.waiting.Remove(e)
	return ctx.Err()
}

// Release lets go of all that the request holds; it may hold again after.
func (h *Hold) Release() {
	b := h.of
	if h.bytes == 0 {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.held -= h.bytes
	if h.bytes > Little {
		if b.by[h.who] -= h.bytes; b.by[h.who] <= 0 {
			delete(b.by, h.who)
		}
	}
	h.bytes = 0
	// Those that came first come first, but one that has to wait for its own
	// caller's share holds up nobody else.
	for e := b.waiting.Front(); e != nil; {
		next := e.Next()
		w := e.Value.(*wish)
		if b.fits(w.hold, w.bytes) {
			b.take(w.hold, w.bytes)
			b.waiting.Remove(e)
			close(w.ready)
		} else if b.held >= b.all {
			break
		}
		e = next
	}
}

// Held returns how many bytes are held now.
func (b *Bytes) Held() int64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.held
}
