package clock

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestShiftsAreToldBefore(t *testing.T) {
	defer Shift(0)
	var told []time.Duration
	stop := BeforeShift(func(now time.Time) { told = append(told, time.Since(now).Round(time.Minute)) })
	Shift(-time.Hour)
	assert.InDelta(t, -time.Hour.Seconds(), time.Until(Now()).Seconds(), 1)
	Shift(-time.Hour)
	Shift(-30 * time.Minute)
	Shift(0)
	stop()
	Shift(time.Minute)
	assert.Equal(t, []time.Duration{0, time.Hour, 30 * time.Minute}, told, "each with the time that it was; what changes nothing is not told")
}
