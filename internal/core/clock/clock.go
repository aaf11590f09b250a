// Package clock is the time of day, as it is stamped on messages and as
// retention counts it. Nothing that elections or deadlines need depends on it.
package clock

import (
	"os"
	"strings"
	"sync/atomic"
	"time"
)

var offset atomic.Int64

// Now returns the time of day.
func Now() time.Time { return time.Now().Add(time.Duration(offset.Load())) }

// Follow shifts the time by what a file says, such as 1h or -1h, for tests of
// clocks that are wrong. It looks at the file again and again until the
// process ends.
func Follow(path string) {
	for {
		b, err := os.ReadFile(path)
		if d, parseErr := time.ParseDuration(strings.TrimSpace(string(b))); err == nil && parseErr == nil {
			offset.Store(int64(d))
		}
		time.Sleep(100 * time.Millisecond)
	}
}
