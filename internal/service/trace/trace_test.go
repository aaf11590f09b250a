package trace_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/queues"
	"steadyferry/internal/service/trace"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// told is what the steps of a story are, in their order.
func told(s *trace.Story) string {
	var words []string
	for _, step := range s.Steps {
		words = append(words, strings.TrimSpace(step.Event+" "+step.Reason))
	}
	return strings.Join(words, "; ")
}

// A message of a queue is published, fails, is mended and returned, and succeeds:
// its story tells each, with who and when, in order.
func TestTheStoryOfAMessageOfAQueue(t *testing.T) {
	n := nodetest.Open(t)
	q := n.Channel(setting.Queue, "coldchain/inspections", setting.Change{"attemptLimit": 1, "backoff": setting.Span{}})
	n.PublishKey(q, "box-7", `{"box":"7"}`)
	of := func() *trace.Story {
		s, err := n.Traces.Of(accesstest.Owner(t), q, 0, 0)
		require.NoError(t, err)
		for i := 1; i < len(s.Steps); i++ {
			assert.False(t, s.Steps[i].At.Before(s.Steps[i-1].At), "%s comes before %s", s.Steps[i].Event, s.Steps[i-1].Event)
		}
		return s
	}
	s := of()
	assert.Equal(t, "published", told(s))
	assert.Equal(t, "key box-7", s.Steps[0].Detail)
	assert.Equal(t, "waiting", s.State)
	assert.Equal(t, "coldchain/inspections#0:0", s.Address)

	work := func(outcome queue.Outcome, reason, detail string) {
		w := queues.Work{Member: "lana", Partition: part.AnyPartition, Max: 1, Wait: 2 * time.Second}
		done, err := n.Queues.Work(accesstest.Owner(t), q, w)
		require.NoError(t, err)
		require.Len(t, done.Leased, 1)
		assert.Contains(t, told(of()), "leased", "while it is")
		_, err = n.Queues.Work(accesstest.Owner(t), q, queues.Work{Member: "lana", Partition: part.AnyPartition, Settle: []queues.Settle{{Lease: done.Leased[0].Lease, Outcome: outcome, Reason: reason, Detail: detail}}})
		require.NoError(t, err)
	}
	work(queue.Reject, "bad-box", "/box: got text")
	s = of()
	assert.Equal(t, "dead", s.State)
	assert.Contains(t, told(s), "bad-box")
	last := s.Steps[len(s.Steps)-1]
	assert.Equal(t, "lana", last.Who)
	assert.Equal(t, "/box: got text", last.Detail)
	assert.False(t, last.Began.IsZero(), "since when it was worked on")

	mend, err := edit.Parse("set /box=7")
	require.NoError(t, err)
	_, err = n.Queues.Act(accesstest.Owner(t), q, queues.Selection{States: []queue.State{queue.Dead}}, queues.Action{Op: queue.OpEdit, Who: "owner", Why: "boxes are numbers", Edits: []edit.Edit{mend}, Return: true}, false)
	require.NoError(t, err)
	s = of()
	assert.JSONEq(t, `{"box":7}`, string(s.Message.Body))
	require.NotNil(t, s.Original)
	assert.JSONEq(t, `{"box":"7"}`, string(s.Original.Body))
	assert.Contains(t, told(s), "boxes are numbers")
	work(queue.Accept, "", "")
	_, err = n.Traces.Of(accesstest.Owner(t), q, 0, 7)
	assert.Error(t, err, "there is no such message")
}

// Of a message of a topic the story says by whom it came, and which groups have
// read it.
func TestTheStoryOfAMessageOfATopic(t *testing.T) {
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 2})
	for i := range 4 {
		n.Publish(topic, 0, fmt.Sprint(i))
	}
	a := address.Address{Space: "coldchain", Channel: "readings", Partition: -1, Offset: -1, Group: "compliance"}
	_, err := n.Groups.New(accesstest.Owner(t), "owner", a, address.Position{Kind: address.AtOffset, Offset: 2}, nil)
	require.NoError(t, err)
	for offset, read := range map[int64]bool{0: true, 1: true, 2: false, 3: false} {
		s, err := n.Traces.Of(accesstest.Owner(t), topic, 0, offset)
		require.NoError(t, err)
		assert.Equal(t, "kept", s.State)
		assert.Equal(t, fmt.Sprint(offset), string(s.Message.Body))
		assert.Equal(t, "published", s.Steps[0].Event)
		text := told(s)
		for _, step := range s.Steps {
			text += " " + step.Who + " " + step.Detail + " " + step.Address
		}
		assert.Contains(t, text, "compliance", "offset %d: %s", offset, text)
		assert.Equal(t, read, !strings.Contains(text, "not-read-yet"), "offset %d: %s", offset, text)
	}
	_, err = n.Traces.Of(accesstest.Owner(t), topic, 0, 4)
	assert.ErrorContains(t, err, "no offset 4 yet")
	_, err = n.Traces.Of(accesstest.Owner(t), topic, 5, 0)
	assert.ErrorContains(t, err, "no partition 5")
	for from, wanted := range map[string]string{"coldchain/readings": "", "coldchain/nowhere": "no channel", "coldchain//x": "", "coldchain/readings/dead": "queue"} {
		_, err := n.Traces.ReplaySource(from)
		if from == "coldchain/readings" {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, wanted, from)
		}
	}
}

// A message is followed through routes, from where it was published to where it is
// now, and what was made of it on the way.
func TestAMessageIsFollowedThroughRoutes(t *testing.T) {
	n := nodetest.Open(t)
	orders := n.Channel(setting.Topic, "coldchain/orders", setting.Change{"partitionCount": 2})
	n.Channel(setting.Topic, "coldchain/north", nil)
	vans := n.Channel(setting.Queue, "coldchain/vans", nil)
	n.Channel(setting.Topic, "coldchain/south", nil)
	for _, r := range []struct {
		at       string
		settings setting.Change
	}{
		{"coldchain/orders@north", setting.Change{"to": "coldchain/north", "where": `body.region == "north"`}},
		{"coldchain/orders@south", setting.Change{"to": "coldchain/south", "where": `body.region == "south"`}},
		{"coldchain/north@vans", setting.Change{"to": "coldchain/vans"}},
		{"coldchain/north@cold", setting.Change{"to": "coldchain/south", "edits": []string{"compute /celsius=body.fahrenheit - 32.0"}}},
	} {
		a, err := address.Parse(r.at)
		require.NoError(t, err)
		_, err = n.Routes.New(accesstest.Owner(t), "owner", a, address.Position{Kind: address.First}, r.settings)
		require.NoError(t, err)
	}
	n.Publish(orders, 1, `{"region":"north"}`)
	in := func(ch *part.Channel, number int) *trace.Story {
		s, err := n.Traces.Of(accesstest.Owner(t), n.Parts.ByID(ch.ID), number, 0)
		require.NoError(t, err)
		return s
	}
	want := []string{"published", "sent", "left-out", "sent", "dead-letter edit-failed"}
	require.Eventually(t, func() bool {
		got := strings.Split(told(in(orders, 1)), "; ")
		return len(got) == len(want) && !strings.Contains(told(in(orders, 1)), "not-decided")
	}, 20*time.Second, 50*time.Millisecond)
	s := in(orders, 1)
	assert.ElementsMatch(t, want, strings.Split(told(s), "; "))
	assert.Subset(t, s.Copies, []string{"coldchain/north#0:0", "coldchain/vans#0:0"})
	for _, step := range s.Steps {
		if step.Address == "coldchain/vans#0:0" {
			assert.Equal(t, "coldchain/north@vans", step.Who)
			assert.False(t, step.At.IsZero())
		}
	}
	// Backward, from the end of the chain.
	s = in(vans, 0)
	assert.Equal(t, "published; routed from coldchain/orders#1:0; routed from coldchain/north#0:0", told(s))
	assert.Equal(t, []string{"coldchain/north#0:0", "coldchain/orders#1:0"}, s.Copies)

	// What becomes a dead letter is followed to where a route copied it.
	archive := n.Channel(setting.Topic, "coldchain/archive", nil)
	a, err := address.Parse("coldchain/vans/dead@archive")
	require.NoError(t, err)
	_, err = n.Routes.New(accesstest.Owner(t), "owner", a, address.Position{Kind: address.End}, setting.Change{"to": "coldchain/archive"})
	require.NoError(t, err)
	done, err := n.Queues.Work(accesstest.Owner(t), n.Parts.ByID(vans.ID), queues.Work{Member: "lana", Partition: part.AnyPartition, Max: 1})
	require.NoError(t, err)
	_, err = n.Queues.Work(accesstest.Owner(t), n.Parts.ByID(vans.ID), queues.Work{Member: "lana", Partition: part.AnyPartition, Settle: []queues.Settle{{Lease: done.Leased[0].Lease, Outcome: queue.Reject, Reason: "no-driver"}}})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		return strings.HasSuffix(told(in(vans, 0)), "rejected no-driver; sent")
	}, 20*time.Second, 50*time.Millisecond)
	assert.Contains(t, in(vans, 0).Copies, "coldchain/archive#0:0")
	assert.Contains(t, told(in(archive, 0)), "routed from coldchain/vans#0:0")
}
