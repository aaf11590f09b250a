package term

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestACurveLeavesOutWhatIsNotKnown(t *testing.T) {
	zero, some, most := 0.0, 4.0, 8.0
	assert.Equal(t, " ▁▄█ ", Curve([]*float64{nil, &zero, &some, &most, nil}))
	assert.Equal(t, "", Curve(nil))
	long := make([]*float64, 6000)
	long[5999], long[0] = &most, &zero
	drawn := []rune(Curve(long))
	assert.Len(t, drawn, curveSteps)
	assert.Equal(t, "▁ ", string(drawn[:2]))
	assert.Equal(t, " █", string(drawn[curveSteps-2:]))
}
