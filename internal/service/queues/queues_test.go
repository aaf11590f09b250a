package queues_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/lease"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/queues"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// quick is a queue whose messages come back at once, and fail for good after
// two attempts.
var quick = setting.Change{"attemptLimit": 2, "backoff": setting.Span{}}

func handed(t *testing.T, n *nodetest.Node, q *part.Channel, most int) []lease.Delivery {
	t.Helper()
	done, err := n.Queues.Work(accesstest.Owner(t), q, queues.Work{Member: "lana", Partition: part.AnyPartition, Max: most, Wait: 2 * time.Second})
	require.NoError(t, err)
	return done.Leased
}

// settle ends leases with an outcome, and returns what became of each.
func settle(t *testing.T, n *nodetest.Node, q *part.Channel, outcome queue.Outcome, reason, detail string, leased ...lease.Delivery) (all []queue.Status) {
	t.Helper()
	w := queues.Work{Member: "lana", Partition: part.AnyPartition}
	for _, l := range leased {
		w.Settle = append(w.Settle, queues.Settle{Lease: l.Lease, Outcome: outcome, Reason: reason, Detail: detail})
	}
	done, err := n.Queues.Work(accesstest.Owner(t), q, w)
	require.NoError(t, err)
	for _, s := range done.Settled {
		all = append(all, s.Status)
	}
	return all
}

func bodies(leased []lease.Delivery) (texts []string) {
	for _, l := range leased {
		texts = append(texts, string(l.Message.Body))
	}
	slices.Sort(texts)
	return texts
}

func counts(n *nodetest.Node, q *part.Channel) string {
	c := n.Queues.Counts(q)
	return fmt.Sprintf("%d waiting, %d leased, %d dead, %d discarded, %d accepted", c.Waiting, c.Leased, c.Dead, c.Discarded, c.Accepted)
}

func TestWorkIsLeasedSettledAndComesBack(t *testing.T) {
	n := nodetest.Open(t)
	q := n.Channel(setting.Queue, "coldchain/inspections", quick)
	n.Publish(q, 0, "a", "b", "c")
	first := handed(t, n, q, 2)
	assert.Equal(t, []string{"a", "b"}, bodies(first))
	assert.Equal(t, "1 waiting, 2 leased, 0 dead, 0 discarded, 0 accepted", counts(n, q))
	assert.Equal(t, []queue.Status{queue.Done}, settle(t, n, q, queue.Accept, "", "", first[0]))
	assert.NotEqual(t, []queue.Status{queue.Done}, settle(t, n, q, queue.Accept, "", "", first[0]), "the lease is over")
	settle(t, n, q, queue.Release, "", "", first[1])
	again := handed(t, n, q, 5)
	assert.Equal(t, []string{"b", "c"}, bodies(again))
	for _, l := range again {
		if string(l.Message.Body) == "b" {
			assert.Equal(t, 2, l.Attempt)
		}
	}
	n.Reopen() // leases and attempts are in the log
	q, err := n.Queues.At(address.Channel("coldchain", "inspections"))
	require.NoError(t, err)
	n.Parts.WaitReady(accesstest.Owner(t), q)
	settle(t, n, q, queue.Release, "", "", again...)
	require.Eventually(t, func() bool { return n.Queues.Counts(q).Dead == 1 }, 20*time.Second, 10*time.Millisecond, "b had two attempts")
	assert.Equal(t, []string{"c"}, bodies(handed(t, n, q, 5)))
}

func TestWhyMessagesFailedIsToldByCause(t *testing.T) {
	n := nodetest.Open(t)
	q := n.Channel(setting.Queue, "coldchain/inspections", quick)
	n.Publish(q, 0, `{"box":1}`, `{"box":2}`, `{"box":3}`)
	leased := handed(t, n, q, 3)
	settle(t, n, q, queue.Reject, "bad-celsius", "want a number, got 12x at 0x7f", leased[0])
	settle(t, n, q, queue.Reject, "bad-celsius", "want a number, got 99y at 0x80", leased[1])
	settle(t, n, q, queue.Reject, "box-missing", "nobody knows it", leased[2])
	dead, err := n.Queues.Dead(accesstest.Owner(t), q, time.Hour, 10)
	require.NoError(t, err)
	require.Len(t, dead.Causes, 2)
	assert.Equal(t, "bad-celsius", dead.Causes[0].Reason)
	assert.EqualValues(t, 2, dead.Causes[0].Count, "what differs in numbers has one cause")
	assert.EqualValues(t, 3, dead.Total)

	cause := queues.Selection{States: []queue.State{queue.Dead}, Cause: dead.Causes[1].ID}
	items, next, err := n.Queues.Items(accesstest.Owner(t), q, cause, nil, 10, false)
	require.NoError(t, err)
	assert.Nil(t, next)
	require.Len(t, items, 1)
	assert.Equal(t, `{"box":3}`, string(items[0].Message.Body))
	item, err := n.Queues.Item(accesstest.Owner(t), q, 0, items[0].Message.Offset, true)
	require.NoError(t, err)
	assert.Equal(t, queue.Dead, item.Info.State)
	assert.Contains(t, item.Detail(), "nobody knows it")

	// Pages of one, of all, by a condition.
	var seen []string
	var from *queues.Place
	for {
		items, next, err = n.Queues.Items(accesstest.Owner(t), q, queues.Selection{States: []queue.State{queue.Dead}, Where: "body.box < 3"}, from, 1, false)
		require.NoError(t, err)
		for _, i := range items {
			seen = append(seen, string(i.Message.Body))
		}
		if from = next; from == nil {
			break
		}
	}
	assert.Equal(t, []string{`{"box":1}`, `{"box":2}`}, seen)
}

// What operators do is said first, and done to what was meant alone.
func TestDeadLettersAreReturnedMendedAndDiscarded(t *testing.T) {
	n := nodetest.Open(t)
	q := n.Channel(setting.Queue, "coldchain/inspections", quick)
	n.Publish(q, 0, `{"box":"1"}`, `{"box":"2"}`, `{"box":"3"}`)
	settle(t, n, q, queue.Reject, "bad-box", "a text", handed(t, n, q, 3)...)
	dead := func(where string) queues.Selection {
		return queues.Selection{States: []queue.State{queue.Dead}, Where: where}
	}
	act := func(s queues.Selection, a queues.Action, preview bool) *queues.ActionResult {
		t.Helper()
		a.Who, a.Why = "owner", "a drill"
		out, err := n.Queues.Act(accesstest.Owner(t), q, s, a, preview)
		require.NoError(t, err)
		return out
	}
	said := act(dead(`body.box == "1"`), queues.Action{Op: queue.OpReturn}, true)
	assert.EqualValues(t, 1, said.Messages)
	assert.False(t, said.Done)
	assert.Equal(t, "0 waiting, 0 leased, 3 dead, 0 discarded, 0 accepted", counts(n, q), "a preview does nothing")
	done := act(dead(`body.box == "1"`), queues.Action{Op: queue.OpReturn}, false)
	assert.True(t, done.Done)
	assert.Equal(t, "1 waiting, 0 leased, 2 dead, 0 discarded, 0 accepted", counts(n, q))

	parsed, err := edit.Parse("compute /box=int(body.box)")
	require.NoError(t, err)
	said = act(dead(`body.box == "2"`), queues.Action{Op: queue.OpEdit, Edits: []edit.Edit{parsed}, Return: true}, true)
	require.Len(t, said.Samples, 1)
	assert.Equal(t, `{"box":2}`, string(said.Samples[0].After.Body))
	act(dead(`body.box == "2"`), queues.Action{Op: queue.OpEdit, Edits: []edit.Edit{parsed}, Return: true}, false)
	assert.Equal(t, []string{`{"box":"1"}`, `{"box":2}`}, bodies(handed(t, n, q, 5)), "mended, and handed out again")

	done = act(dead(""), queues.Action{Op: queue.OpDiscard}, false)
	assert.EqualValues(t, 1, done.Messages)
	require.NotNil(t, done.Until)
	assert.Equal(t, "0 waiting, 2 leased, 0 dead, 1 discarded, 0 accepted", counts(n, q))
	act(queues.Selection{States: []queue.State{queue.Discarded}}, queues.Action{Op: queue.OpUndo}, false)
	assert.Equal(t, "0 waiting, 2 leased, 1 dead, 0 discarded, 0 accepted", counts(n, q))
}

func TestBadWorkIsRefusedWithWhatIsAllowed(t *testing.T) {
	n := nodetest.Open(t)
	q := n.Channel(setting.Queue, "coldchain/inspections", nil)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	for wanted, w := range map[string]queues.Work{
		"1 to 1000":    {Max: queues.MaxLease + 1},
		"100ms to 24h": {Max: 1, For: time.Hour * 48},
		"a short code": {Settle: []queues.Settle{{Outcome: queue.Reject}}},
		"0s to 365d":   {Settle: []queues.Settle{{Outcome: queue.Release, After: 400 * 24 * time.Hour}}},
		"up to 24h":    {Settle: []queues.Settle{{Outcome: queue.Extend, After: 25 * time.Hour}}},
		"up to 10000":  {Settle: make([]queues.Settle, queues.MaxSettle+1)},
		"bytes":        {Max: 1, Member: strings.Repeat("x", 5000)},
	} {
		_, err := n.Queues.Work(accesstest.Owner(t), q, w)
		var p *problem.Problem
		require.ErrorAs(t, err, &p, wanted)
		assert.Contains(t, p.Range, wanted)
	}
	_, err := n.Queues.At(topic.Address())
	assert.ErrorContains(t, err, "is a topic: its messages are read, not leased")
	_, err = n.Queues.At(address.Address{Space: "coldchain", Channel: "readings", Group: "nobody"})
	assert.ErrorContains(t, err, "nobody")
	_, err = queue.ParseCause("not hex")
	assert.Error(t, err)
}

// What has to wait comes when its time has, in the order that was asked for.
func TestOrderByKeyAndTime(t *testing.T) {
	n := nodetest.Open(t)
	q := n.Channel(setting.Queue, "coldchain/recalls", setting.Change{"order": "key", "lease": 200 * time.Millisecond})
	for _, body := range []string{"a1", "a2", "b1"} {
		n.PublishKey(q, body[:1], body)
	}
	first := handed(t, n, q, 5)
	assert.Equal(t, []string{"a1", "b1"}, bodies(first), "one of each key")
	assert.Empty(t, lease0(t, n, q))
	time.Sleep(300 * time.Millisecond) // the leases run out
	again := handed(t, n, q, 5)
	assert.Equal(t, []string{"a1", "b1"}, bodies(again))
	settle(t, n, q, queue.Accept, "", "", again...)
	assert.Equal(t, []string{"a2"}, bodies(handed(t, n, q, 5)))
}

// lease0 leases what is there now.
func lease0(t *testing.T, n *nodetest.Node, q *part.Channel) []lease.Delivery {
	t.Helper()
	done, err := n.Queues.Work(accesstest.Owner(t), q, queues.Work{Member: "lana", Partition: part.AnyPartition, Max: 5})
	require.NoError(t, err)
	return done.Leased
}
