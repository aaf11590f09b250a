package main

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/message"
)

// resting is a time at which the register of island-post does not answer.
var resting = time.Date(2026, 11, 28, 8, 3, 0, 0, time.UTC)

// Whoever asks the register again when it answers is done.
func TestTheRegisterAnswersForTwoOfFiveMinutes(t *testing.T) {
	body := []byte(`{"box":"box-0007","celsius":9.1,"clinic":"island-post"}`)
	answered := 0
	for minute := range 60 {
		if inspect(time.Date(2026, 11, 28, 8, minute, 30, 0, time.UTC), body) == nil {
			answered++
		}
	}
	assert.Equal(t, 24, answered)
}

// What inspectors do with each order, and with those that are wrong in ways that
// happen.
func TestInspectorsAreStrict(t *testing.T) {
	for body, want := range map[string]client.Settlement{
		`{"box":"box-0007","celsius":9.1}`:                        {Outcome: client.OutcomeAccept},
		`not JSON`:                                                {Outcome: client.OutcomeReject, Reason: "not-json"},
		`{"celsius":9.1}`:                                         {Outcome: client.OutcomeReject, Reason: "box-missing"},
		`{"box":"box-0007","celsius":"48.4 F"}`:                   {Outcome: client.OutcomeReject, Reason: "celsius-not-a-number"},
		`{"box":"box-9042","celsius":9.1}`:                        {Outcome: client.OutcomeReject, Reason: "unknown-box"},
		`{"box":"box-0007","celsius":9.1,"clinic":"island-post"}`: {Outcome: client.OutcomeRelease, Reason: "register-timeout", After: "auto"},
	} {
		have := outcomeOf(&client.Leased{Message: &message.Stored{}}, func([]byte) error { return inspect(resting, []byte(body)) })
		assert.Equal(t, want.Outcome, have.Outcome, body)
		assert.Equal(t, want.Reason, have.Reason, body)
		assert.Equal(t, want.After, have.After, body)
		assert.Equal(t, want.Outcome == client.OutcomeAccept, have.Detail == "", body)
	}
}

// Of the orders most are right, and each way to be wrong comes.
func TestOrdersAreWrongInEachWay(t *testing.T) {
	d := &depot{boxes: fleet()}
	reasons := map[string]int{}
	for range 3000 {
		_, body := d.warm()
		require.True(t, json.Valid(body))
		reasons[outcomeOf(&client.Leased{Message: &message.Stored{}}, func([]byte) error { return inspect(resting, body) }).Reason]++
	}
	assert.Greater(t, reasons[""], 1800)
	for _, reason := range []string{"box-missing", "celsius-not-a-number", "unknown-box", "register-timeout"} {
		assert.Greater(t, reasons[reason], 20, reason)
	}
	assert.Len(t, reasons, 5)
}

// More and more boxes are on their way, and all of them now.
func TestTheFleetGrows(t *testing.T) {
	d := &depot{boxes: fleet()}
	d.ago = 0
	assert.Len(t, d.awake(), boxes)
	for ago := time.Duration(0); ago <= past; ago += time.Minute {
		d.ago = ago
		assert.Greater(t, len(d.awake()), boxes/2)
	}
}
