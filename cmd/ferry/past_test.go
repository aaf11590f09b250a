package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestACurveLeavesOutWhatIsNotKnown(t *testing.T) {
	zero, some, most := 0.0, 4.0, 8.0
	assert.Equal(t, " ▁▄█ ", curve([]*float64{nil, &zero, &some, &most, nil}))
	assert.Equal(t, "", curve(nil))
	long := make([]*float64, 6000)
	long[5999], long[0] = &most, &zero
	drawn := []rune(curve(long))
	assert.Len(t, drawn, curveSteps)
	assert.Equal(t, "▁ ", string(drawn[:2]))
	assert.Equal(t, " █", string(drawn[curveSteps-2:]))
}

func TestAFigureHasItsUnit(t *testing.T) {
	for unit, want := range map[string]string{"": "1,500", "/s": "1,501/s", "B": "1.5KiB", "B/s": "1.5KiB/s", "s": "25m0.5s"} {
		x := 1500.5
		if unit == "B" || unit == "B/s" {
			x = 1536
		}
		assert.Equal(t, want, figure(x, unit), unit)
	}
}
