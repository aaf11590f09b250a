package test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

// 500 members join and leave at random for a minute.
func TestManyMembersComeAndGo(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes half a minute")
	}
	n := harness.Start(t)
	const partitions = 40
	topic := n.Topic("coldchain/readings", partitions)
	a := group(topic, "compliance")
	n.Must("new", "group", a.String(), "-from", "first")
	ctx, cancel := context.WithTimeout(context.Background(), 25*time.Second)
	defer cancel()
	var mu sync.Mutex
	owners := map[string]string{} // partition and round in which it was given: member
	note := func(m *client.Member) {
		share := m.Share()
		mu.Lock()
		defer mu.Unlock()
		for _, h := range share.Partitions {
			key := fmt.Sprintf("%d of %d", h.Partition, h.Round)
			if had, ok := owners[key]; ok {
				assert.Equal(t, had, share.MemberID, "partition %s has one owner", key)
			}
			owners[key] = share.MemberID
		}
	}
	const timeout = 5 * time.Second
	joins := 0
	var wg sync.WaitGroup
	for range 500 {
		wg.Go(func() {
			api, err := client.New(n.URL, n.Token)
			assert.NoError(t, err)
			for ctx.Err() == nil {
				time.Sleep(time.Duration(rand.IntN(6000)) * time.Millisecond)
				m, err := api.Join(ctx, a, client.JoinGroup{Timeout: timeout.String()})
				if err != nil {
					continue
				}
				mu.Lock()
				joins++
				mu.Unlock()
				note(m)
				for end := time.Now().Add(time.Duration(rand.IntN(20000)) * time.Millisecond); time.Now().Before(end) && ctx.Err() == nil; {
					var holds []int
					for _, h := range m.Share().Partitions {
						holds = append(holds, h.Partition)
					}
					if m.Beat(ctx, holds, time.Second) != nil {
						break
					}
					note(m)
				}
				if rand.IntN(3) > 0 {
					m.Leave(ctx) // else it falls silent
				}
			}
		})
	}
	without := map[int]time.Time{}
	longest := time.Duration(0)
	for ctx.Err() == nil {
		groups, err := n.API.Lag(ctx, a)
		if err == nil && groups[0].Members > 0 {
			for _, p := range groups[0].Partitions {
				if p.MemberID != "" {
					delete(without, p.Partition)
				} else if without[p.Partition].IsZero() {
					without[p.Partition] = time.Now()
				} else {
					longest = max(longest, time.Since(without[p.Partition]))
				}
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	wg.Wait()
	assert.Less(t, longest, timeout, "no partition is without a holder for longer than a timeout")
	assert.Greater(t, joins, 500)
	t.Logf("%d joins, %d times a partition was given, longest without a holder %s", joins, len(owners), longest)
}

func TestCommitsWhileTheRecordsAreAway(t *testing.T) {
	n := harness.Start(t)
	topic := n.Topic("coldchain/readings", 2)
	fill(t, n, topic, 2, 100)
	a := group(topic, "compliance")
	ctx := context.Background()
	m, err := n.API.Join(ctx, a, client.JoinGroup{From: "first"})
	require.NoError(t, err)
	require.NoError(t, m.Commit(ctx, []client.OffsetOf{{Partition: 0, Offset: 10}}))
	pid := harness.SharedPostgres(t)
	signalAll(t, pid, syscall.SIGSTOP)
	resumed := false
	resume := func() {
		if !resumed {
			signalAll(t, pid, syscall.SIGCONT)
			resumed = true
		}
	}
	defer resume()
	stopped := time.Now()
	given, err := m.Next(ctx, client.Next{Max: 50})
	require.NoError(t, err, "reading goes on")
	assert.Len(t, given.Messages, 50)
	err = m.Commit(ctx, []client.OffsetOf{{Partition: 0, Offset: 20}})
	assert.True(t, client.Is(err, "catalog-away"), "%v", err)
	assert.InDelta(t, 10, time.Since(stopped).Seconds(), 4, "it waits for as long as it may")
	var moved client.SeekResult
	err = n.API.Call(ctx, http.MethodPost, client.GroupPath(a)+"/seeks", nil, client.Seek{To: "offset:5", WhileRunning: true}, &moved)
	assert.True(t, client.Is(err, "catalog-away"), "%v", err)
	for time.Since(stopped) < 20*time.Second {
		require.NoError(t, m.Beat(ctx, []int{0, 1}, time.Second), "members stay members")
	}
	late := make(chan error, 1)
	go func() { late <- m.Commit(ctx, []client.OffsetOf{{Partition: 1, Offset: 30}}) }()
	time.Sleep(time.Second)
	resume()
	require.NoError(t, <-late, "it waited for the database")
	require.NoError(t, m.Commit(ctx, []client.OffsetOf{{Partition: 0, Offset: 25}}))
	g := lagOf(t, n, a)
	assert.EqualValues(t, 25, g.Partitions[0].Committed)
	assert.EqualValues(t, 30, g.Partitions[1].Committed)
	var history client.Page[client.LagSample]
	require.Eventually(t, func() bool {
		return n.API.Call(ctx, http.MethodGet, client.GroupPath(a)+"/history", nil, nil, &history) == nil && len(history.Items) > 0 && history.Items[len(history.Items)-1].Lag == 145
	}, 15*time.Second, 300*time.Millisecond, "the lag is noted again")
	assert.Equal(t, []int64{75, 70}, history.Items[len(history.Items)-1].Partitions)
}

func TestAGroupGoesOnFromWhatWasAcknowledged(t *testing.T) {
	n := harness.Start(t)
	const partitions, each = 4, 5000
	topic := n.Topic("coldchain/readings", partitions)
	fill(t, n, topic, partitions, each)
	a := group(topic, "compliance")
	ctx := context.Background()
	m, err := n.API.Join(ctx, a, client.JoinGroup{From: "first", Timeout: "5s"})
	require.NoError(t, err)
	for range 3 {
		acked := make([]int64, partitions)
		var mu sync.Mutex
		var wg sync.WaitGroup
		stop := make(chan struct{})
		for p := range partitions {
			start := lagOf(t, n, a).Partitions[p].Committed
			acked[p] = start
			wg.Go(func() {
				for o := start + 1; ; o++ {
					select {
					case <-stop:
						return
					default:
					}
					if m.Commit(ctx, []client.OffsetOf{{Partition: p, Offset: o}}) != nil {
						return
					}
					mu.Lock()
					acked[p] = o
					mu.Unlock()
				}
			})
		}
		time.Sleep(300 * time.Millisecond)
		n.Kill()
		close(stop)
		wg.Wait()
		n.Run()
		g := lagOf(t, n, a)
		for p := range partitions {
			assert.GreaterOrEqual(t, g.Partitions[p].Committed, acked[p], "partition %d", p)
			assert.LessOrEqual(t, g.Partitions[p].Committed, acked[p]+1, "partition %d", p)
		}
		require.NoError(t, m.Beat(ctx, []int{0, 1, 2, 3}, 0), "a member is still one after the restart")
	}
}

func TestRetentionWaitsForGroups(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	topic := n.Topic("coldchain/readings", 1, client.Settings{"retainBytes": 1 << 20, "hold": []string{"compliance"}, "holdBytes": 3 << 20})
	a := group(topic, "compliance")
	n.Must("new", "group", a.String(), "-from", "first")
	publish := func(mib int) {
		for range mib * 8 {
			_, err := n.API.Publish(context.Background(), topic, 0, "text/plain", nil, []byte(strings.Repeat("x", 128<<10)))
			require.NoError(t, err)
		}
	}
	publish(2)
	time.Sleep(6 * time.Second) // retention looks every 5 s
	g := lagOf(t, n, a)
	assert.Zero(t, g.Lost, "what the group has not read stays")
	assert.EqualValues(t, 16, g.Lag)
	publish(4)
	require.Eventually(t, func() bool { g = lagOf(t, n, a); return g.Lost > 0 }, 12*time.Second, 200*time.Millisecond, "but not beyond the limit")
	assert.Contains(t, g.Verdict, "has lost")
	assert.GreaterOrEqual(t, g.Lag, int64(16))
	n.Must("read", a.String(), "-quiet", "-limit", "20")
	require.Zero(t, lagOf(t, n, a).Lost, "what is lost is passed over")
}
