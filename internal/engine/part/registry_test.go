package part_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
)

func TestMain(m *testing.M) { testdb.Main(m) }

func addresses(all []*part.Channel) (texts []string) {
	for _, t := range all {
		texts = append(texts, t.Address().String())
	}
	return texts
}

// Channels come and go, and the registry has them in the order of their
// addresses, whichever way it is asked.
func TestChannelsStandInOrderWhateverComesAndGoes(t *testing.T) {
	n := nodetest.Open(t)
	require.NoError(t, n.Manage.NewSpace(accesstest.Owner(t), "owner", "cold-chain", nil)) // "-" sorts before "/"
	rng := rand.New(rand.NewPCG(7, 7))
	kinds := map[string]string{}
	for step := range 60 {
		name := fmt.Sprintf("%s/t-%d", []string{"coldchain", "cold-chain"}[rng.IntN(2)], rng.IntN(30))
		a, err := address.ParseChannel(name)
		require.NoError(t, err)
		if kinds[name] != "" {
			_, err = n.Manage.RemoveChannel(accesstest.Owner(t), "owner", a, false)
			require.NoError(t, err)
			delete(kinds, name)
		} else {
			kind := []string{setting.Topic, setting.Queue}[rng.IntN(2)]
			n.Channel(kind, name, nil)
			kinds[name] = kind
		}
		var all, queues []string
		for name, kind := range kinds {
			all = append(all, name)
			if kind == setting.Queue {
				queues = append(queues, name)
			}
		}
		slices.Sort(all)
		slices.Sort(queues)
		require.Equal(t, all, addresses(n.Parts.Channels()), "step %d", step)
		require.Equal(t, queues, addresses(n.Parts.OfKind(setting.Queue)), "step %d", step)
	}
	for _, c := range n.Parts.Channels() {
		assert.Same(t, c, n.Parts.ByID(c.ID))
		found, err := n.Parts.Channel(c.Address())
		require.NoError(t, err)
		assert.Same(t, c, found)
	}
}

func TestWhatIsMissingNamesWhatIsNear(t *testing.T) {
	n := nodetest.Open(t)
	n.Channel(setting.Topic, "coldchain/readings", nil)
	for text, wanted := range map[string]string{"coldchain/reading": "did you mean coldchain/readings?", "depot/readings": "its space does not exist either", "x/y": "its space does not exist either"} {
		a, err := address.ParseChannel(text)
		require.NoError(t, err)
		_, err = n.Parts.Channel(a)
		var p *problem.Problem
		require.ErrorAs(t, err, &p)
		assert.Equal(t, problem.NotFound, p.Kind)
		assert.Equal(t, wanted, p.Then[:min(len(p.Then), len(wanted))], text)
	}
	_, err := n.Parts.Space("coldchian")
	assert.ErrorContains(t, err, "did you mean coldchain?")
	topic, _ := n.Parts.Channel(address.Channel("coldchain", "readings"))
	_, err = topic.Partition(1)
	assert.ErrorContains(t, err, "has no partition 1; allowed: 0 to 0")
}

// fetched reads a partition from a position on, to its end.
func fetched(t *testing.T, n *nodetest.Node, topic *part.Channel, number int, from string) (bodies []string, first int64) {
	t.Helper()
	p, err := topic.Partition(number)
	require.NoError(t, err)
	position, err := address.ParsePosition(from)
	require.NoError(t, err)
	buffer := make([]byte, 64<<10)
	for at := 0; ; at++ {
		f, err := logs.OpenFetch(accesstest.Owner(t), n.Parts, p, position, false)
		require.NoError(t, err)
		if at == 0 {
			first = f.Offset()
		}
		out, err := f.Read(accesstest.Owner(t), buffer, 0)
		require.NoError(t, err)
		if len(out.Records) == 0 {
			return bodies, first
		}
		message.EachRecord(out.Records, func(r message.Record) bool {
			require.NoError(t, r.Stored(number, func(s *message.Stored) bool {
				if s.Offset >= first {
					bodies = append(bodies, string(s.Body))
				}
				return true
			}))
			return true
		})
		position = address.Position{Kind: address.AtOffset, Offset: out.Next}
	}
}

// What was published is read from each sort of position, and by a node that
// was opened anew too.
func TestWhatIsPublishedIsReadFromAnyPosition(t *testing.T) {
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 2})
	for i := range 5 {
		n.Publish(topic, 0, fmt.Sprint("a", i), fmt.Sprint("b", i))
	}
	n.Publish(topic, 1, "other")
	check := func() {
		t.Helper()
		all, first := fetched(t, n, topic, 0, "first")
		assert.Equal(t, "a0 b0 a1 b1 a2 b2 a3 b3 a4 b4", strings.Join(all, " "))
		assert.Zero(t, first)
		some, _ := fetched(t, n, topic, 0, "offset:7")
		assert.Equal(t, []string{"b3", "a4", "b4"}, some)
		none, last := fetched(t, n, topic, 0, "end")
		assert.Empty(t, none)
		assert.EqualValues(t, 10, last)
		all, _ = fetched(t, n, topic, 0, "ago:1h")
		assert.Len(t, all, 10)
		none, _ = fetched(t, n, topic, 0, "time:2999-01-01T00:00:00Z")
		assert.Empty(t, none)
		other, _ := fetched(t, n, topic, 1, "first")
		assert.Equal(t, []string{"other"}, other)
		p, err := topic.Partition(0)
		require.NoError(t, err)
		one, err := logs.Message(accesstest.Owner(t), n.Parts, p, 4, false)
		require.NoError(t, err)
		assert.Equal(t, "a2", string(one.Body))
		_, err = logs.Message(accesstest.Owner(t), n.Parts, p, 10, false)
		assert.ErrorContains(t, err, "0 to 9")
		status, each := n.Parts.Status(topic, time.Now())
		assert.EqualValues(t, 11, status.Messages)
		assert.EqualValues(t, 10, each[0].End)
		assert.Equal(t, part.StateReady, status.State)
	}
	check()
	n.Reopen()
	var err error
	topic, err = n.Parts.Channel(address.Channel("coldchain", "readings"))
	require.NoError(t, err)
	n.Parts.WaitReady(accesstest.Owner(t), topic)
	check()
}

// A batch of a publisher that comes again is kept once, and one that skips is
// refused; so it stays after the node was opened anew.
func TestABatchThatComesAgainIsKeptOnce(t *testing.T) {
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	send := func(sequence uint64, bodies ...string) (part.Receipt, error) {
		var b message.Builder
		for _, body := range bodies {
			b.Add(&message.Message{Body: []byte(body)})
		}
		batch := b.Build(message.Plain, &message.Publisher{ID: [16]byte{1}, Sequence: sequence})
		data := append(make([]byte, message.StampSize), batch...)
		return n.Parts.PublishBatch(accesstest.Owner(t), topic, 0, data, n.Parts.Hold("owner"))
	}
	for again := range 3 {
		r, err := send(0, "a", "b")
		require.NoError(t, err)
		assert.Zero(t, r.Offset)
		assert.Equal(t, again > 0, r.Repeat)
	}
	r, err := send(2, "c")
	require.NoError(t, err)
	assert.EqualValues(t, 2, r.Offset)
	_, err = send(9, "skips")
	assert.ErrorContains(t, err, "sequence")
	n.Reopen()
	topic, err = n.Parts.Channel(address.Channel("coldchain", "readings"))
	require.NoError(t, err)
	n.Parts.WaitReady(accesstest.Owner(t), topic)
	r, err = send(2, "c")
	require.NoError(t, err)
	assert.True(t, r.Repeat)
	all, _ := fetched(t, n, topic, 0, "first")
	assert.Equal(t, []string{"a", "b", "c"}, all)
}

func TestWhatIsNotTaken(t *testing.T) {
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"maxBody": int64(10)})
	publish := func(m *message.Message) error {
		_, err := n.Parts.PublishMessages(accesstest.Owner(t), topic, 0, []*message.Message{m})
		return err
	}
	var p *problem.Problem
	require.ErrorAs(t, publish(&message.Message{Body: []byte("more than ten")}), &p)
	assert.Equal(t, problem.TooLarge, p.Kind)
	_, err := n.Manage.SetChannel(accesstest.Owner(t), "owner", topic.Address(), setting.Change{"paused": true}, nil, false)
	require.NoError(t, err)
	require.ErrorAs(t, publish(&message.Message{Body: []byte("x")}), &p)
	assert.Equal(t, problem.Paused, p.Kind)
	assert.Contains(t, p.Then, "ferry set coldchain/readings -paused=false")
	n.Parts.Serve(false)
	_, err = n.Manage.SetChannel(accesstest.Owner(t), "owner", topic.Address(), setting.Change{"paused": false}, nil, false)
	require.NoError(t, err)
	require.ErrorAs(t, publish(&message.Message{Body: []byte("x")}), &p)
	assert.Equal(t, problem.Unavailable, p.Kind)
	n.Parts.Serve(true)
	require.NoError(t, publish(&message.Message{Body: []byte("x")}))
}
