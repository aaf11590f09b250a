package problem

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func Example() {
	err := New(Invalid, "%d partitions", 0).Field("partitions").Allowed("1 to 1000").Next("ferry help new tells more")
	fmt.Println(err)
	// Output: 0 partitions; allowed: 1 to 1000; ferry help new tells more
}

func TestAProblemIsTheSameOnTheOtherNode(t *testing.T) {
	for _, p := range []*Problem{
		New(Gone, "coldchain/readings#3:12 is gone"),
		New(Invalid, "a share of %q", "120%").Field("stop-above").Allowed("0% to 100%").Next("choose less than 100%%"),
	} {
		b, err := json.Marshal(p)
		require.NoError(t, err)
		back := &Problem{}
		require.NoError(t, json.Unmarshal(b, back))
		assert.Equal(t, p, back)
		assert.Equal(t, p.Error(), back.Error())
	}
}
