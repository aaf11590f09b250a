package routes_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/queues"
)

func counts(n *nodetest.Node, q *part.Channel) queue.Counts {
	return n.Queues.Counts(n.Parts.ByID(q.ID))
}

func work(t *testing.T, n *nodetest.Node, q *part.Channel, w queues.Work) *queues.Done {
	t.Helper()
	w.Member, w.Partition = "lana", part.AnyPartition
	done, err := n.Queues.Work(accesstest.Owner(t), n.Parts.ByID(q.ID), w)
	require.NoError(t, err)
	return done
}

// A route takes from a queue what fulfils its condition: once, whatever members do,
// and the rest stays for them.
func TestARouteTakesFromAQueue(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	orders := n.Channel(setting.Queue, "coldchain/orders", setting.Change{"partitionCount": 2, "backoff": setting.Span{}})
	north := n.Channel(setting.Topic, "coldchain/north", nil)
	n.Publish(orders, 0, celsius(9, 3, 10)...)
	route(t, n, "coldchain/orders@north", "first", setting.Change{"to": "coldchain/north", "where": "body.celsius > 8.0", "edits": []string{"set header.region=north"}})
	n.Publish(orders, 1, celsius(11, 4)...)
	all := arrive(t, n, north, celsius(9, 10, 11)...)
	source, _ := all[0].Header(message.HeaderRouteFrom)
	assert.Contains(t, source, "coldchain/orders#")
	require.Eventually(t, func() bool { return counts(n, orders) == queue.Counts{Waiting: 2, Accepted: 3} }, waitTime, tick, "what is sent is done, and the rest waits: %+v", counts(n, orders))

	// What a member gives back is looked at again.
	held := work(t, n, orders, queues.Work{Max: 2, Wait: time.Second}).Leased
	require.Len(t, held, 2)
	n.Publish(orders, 0, celsius(12)...)
	arrive(t, n, north, celsius(9, 10, 11, 12)...)
	work(t, n, orders, queues.Work{Settle: []queues.Settle{{Lease: held[0].Lease, Outcome: queue.Accept}, {Lease: held[1].Lease, Outcome: queue.Release}}})
	_, err := n.Groups.Set(accesstest.Owner(t), "owner", at(t, "coldchain/orders@north"), setting.Change{"where": "body.celsius > 1.0"}, false)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return counts(n, orders).Waiting == 0 && len(messages(t, n, north)) == 5 }, waitTime, tick)

	n.Reopen()
	n.Publish(n.Parts.ByID(orders.ID), 1, celsius(13)...)
	require.Eventually(t, func() bool { return len(messages(t, n, north)) == 6 }, waitTime, tick)
	time.Sleep(200 * time.Millisecond)
	assert.Len(t, messages(t, n, north), 6, "each once")

	_, err = n.Groups.Seek(accesstest.Owner(t), at(t, "coldchain/orders@north"), &groups.SeekAsk{To: "first"})
	assert.ErrorContains(t, err, "it has no place that could be another one")
	_, err = n.Routes.New(accesstest.Owner(t), "owner", at(t, "coldchain/orders@late"), from(t, "end"), setting.Change{"to": "coldchain/north"})
	assert.ErrorContains(t, err, "takes from it what waits, and does not begin at end")
}

// A target that takes nothing leaves at most so much taken; the removal of the route
// waits for it, or is refused.
func TestWhatIsTakenIsBoundedAndDrained(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	orders := n.Channel(setting.Queue, "coldchain/orders", nil)
	n.Channel(setting.Topic, "coldchain/north", setting.Change{"paused": true})
	var bodies []string
	for i := range 3000 {
		bodies = append(bodies, fmt.Sprint(i))
	}
	n.Publish(orders, 0, bodies...)
	route(t, n, "coldchain/orders@north", "first", setting.Change{"to": "coldchain/north"})
	require.Eventually(t, func() bool { return counts(n, orders).Taken >= 2000 }, waitTime, tick)
	time.Sleep(100 * time.Millisecond)
	assert.LessOrEqual(t, counts(n, orders).Taken, int64(2500))
	_, g, err := n.Parts.Group(at(t, "coldchain/orders@north"))
	require.NoError(t, err)
	assert.Equal(t, "target-paused", n.Routes.States(accesstest.Owner(t), orders.ID, g.Route.ID)[0].Waits.Reason)
	l, err := n.Groups.LagOf(accesstest.Owner(t), n.Parts.ByID(orders.ID), g)
	require.NoError(t, err)
	assert.EqualValues(t, 3000, l.Verdict.Messages)

	remove := func() error {
		_, err := n.Groups.Remove(accesstest.Owner(t), "owner", at(t, "coldchain/orders@north"), false)
		return err
	}
	err = remove()
	assert.ErrorContains(t, err, "has taken cannot be sent to coldchain/north now; it is paused, and not removed")
	_, err = n.Manage.SetChannel(accesstest.Owner(t), "owner", at(t, "coldchain/north"), setting.Change{"paused": false}, nil, false)
	require.NoError(t, err)
	require.NoError(t, remove())
	north, err := n.Parts.Channel(at(t, "coldchain/north"))
	require.NoError(t, err)
	c := counts(n, orders)
	assert.Zero(t, c.Taken)
	assert.EqualValues(t, 3000, int64(len(messages(t, n, north)))+c.Waiting, "each is at one place")
}

// With order by key what a route takes of a key arrives in order.
func TestARouteKeepsTheOrderOfKeys(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	orders := n.Channel(setting.Queue, "coldchain/orders", setting.Change{"order": "key"})
	north := n.Channel(setting.Topic, "coldchain/north", setting.Change{"partitionCount": 3})
	route(t, n, "coldchain/orders@north", "first", setting.Change{"to": "coldchain/north"})
	for i := range 200 {
		n.PublishKey(orders, fmt.Sprint("box-", i%7), fmt.Sprint(i))
	}
	require.Eventually(t, func() bool { return len(messages(t, n, north)) == 200 }, waitTime, tick)
	last := map[string]int{}
	for _, m := range messages(t, n, north) {
		var i int
		_, err := fmt.Sscan(string(m.Body), &i)
		require.NoError(t, err)
		if seen, ok := last[m.Key]; ok {
			assert.Greater(t, i, seen, "key %s", m.Key)
		}
		last[m.Key] = i
	}
}
