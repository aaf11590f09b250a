package clock

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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

func TestWhoeverLeadsKnowsThatTheTimeWasShifted(t *testing.T) {
	path := filepath.Join(t.TempDir(), "clock")
	go Follow(path)
	for i := range 50 {
		by := -time.Hour + time.Duration(i)*time.Minute
		require.NoError(t, Lead(t.Context(), path, by))
		assert.InDelta(t, by.Seconds(), time.Until(Now()).Seconds(), 1)
	}
	require.NoError(t, Lead(t.Context(), path, 0))
	assert.InDelta(t, 0, time.Until(Now()).Seconds(), 1)

	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	nobody := filepath.Join(t.TempDir(), "clock")
	assert.ErrorContains(t, Lead(ctx, nobody, time.Hour), "no process has followed "+nobody+" to 1h0m0s")
}
