package words

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMany(t *testing.T) {
	for n, want := range map[int64]string{0: "0 messages", 1: "1 message", 2: "2 messages", 999: "999 messages", 1000: "1,000 messages", -1204: "-1,204 messages", -100: "-100 messages", 1234567: "1,234,567 messages"} {
		assert.Equal(t, want, Many(n, "message"))
	}
	assert.Equal(t, "1 letter waits", Many(1, "letter waits", "letters wait"))
	assert.Equal(t, "2 letters wait", Many(uint32(2), "letter waits", "letters wait"))
	assert.Equal(t, "-9,223,372,036,854,775,808", Count(int64(math.MinInt64)))
	assert.NotContains(t, strings.ReplaceAll(Count(math.MaxInt64), ",", ""), ",")
}
