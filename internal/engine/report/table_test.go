package report

import (
	"encoding/json"
	"testing"

	"steadyferry/internal/engine/link"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestALostReportIsNoticed has one node tell another of changes, of which some
// are lost on the way: until all is told again, what is known of it does not
// count as current.
func TestALostReportIsNoticed(t *testing.T) {
	const from = 2
	key := link.Key{Channel: 7, Partition: 1}
	o := NewTable()
	tell := func(number uint64, whole bool, term uint64) {
		rr, err := json.Marshal(&Replica{Key: key, Term: term, Leading: true})
		require.NoError(t, err)
		body, err := json.Marshal(&Node{Whole: whole, Number: number, Replicas: []json.RawMessage{rr}})
		require.NoError(t, err)
		require.Len(t, o.Take(from, body), 1)
	}
	complete := func() bool { return !o.of[from].wholeAt.IsZero() }

	tell(4, false, 1)
	assert.False(t, complete(), "the first that is heard are changes alone")
	tell(5, true, 2)
	assert.True(t, complete())
	tell(6, false, 3)
	tell(7, false, 4)
	assert.True(t, complete(), "one after the other")
	tell(9, false, 6)
	assert.False(t, complete(), "8 was lost")
	assert.EqualValues(t, 6, o.Replica(from, key).Term, "what comes after counts nevertheless")
	tell(10, false, 7)
	assert.False(t, complete(), "what was lost stays lost until all is told")
	tell(11, true, 8)
	assert.True(t, complete())
	tell(1, false, 1)
	assert.False(t, complete(), "the node was started again")
}
