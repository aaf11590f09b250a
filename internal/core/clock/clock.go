// Package clock is the time of day, as it is stamped on messages and as
// retention and rates count it. Nothing that elections or deadlines need
// depends on it.
package clock

import (
	"context"
	"fmt"
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
	followRight   = 100 * time.Millisecond
	followShifted = 2 * time.Millisecond
)

// followed names the file in which a process that follows a file writes what it
// has done of it.
func followed(path string) string { return path + ".followed" }

// Follow shifts the time by what a file says, such as 1h or -1h. It looks at
// the file again and again until the process ends.
func Follow(path string) {
	for last := ""; ; {
		b, err := os.ReadFile(path)
		says := strings.TrimSpace(string(b))
		if d, parseErr := time.ParseDuration(says); err == nil && parseErr == nil && says != last {
			Shift(d)
			last = says
			_ = write(followed(path), says) // only who leads looks at it
		}
		if offset.Load() == 0 {
			time.Sleep(followRight)
		} else {
			time.Sleep(followShifted)
		}
	}
}

// Lead has the process that follows a file shift its time, and waits until it
// has, or until ctx ends.
func Lead(ctx context.Context, path string, by time.Duration) error {
	if err := write(path, by.String()); err != nil {
		return err
	}
	for {
		if b, err := os.ReadFile(followed(path)); err == nil && string(b) == by.String() {
			return nil
		}
		if ctx.Err() != nil {
			return fmt.Errorf("no process has followed %s to %s: %w", path, by, ctx.Err())
		}
		Wait(ctx, followShifted/2)
	}
}

// write has the whole text be in the file at once: half of a duration is one too.
func write(path, text string) error {
	if err := os.WriteFile(path+".new", []byte(text), 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
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
