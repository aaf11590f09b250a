package job_test

import (
	"fmt"
	"time"

	"steadyferry/internal/core/job"
)

// A job does what is due at its rate, and a pause is not followed by a flood.
func ExamplePace() {
	var p job.Pace
	now := time.Unix(0, 0)
	for range 3 {
		fmt.Print(p.Due(now, 50), " ")
		now = now.Add(job.Turn)
	}
	fmt.Println(p.Due(now.Add(time.Hour), 50))
	// Output:
	// 10 10 10 21
}

func ExampleState_Ask() {
	fmt.Println(job.Running.Ask(job.Paused, false))
	fmt.Println(job.Running.Ask(job.Cancelled, true))
	fmt.Println(job.Done.Ask(job.Running, false))
	// Output:
	// paused <nil>
	// cancelling <nil>
	// done it has ended: it is done
}
