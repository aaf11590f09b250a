package test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/test/harness"
)

// group returns the address of a group of a topic.
func group(topic address.Address, name string) address.Address {
	topic.Group = name
	return topic
}

// fill publishes so many messages to each partition of a topic.
func fill(t *testing.T, n *harness.Node, topic address.Address, partitions, each int) {
	t.Helper()
	for p := range partitions {
		var b message.Builder
		for i := range each {
			b.Add(&message.Message{Key: fmt.Sprintf("k%d", i%7), Body: fmt.Appendf(nil, "%d-%d", p, i)})
		}
		_, err := n.API.Publish(context.Background(), topic, p, client.BatchType, nil, b.Build(message.Plain, nil))
		require.NoError(t, err)
	}
}

func lagOf(t *testing.T, n *harness.Node, a address.Address) client.Group {
	t.Helper()
	groups, err := n.API.Lag(context.Background(), a)
	require.NoError(t, err)
	require.Len(t, groups, 1)
	return groups[0]
}

func TestAGroupIsReadFromTheCommandLine(t *testing.T) {
	n := harness.Start(t)
	topic := n.Topic("coldchain/readings", 3)
	fill(t, n, topic, 3, 100)
	n.Must("read", "coldchain/readings@compliance", "-limit", "250", "-quiet")
	assert.EqualValues(t, 50, lagOf(t, n, group(topic, "compliance")).Lag, "exactly what was not printed")
	out := n.Must("read", "coldchain/readings@compliance", "-limit", "50", "-json")
	seen := map[string]bool{}
	for line := range strings.Lines(out) {
		var m client.Message
		require.NoError(t, json.Unmarshal([]byte(line), &m))
		seen[m.Address] = true
	}
	assert.Len(t, seen, 50)
	_, errOut, code := n.Ferry("", "lag", "coldchain/readings@compliance", "-fail-above", "0")
	assert.Zero(t, code, errOut)

	n.Must("read", "coldchain/readings@nothing", "-limit", "10", "-quiet", "-commit", "never")
	_, errOut, code = n.Ferry("", "lag", "coldchain/readings@nothing", "-fail-above", "299")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "lags by 300 messages; allowed: 299")
	n.Must("new", "group", "coldchain/readings@late", "-from", "end", "-description", "from now on")
	assert.Contains(t, n.Must("show", "coldchain/readings@late"), "from now on")
	n.Must("new", "group", "coldchain/readings@copy", "-from", "group:compliance")
	assert.Zero(t, lagOf(t, n, group(topic, "copy")).Lag)

	n.Must("set", "coldchain/readings@late", "-paused")
	fill(t, n, topic, 3, 1)
	m, err := n.API.Join(context.Background(), group(topic, "late"), client.JoinGroup{})
	require.NoError(t, err)
	given, err := m.Next(context.Background(), client.Next{Wait: "300ms"})
	require.NoError(t, err)
	assert.True(t, given.Paused)
	assert.Empty(t, given.Messages, "members of a paused group get nothing")
	n.Must("set", "coldchain/readings@late", "-paused=false")
	given, err = m.Next(context.Background(), client.Next{Wait: "5s"})
	require.NoError(t, err)
	assert.NotEmpty(t, given.Messages)

	assert.Contains(t, n.Must("remove", "coldchain/readings@late"), "1 member is refused")
	n.Must("remove", "coldchain/readings@late", "-yes")
	_, err = m.Next(context.Background(), client.Next{})
	assert.ErrorContains(t, err, "no group late")
}

func TestWhatMembersMayNotDo(t *testing.T) {
	n := harness.Start(t)
	topic := n.Topic("coldchain/readings", 2)
	fill(t, n, topic, 2, 10)
	ctx := context.Background()
	a := group(topic, "compliance")
	_, err := n.API.Join(ctx, a, client.JoinGroup{})
	assert.ErrorContains(t, err, "has no group compliance", "without from it must exist")
	m, err := n.API.Join(ctx, a, client.JoinGroup{From: "first"})
	require.NoError(t, err)
	share := m.Share()
	require.Len(t, share.Partitions, 2)
	offset := func(p int, o int64) []client.OffsetOf { return []client.OffsetOf{{Partition: p, Offset: o}} }

	assert.ErrorContains(t, m.Commit(ctx, offset(0, 11)), "allowed: 0 (the oldest kept) to 10 (the end)")
	assert.ErrorContains(t, m.Commit(ctx, offset(0, -1)), "cannot be committed")
	assert.ErrorContains(t, m.Commit(ctx, offset(2, 1)), "has no partition 2")
	assert.True(t, client.Is(m.CommitAs(ctx, share.Round-1, offset(0, 1)), "old-round"))
	assert.True(t, client.Is(m.CommitAs(ctx, share.Round+9, offset(0, 1)), "old-round"))
	require.NoError(t, m.Commit(ctx, offset(0, 5)))
	assert.ErrorContains(t, m.Commit(ctx, offset(0, 4)), "committed offset 5, and 4 is below it")
	require.NoError(t, m.Commit(ctx, offset(0, 5)), "the same again is no harm")

	// Another one comes: a partition goes over when it is given up.
	began := time.Now()
	other, err := n.API.Join(ctx, a, client.JoinGroup{})
	require.NoError(t, err)
	assert.Empty(t, other.Share().Partitions)
	require.NoError(t, m.Beat(ctx, []int{0, 1}, 0))
	require.Len(t, m.Share().Leaving, 1)
	gone := m.Share().Leaving[0]
	require.NoError(t, m.Commit(ctx, offset(gone, 6)), "what is in hand is committed first")
	require.NoError(t, m.Beat(ctx, []int{1 - gone}, 0))
	require.NoError(t, other.Beat(ctx, nil, 5*time.Second))
	require.Len(t, other.Share().Partitions, 1)
	assert.Equal(t, client.Held{Partition: gone, Offset: 6, Round: other.Share().Round}, other.Share().Partitions[0])
	assert.Less(t, time.Since(began), 3*time.Second)
	assert.True(t, client.Is(m.Commit(ctx, offset(gone, 7)), "not-held"))

	require.NoError(t, other.Leave(ctx))
	assert.True(t, client.Is(other.Commit(ctx, offset(gone, 7)), "no-member"))
	require.NoError(t, m.Beat(ctx, []int{1 - gone}, 5*time.Second))
	assert.Len(t, m.Share().Partitions, 2)
	assert.True(t, client.Is(m.CommitAs(ctx, share.Round, offset(gone, 7)), "old-round"), "what it read before is not its any more")

	silent, err := n.API.Join(ctx, a, client.JoinGroup{Timeout: "1s"})
	require.NoError(t, err)
	time.Sleep(1600 * time.Millisecond)
	assert.True(t, client.Is(silent.Beat(ctx, nil, 0), "no-member"), "it did not answer in its timeout")

	path := client.GroupPath(a) + "/members/" + m.Share().MemberID
	for body, want := range map[string]string{
		`{"partition":0,"offset":5}`:                    "a reason is missing",
		`{"partition":0,"offset":-1,"reason":"bad"}`:    "offset -1",
		`{"partition":0,"offset":99999,"reason":"bad"}`: "no offset 99999",
		`{"partition":77,"offset":5,"reason":"bad"}`:    "partition",
	} {
		answer := n.Ask("POST", "/api/v1"+path+"/reject", body)
		assert.GreaterOrEqual(t, answer.Status, 400, body)
		assert.Contains(t, answer.Body, want, body)
	}
	for _, bad := range []string{`{"timeout":"0.1s"}`, `{"timeout":"2h"}`, `{"from":"yesterday"}`, `{"member":"` + strings.Repeat("x", 200) + `"}`} {
		assert.Equal(t, http.StatusBadRequest, n.Ask("POST", "/api/v1"+client.GroupPath(a)+"/members", bad).Status, bad)
	}
	assert.Equal(t, http.StatusBadRequest, n.Ask("POST", "/api/v1"+path+"/next", `{"max":100000}`).Status)
}

// What is read of a partition is in order and by one member at a time, while
// members come, leave and are cut off without a word.
func TestAPartitionHasOneReaderAtATime(t *testing.T) {
	n := harness.Start(t)
	const partitions, each = 6, 3000
	topic := n.Topic("coldchain/readings", partitions)
	fill(t, n, topic, partitions, each)
	a := group(topic, "compliance")
	n.Must("new", "group", a.String(), "-from", "first")

	type stretch struct {
		member           int
		from, to         int64
		began, ended     time.Time
		committed, tried bool
	}
	var mu sync.Mutex
	read := make([][]stretch, partitions)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	reader := func(id int, life time.Duration, silent bool) {
		mine, stop := context.WithTimeout(ctx, life)
		defer stop()
		api, err := client.New(n.URL, n.Token)
		require.NoError(t, err)
		r, err := api.ReadGroup(mine, a, client.ReadOptions{Timeout: 2 * time.Second, MaxBytes: 8 << 10, JoinGroup: client.JoinGroup{Member: fmt.Sprint(id)}})
		if err != nil {
			return
		}
		defer r.Close(context.Background())
		for {
			b, err := r.Next(mine)
			if err != nil {
				return
			}
			s := stretch{member: id, from: b.From, to: b.Next, began: time.Now()}
			time.Sleep(time.Duration(rand.IntN(25)) * time.Millisecond)
			if silent && rand.IntN(10) == 0 {
				return // as if it had crashed: what is in hand is not committed
			}
			s.tried = true
			s.committed = r.Commit(ctx, b) == nil
			s.ended = time.Now()
			mu.Lock()
			read[b.Partition] = append(read[b.Partition], s)
			mu.Unlock()
		}
	}
	var wg sync.WaitGroup
	for id := range 14 {
		wg.Go(func() {
			time.Sleep(time.Duration(id*300) * time.Millisecond)
			reader(id, time.Duration(1000+rand.IntN(3000))*time.Millisecond, id%3 == 0)
		})
	}
	wg.Go(func() { reader(99, 40*time.Second, false) })
	require.Eventually(t, func() bool { return lagOf(t, n, a).Lag == 0 }, 40*time.Second, 100*time.Millisecond)
	cancel()
	wg.Wait()
	for p, stretches := range read {
		var done []stretch
		for _, s := range stretches {
			if s.committed {
				done = append(done, s)
			}
		}
		slices.SortFunc(done, func(x, y stretch) int { return int(x.from - y.from) })
		next := int64(0)
		for i, s := range done {
			require.Equal(t, next, s.from, "partition %d: what is committed has no gap and no overlap", p)
			next = s.to
			if i > 0 {
				require.False(t, s.began.Before(done[i-1].began), "partition %d is read in order", p)
				if s.member != done[i-1].member {
					require.False(t, s.began.Before(done[i-1].ended), "partition %d: member %d began while %d was at it", p, s.member, done[i-1].member)
				}
			}
		}
		require.EqualValues(t, each, next)
	}
}

func TestOffsetsAreMovedAndMovedBack(t *testing.T) {
	n := harness.Start(t)
	topic := n.Topic("coldchain/readings", 2)
	fill(t, n, topic, 2, 100)
	a := group(topic, "compliance")
	n.Must("read", a.String(), "-limit", "200", "-quiet")
	committed := func() []int64 {
		var out []int64
		for _, p := range lagOf(t, n, a).Partitions {
			out = append(out, p.Committed)
		}
		return out
	}
	require.Equal(t, []int64{100, 100}, committed())

	out := n.Must("seek", a.String(), "-to", "ago:2h")
	assert.Contains(t, out, "before all messages")
	assert.Contains(t, out, "200 messages are read again, 0 skipped")
	assert.Contains(t, out, "nothing is changed yet")
	require.Equal(t, []int64{100, 100}, committed())
	assert.Contains(t, n.Must("seek", a.String(), "-to", "time:2099-01-01T00:00:00Z"), "in the future")
	assert.Contains(t, n.Must("seek", a.String(), "-to", "offset:30", "-partition", "1", "-yes", "-why", "limits were wrong"), "(seek 1)")
	require.Equal(t, []int64{100, 30}, committed())
	n.Must("seek", a.String(), "-to", "first", "-yes")
	require.Equal(t, []int64{0, 0}, committed())
	n.Must("seek", a.String(), "-undo", "-yes")
	require.Equal(t, []int64{100, 30}, committed())
	n.Must("seek", a.String(), "-undo", "-yes")
	require.Equal(t, []int64{100, 100}, committed(), "one undo after the other")
	_, errOut, code := n.Ferry("", "seek", a.String(), "-undo", "-yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "has no seek that could be undone")
	history := n.Must("show", a.String(), "-history")
	assert.Contains(t, history, "limits were wrong")
	assert.Equal(t, 2, strings.Count(history, "undone"))
	for _, bad := range [][]string{{"-to", "offset:9", "-partition", "7"}, {"-to", "group:nobody"}} {
		_, _, code = n.Ferry("", append([]string{"seek", a.String()}, bad...)...)
		assert.Equal(t, 1, code, bad)
	}
	_, _, code = n.Ferry("", "seek", a.String(), "-to", "sometime")
	assert.Equal(t, 2, code)

	// With live members it is refused, unless they shall move too.
	ctx := context.Background()
	m, err := n.API.Join(ctx, a, client.JoinGroup{})
	require.NoError(t, err)
	_, errOut, code = n.Ferry("", "seek", a.String(), "-to", "first", "-yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "1 live member")
	before := m.Share().Round
	n.Must("seek", a.String(), "-to", "offset:10", "-while-running", "-yes")
	assert.True(t, client.Is(m.CommitAs(ctx, before, []client.OffsetOf{{Partition: 0, Offset: 100}}), "old-round"), "it has read what is behind the move")
	require.NoError(t, m.Beat(ctx, []int{0, 1}, 5*time.Second))
	assert.EqualValues(t, 10, m.Share().Partitions[0].Offset)
	given, err := m.Next(ctx, client.Next{Max: 1})
	require.NoError(t, err)
	assert.EqualValues(t, 10, given.Messages[0].Offset)
	require.NoError(t, m.Leave(ctx))

	// Of several at once one wins, and the others are told.
	var preview client.SeekResult
	require.NoError(t, n.API.Call(ctx, http.MethodPost, client.GroupPath(a)+"/seeks", map[string][]string{"preview": {"true"}}, client.Seek{To: "first"}, &preview))
	results := make(chan error, 4)
	for i := range 4 {
		go func() {
			results <- n.API.Call(ctx, http.MethodPost, client.GroupPath(a)+"/seeks", nil, client.Seek{To: fmt.Sprintf("offset:%d", 20+i), Last: &preview.Last}, nil)
		}()
	}
	won := 0
	for range 4 {
		if err := <-results; err == nil {
			won++
		} else {
			assert.ErrorContains(t, err, "by somebody else")
		}
	}
	assert.Equal(t, 1, won)
	now := committed()
	assert.Equal(t, now[0], now[1], "all partitions or none")
}
