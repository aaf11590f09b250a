package outside

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestHowLongAPlaceAsksToBeLeftAlone(t *testing.T) {
	start := time.Date(2026, 11, 27, 8, 0, 0, 0, time.UTC)
	for text, wanted := range map[string]time.Duration{
		"": 0, "120": 2 * time.Minute, "-1": 0, "soon": 0, "99999999": maxAfter,
		"Fri, 27 Nov 2026 08:00:30 GMT": 30 * time.Second, "Fri, 27 Nov 2026 07:00:00 GMT": 0,
	} {
		assert.Equal(t, wanted, retryAfter(text, start), text)
	}
}
