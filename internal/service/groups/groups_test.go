package groups_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/groups"
)

func TestMain(m *testing.M) { testdb.Main(m) }

var (
	first = address.Position{Kind: address.First}
	a     = address.Address{Space: "coldchain", Channel: "readings", Partition: -1, Offset: -1, Group: "compliance"}
)

// reading is a topic of two partitions with five messages in each, and a group
// that begins at the first.
func reading(t *testing.T) (*nodetest.Node, *part.Channel) {
	t.Helper()
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 2})
	for p := range 2 {
		for i := range 5 {
			n.Publish(topic, p, fmt.Sprintf("%d-%d", p, i))
		}
	}
	_, err := n.Groups.New(accesstest.Owner(t), "owner", a, first, nil)
	require.NoError(t, err)
	return n, topic
}

func join(t *testing.T, n *nodetest.Node, label string) string {
	t.Helper()
	m, err := n.Groups.Join(accesstest.Owner(t), "owner", a, nil, 5*time.Second, label)
	require.NoError(t, err)
	return m.MemberID
}

// next reads as a member until nothing comes, and commits what it has.
func next(t *testing.T, n *nodetest.Node, member string, commit bool) (bodies []string) {
	t.Helper()
	upTo := group.UpTo{}
	for range 20 {
		out, err := n.Groups.Next(accesstest.Owner(t), a, member, 3, 50*time.Millisecond, upTo, commit)
		require.NoError(t, err)
		upTo = out.UpTo
		for _, m := range out.Messages {
			bodies = append(bodies, string(m.Body))
		}
	}
	slices.Sort(bodies)
	return bodies
}

func lag(t *testing.T, n *nodetest.Node) *groups.Lag {
	t.Helper()
	topic, g, err := n.Parts.Group(a)
	require.NoError(t, err)
	l, err := n.Groups.LagOf(accesstest.Owner(t), topic, g)
	require.NoError(t, err)
	return l
}

func TestAMemberReadsAllAndTwoShare(t *testing.T) {
	n, topic := reading(t)
	assert.EqualValues(t, 10, lag(t, n).Verdict.Messages)
	alone := join(t, n, "alone")
	assert.Equal(t, strings.Fields("0-0 0-1 0-2 0-3 0-4 1-0 1-1 1-2 1-3 1-4"), next(t, n, alone, true))
	assert.Zero(t, lag(t, n).Verdict.Messages)
	other := join(t, n, "other")
	n.Publish(topic, 0, "x")
	n.Publish(topic, 1, "y")
	var got []string
	require.Eventually(t, func() bool {
		got = append(append(got, next(t, n, alone, true)...), next(t, n, other, true)...)
		return len(got) >= 2
	}, 20*time.Second, 10*time.Millisecond)
	slices.Sort(got)
	assert.Equal(t, []string{"x", "y"}, got, "each once")
	holds := map[string]int{}
	for _, p := range lag(t, n).Partitions {
		holds[p.Label]++
	}
	assert.Equal(t, map[string]int{"alone": 1, "other": 1}, holds)
	require.NoError(t, n.Groups.Leave(accesstest.Owner(t), a, other))
	require.Eventually(t, func() bool {
		next(t, n, alone, true)
		for _, p := range lag(t, n).Partitions {
			if p.Label != "alone" {
				return false
			}
		}
		return true
	}, 20*time.Second, 10*time.Millisecond, "who leaves leaves its share to the others")
}

// What a member committed stands after the node was opened anew, and what it
// only read comes again.
func TestWhatIsCommittedStands(t *testing.T) {
	n, topic := reading(t)
	member := join(t, n, "")
	require.Len(t, next(t, n, member, false), 10)
	assert.EqualValues(t, 10, lag(t, n).Verdict.Messages, "nothing is committed")
	m, err := n.Groups.Beat(accesstest.Owner(t), a, member, 0, false, []int{0, 1}, 0)
	require.NoError(t, err)
	require.NoError(t, n.Groups.Commit(accesstest.Owner(t), a, member, m.Round, []form.OffsetOf{{Partition: 1, Offset: 4}}))
	for wanted, offsets := range map[string]form.OffsetOf{"to 5 (the end)": {Partition: 0, Offset: 99}, "has no partition 7": {Partition: 7, Offset: 1}} {
		assert.ErrorContains(t, n.Groups.Commit(accesstest.Owner(t), a, member, m.Round, []form.OffsetOf{offsets}), wanted)
	}
	var p *problem.Problem
	require.ErrorAs(t, n.Groups.Commit(accesstest.Owner(t), a, "nobody", m.Round, []form.OffsetOf{{Partition: 0, Offset: 1}}), &p)
	assert.Equal(t, problem.NoMember, p.Kind)
	n.Reopen()
	topic, err = n.Parts.Channel(topic.Address())
	require.NoError(t, err)
	n.Parts.WaitReady(accesstest.Owner(t), topic)
	offsets, err := n.Groups.OffsetsOf(accesstest.Owner(t), topic, "compliance")
	require.NoError(t, err)
	assert.Equal(t, map[int]int64{0: 0, 1: 4}, offsets)
	require.NoError(t, n.Groups.Leave(accesstest.Owner(t), a, member))
	assert.Equal(t, strings.Fields("0-0 0-1 0-2 0-3 0-4 1-4"), next(t, n, join(t, n, ""), true))
}

// Offsets are moved by hand only when that was looked at, nobody reads, and
// the way back is known.
func TestOffsetsAreMovedAndMovedBack(t *testing.T) {
	n, _ := reading(t)
	member := join(t, n, "")
	next(t, n, member, true)
	ask := groups.SeekAsk{To: "first", Partition: part.AnyPartition, Who: "owner", Why: "audit", Last: -1}
	said, err := n.Groups.Seek(accesstest.Owner(t), a, &ask)
	require.NoError(t, err)
	assert.Equal(t, 1, said.Members)
	require.Len(t, said.Steps, 2)
	assert.EqualValues(t, 5, said.Steps[0].From)
	assert.Zero(t, said.Steps[0].To)
	assert.Zero(t, lag(t, n).Verdict.Messages, "a preview does nothing")
	ask.Apply = true
	_, err = n.Groups.Seek(accesstest.Owner(t), a, &ask)
	assert.ErrorContains(t, err, "member", "it is in use")
	require.NoError(t, n.Groups.Leave(accesstest.Owner(t), a, member))
	done, err := n.Groups.Seek(accesstest.Owner(t), a, &ask)
	require.NoError(t, err)
	assert.NotZero(t, done.ID)
	assert.EqualValues(t, 10, lag(t, n).Verdict.Messages)
	undo := groups.SeekAsk{Undo: true, Partition: part.AnyPartition, Who: "owner", Last: -1, Apply: true}
	_, err = n.Groups.Seek(accesstest.Owner(t), a, &undo)
	require.NoError(t, err)
	assert.Zero(t, lag(t, n).Verdict.Messages)
	seeks, err := n.Groups.Seeks(accesstest.Owner(t), a)
	require.NoError(t, err)
	assert.Len(t, seeks, 2)
	ask.Last = 1
	_, err = n.Groups.Seek(accesstest.Owner(t), a, &ask)
	assert.ErrorContains(t, err, "by somebody else since", "others have moved them since the preview")
	ask.To = "soon"
	_, err = n.Groups.Seek(accesstest.Owner(t), a, &ask)
	assert.Error(t, err)
}

// Who asks for a seek may give up at any moment: it is done whole or not at all,
// and what members have in hand from before it is never committed over it.
func TestASeekThatIsGivenUpIsWholeOrNotThere(t *testing.T) {
	n, topic := reading(t)
	member := join(t, n, "")
	next(t, n, member, true)
	held := func() *form.Membership {
		m, err := n.Groups.Beat(accesstest.Owner(t), a, member, 0, false, []int{0, 1}, 0)
		require.NoError(t, err)
		return m
	}
	done, given := 0, 0
	for i := range 100 {
		before := held()
		ask := groups.SeekAsk{To: "offset:" + strconv.Itoa(i%5), Partition: part.AnyPartition, Who: "owner", Last: -1, Apply: true, WhileRunning: true}
		ctx, cancel := context.WithTimeout(accesstest.Owner(t), time.Duration(rand.IntN(9000))*time.Microsecond)
		_, err := n.Groups.Seek(ctx, a, &ask)
		cancel()
		if err != nil {
			given++
		}
		stale := n.Groups.Commit(accesstest.Owner(t), a, member, before.Partitions[0].Round, []form.OffsetOf{{Partition: 0, Offset: 5}})
		offsets, err := n.Groups.OffsetsOf(accesstest.Owner(t), topic, "compliance")
		require.NoError(t, err)
		seeks, err := n.Groups.Seeks(accesstest.Owner(t), a)
		require.NoError(t, err)
		if len(seeks) == done { // it was not done: what was in hand may be committed
			require.NoError(t, stale, "seek %d", i)
			require.EqualValues(t, 5, offsets[0])
			continue
		}
		done = len(seeks)
		require.Error(t, stale, "seek %d: what was read before it is committed", i)
		require.EqualValues(t, i%5, offsets[0])
		require.EqualValues(t, i%5, offsets[1])
		require.EqualValues(t, i%5, held().Partitions[0].Offset, "members go on from there")
		got, err := n.Groups.Next(accesstest.Owner(t), a, member, 10, 0, group.UpTo{}, false)
		require.NoError(t, err)
		require.Len(t, got.Messages, 2*(5-i%5))
		_, err = n.Groups.Next(accesstest.Owner(t), a, member, 10, 0, got.UpTo, true)
		require.NoError(t, err)
	}
	t.Logf("%d seeks were done, %d given up", done, given)
}

func TestGroupsAreMadeSetAndRemoved(t *testing.T) {
	n, _ := reading(t)
	_, err := n.Groups.New(accesstest.Owner(t), "owner", a, first, nil)
	assert.ErrorContains(t, err, "exists already")
	change := setting.Change{"paused": true, "expire": time.Hour}
	p, err := n.Groups.Set(accesstest.Owner(t), "owner", a, change, true)
	require.NoError(t, err)
	assert.True(t, p.Careful, "it brings the end of the group nearer")
	assert.Contains(t, p.Effects[0], "after 1h without members the group goes")
	_, g, err := n.Parts.Group(a)
	require.NoError(t, err)
	assert.False(t, g.Paused, "a preview does nothing")
	_, err = n.Groups.Set(accesstest.Owner(t), "owner", a, change, false)
	require.NoError(t, err)
	_, g, err = n.Parts.Group(a)
	require.NoError(t, err)
	assert.True(t, g.Paused)
	assert.EqualValues(t, 3_600_000, g.ExpireMS)
	assert.Empty(t, next(t, n, join(t, n, ""), true), "members of a paused group get nothing")
	said, err := n.Groups.Remove(accesstest.Owner(t), "owner", a, true)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(said.Effects, "; "), "its 1 member is refused from then on")
	_, err = n.Groups.Remove(accesstest.Owner(t), "owner", a, false)
	require.NoError(t, err)
	_, _, err = n.Parts.Group(a)
	var wrong *problem.Problem
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, problem.NotFound, wrong.Kind)
	joined, err := n.Groups.Join(accesstest.Owner(t), "owner", a, &first, 0, "")
	require.NoError(t, err)
	assert.True(t, joined.Made, "joining makes it where it shall begin")
	_, err = n.Groups.Join(accesstest.Owner(t), "owner", a, nil, time.Millisecond, "")
	assert.ErrorContains(t, err, "1s to 10m")
	_, err = n.Groups.Join(accesstest.Owner(t), "owner", a, nil, 0, strings.Repeat("x", 101))
	assert.ErrorContains(t, err, "up to 100")
}

// What a reader cannot use waits for those who mend it, and the reader goes on.
func TestWhatAReaderRejectsBecomesADeadLetter(t *testing.T) {
	n, topic := reading(t)
	member := join(t, n, "")
	next(t, n, member, false)
	where, err := n.Groups.RejectRead(accesstest.Owner(t), a, member, 0, 2, "bad-celsius", "no number")
	require.NoError(t, err)
	assert.Contains(t, where, "coldchain/readings@compliance")
	q, err := n.Queues.At(a)
	require.NoError(t, err)
	assert.True(t, q.OfGroup())
	require.Eventually(t, func() bool { return n.Queues.Counts(q).Dead == 1 }, 20*time.Second, 10*time.Millisecond)
	dead, err := n.Queues.Dead(accesstest.Owner(t), q, time.Hour, 10)
	require.NoError(t, err)
	assert.Equal(t, "bad-celsius", dead.Causes[0].Reason)
	again, err := n.Groups.RejectRead(accesstest.Owner(t), a, member, 0, 2, "bad-celsius", "no number")
	require.NoError(t, err)
	assert.Equal(t, where, again, "twice is once")
	assert.EqualValues(t, 1, n.Queues.Counts(q).Dead)
	assert.NotContains(t, fmt.Sprint(topic.Address()), "@")

	gateway := n.Somebody("box-gateway", setting.Principal{Kind: setting.Machine}, "publisher", "coldchain")
	sent, err := n.Parts.PublishMessages(gateway, topic, 0, []*message.Message{{Body: []byte("cold")}})
	require.NoError(t, err)
	where, err = n.Groups.RejectRead(accesstest.Owner(t), a, member, 0, sent[0].Offset, "bad-celsius", "no number")
	require.NoError(t, err)
	letter, err := address.Parse(where)
	require.NoError(t, err)
	item, err := n.Queues.Item(accesstest.Owner(t), q, letter.Partition, letter.Offset, true)
	require.NoError(t, err)
	assert.Equal(t, "box-gateway", n.Publishers.By(t.Context(), item.Message), "and not who has set it aside")
	gone := *item.Message
	gone.Terms = &message.Terms{Reason: "bad-celsius", From: "coldchain/removed#0:7"}
	assert.Empty(t, n.Publishers.By(t.Context(), &gone), "nobody rather than a wrong one")
}
