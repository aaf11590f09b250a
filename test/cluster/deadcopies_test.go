package cluster

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/test/harness"
)

// rejecter is a member that rejects all that comes to a queue, while an operator returns
// some of it: a message may become a dead letter many times.
type rejecter struct {
	c     *harness.Cluster
	queue address.Address
	stop  context.CancelFunc
	work  sync.WaitGroup
}

func startRejecter(t *testing.T, c *harness.Cluster, queue address.Address) *rejecter {
	ctx, stop := context.WithCancel(t.Context())
	r := &rejecter{c: c, queue: queue, stop: stop}
	t.Cleanup(r.end)
	r.work.Go(func() {
		for ctx.Err() == nil {
			call, cancel := context.WithTimeout(ctx, 5*time.Second)
			w, err := c.API.Work(call, queue, client.WorkRequest{Member: "rejecter", Max: 50, Wait: "300ms"})
			if err == nil && len(w.Leased) > 0 {
				var settle []client.Settlement
				for _, l := range w.Leased {
					settle = append(settle, client.Settlement{Lease: l.Lease, Outcome: client.OutcomeReject, Reason: "never-good", Detail: "box " + l.Message.Key + " is not there"})
				}
				_, err = c.API.Work(call, queue, client.WorkRequest{Member: "rejecter", Settle: settle})
			}
			cancel()
			if err != nil {
				time.Sleep(50 * time.Millisecond)
			}
		}
	})
	return r
}

func (r *rejecter) end() {
	r.stop()
	r.work.Wait()
}

// someReturn has an operator return some dead letters, if there is somebody to ask.
func (r *rejecter) someReturn(n *harness.Node) {
	n.Ferry("", "dead", r.queue.String(), "-limit", "40", "-return", "-yes")
}

// copied checks that a route on the dead letters has copied each, each time that it became
// one: as often as the queue has set messages aside.
func (r *rejecter) copied(t *testing.T, to address.Address, kept map[string]int, takes func(size int) bool) {
	r.c.Wait(time.Minute, "all is rejected", func() bool {
		now := countsOf(t, r.c, r.queue)
		return now.Waiting+now.Leased+now.Delayed == 0
	})
	r.end()
	route := r.queue.Reader("dead@copies")
	r.c.Wait(2*time.Minute, "all is copied", func() bool { return leftOf(r.c, route) == 0 })
	time.Sleep(2 * time.Second) // what is told of lag may be a second old
	times, total := map[string]int{}, 0
	for p := range partitionsOf(t, r.c, to) {
		for _, body := range readFrom(t, r.c.Nodes[1], to, p) {
			times[body]++
			total++
		}
	}
	for body, size := range kept {
		if takes(size) {
			require.Positive(t, times[body], "a dead letter was not copied")
		}
	}
	again := 0
	for _, n := range times {
		again += n - 1
	}
	counts := countsOf(t, r.c, r.queue)
	assert.EqualValues(t, counts.Rejected, total, "one copy each time")
	assert.Len(t, times, int(counts.Dead), "all are dead now")
	t.Logf("dead letters: %d messages, %d copies; %d came again after a return", len(times), total, again)
}
