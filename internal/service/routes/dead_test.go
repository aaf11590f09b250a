package routes_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/queues"
)

// reject takes all that waits in a queue, and sets it aside with a reason.
func reject(t *testing.T, n *nodetest.Node, q *part.Channel, reason, detail string) (count int) {
	t.Helper()
	for {
		held := work(t, n, q, queues.Work{Max: 100}).Leased
		if len(held) == 0 {
			return count
		}
		var settle []queues.Settle
		for _, l := range held {
			settle = append(settle, queues.Settle{Lease: l.Lease, Outcome: queue.Reject, Reason: reason, Detail: detail})
		}
		work(t, n, q, queues.Work{Settle: settle})
		count += len(held)
	}
}

// A route on the dead letters of a queue copies each when it becomes one, as it is then, with
// its reason; what is done with it later changes nothing of that.
func TestARouteCopiesDeadLetters(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	inspections := n.Channel(setting.Queue, "coldchain/inspections", setting.Change{"partitionCount": 2})
	archive := n.Channel(setting.Topic, "coldchain/archive", nil)
	n.Channel(setting.Topic, "coldchain/late", nil)
	n.Publish(inspections, 0, celsius(9)...)
	require.Equal(t, 1, reject(t, n, inspections, "no-box", "field /box is missing"))
	route(t, n, "coldchain/inspections/dead@archive", "first", setting.Change{"to": "coldchain/archive", "where": "reason == 'no-box'"})
	route(t, n, "coldchain/inspections/dead@late", "end", setting.Change{"to": "coldchain/late"})
	first := arrive(t, n, archive, celsius(9)...)[0]
	header := func(name string) string { value, _ := first.Header(name); return value }
	assert.Equal(t, []string{"coldchain/inspections/dead@archive", "coldchain/inspections#0:0", "no-box", "field /box is missing"},
		[]string{header(message.HeaderRoute), header(message.HeaderRouteFrom), header(message.HeaderReason), header(message.HeaderDetail)})

	tried, err := n.Routes.Try(accesstest.Owner(t), at(t, "coldchain/inspections/dead@other"), from(t, "ago:1h"), setting.Change{"to": "coldchain/late", "where": "reason == 'no-box' && attempts == 1"})
	require.NoError(t, err)
	assert.EqualValues(t, []int64{1, 1}, []int64{tried.Total, tried.Sent}, "what is dead is tried with its reason")
	tried, err = n.Routes.Try(accesstest.Owner(t), at(t, "coldchain/inspections/dead@archive"), from(t, "first"), setting.Change{"where": "reason == 'other'"})
	require.NoError(t, err)
	assert.EqualValues(t, []int64{0, 1}, []int64{tried.Sent, tried.Was.OnlyWas})

	_, err = n.Groups.Set(accesstest.Owner(t), "owner", at(t, "coldchain/inspections/dead@archive"), setting.Change{"paused": true}, false)
	require.NoError(t, err)
	n.Publish(inspections, 1, celsius(10, 11)...)
	n.Publish(inspections, 0, celsius(12)...)
	require.Equal(t, 3, reject(t, n, inspections, "no-box", ""))
	n.Publish(inspections, 0, celsius(13)...)
	require.Equal(t, 1, reject(t, n, inspections, "too-warm", ""))
	// While the copy waits, all are returned, and done.
	_, err = n.Queues.Act(accesstest.Owner(t), inspections, queues.Selection{States: []queue.State{queue.Dead}}, queues.Action{Op: queue.OpReturn, Who: "owner", Why: "again"}, false)
	require.NoError(t, err)
	require.Len(t, work(t, n, inspections, queues.Work{Max: 100, AtOnce: true}).Leased, 5)
	require.Zero(t, counts(n, inspections).Dead)
	late, err := n.Parts.Channel(at(t, "coldchain/late"))
	require.NoError(t, err)
	arrive(t, n, late, celsius(10, 11, 12, 13)...)

	lag := func() int64 {
		_, g, err := n.Parts.Group(at(t, "coldchain/inspections/dead@archive"))
		require.NoError(t, err)
		l, err := n.Groups.LagOf(accesstest.Owner(t), n.Parts.ByID(inspections.ID), g)
		require.NoError(t, err)
		if l.Verdict.Messages > 0 {
			assert.Positive(t, l.OldestAge, "since when it waits is told")
		}
		return l.Verdict.Messages
	}
	require.Eventually(t, func() bool { return lag() == 4 }, waitTime, tick)
	n.Reopen()
	require.Eventually(t, func() bool { return lag() == 4 }, waitTime, tick)
	_, err = n.Groups.Set(accesstest.Owner(t), "owner", at(t, "coldchain/inspections/dead@archive"), setting.Change{"paused": false}, false)
	require.NoError(t, err)
	archive, err = n.Parts.Channel(at(t, "coldchain/archive"))
	require.NoError(t, err)
	arrive(t, n, archive, celsius(9, 10, 11, 12)...)
	require.Eventually(t, func() bool { return lag() == 0 }, waitTime, tick)
	time.Sleep(200 * time.Millisecond)
	assert.Len(t, messages(t, n, archive), 4, "each once")
}

// What a route is to copy keeps its bytes, wherever they are, until it is sent.
func TestLettersAreCarriedOutOfOldSegments(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	inspections := n.Channel(setting.Queue, "coldchain/inspections", nil)
	archive := n.Channel(setting.Topic, "coldchain/archive", setting.Change{"paused": true})
	route(t, n, "coldchain/inspections/dead@archive", "end", setting.Change{"to": "coldchain/archive"})
	n.Publish(inspections, 0, celsius(1, 2, 3)...)
	require.Equal(t, 3, reject(t, n, inspections, "bad", "as it was"))
	_, err := n.Queues.Act(accesstest.Owner(t), inspections, queues.Selection{States: []queue.State{queue.Dead}}, queues.Action{Op: queue.OpDiscard, Who: "owner", Why: "away"}, false)
	require.NoError(t, err)

	for range 30 {
		n.Publish(inspections, 0, celsius(7)...)
	}
	require.Len(t, work(t, n, inspections, queues.Work{Max: 100, AtOnce: true}).Leased, 30)
	p, err := inspections.Partition(0)
	require.NoError(t, err)
	require.NoError(t, p.Replica().Do(accesstest.Owner(t), (*journal.Journal).Roll))
	base := p.Replica().Journal().BaseOf(0)
	n.Parts.Retain(accesstest.Owner(t), time.Now())
	assert.Equal(t, base, p.Replica().Journal().BaseOf(0), "nothing goes before it is written again")
	require.Eventually(t, func() bool {
		n.Parts.Retain(accesstest.Owner(t), time.Now())
		return p.Replica().Journal().BaseOf(0) > base
	}, waitTime, tick, "the first segment goes")
	n.Reopen()
	_, err = n.Manage.SetChannel(accesstest.Owner(t), "owner", at(t, "coldchain/archive"), setting.Change{"paused": false}, nil, false)
	require.NoError(t, err)
	archive = n.Parts.ByID(archive.ID)
	for _, m := range arrive(t, n, archive, celsius(1, 2, 3)...) {
		detail, _ := m.Header(message.HeaderDetail)
		assert.Equal(t, "as it was", detail)
	}
}

// The dead letters of a group and of a route are read too; what reads them keeps these from
// going.
func TestARouteCopiesDeadLettersOfReaders(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	readings := n.Channel(setting.Topic, "coldchain/readings", nil)
	n.Channel(setting.Topic, "coldchain/warm", nil)
	archive := n.Channel(setting.Topic, "coldchain/archive", nil)
	route(t, n, "coldchain/readings@warm", "first", setting.Change{"to": "coldchain/warm", "edits": []string{"compute /fahrenheit=body.celsius * 1.8"}})
	route(t, n, "coldchain/readings@warm/dead@archive", "end", setting.Change{"to": "coldchain/archive"})
	n.Publish(readings, 0, `{"box":"b-7"}`)
	copied := arrive(t, n, archive, `{"box":"b-7"}`)[0]
	reason, _ := copied.Header(message.HeaderReason)
	read, _ := copied.Header(message.HeaderRouteFrom)
	assert.Equal(t, []string{"edit-failed", "coldchain/readings@warm#0:0"}, []string{reason, read})

	_, err := n.Groups.Remove(accesstest.Owner(t), "owner", at(t, "coldchain/readings@warm"), true)
	assert.ErrorContains(t, err, "1 route reads the dead letters of coldchain/readings@warm: coldchain/readings@warm/dead@archive")
	refused := func(address, to string) error {
		_, err := n.Routes.New(accesstest.Owner(t), "owner", at(t, address), from(t, "end"), setting.Change{"to": to})
		return err
	}
	assert.ErrorContains(t, refused("coldchain/readings/dead@archive", "coldchain/archive"), "is a topic: what its readers reject is in the dead letters of each")
	assert.ErrorContains(t, refused("coldchain/readings@warm/dead@back", "coldchain/readings"), "would send messages in a circle")
	assert.ErrorContains(t, refused("coldchain/readings@none/dead@archive", "coldchain/archive"), "coldchain/readings has no group none")
	_, err = n.Groups.New(accesstest.Owner(t), "owner", at(t, "coldchain/readings@warm/dead@group"), from(t, "end"), nil)
	assert.ErrorContains(t, err, "dead letters are read by routes alone")
}
