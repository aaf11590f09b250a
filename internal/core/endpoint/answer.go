package endpoint

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// MaxAnswer is how many bytes of an answer are kept.
const MaxAnswer = 1 << 10

// Answer is what a place outside has answered to a delivery, or why nothing came.
type Answer struct {
	At     time.Time     `json:"at"`
	Status int           `json:"status"`           // of HTTP; 0: none
	Phrase string        `json:"phrase,omitempty"` // that of the status
	Body   string        `json:"body,omitempty"`   // its first KiB
	Error  string        `json:"error,omitempty"`  // why there is no answer, or what a database says
	Took   time.Duration `json:"took"`
	// After is how long the place asks to be left alone; 0: it does not.
	After time.Duration `json:"after,omitempty"`
	// Ends is when the certificate ends that the place has shown; zero: it has shown none.
	Ends time.Time `json:"ends,omitzero"`
	// Means is what it means for the message.
	Means Verdict `json:"means"`
}

// Says is the answer in one sentence.
func (a *Answer) Says() string {
	took := a.Took.Round(time.Millisecond)
	if a.Took < 10*time.Millisecond {
		took = a.Took.Round(10 * time.Microsecond)
	}
	switch {
	case a.Status == 0 && a.Error == "":
		return fmt.Sprintf("well, after %s", took)
	case a.Status == 0:
		return fmt.Sprintf("%s, after %s", a.Error, took)
	}
	text := strings.TrimSpace(strconv.Itoa(a.Status) + " " + a.Phrase)
	if a.Error != "" {
		text += " (" + a.Error + ")"
	}
	if body := strings.Join(strings.Fields(a.Body), " "); body != "" {
		text += ": " + body
	}
	return fmt.Sprintf("%s, after %s", text, took)
}

// Verdict is what an answer means for a message.
type Verdict uint8

// The verdicts.
const (
	Done    Verdict = iota
	Again           // it is delivered again, later
	Refused         // it is the message's fault: it becomes a dead letter
	Stop            // the place wants nothing any more
)

func (v Verdict) String() string { return [...]string{"done", "again", "refused", "stop"}[v] }

// Statuses of HTTP that mean something of their own (RFC 9110, and RFC 6585 for 429).
const (
	tooLate = 408
	gone    = 410
	tooMany = 429
)

// Judge says what an answer of HTTP means. A redirect is not followed; since it tells
// nothing of the message, it is the place's fault.
func Judge(status int) Verdict {
	switch {
	case status >= 200 && status < 300:
		return Done
	case status == gone:
		return Stop
	case status == tooLate, status == tooMany, status < 400, status >= 500:
		return Again
	}
	return Refused
}

// Pause is how long to wait after so many failures (from 1): doubled each time from the
// least to the most, and between half of that and all of it by chance, a number from 0
// up to 1, so that not all come back at once.
func Pause(least, most time.Duration, failures int, chance float64) time.Duration {
	pause := least
	for i := 1; i < failures && pause < most; i++ {
		pause *= 2
	}
	pause = min(pause, most)
	return pause/2 + time.Duration(chance*float64(pause-pause/2))
}
