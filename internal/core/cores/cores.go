// Package cores knows how many processors the service may use.
package cores

import (
	"os"
	"runtime"
)

// Count is how many processors there are for the service, by its limits.
var Count = runtime.GOMAXPROCS(0)

// spare are the threads that may run besides one for each processor.
const spare = 2

// Spare lets more threads run than there are processors, unless that is set (GOMAXPROCS). The scheduler
// of Go looks at the network when one of its threads has nothing else to do, and else every 10 ms: while
// each processor has a thread that is busy with what one caller floods the service with, the first bytes of
// all others would wait for that. With a thread to spare the system wakes that at once.
func Spare() {
	if os.Getenv("GOMAXPROCS") == "" {
		runtime.GOMAXPROCS(Count + spare)
	}
}

// AllButOne is how much of what takes long may be under way, so that something small goes between.
func AllButOne() int { return max(1, Count-1) }
