package ranges

import (
	"encoding/json"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsToldOfTheMessagesMeant(t *testing.T) {
	var m Ranges
	m.Add(0, []int64{12, 13, 14, 20})
	m.Add(1, []int64{7})
	m.Add(0, []int64{21, 30})
	assert.Equal(t, map[string]any{"0": "12-14 20-21 30", "1": "7"}, m.Told())
	assert.Empty(t, new(Ranges).Told())
	for name, told := range map[string]map[string]any{
		"nothing": {}, "more": {"0": "1", "more": true}, "no partition": {"x": "1"}, "no text": {"0": 7}, "no offsets": {"0": "a"}, "turned": {"0": "9-3"}, "endless": {"0": "0-9223372036854775807"}, "too many": {"0": "0-9999", "1": "3"},
	} {
		_, ok := Parse(told)
		assert.False(t, ok, name)
	}
}

// What is told is read back as it was, through JSON; or says that it is not all.
func TestWhatIsMeantIsReadBack(t *testing.T) {
	for seed := range uint64(60) {
		rnd := rand.New(rand.NewPCG(seed, 1))
		var m Ranges
		want, count := map[int][]int64{}, 0
		for range rnd.IntN(500) {
			p := rnd.IntN(3)
			next := int64(rnd.IntN(3) + 1)
			if of := want[p]; len(of) > 0 {
				next += of[len(of)-1]
			}
			want[p] = append(want[p], next)
			m.Add(p, []int64{next})
			count++
		}
		b, err := json.Marshal(m.Told())
		require.NoError(t, err)
		var told map[string]any
		require.NoError(t, json.Unmarshal(b, &told))
		got, ok := Parse(told)
		switch {
		case count == 0, told["more"] == true:
			assert.False(t, ok)
		default:
			assert.True(t, ok)
			assert.Equal(t, want, got)
		}
	}
	var many Ranges
	for i := range int64(20_000) {
		many.Add(0, []int64{i})
	}
	assert.Equal(t, map[string]any{"0": "0-9999", "more": true}, many.Told())
}
