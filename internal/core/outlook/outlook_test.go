package outlook

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/form"
)

func line(n int, from, step, noise float64) (figures []float64) {
	rnd := rand.New(rand.NewPCG(4, 4))
	for i := range n {
		figures = append(figures, from+float64(i)*step+noise*(rnd.Float64()-0.5))
	}
	return figures
}

func TestTrends(t *testing.T) {
	straight, ok := TrendOf(line(60, 100, 3, 0), 10*time.Second)
	require.True(t, ok)
	assert.InDelta(t, 0.3, straight.Slope, 1e-9)
	assert.InDelta(t, 1, straight.Fit, 1e-9)
	assert.InDelta(t, 277, straight.Last, 1e-9)
	assert.Equal(t, 590*time.Second, straight.Length)

	noise, ok := TrendOf(line(60, 100, 0, 50), 10*time.Second)
	require.True(t, ok)
	assert.Less(t, noise.Fit, clearFit)

	level, ok := TrendOf(line(60, 100, 0, 0), 10*time.Second)
	require.True(t, ok)
	assert.Zero(t, level.Slope)
	assert.Zero(t, level.Fit)

	holes := line(60, 100, 3, 0)
	for i := range holes {
		if i%3 == 0 {
			holes[i] = math.NaN()
		}
	}
	some, ok := TrendOf(holes, 10*time.Second)
	require.True(t, ok)
	assert.InDelta(t, 0.3, some.Slope, 1e-9)
	_, ok = TrendOf(line(5, 1, 1, 0), time.Second)
	assert.False(t, ok, "too few to say anything")
	_, ok = TrendOf(nil, time.Second)
	assert.False(t, ok)
}

func TestForecasts(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	const gib = 1 << 30
	falling := Trend{Last: 10 * gib, Slope: -float64(gib) / 86400, Fit: 0.99, Length: 6 * time.Hour}
	f := Disk("nodes/node-a", "node-a", falling, 2*gib, now)
	assert.Nil(t, f, "eight days are far")
	falling.Slope *= 4
	f = Disk("nodes/node-a", "node-a", falling, 2*gib, now)
	require.NotNil(t, f)
	assert.Equal(t, "the disk of node-a is full in 2d, at what it has lost in the last 6h", f.Says)
	assert.Equal(t, "warn", f.Level)
	assert.Equal(t, now.Add(48*time.Hour), *f.At)
	falling.Slope *= 4
	assert.Equal(t, "alarm", Disk("nodes/node-a", "node-a", falling, 2*gib, now).Level)
	falling.Fit = 0.3
	assert.Nil(t, Disk("nodes/node-a", "node-a", falling, 2*gib, now), "it goes up and down")
	assert.Nil(t, Disk("nodes/node-a", "node-a", Trend{Last: gib, Slope: 5, Fit: 1}, 0, now), "there is ever more room")

	growing := Trend{Last: 600, Slope: 0.2, Fit: 0.9, Length: 30 * time.Minute}
	assert.Equal(t, "coldchain/recalls: 600 messages wait, and 12 more each minute", Waiting("coldchain/recalls", growing).Says)
	growing.Slope = 0.01
	assert.Nil(t, Waiting("coldchain/recalls", growing), "hardly more than before")
	assert.Nil(t, Waiting("coldchain/recalls", Trend{Last: 5, Slope: 1, Fit: 1, Length: time.Minute}), "a handful")

	assert.Nil(t, Loss("coldchain/readings@forecast", 30*24*time.Hour, now))
	assert.Nil(t, Loss("coldchain/readings@forecast", -1, now))
	assert.Equal(t, "alarm", Loss("coldchain/readings@forecast", time.Hour, now).Level)
	assert.Equal(t, "coldchain/readings@forecast begins to lose messages that it has not read in 2h", Loss("coldchain/readings@forecast", 2*time.Hour, now).Says)

	assert.Nil(t, Certificate("nodes/node-a", "node-a", 60*24*time.Hour, now))
	assert.Equal(t, "the certificate of node-a ends in 10d", Certificate("nodes/node-a", "node-a", 240*time.Hour, now).Says)
	assert.Equal(t, "the certificate of node-a has ended", Certificate("nodes/node-a", "node-a", -time.Hour, now).Says)
}

func TestWhenASpaceIsFull(t *testing.T) {
	now := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	grows := func(last, slope, fit float64) Trend {
		return Trend{Last: last, Slope: slope, Fit: fit, Length: 2 * time.Hour}
	}
	f := Room("coldchain", []Trend{grows(400, 0.1, 1), grows(500, -0.05, 0.9), grows(50, 77, 0.2)}, 1000, now)
	require.NotNil(t, f)
	assert.Equal(t, "space coldchain keeps all that it may in 16m40s, at what it has grown in the last 2h", f.Says)
	assert.Equal(t, now.Add(1000*time.Second), *f.At)
	assert.Equal(t, "alarm", f.Level)
	f = Room("coldchain", []Trend{grows(0, 0.01, 1)}, 2000, now)
	assert.Equal(t, "warn", f.Level, "55 hours")
	assert.Nil(t, Room("coldchain", []Trend{grows(0, 0.001, 1)}, 1000, now), "11 days")
	assert.Nil(t, Room("coldchain", []Trend{grows(900, -1, 1)}, 1000, now), "it shrinks")
	assert.Nil(t, Room("coldchain", []Trend{grows(900, 0, 0)}, 1000, now), "it stands still")
	f = Room("coldchain", []Trend{grows(900, 0, 0), grows(100, 0, 0)}, 1000, now)
	assert.Equal(t, "space coldchain keeps all that it may, and takes nothing", f.Says)
	assert.Equal(t, now, *f.At)
}

func TestTheNearestAlarmComesFirst(t *testing.T) {
	soon, later := time.Unix(100, 0), time.Unix(200, 0)
	all := []form.Foreseen{{Address: "c", Level: "warn"}, {Address: "b", Level: "warn", At: &soon}, {Address: "a", Level: "alarm", At: &later}}
	Sort(all)
	assert.Equal(t, []string{"a", "b", "c"}, []string{all[0].Address, all[1].Address, all[2].Address})
}
