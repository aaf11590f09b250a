package message

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPlacesAsTexts(t *testing.T) {
	for _, p := range []Place{{}, {Epoch: 1, Cut: 2, Offset: 3}, {Epoch: 1<<64 - 1, Cut: 1<<64 - 1, Offset: 1<<63 - 1}} {
		back, err := ParsePlace(p.String())
		require.NoError(t, err)
		assert.Equal(t, p, back)
	}
	for _, text := range []string{"", "1.2", "1.2.3.4", "a.2.3", "1..3", "-1.2.3", "1.2.99999999999999999999"} {
		p, err := ParsePlace(text)
		assert.Error(t, err, text)
		assert.Zero(t, p)
	}
}

func FuzzParsePlace(f *testing.F) {
	f.Add("0.1.2000")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := ParsePlace(text)
		if err != nil {
			return
		}
		back, err := ParsePlace(p.String())
		require.NoError(t, err)
		require.Equal(t, p, back)
	})
}
