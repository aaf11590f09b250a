// Package clock is the time of day, as it is stamped on messages and as
// retention and rates count it. Nothing that elections or deadlines need
// depends on it.
package clock

import (
	"context"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

var (
	offset atomic.Int64

	mu      sync.Mutex
	leaving = map[int]func(now time.Time){}
	next    int
)

// Now returns the time of day.
func Now() time.Time { return time.Now().Add(time.Duration(offset.Load())) }

// Shift has the time of day be so much later than that of the machine, or
// earlier: for tests of clocks that are wrong, and for the past of the demo.
func Shift(by time.Duration) {
	mu.Lock()
	defer mu.Unlock()
	if by == time.Duration(offset.Load()) {
		return
	}
	now := Now()
	for _, f := range leaving {
		f(now)
	}
	offset.Store(int64(by))
}

// BeforeShift has f called with the time before each shift, until stop is
// called: what happened so far happened then.
func BeforeShift(f func(now time.Time)) (stop func()) {
	mu.Lock()
	defer mu.Unlock()
	id := next
	next++
	leaving[id] = f
	return func() {
		mu.Lock()
		defer mu.Unlock()
		delete(leaving, id)
	}
}

// Times between two looks at the file of Follow, while the time is right and
// while it is shifted: then it may be on its way.
const (
	FollowRight   = 100 * time.Millisecond
	FollowShifted = 2 * time.Millisecond
)

// Follow shifts the time by what a file says, such as 1h or -1h. It looks at
// the file again and again until the process ends.
func Follow(path string) {
	for {
		b, err := os.ReadFile(path)
		if d, parseErr := time.ParseDuration(strings.TrimSpace(string(b))); err == nil && parseErr == nil {
			Shift(d)
		}
		if offset.Load() == 0 {
			time.Sleep(FollowRight)
		} else {
			time.Sleep(FollowShifted)
		}
	}
}

// Wait waits for so long, or until ctx ends.
func Wait(ctx context.Context, d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	}
}
