package queues_test

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/lease"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/queues"
)

// spread is a queue of four partitions with three dead letters in each, whose
// bodies count from 0.
func spread(t *testing.T, n *nodetest.Node) *part.Channel {
	t.Helper()
	q := n.Channel(setting.Queue, "coldchain/inspections", setting.Change{"partitionCount": 4, "attemptLimit": 2, "backoff": setting.Span{}})
	for i := range 12 {
		n.Publish(q, i%4, fmt.Sprintf(`{"n":%d}`, i))
	}
	for got := 0; got < 12; {
		leased := handed(t, n, q, 12)
		got += len(leased)
		for _, l := range leased {
			reason := "bad-celsius"
			if l.Lease.Partition == 3 {
				reason = "box-missing"
			}
			settle(t, n, q, queue.Reject, reason, "at "+l.Message.StoredAt.String(), l)
		}
	}
	return q
}

func dead(where string) queues.Selection {
	return queues.Selection{States: []queue.State{queue.Dead}, Where: where}
}

// What lies in several partitions is told as one, and can be meant in each way.
func TestPartitionsOfAQueueAreToldAsOne(t *testing.T) {
	n := nodetest.Open(t)
	q := spread(t, n)
	all, err := n.Queues.Dead(accesstest.Owner(t), q, time.Hour, 6)
	require.NoError(t, err)
	require.Len(t, all.Causes, 2)
	assert.EqualValues(t, 12, all.Total)
	assert.EqualValues(t, 9, all.Causes[0].Count)
	assert.InDelta(t, 0.75, all.Causes[0].Share, 1e-9)
	assert.False(t, all.Causes[0].Last.Before(all.Causes[0].First))
	var bars int64
	for _, b := range all.Causes[0].Bars {
		bars += b
	}
	assert.EqualValues(t, 9, bars)
	require.NotNil(t, all.Causes[1].Sample)

	pages := func(s queues.Selection, newest bool) (places []queues.Place) {
		var from *queues.Place
		for {
			items, next, err := n.Queues.Items(accesstest.Owner(t), q, s, from, 2, newest)
			require.NoError(t, err)
			for _, i := range items {
				places = append(places, queues.Place{Partition: i.Message.Partition, Offset: i.Info.Offset})
			}
			if from = next; from == nil {
				return places
			}
		}
	}
	places := pages(dead(""), false)
	require.Len(t, places, 12)
	newest := pages(dead(""), true)
	assert.ElementsMatch(t, places, newest)
	assert.Equal(t, queues.Place{Partition: 0, Offset: 2}, newest[0])
	assert.Len(t, pages(dead("body.n >= 10"), false), 2)
	cause := dead("")
	cause.Cause = all.Causes[1].ID
	assert.Len(t, pages(cause, false), 3)

	each := func(s queues.Selection) (bodies []string) {
		require.NoError(t, n.Queues.EachItem(accesstest.Owner(t), q, s, func(i *queues.Item) error {
			bodies = append(bodies, string(i.Message.Body))
			return nil
		}))
		return bodies
	}
	limited := dead("body.n < 8")
	limited.Limit = 4
	assert.Len(t, each(limited), 4)
	named := dead("")
	named.Messages = append(slices.Clone(places[:3]), places[0])
	assert.Equal(t, []string{`{"n":0}`, `{"n":4}`, `{"n":8}`}, each(named), "each once")
	named.Where = "body.n == 4"
	assert.Equal(t, []string{`{"n":4}`}, each(named))
	nowhere := dead("")
	nowhere.Messages = []queues.Place{{Partition: 2, Offset: 99}}
	assert.ErrorContains(t, n.Queues.EachItem(accesstest.Owner(t), q, nowhere, nil), "has no offset 99 yet")
	for _, s := range []queues.Selection{dead("body.n >"), {Messages: make([]queues.Place, 10_001)}} {
		assert.Error(t, n.Queues.EachItem(accesstest.Owner(t), q, s, nil))
		_, err := n.Queues.Act(accesstest.Owner(t), q, s, queues.Action{Op: queue.OpReturn}, true)
		assert.Error(t, err)
	}

	limited.Limit = 5
	done, err := n.Queues.Act(accesstest.Owner(t), q, limited, queues.Action{Op: queue.OpReturn, Who: "owner", After: time.Hour}, false)
	require.NoError(t, err)
	assert.EqualValues(t, 5, done.Messages)
	assert.Contains(t, done.Effects[0], "again 1h from now")
	assert.EqualValues(t, 5, n.Queues.Counts(q).Delayed)
}

// A member that waits gets what comes, whichever partition it comes to, and at
// most as much as it asked for.
func TestAMemberThatWaitsGetsWhatComes(t *testing.T) {
	n := nodetest.Open(t)
	q := n.Channel(setting.Queue, "coldchain/recalls", setting.Change{"partitionCount": 4})
	for i := range 6 {
		came := make(chan []lease.Delivery)
		go func() {
			done, err := n.Queues.Work(accesstest.Owner(t), q, queues.Work{Member: "lana", Partition: part.AnyPartition, Max: 1, Wait: 20 * time.Second})
			assert.NoError(t, err)
			came <- done.Leased
		}()
		time.Sleep(10 * time.Millisecond)
		n.Publish(q, i%4, fmt.Sprint(i))
		select {
		case leased := <-came:
			require.Len(t, leased, 1)
			assert.Equal(t, fmt.Sprint(i), string(leased[0].Message.Body))
			assert.Equal(t, []queue.Status{queue.Done}, settle(t, n, q, queue.Accept, "", "", leased...))
		case <-time.After(10 * time.Second):
			t.Fatal("it waits while a message is there")
		}
	}
	begun := time.Now()
	done, err := n.Queues.Work(accesstest.Owner(t), q, queues.Work{Member: "lana", Partition: 2, Max: 5, Wait: 200 * time.Millisecond})
	require.NoError(t, err)
	assert.Empty(t, done.Leased)
	assert.GreaterOrEqual(t, time.Since(begun), 200*time.Millisecond)
	_, err = n.Queues.Work(accesstest.Owner(t), q, queues.Work{Partition: 4, Max: 1})
	assert.Error(t, err)
	settled, err := n.Queues.Work(accesstest.Owner(t), q, queues.Work{Partition: part.AnyPartition, Settle: []queues.Settle{{Lease: queues.Lease{Partition: 9}, Outcome: queue.Accept}}})
	require.NoError(t, err)
	assert.Equal(t, queue.Unknown, settled.Settled[0].Status)
}

// A release that is untouched costs no attempt, an extension no time, and each is
// told by the message afterwards, also when it is done.
func TestAMessageTellsWhatHappenedToIt(t *testing.T) {
	n := nodetest.Open(t)
	q := n.Channel(setting.Queue, "coldchain/inspections", quick)
	n.Publish(q, 0, "a")
	first := handed(t, n, q, 1)
	again, err := n.Queues.Work(accesstest.Owner(t), q, queues.Work{Member: "lana", Partition: part.AnyPartition, Settle: []queues.Settle{{Lease: first[0].Lease, Outcome: queue.Extend, After: time.Hour}}})
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().Add(time.Hour), again.Settled[0].Deadline, time.Minute)
	_, err = n.Queues.Work(accesstest.Owner(t), q, queues.Work{Member: "lana", Partition: part.AnyPartition, Settle: []queues.Settle{{Lease: first[0].Lease, Outcome: queue.Release, Untouched: true, Reason: "end-of-shift"}}})
	require.NoError(t, err)
	second := handed(t, n, q, 1)
	assert.Equal(t, 1, second[0].Attempt, "that did not count")
	item, err := n.Queues.Item(accesstest.Owner(t), q, 0, 0, true)
	require.NoError(t, err)
	assert.Equal(t, queue.Leased, item.Info.State)
	settle(t, n, q, queue.Accept, "", "", second...)
	item, err = n.Queues.Item(accesstest.Owner(t), q, 0, 0, true)
	require.NoError(t, err)
	var kinds []queue.EventKind
	for _, e := range item.Info.History {
		kinds = append(kinds, e.Kind)
	}
	assert.Equal(t, []queue.EventKind{queue.Released, queue.Accepted}, kinds)
	_, err = n.Queues.Item(accesstest.Owner(t), q, 0, 7, true)
	assert.ErrorContains(t, err, "coldchain/inspections#0 has no offset 7 yet")
}

// A queue can be worked on, looked into and acted on through a node that leads
// none of its partitions.
func TestAQueueIsWorkedOnThroughAnyNode(t *testing.T) {
	nodes := nodetest.Cluster(t, 2)
	here, there := nodes[0], nodes[1]
	q := here.Channel(setting.Queue, "coldchain/inspections", setting.Change{"partitionCount": 2, "attemptLimit": 2, "replicas": 1, "backoff": setting.Span{}})
	require.Eventually(t, func() bool { _, err := there.Queues.At(q.Address()); return err == nil }, 10*time.Second, 10*time.Millisecond)
	for _, n := range nodes {
		q, err := n.Queues.At(q.Address())
		require.NoError(t, err)
		came := make(chan []lease.Delivery)
		go func() {
			var all []lease.Delivery
			for len(all) < 4 {
				done, err := n.Queues.Work(accesstest.Owner(t), q, queues.Work{Member: "lana", Partition: part.AnyPartition, Max: 4, Wait: 10 * time.Second})
				if !assert.NoError(t, err) {
					break
				}
				all = append(all, done.Leased...)
			}
			came <- all
		}()
		for i := range 4 {
			n.Publish(q, i%2, fmt.Sprintf(`{"n":%d}`, i))
		}
		leased := <-came
		require.Len(t, leased, 4)
		assert.Equal(t, []queue.Status{queue.Done, queue.Done, queue.Done}, settle(t, n, q, queue.Accept, "", "", leased[:3]...))
		settle(t, n, q, queue.Reject, "box-missing", "nobody knows it", leased[3])
		items, _, err := n.Queues.Items(accesstest.Owner(t), q, dead(""), nil, 10, false)
		require.NoError(t, err)
		require.Len(t, items, 1)
		item, err := n.Queues.Item(accesstest.Owner(t), q, leased[3].Lease.Partition, leased[3].Lease.Offset, true)
		require.NoError(t, err)
		assert.Equal(t, "nobody knows it", item.Detail())
		done, err := n.Queues.Act(accesstest.Owner(t), q, dead(""), queues.Action{Op: queue.OpDiscard, Who: "owner", Why: "a drill"}, false)
		require.NoError(t, err)
		assert.EqualValues(t, 1, done.Messages)
		_, each := n.Parts.Status(q, time.Now())
		n.Queues.Refresh(accesstest.Owner(t), q, each)
		assert.Zero(t, queues.Summary(each).Counts.Dead)
	}
}

// What a queue hands out is counted by one node, however many hold its log.
func TestWhatGoesOutIsCountedOnce(t *testing.T) {
	nodes := nodetest.Cluster(t, 3)
	q := nodes[0].Channel(setting.Queue, "coldchain/inspections", setting.Change{"replicas": 3})
	n := nodes[0]
	n.Publish(q, 0, `{"n":1}`, `{"n":2}`, `{"n":3}`)
	done, err := n.Queues.Work(accesstest.Owner(t), q, queues.Work{Member: "lana", Partition: part.AnyPartition, Max: 10, Wait: 10 * time.Second})
	require.NoError(t, err)
	require.Len(t, done.Leased, 3)
	settle(t, n, q, queue.Accept, "", "", done.Leased...)
	n.Publish(q, 0, `{"n":4}`, `{"n":5}`)
	_, err = n.Queues.ActAt(accesstest.Owner(t), q.Partitions()[0], &queue.Command{Op: queue.OpTake, Who: "route", Route: uuid.New(), Offsets: []int64{3, 4}})
	require.NoError(t, err)
	counted := func() (all int64) {
		for _, n := range nodes {
			if q, err := n.Queues.At(q.Address()); err == nil {
				all += q.Partitions()[0].Totals().MessagesOut
			}
		}
		return all
	}
	assert.Never(t, func() bool { return counted() > 5 }, time.Second, 20*time.Millisecond)
	assert.EqualValues(t, 5, counted(), "three to a member, two to a route")
}

// A lease is settled by whom it was given to, whatever its number is; all tokens of a principal are
// as good.
func TestALeaseBelongsToWhomItWasGiven(t *testing.T) {
	n := nodetest.Open(t)
	q := n.Channel(setting.Queue, "coldchain/inspections", nil)
	for _, name := range []string{"lana", "other"} {
		require.NoError(t, n.Catalog.NewRights(t.Context(), nil, catalog.Rights{Principals: []*catalog.Principal{{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: name}}},
			Grants: []*catalog.Grant{{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: "g-" + name}, Grant: setting.Grant{To: name, Role: "consumer", On: "coldchain"}}}}))
	}
	as := func(name string) context.Context { return access.As(t.Context(), n.Access.Named(name)) }
	_, err := n.Parts.PublishMessages(accesstest.Owner(t), q, 0, []*message.Message{{Body: []byte("1")}})
	require.NoError(t, err)
	done, err := n.Queues.Work(as("lana"), q, queues.Work{Member: "w", Partition: part.AnyPartition, Max: 1, Wait: time.Second})
	require.NoError(t, err)
	require.Len(t, done.Leased, 1)
	l := done.Leased[0].Lease
	accept := func(who string, l queues.Lease) queue.Status {
		out, err := n.Queues.Work(as(who), q, queues.Work{Member: "w", Partition: part.AnyPartition, Settle: []queues.Settle{{Lease: l, Outcome: queue.Accept}}})
		require.NoError(t, err)
		return out.Settled[0].Status
	}
	guessed := l
	guessed.Proof = 0
	assert.Equal(t, queue.Unknown, accept("lana", guessed), "its number alone is not enough")
	assert.Equal(t, queue.Unknown, accept("other", l), "nor is the lease of another")
	next := l
	next.Serial++
	assert.Equal(t, queue.Unknown, accept("lana", next), "nor that of another lease")
	assert.EqualValues(t, 1, n.Queues.Counts(q).Leased)
	back, err := lease.Parse(l.String())
	require.NoError(t, err)
	assert.Equal(t, queue.Done, accept("lana", back))
}
