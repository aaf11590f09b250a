package main

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"steadyferry/client"
)

// Of what a route takes from a queue no age is known.
func TestLagIsToldWithTheAgeThatIsKnown(t *testing.T) {
	assert.Equal(t, "none: all is read", lagText(client.Group{}))
	assert.Equal(t, "1 message", lagText(client.Group{Lag: 1}))
	assert.Equal(t, "1,200 messages, the oldest 2.5s old", lagText(client.Group{Lag: 1200, LagSeconds: 2.5}))
}
