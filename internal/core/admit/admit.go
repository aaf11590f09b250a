// Package admit decides who may begin what: how many things of a kind a
// caller and a node do at once, how often, and how many bytes they hold. It
// is fair between callers, and forgets those that hold nothing.
package admit

import (
	"fmt"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// Full says that something may not begin now, and when to try again.
type Full struct {
	What  string
	Own   bool // the caller's own share is used up, not that of all
	Limit int
	Every time.Duration // of Rates: how long one more takes to be allowed
	Retry time.Duration
}

func (f *Full) Error() string {
	if f.Every > 0 {
		return fmt.Sprintf("too many %s: allowed are %d at once, and then one every %s", f.What, f.Limit, f.Every)
	}
	if f.Own {
		return fmt.Sprintf("%d %s of the same caller are under way, and more are not allowed", f.Limit, f.What)
	}
	return fmt.Sprintf("%d %s are under way here, and more are not allowed", f.Limit, f.What)
}

// Slots bounds how many things of a kind are under way, of each caller and of
// all. It is safe for concurrent use.
type Slots struct {
	what      string
	each, all int
	retry     time.Duration

	mu  sync.Mutex
	by  map[string]int
	sum int
}

// NewSlots returns slots for things of the name, such as "searches".
func NewSlots(what string, each, all int, retry time.Duration) *Slots {
	return &Slots{what: what, each: each, all: all, retry: retry, by: map[string]int{}}
}

// Enter takes a slot, or returns a *Full. Call leave once when it is done.
func (s *Slots) Enter(who string) (leave func(), err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.by[who] >= s.each:
		return nil, &Full{What: s.what, Own: true, Limit: s.each, Retry: s.retry}
	case s.sum >= s.all:
		return nil, &Full{What: s.what, Limit: s.all, Retry: s.retry}
	}
	s.by[who]++
	s.sum++
	var once sync.Once
	return func() {
		once.Do(func() {
			s.mu.Lock()
			defer s.mu.Unlock()
			s.sum--
			if s.by[who]--; s.by[who] == 0 {
				delete(s.by, who)
			}
		})
	}, nil
}

// Open returns how many slots are taken.
func (s *Slots) Open() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.sum
}

// Rates bounds how often each caller does something: so many at once, and
// then one every while. It is safe for concurrent use.
type Rates struct {
	what  string
	burst int
	every time.Duration

	mu sync.Mutex
	by map[string]*rate.Limiter
}

// maxCallers is how many callers are remembered: who has not come for as long
// as it takes to be forgiven everything is forgotten first.
const maxCallers = 100_000

// NewRates returns rates for things of the name, such as "sign-ins".
func NewRates(what string, burst int, every time.Duration) *Rates {
	return &Rates{what: what, burst: burst, every: every, by: map[string]*rate.Limiter{}}
}

// Allow counts one more of a caller at a time; it returns a *Full when it is
// one too many.
func (r *Rates) Allow(who string, now time.Time) error {
	_, err := r.Try(who, now)
	return err
}

// Try counts as Allow does what may turn out not to count: forgive takes it back.
func (r *Rates) Try(who string, now time.Time) (forgive func(), err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	l := r.by[who]
	if l == nil {
		r.tidy(now)
		l = rate.NewLimiter(rate.Every(r.every), r.burst)
		r.by[who] = l
	}
	one := l.ReserveN(now, 1)
	wait := one.DelayFrom(now)
	if wait == 0 {
		return func() { one.CancelAt(now) }, nil
	}
	one.CancelAt(now)
	return nil, &Full{What: r.what, Own: true, Limit: r.burst, Every: r.every, Retry: max(wait, time.Second)}
}

// tidy makes room for another caller.
func (r *Rates) tidy(now time.Time) {
	if len(r.by) < maxCallers {
		return
	}
	for who, l := range r.by {
		if l.TokensAt(now) >= float64(r.burst) {
			delete(r.by, who)
		}
	}
	for who := range r.by {
		if len(r.by) < maxCallers {
			break
		}
		delete(r.by, who)
	}
}
