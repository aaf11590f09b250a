package job

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestPaceKeepsToTheRate(t *testing.T) {
	for _, rate := range []float64{0.5, 1, 7, 50, 333, 5000, 80_000} {
		var p Pace
		now := time.Unix(100, 0)
		sent := 0
		for range 300 {
			sent += p.Due(now, rate)
			now = now.Add(Turn)
		}
		require.InDelta(t, rate*60, float64(sent), rate*Turn.Seconds()+1, "at %v/s over a minute", rate)
		before := sent
		now = now.Add(time.Hour)
		sent += p.Due(now, rate)
		require.LessOrEqual(t, float64(sent-before), 2*rate*Turn.Seconds()+1, "a pause is not followed by a flood")
	}
}

func TestTooMany(t *testing.T) {
	require.False(t, TooMany(4, 4, 0.2))
	require.True(t, TooMany(10, 5, 0.2))
	require.False(t, TooMany(100, 20, 0.2))
	require.True(t, TooMany(100, 21, 0.2))
	require.False(t, TooMany(100, 100, 1))
}
