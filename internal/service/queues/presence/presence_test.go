package presence

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/queue"
)

// A member is listed while it holds messages, and for a while after it was heard
// of.
func TestWhoIsPresent(t *testing.T) {
	var p Presence
	p.Note("lana")
	p.Note("old")
	at, _ := p.seen.Load("old")
	at.(interface{ Store(int64) }).Store(time.Now().Add(-2 * For).UnixMicro())
	all := p.Members([]queue.Holding{{Member: "mika", Leased: 3}, {Member: "lana", Leased: 1}})
	require.Len(t, all, 2)
	assert.Equal(t, "lana", all[0].Member)
	assert.NotZero(t, all[0].Seen)
	assert.EqualValues(t, 3, all[1].Leased)
	assert.Zero(t, all[1].Seen, "it holds messages, and was not heard of here")
	_, known := p.seen.Load("old")
	assert.False(t, known)
	var many []queue.Holding
	for i := range maxMembers + 50 {
		many = append(many, queue.Holding{Member: string(rune('a'+i%26)) + time.Duration(i).String(), Leased: i})
	}
	all = p.Members(many)
	assert.Len(t, all, maxMembers)
	for _, m := range all {
		assert.GreaterOrEqual(t, m.Leased, 50, "those that hold most are named")
	}
}
