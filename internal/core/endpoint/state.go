package endpoint

import (
	"fmt"
	"math"
	"time"

	"steadyferry/internal/core/address"
)

// The states of a place outside.
const (
	Unused     = "unused"     // nothing was delivered yet
	Well       = "well"       // it takes what comes
	Failing    = "failing"    // deliveries wait
	PickingUp  = "picking-up" // it is back, and the rate grows
	PausedHere = "paused"     // nothing is delivered, by its settings
	Locked     = "locked"     // its secrets cannot be read
)

// State says how a place does, how bad that is (0: not at all), and why.
func State(h *Health, paused, locked bool, rate float64, now time.Time) (state string, severity int, verdict string) {
	ago := func(t time.Time) string { return address.FormatDuration(now.Sub(t).Round(time.Second)) }
	good := "never answered well"
	if !h.LastGood.IsZero() {
		good = "answered well " + ago(h.LastGood) + " ago"
	}
	switch {
	case locked:
		return Locked, 3, "its secrets are sealed with a key that this node does not have"
	case paused:
		return PausedHere, 1, "paused: messages wait where they are"
	case h.Failing():
		next := "it is tried now"
		if h.NextTry.After(now) {
			next = "next try in " + address.FormatDuration(h.NextTry.Sub(now).Round(time.Second))
		}
		return Failing, 3, fmt.Sprintf("failing for %s, %s; %s", ago(h.FailingSince), good, next)
	case rate > 0:
		return PickingUp, 1, fmt.Sprintf("back; %d a second for now, and growing", int(math.Ceil(rate)))
	case h.LastGood.IsZero():
		return Unused, 0, "nothing was delivered yet"
	}
	return Well, 0, good
}
