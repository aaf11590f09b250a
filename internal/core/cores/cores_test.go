package cores

import (
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSpareThreadsUnlessThatIsSet(t *testing.T) {
	before := runtime.GOMAXPROCS(0)
	defer runtime.GOMAXPROCS(before)
	t.Setenv("GOMAXPROCS", "1")
	Spare()
	assert.Equal(t, before, runtime.GOMAXPROCS(0), "whoever sets it decides")
	t.Setenv("GOMAXPROCS", "")
	count := Count
	Spare()
	Spare()
	assert.Equal(t, count+spare, runtime.GOMAXPROCS(0), "once, however often")
	assert.Equal(t, count, Count, "there are no more processors than before")
	assert.Less(t, AllButOne(), max(2, count))
}
