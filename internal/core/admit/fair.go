package admit

import (
	"container/list"
	"context"
	"sync"
	"time"
)

// Fair lets those who share something have so much of it under way that none is behind what
// another has brought for long. Whoever is alone has no bound; as soon as another one comes, each
// has its part, and what is beyond waits in the order in which each of them came. It may be used at
// once by many.
type Fair struct {
	room  int64         // of all together, while there are several
	least int64         // that something small counts as
	until time.Duration // for how long one counts that has nothing under way

	mu    sync.Mutex // guards all below
	by    map[string]*sharer
	tidy  time.Time // when it was looked last who still counts
	parts int64
}

type sharer struct {
	underWay int64
	last     time.Time
	waiting  list.List // of *turn
}

type turn struct {
	amount int64
	ready  chan struct{}
}

// NewFair returns one in which all together have so much room while there are several, and the
// smallest thing takes the least of it. One that brings nothing counts no more after a while.
func NewFair(room, least int64, until time.Duration) *Fair {
	return &Fair{room: room, least: least, until: until, by: map[string]*sharer{}}
}

// Enter waits until an amount may get under way; leave ends it.
func (f *Fair) Enter(ctx context.Context, who string, amount int64) (leave func(), err error) {
	amount = max(amount, f.least)
	now := time.Now()
	f.mu.Lock()
	s := f.by[who]
	if s == nil {
		s = &sharer{}
		f.by[who] = s
		f.parts++
	}
	s.last = now
	if now.Sub(f.tidy) > f.until/8 {
		f.forget(now)
	}
	if s.waiting.Len() == 0 && f.fits(s, amount) {
		s.underWay += amount
		f.mu.Unlock()
		return func() { f.leave(s, amount) }, nil
	}
	t := &turn{amount, make(chan struct{})}
	place := s.waiting.PushBack(t)
	f.mu.Unlock()
	select {
	case <-t.ready:
		return func() { f.leave(s, amount) }, nil
	case <-ctx.Done():
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	select {
	case <-t.ready: // at the last moment
		s.underWay -= amount
	default:
		s.waiting.Remove(place)
	}
	f.next(s)
	return nil, ctx.Err()
}

// fits reports whether an amount may get under way now: whoever has nothing there gets something,
// however large.
func (f *Fair) fits(s *sharer, amount int64) bool {
	return s.underWay == 0 || f.parts < 2 || s.underWay+amount <= f.room/f.parts
}

func (f *Fair) leave(s *sharer, amount int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	s.underWay -= amount
	f.next(s)
}

// next lets those in whose turn it is.
func (f *Fair) next(s *sharer) {
	for first := s.waiting.Front(); first != nil; first = s.waiting.Front() {
		t := first.Value.(*turn)
		if !f.fits(s, t.amount) {
			return
		}
		s.waiting.Remove(first)
		s.underWay += t.amount
		close(t.ready)
	}
}

// forget lets those count no more who have brought nothing for a while.
func (f *Fair) forget(now time.Time) {
	f.tidy = now
	for who, s := range f.by {
		if s.underWay == 0 && s.waiting.Len() == 0 && now.Sub(s.last) > f.until {
			delete(f.by, who)
		}
	}
	f.parts = int64(len(f.by))
}
