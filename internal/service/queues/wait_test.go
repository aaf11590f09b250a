package queues

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// One that waits at several partitions uses one of those that woke it: the others
// wake somebody else.
func TestWhoIsWokenTwiceUsesOne(t *testing.T) {
	one, two := &queueMachine{}, &queueMachine{}
	w, there := waitAt([]*queueMachine{one, two}, "lana", 1)
	require.False(t, there)
	other := make(chan struct{}, 1)
	two.waiters.Add(1, other)
	one.waiters.Wake(1)
	two.waiters.Wake(1)
	assert.Empty(t, other)
	w.end(true)
	assert.Len(t, other, 1)
	assert.Zero(t, one.waiters.Count()+two.waiters.Count())

	two.ready.Store(1)
	w, there = waitAt([]*queueMachine{one, two}, "lana", 1)
	assert.True(t, there)
	w.end(false)
	assert.Zero(t, one.waiters.Count()+two.waiters.Count())
}
