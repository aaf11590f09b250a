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
