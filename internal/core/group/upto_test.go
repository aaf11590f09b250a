package group

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestUpToIsReadBackAndCountsOnlyWhatIsStillHeld(t *testing.T) {
	u := UpTo{3: {7, 1200}, 0: {2, 0}}
	assert.Equal(t, "0@2:0,3@7:1200", u.String())
	again, err := ParseUpTo(u.String())
	require.NoError(t, err)
	assert.Equal(t, u, again)
	none, err := ParseUpTo("")
	require.NoError(t, err)
	assert.EqualValues(t, 9, none.From(3, 7, 9), "the committed offset")
	assert.EqualValues(t, 1200, u.From(3, 7, 9))
	assert.EqualValues(t, 1300, u.From(3, 7, 1300), "a commit may be ahead")
	assert.EqualValues(t, 9, u.From(3, 8, 9), "it was given away, or moved, since")
	for _, bad := range []string{"3", "3@7", "3:1200", "3@7:-1", "-1@7:0", "3@7:1200,", "x@7:1"} {
		_, err := ParseUpTo(bad)
		assert.ErrorContains(t, err, bad)
	}
}

func FuzzUpTo(f *testing.F) {
	f.Add("0@2:0,3@7:1200")
	f.Fuzz(func(t *testing.T, text string) {
		u, err := ParseUpTo(text)
		if err != nil {
			return
		}
		again, err := ParseUpTo(u.String())
		require.NoError(t, err)
		assert.Equal(t, u, again)
	})
}
