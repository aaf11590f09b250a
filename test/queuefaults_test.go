package test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/message"
	"steadyferry/test/harness"
)

// Leases go by time that passes: a clock that goes back does not hold them
// up, and one that leaps ahead ends them and loses nothing.
func TestQueuesWhenTheClockJumps(t *testing.T) {
	dir := harness.Dir(t)
	clockFile := dir + "/clock"
	require.NoError(t, os.WriteFile(clockFile, []byte("0s"), 0o644))
	t.Setenv("FERRYD_CLOCK_FILE", clockFile)
	n := harness.StartIn(t, dir)
	a := newQueue(t, n, "coldchain/inspections", "-lease", "2s", "-backoff", "0s..0s")
	sendBodies(t, n, a, "1", "2")
	first := lease(t, n, a, 2)
	require.Len(t, first, 2)
	jump := func(by string) {
		require.NoError(t, os.WriteFile(clockFile, []byte(by), 0o644))
		time.Sleep(300 * time.Millisecond)
	}
	jump("-1h")
	n.Must("settle", a.String(), "-accept", first[0].Lease.String())
	again := lease(t, n, a, 2)
	require.Len(t, again, 1, "the other lease runs out in its time")
	assert.Equal(t, 2, again[0].Attempt)
	n.Kill()
	n.Run()
	n.Must("settle", a.String(), "-extend", again[0].Lease.String(), "-after", "1m")
	assert.Equal(t, client.Counts{Leased: 1}, statesOf(t, n, a))
	jump("1h")
	last := lease(t, n, a, 2)
	require.Len(t, last, 1)
	require.Len(t, last, 1)
	assert.Equal(t, 3, last[0].Attempt)
	n.Must("settle", a.String(), "-accept", last[0].Lease.String())
	assert.Equal(t, client.Counts{}, statesOf(t, n, a))
}

func TestWorkStreams(t *testing.T) {
	n := harness.Start(t)
	a := newQueue(t, n, "coldchain/inspections", "-order", "key")
	ctx := context.Background()
	const keys, each, members = 20, 30, 100
	var b message.Builder
	for i := range keys * each {
		b.Add(&message.Message{Key: fmt.Sprintf("box-%d", i%keys), Body: fmt.Append(nil, i/keys)})
	}
	_, err := n.API.Publish(ctx, a, 0, client.BatchType, nil, b.Build(message.Plain, nil))
	require.NoError(t, err)
	var mu sync.Mutex
	next, held := map[string]int{}, map[string]bool{}
	var accepted atomic.Int64
	var wg sync.WaitGroup
	all, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for i := range members {
		wg.Go(func() {
			s, err := n.API.OpenWork(ctx, a, fmt.Sprintf("m%d", i), 2)
			if !assert.NoError(t, err) {
				return
			}
			defer s.Close(ctx)
			for {
				l, err := s.Next(all)
				if err != nil {
					return
				}
				mu.Lock()
				assert.False(t, held[l.Message.Key], "%s is leased twice", l.Message.Key)
				assert.Equal(t, fmt.Sprint(next[l.Message.Key]), string(l.Message.Body), "the order of %s", l.Message.Key)
				held[l.Message.Key] = true
				mu.Unlock()
				if i%10 == 0 {
					time.Sleep(10 * time.Millisecond) // a slow member
				}
				again := rand.IntN(5) == 0 && l.Attempt < 3
				mu.Lock()
				held[l.Message.Key] = false
				if !again {
					next[l.Message.Key]++
				}
				mu.Unlock()
				outcome := client.Settlement{Lease: l.Lease, Outcome: client.OutcomeAccept}
				if again {
					outcome.Outcome = client.OutcomeRelease
				}
				s.Settle(outcome)
				if !again && accepted.Add(1) == keys*each {
					cancel()
				}
			}
		})
	}
	wg.Wait()
	assert.EqualValues(t, keys*each, accepted.Load())
	assert.Equal(t, client.Counts{}, statesOf(t, n, a))
}

// The promise of a queue: killed again and again while messages are published,
// leased, settled, returned, edited and discarded, none is lost, none is there
// twice, and what was acknowledged is done.
func TestAQueueKilledAgainAndAgain(t *testing.T) {
	n := harness.Start(t)
	a := newQueue(t, n, "coldchain/inspections", "-lease", "500ms", "-attempt-limit", "1000", "-backoff", "0s..0s")
	const kills = 50
	var published, accepted sync.Map // body to true, once it is acknowledged
	var count atomic.Int64
	never := 1.0 // share of failures at which a replay stops
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	n.API.Patience = 100 * time.Millisecond
	for range 2 {
		wg.Go(func() {
			for ctx.Err() == nil {
				body := fmt.Sprintf(`{"n":%d}`, count.Add(1))
				if _, err := n.API.Publish(context.Background(), a, 0, "application/json", nil, []byte(body)); err == nil {
					published.Store(body, true)
				} else {
					time.Sleep(5 * time.Millisecond)
				}
			}
		})
	}
	for i := range 3 {
		wg.Go(func() {
			for ctx.Err() == nil {
				w, err := n.API.Work(ctx, a, client.WorkRequest{Member: fmt.Sprint("m", i), Max: 5, Wait: "200ms"})
				if err != nil {
					time.Sleep(5 * time.Millisecond)
					continue
				}
				for _, l := range w.Leased {
					s := client.Settlement{Lease: l.Lease, Outcome: client.OutcomeAccept}
					if rand.IntN(3) == 0 {
						s.Outcome, s.Reason, s.Detail = client.OutcomeReject, "chance", "it happened"
					}
					done, err := n.API.Work(context.Background(), a, client.WorkRequest{Settle: []client.Settlement{s}})
					if err == nil && s.Outcome == client.OutcomeAccept && done.Settled[0].Result == client.ResultDone {
						_, twice := accepted.LoadOrStore(string(l.Message.Body), true)
						assert.False(t, twice, "%s was accepted twice", l.Message.Body)
					}
				}
			}
		})
	}
	wg.Go(func() {
		for ctx.Err() == nil {
			for _, act := range []client.QueueAction{
				{Action: "edit", Edits: []client.Edit{{Op: "set", At: "header.mended", Value: json.RawMessage(`"yes"`)}}, Return: true, Choice: client.Choice{Limit: 20}},
				{Action: "discard", Why: "chance", Choice: client.Choice{Limit: 10}},
				{Action: "undo"},
				{Action: "return", Choice: client.Choice{Limit: 20}},
			} {
				n.API.Call(ctx, http.MethodPost, client.QueuePath(a)+"/actions", nil, act, nil)
				time.Sleep(5 * time.Millisecond)
			}
			n.API.Call(ctx, http.MethodPost, "/replays", nil, client.NewReplay{From: a.String() + "/dead", To: a.String(), Rate: 1000, StopAbove: &never, Choice: client.Choice{Limit: 50},
				Edits: []client.Edit{{Op: "set", At: "header.replayed", Value: json.RawMessage(`"yes"`)}}}, nil)
		}
	})
	for range kills {
		time.Sleep(time.Duration(20+rand.IntN(200)) * time.Millisecond)
		n.Kill()
		n.Run()
	}
	cancel()
	wg.Wait()
	n.API.Patience = 10 * time.Second

	// All that is left is brought back and accepted.
	require.Eventually(t, func() bool {
		var p client.Page[client.Replay]
		require.NoError(t, n.API.Call(context.Background(), http.MethodGet, "/replays", nil, nil, &p))
		return !slices.ContainsFunc(p.Items, func(r client.Replay) bool { return r.State == "running" })
	}, 20*time.Second, 100*time.Millisecond, "the replays end")
	n.Must("dead", a.String(), "-undo", "-yes")
	n.Must("dead", a.String(), "-return", "-yes")
	left := map[string]int{}
	for {
		w, err := n.API.Work(context.Background(), a, client.WorkRequest{Member: "last", Max: 1000, Wait: "1s"})
		require.NoError(t, err)
		if len(w.Leased) == 0 {
			break
		}
		var settle []client.Settlement
		for _, l := range w.Leased {
			settle = append(settle, client.Settlement{Lease: l.Lease, Outcome: client.OutcomeAccept})
		}
		done, err := n.API.Work(context.Background(), a, client.WorkRequest{Settle: settle})
		require.NoError(t, err)
		for i, s := range done.Settled {
			if s.Result == client.ResultDone {
				left[string(w.Leased[i].Message.Body)]++
			}
		}
	}
	assert.Equal(t, client.Counts{}, statesOf(t, n, a))
	total := 0
	published.Range(func(body, _ any) bool {
		total++
		_, done := accepted.Load(body)
		if done {
			assert.Zero(t, left[body.(string)], "%s came again after it was accepted", body)
		}
		return true
	})
	for body, times := range left {
		assert.Equal(t, 1, times, "%s is there twice", body)
	}
	c := countsOf(t, n, a)
	assert.GreaterOrEqual(t, c.Accepted, int64(total))
	assert.LessOrEqual(t, c.Accepted, count.Load(), "no more is done than was sent")
	t.Logf("%d acknowledged messages, %d accepted, %d times a dead letter", total, c.Accepted, c.Rejected)
	require.Greater(t, total, 500)
}

func TestSettledSegmentsGoAndOldMessagesAreCarried(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	a := newQueue(t, n, "coldchain/inspections")
	ctx := context.Background()
	body := make([]byte, 100_000)
	onDisk := func() int64 {
		var topic client.Channel
		require.NoError(t, n.API.Call(ctx, http.MethodGet, client.ChannelPath(a), nil, nil, &topic))
		return topic.Bytes
	}
	sendBodies(t, n, a, `{"old":1}`, `{"old":2}`)
	rejectAll(t, n, a)
	for range 24 { // 240 MB in all
		var b message.Builder
		for range 100 {
			b.Add(&message.Message{Body: body})
		}
		_, err := n.API.Publish(ctx, a, 0, client.BatchType, nil, b.Build(message.Plain, nil))
		require.NoError(t, err)
		var settle []client.Settlement
		for _, l := range lease(t, n, a, 100) {
			settle = append(settle, client.Settlement{Lease: l.Lease, Outcome: client.OutcomeAccept})
		}
		_, err = n.API.Work(ctx, a, client.WorkRequest{Settle: settle})
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { return onDisk() < 80<<20 }, 40*time.Second, 200*time.Millisecond, "%d bytes are left", onDisk())
	for range 2 {
		out := n.Must("dead", a.String()+"#0:1")
		assert.Contains(t, out, `"old": 2`)
		assert.Contains(t, out, `got "1 F"`)
		n.Kill()
		n.Run()
	}
	n.Must("dead", a.String(), "-return", "-yes")
	assert.Equal(t, `{"old":1}`, string(lease(t, n, a, 1)[0].Message.Body))
}
