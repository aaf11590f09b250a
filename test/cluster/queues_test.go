package cluster

import (
	"context"
	"fmt"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/test/harness"
)

func countsOf(t *testing.T, c *harness.Cluster, a address.Address) client.Counts {
	t.Helper()
	var topic client.Channel
	require.NoError(t, c.API.Call(context.Background(), http.MethodGet, client.ChannelPath(a), nil, nil, &topic))
	return topic.Queue.Counts
}

// leaderOf returns the name of the node that leads the first partition, empty
// without one.
func leaderOf(t *testing.T, c *harness.Cluster, a address.Address) string {
	t.Helper()
	var topic client.Channel
	require.NoError(t, c.API.Call(context.Background(), http.MethodGet, client.ChannelPath(a), nil, nil, &topic))
	return topic.Each[0].Leader
}

// What a queue's leader knows of leases, attempts and dead letters, the next
// one knows too: a lease from before is good after it.
func TestLeasesSurviveTheLossOfTheLeader(t *testing.T) {
	c := harness.StartCluster(t, 3)
	c.Nodes[0].Must("new", "space", "coldchain")
	c.Nodes[0].Must("new", "queue", "coldchain/inspections", "-replicas", "3", "-lease", "1m", "-backoff", "0s..0s")
	c.WaitInStep(15 * time.Second)
	a := address.Channel("coldchain", "inspections")
	ctx := context.Background()
	var b message.Builder
	for i := range 9 {
		b.Add(&message.Message{Body: fmt.Append(nil, i)})
	}
	_, err := c.API.Publish(ctx, a, 0, client.BatchType, nil, b.Build(message.Plain, nil))
	require.NoError(t, err)
	work := func(most int, settle ...client.Settlement) *client.Worked {
		t.Helper()
		w, err := c.API.Work(ctx, a, client.WorkRequest{Member: "m", Max: most, Settle: settle})
		require.NoError(t, err)
		for _, s := range w.Settled {
			assert.Equal(t, client.ResultDone, s.Result, s.Lease)
		}
		return w
	}
	held := work(8).Leased
	require.Len(t, held, 8)
	work(0, client.Settlement{Lease: held[0].Lease, Outcome: client.OutcomeReject, Reason: "bad", Detail: "box 7 is broken"},
		client.Settlement{Lease: held[1].Lease, Outcome: client.OutcomeRelease, After: "1h"}, client.Settlement{Lease: held[2].Lease, Outcome: client.OutcomeRelease})

	want := client.Counts{Waiting: 2, Leased: 5, Delayed: 1, Dead: 1, Attempts: 8, Rejected: 1}
	require.Equal(t, want, countsOf(t, c, a))
	gone := c.Node(leaderOf(t, c, a))
	gone.Kill()
	c.Wait(10*time.Second, "another leader", func() bool {
		now := leaderOf(t, c, a)
		return now != "" && now != gone.Name
	})
	c.Wait(5*time.Second, "the same counts from the new leader", func() bool { return countsOf(t, c, a) == want })
	work(0, client.Settlement{Lease: held[3].Lease, Outcome: client.OutcomeAccept}, client.Settlement{Lease: held[4].Lease, Outcome: client.OutcomeRelease})
	again := work(9).Leased
	require.Len(t, again, 3)
	assert.Equal(t, 2, again[0].Attempt, "of the one that was released before the leader was lost")
	assert.Equal(t, 2, again[1].Attempt)
	assert.Equal(t, 1, again[2].Attempt)
	assert.WithinDuration(t, held[5].Deadline, time.Now().Add(time.Minute), 20*time.Second)
	other := c.Nodes[0]
	if other == gone {
		other = c.Nodes[1]
	}
	assert.Contains(t, other.Must("dead", a.String()+"#0:0"), "box 7 is broken")

	// The one that was away catches up, and can lead.
	gone.Run()
	c.WaitInStep(20 * time.Second)
	c.Nodes[0].Must("dead", a.String(), "-return", "-yes")
	assert.Contains(t, c.Nodes[2].Must("trace", a.String()+"#0:0"), "returned")
	n := c.Nodes[0]
	assert.Contains(t, n.MustTool("ferryd", "verify", "-server", n.URL, "-token", n.Token, a.String()), "equal on")
}

// Nodes are killed in turn while members work: every message that was
// acknowledged is accepted, and none twice.
func TestWorkGoesOnWhileNodesAreLost(t *testing.T) {
	c := harness.StartCluster(t, 3)
	c.Nodes[0].Must("new", "space", "coldchain")
	c.Nodes[0].Must("new", "queue", "coldchain/inspections", "-partitions", "4", "-replicas", "3", "-lease", "3s", "-attempt-limit", "1000", "-backoff", "0s..0s")
	c.WaitInStep(15 * time.Second)
	a := address.Channel("coldchain", "inspections")
	ctx, stop := context.WithCancel(context.Background())
	publisher, err := c.API.NewPublisher(context.Background(), a, message.Plain)
	require.NoError(t, err)
	var wg sync.WaitGroup
	published, accepted := map[string]bool{}, sync.Map{}
	wg.Go(func() {
		for i := 0; ctx.Err() == nil; i++ {
			body := fmt.Sprint(i)
			if publisher.Add(context.Background(), &message.Message{Body: []byte(body)}, i%4) == nil && publisher.Flush(context.Background()) == nil {
				published[body] = true
			}
			time.Sleep(3 * time.Millisecond)
		}
	})
	var done atomic.Bool
	var workers sync.WaitGroup
	for i := range 4 {
		workers.Go(func() {
			for !done.Load() {
				w, err := c.API.Work(context.Background(), a, client.WorkRequest{Member: fmt.Sprint("m", i), Max: 5, Wait: "300ms"})
				if err != nil {
					time.Sleep(20 * time.Millisecond)
					continue
				}
				for _, l := range w.Leased {
					s, err := c.API.Work(context.Background(), a, client.WorkRequest{Settle: []client.Settlement{{Lease: l.Lease, Outcome: client.OutcomeAccept}}})
					if err == nil && s.Settled[0].Result == client.ResultDone {
						_, twice := accepted.LoadOrStore(string(l.Message.Body), true)
						assert.False(t, twice, "%s was accepted twice", l.Message.Body)
					}
				}
			}
		})
	}
	for i := range 6 {
		time.Sleep(1500 * time.Millisecond)
		n := c.Nodes[i%3]
		n.Kill()
		time.Sleep(500 * time.Millisecond)
		n.Run()
		c.WaitInStep(20 * time.Second)
	}
	stop()
	wg.Wait()
	c.Wait(30*time.Second, "all is accepted", func() bool {
		n := countsOf(t, c, a)
		return n.Waiting+n.Leased+n.Delayed == 0
	})
	done.Store(true)
	workers.Wait()
	n := countsOf(t, c, a)
	assert.EqualValues(t, len(published), n.Accepted, "every message that was kept is accepted, once")
	assert.Zero(t, n.Dead)
	t.Logf("%d messages, %d attempts", len(published), n.Attempts)
	require.Greater(t, len(published), 500)
}
