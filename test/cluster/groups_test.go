package cluster

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/message"
	"steadyferry/test/harness"
)

// The node that coordinates a group is killed: its members go on with another
// one, and nothing that was committed is lost.
func TestMembersGoOnWithoutTheNodeThatCoordinates(t *testing.T) {
	c := harness.StartCluster(t, 3)
	topic := c.Nodes[0].Topic("coldchain/doors", partitions)
	c.WaitInStep(15 * time.Second)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	publisher, err := c.API.NewPublisher(ctx, topic, message.Plain)
	require.NoError(t, err)
	go func() {
		for i := 0; ctx.Err() == nil; i++ {
			if publisher.Add(ctx, &message.Message{Key: fmt.Sprint(i % 50), Body: []byte(strings.Repeat("x", 50))}, i%partitions) != nil || i%20 == 0 && publisher.Flush(ctx) != nil {
				time.Sleep(10 * time.Millisecond)
			}
			time.Sleep(2 * time.Millisecond)
		}
	}()
	// Some of many groups are coordinated by each node.
	const groups = 9
	type progress struct {
		mu     sync.Mutex
		acked  map[int]int64
		last   time.Time
		pauses time.Duration
	}
	all := make([]*progress, groups)
	var wg sync.WaitGroup
	for g := range groups {
		pr := &progress{acked: map[int]int64{}, last: time.Now()}
		all[g] = pr
		a := topic
		a.Group = fmt.Sprintf("g%d", g)
		for range 2 {
			wg.Go(func() {
				r, err := c.API.ReadGroup(ctx, a, client.ReadOptions{Timeout: 5 * time.Second, JoinGroup: client.JoinGroup{From: "first"}})
				if !assert.NoError(t, err) {
					return
				}
				for {
					b, err := r.Next(ctx)
					if err != nil {
						return
					}
					if r.Commit(ctx, b) == nil {
						pr.mu.Lock()
						pr.acked[b.Partition] = max(pr.acked[b.Partition], b.Next)
						pr.pauses = max(pr.pauses, time.Since(pr.last))
						pr.last = time.Now()
						pr.mu.Unlock()
					}
				}
			})
		}
	}
	flows := func() {
		t.Helper()
		for _, pr := range all {
			pr.mu.Lock()
			pr.pauses, pr.last = 0, time.Now()
			pr.mu.Unlock()
		}
		time.Sleep(3 * time.Second)
	}
	flows()
	for _, n := range c.Nodes {
		flows()
		n.Kill()
		time.Sleep(6 * time.Second)
		for g, pr := range all {
			pr.mu.Lock()
			assert.Less(t, max(pr.pauses, time.Since(pr.last)), 5*time.Second, "group %d went on after %s was killed", g, n.Name)
			pr.mu.Unlock()
		}
		n.Run()
		c.WaitInStep(30 * time.Second)
	}
	cancel()
	wg.Wait()
	for g, pr := range all {
		a := topic
		a.Group = fmt.Sprintf("g%d", g)
		lag, err := c.API.Lag(context.Background(), a)
		require.NoError(t, err)
		for _, p := range lag[0].Partitions {
			assert.GreaterOrEqual(t, p.Committed, pr.acked[p.Partition], "group %d, partition %d", g, p.Partition)
		}
	}
	var longest time.Duration
	for _, pr := range all {
		longest = max(longest, pr.pauses)
	}
	t.Logf("the longest pause of a group was %s", longest)
}
