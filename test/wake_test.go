package test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/test/harness"
)

// Each message wakes a member that waits, also when a member waits at several
// partitions: a wake-up that one member has no use for goes to the next.
func TestEveryReadyMessageWakesAMember(t *testing.T) {
	n := harness.Start(t)
	n.Must("new", "space", "coldchain")
	n.Must("new", "queue", "coldchain/inspections", "-partitions", "2")
	a := address.Channel("coldchain", "inspections")
	const rounds, members = 15, 3
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	var slowest time.Duration
	for round := range rounds {
		var wg sync.WaitGroup
		var mu sync.Mutex
		got, at := 0, time.Time{}
		for m := range members {
			wg.Go(func() {
				answer, err := n.API.Work(ctx, a, client.WorkRequest{Member: fmt.Sprintf("m%d", m), Max: 1, Wait: "10s", AcceptOnDelivery: true})
				mu.Lock()
				defer mu.Unlock()
				assert.NoError(t, err)
				got += len(answer.Leased)
				at = time.Now()
			})
		}
		time.Sleep(50 * time.Millisecond) // they all wait
		sent := time.Now()
		for i := range members {
			wg.Go(func() {
				path := fmt.Sprintf("/api/v1/channels/coldchain/inspections/messages?partition=%d", i%2)
				assert.Equal(t, 200, n.Ask("POST", path, "x").Status)
			})
		}
		wg.Wait()
		require.Equal(t, members, got, "round %d", round)
		slowest = max(slowest, at.Sub(sent))
	}
	t.Logf("the slowest of %d rounds took %s", rounds, slowest)
	assert.Less(t, slowest, 5*time.Second, "a message waited until a member gave up waiting")
}

// Members that wait take no slot of what waits between nodes: with hundreds of
// them at a node that does not lead, publishes and answers between the two go on.
func TestWaitingMembersTakeNoSlots(t *testing.T) {
	c := harness.StartCluster(t, 2)
	n := c.Nodes[0]
	n.Must("new", "space", "coldchain")
	n.Must("new", "queue", "coldchain/inspections", "-replicas", "1")
	n.Topic("coldchain/readings", 2, client.Settings{"replicas": 1})
	ctx, cancel := context.WithCancel(t.Context())
	var wg sync.WaitGroup
	// One of the nodes does not lead the queue's partition.
	for _, node := range c.Nodes {
		for m := range 400 {
			wg.Go(func() {
				node.API.Work(ctx, address.Channel("coldchain", "inspections"), client.WorkRequest{Member: fmt.Sprintf("%s-%d", node.Name, m), Max: 1, Wait: "20s"})
			})
		}
	}
	time.Sleep(2 * time.Second) // they all wait
	for round := range 20 {
		for _, node := range c.Nodes {
			for partition := range 2 {
				began := time.Now()
				path := fmt.Sprintf("/api/v1/channels/coldchain/readings/messages?partition=%d", partition)
				require.Equal(t, 200, node.Ask("POST", path, "x").Status)
				require.Less(t, time.Since(began), 5*time.Second, "round %d at %s", round, node.Name)
			}
		}
	}
	cancel()
	wg.Wait()
}
