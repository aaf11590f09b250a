package api

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"steadyferry/internal/core/form"
)

// Of a stream only the first event has all; those after it have what is another
// thing than before, and what is no more.
func TestAStreamTellsWhatHasChanged(t *testing.T) {
	state := func(topics []form.Channel, groups ...form.Group) *snapshot {
		return &snapshot{live: form.Live{Whole: true, Gone: []string{}, Channels: topics, Groups: groups, Status: form.Status{Node: "node-a"}}}
	}
	a, b := form.Channel{Address: "coldchain/readings", Messages: 1}, form.Channel{Address: "coldchain/inspections"}
	g := form.Group{Address: "coldchain/readings@compliance", Lag: 3}
	var stream, other told
	first := stream.news(state([]form.Channel{a, b}, g))
	assert.True(t, first.Whole)
	assert.Len(t, first.Channels, 2)
	assert.Len(t, first.Groups, 1)

	same := stream.news(state([]form.Channel{a, b}, g))
	assert.False(t, same.Whole)
	assert.Empty(t, same.Channels)
	assert.Empty(t, same.Groups)
	assert.Empty(t, same.Gone)
	assert.Equal(t, "node-a", same.Status.Node, "what is small comes each time")

	a.Messages++
	next := state([]form.Channel{a, {Address: "coldchain/new"}})
	news := stream.news(next)
	assert.Equal(t, []form.Channel{a, {Address: "coldchain/new"}}, news.Channels)
	assert.ElementsMatch(t, []string{"coldchain/inspections", "coldchain/readings@compliance"}, news.Gone)
	assert.True(t, other.news(next).Whole, "each stream has its own")
	assert.Empty(t, next.live.Gone, "what others get is as it was")
}
