package cluster_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/node/nodetest"
)

// A node that is not heard of is away for as long as that; the others are not.
func TestConditionsOfNodes(t *testing.T) {
	nodes := nodetest.Cluster(t, 2)
	a, b := nodes[0].Parts.ID(), nodes[1].Parts.ID()
	all := nodes[0].Cluster.Conditions(time.Now())
	require.Len(t, all, 2)
	require.Eventually(t, func() bool { return nodes[0].Cluster.Conditions(time.Now())[b].DiskFree > 0 }, 20*time.Second, 10*time.Millisecond)
	for id, c := range all {
		assert.NotZero(t, c.DiskFree, "node %d: that nothing is known of a disk is not that it is full", id)
		assert.Zero(t, c.Away, "node %d", id)
		assert.Zero(t, c.RecordsAway, "node %d", id)
		assert.Negative(t, c.CertificateLeft, "node %d shows none", id)
	}
	nodes[1].Close()
	require.Eventually(t, func() bool { return nodes[0].Cluster.Conditions(time.Now())[b].Away > 0 }, 20*time.Second, 50*time.Millisecond)
	later := nodes[0].Cluster.Conditions(time.Now().Add(time.Hour))
	assert.Greater(t, later[b].Away, 59*time.Minute)
	assert.Zero(t, later[a].Away)
}
