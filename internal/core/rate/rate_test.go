package rate

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestTheFlowOfEveryStepIsExact(t *testing.T) {
	var h History
	start := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	total := Totals{}
	for s := range 4000 {
		total.MessagesIn += int64(s % 7)
		total.BytesOut += 10
		h.Sample(start.Add(time.Duration(s)*time.Second), total)
	}
	now := start.Add(4000 * time.Second)
	fine, step := h.Series(now, time.Minute)
	assert.Equal(t, time.Second, step)
	assert.Len(t, fine, 60)
	for i, f := range fine {
		assert.EqualValues(t, (3940+i)%7, f.MessagesIn)
	}
	coarse, step := h.Series(now, time.Hour)
	assert.Equal(t, 10*time.Second, step)
	sum := int64(0)
	for _, c := range coarse[1:] {
		sum += c.BytesOut
		assert.EqualValues(t, 100, c.BytesOut)
	}
	assert.EqualValues(t, 10, h.PerSecond(now, 30*time.Second).BytesOut)

	quiet := now.Add(2 * time.Hour)
	h.Sample(quiet, total)
	old, _ := h.Series(quiet, time.Hour)
	for _, c := range old {
		assert.Zero(t, c, "what is older than the ring is gone")
	}
}

func TestTheRateOfAWindow(t *testing.T) {
	var w Window
	start := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	assert.Zero(t, w.PerSecond())
	for i := range 60 {
		w.Sample(start.Add(time.Duration(i)*time.Second), int64(i*7))
	}
	assert.EqualValues(t, 7, w.PerSecond())
	for i := range 20 {
		w.Sample(start.Add(time.Duration(60+i)*time.Second), 59*7)
	}
	assert.Zero(t, w.PerSecond(), "nothing moved for longer than the window")
	w.Sample(start.Add(81*time.Second), 10)
	assert.Zero(t, w.PerSecond(), "what became less begins anew")
	w.Sample(start.Add(82*time.Second), 30)
	w.Sample(start.Add(82*time.Second), 32)
	assert.EqualValues(t, 22, w.PerSecond())
}
