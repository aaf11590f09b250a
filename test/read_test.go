package test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/message"
	"steadyferry/test/harness"
)

// publish sends one message with a key to the topic of these tests.
func publish(t *testing.T, n *harness.Node, partition int, body string) client.Receipt {
	t.Helper()
	p, err := n.API.Publish(context.Background(), channel("coldchain/readings"), partition, "application/json", nil, []byte(body))
	require.NoError(t, err)
	return p.Receipts[0]
}

func TestBrowseFindsWhatIsAskedFor(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 3)
	var at []time.Time
	for i := range 60 {
		r := publish(t, n, i%3, fmt.Sprintf(`{"n":%d,"celsius":%d}`, i, i%12))
		at = append(at, r.Time)
		time.Sleep(time.Millisecond)
	}
	numbers := func(q client.Query) []int {
		out := []int{}
		for _, m := range browse(t, n, q) {
			var i int
			_, err := fmt.Sscanf(string(m.Body), `{"n":%d`, &i)
			require.NoError(t, err)
			out = append(out, i)
		}
		return out
	}
	seq := func(from, to int) []int {
		out := []int{}
		for i := from; i != to; {
			out = append(out, i)
			if from < to {
				i++
			} else {
				i--
			}
		}
		return out
	}
	stamp := func(i int) string { return "time:" + at[i].Format(time.RFC3339Nano) }
	for name, c := range map[string]struct {
		q    client.Query
		want []int
	}{
		"all, in the order of time": {client.Query{}, seq(0, 60)},
		"all, newest first":         {client.Query{Order: "newest"}, seq(59, -1)},
		"the first five":            {client.Query{Limit: 5}, seq(0, 5)},
		"the first, newest first":   {client.Query{Limit: 5, Order: "newest"}, seq(4, -1)},
		"the most recent":           {client.Query{Limit: 5, Take: "recent"}, seq(55, 60)},
		"the most recent, reversed": {client.Query{Limit: 5, Take: "recent", Order: "newest"}, seq(59, 54)},
		"from a time":               {client.Query{From: stamp(50)}, seq(50, 60)},
		"to a time":                 {client.Query{To: stamp(10)}, seq(0, 10)},
		"between":                   {client.Query{From: stamp(10), To: stamp(20), Take: "recent", Limit: 3}, seq(17, 20)},
		"one partition":             {client.Query{Partitions: []int{1}, Limit: 3}, []int{1, 4, 7}},
		"two partitions":            {client.Query{Partitions: []int{0, 2}, Limit: 4}, []int{0, 2, 3, 5}},
		"from an offset":            {client.Query{Partitions: []int{1}, From: "offset:18"}, []int{55, 58}},
		"a condition":               {client.Query{Where: "body.celsius == 11"}, []int{11, 23, 35, 47, 59}},
		"a condition, most recent":  {client.Query{Where: "body.celsius == 11", Take: "recent", Limit: 2, Order: "newest"}, []int{59, 47}},
		"nothing fits":              {client.Query{Where: "body.celsius > 100"}, []int{}},
		"a long time ago":           {client.Query{To: "ago:1h"}, []int{}},
		"the last hour":             {client.Query{From: "ago:1h", Limit: 1}, []int{0}},
		"by place":                  {client.Query{Where: "partition == 2 && offset >= 19"}, []int{59}},
	} {
		assert.Equal(t, c.want, numbers(c.q), name)
	}
}

func TestBrowseTellsItsProgressAndStopsWhenTheClientGoes(t *testing.T) {
	n := harness.Start(t)
	a := n.Topic("coldchain/readings", 2)
	n.Must("load", "coldchain/readings", "-count", "400000", "-batch", "2000")
	var last client.Progress
	require.NoError(t, n.API.Browse(context.Background(), a, client.Query{Where: "size > 1000"}, func(e client.Event) error {
		if e.Progress != nil {
			assert.GreaterOrEqual(t, e.Progress.LookedAt, last.LookedAt)
			last = *e.Progress
		}
		return nil
	}))
	assert.Equal(t, client.Progress{LookedAt: 400_000, Total: 400_000}, last)
	ctx, cancel := context.WithCancel(context.Background())
	enough := errors.New("enough")
	err := n.API.Browse(ctx, a, client.Query{Where: "size == 100", Limit: 100_000}, func(e client.Event) error { return enough })
	cancel()
	assert.ErrorIs(t, err, enough)
	assert.Eventually(t, func() bool {
		var live client.Live
		require.NoError(t, n.API.Call(context.Background(), http.MethodGet, "/status", nil, nil, &live))
		return live.Status.Streams == 0
	}, 5*time.Second, 50*time.Millisecond)
}

// A tail that loses its server goes on at the same place: no gap, no repeat.
func TestTailGoesOnAfterTheServerWasKilled(t *testing.T) {
	n := harness.Start(t)
	a := n.Topic("coldchain/readings", 3)
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	const total = 300
	var got []string
	done := make(chan error, 1)
	go func() {
		done <- n.API.Tail(ctx, a, client.Query{From: "first", Where: "text != 'hidden'"}, func(e client.Event) error {
			if e.Message != nil {
				got = append(got, string(e.Message.Bytes()))
			}
			if len(got) == total {
				return errors.New("all")
			}
			return nil
		}, func(error, time.Duration) {})
	}()
	for i := range total {
		if i == 100 || i == 200 {
			n.Kill()
			n.Run()
		}
		_, err := n.API.Publish(ctx, a, i%3, "text/plain", nil, []byte(fmt.Sprint(i)))
		require.NoError(t, err)
		if i%50 == 0 {
			_, err = n.API.Publish(ctx, a, 0, "text/plain", nil, []byte("hidden"))
			require.NoError(t, err)
		}
	}
	require.EqualError(t, <-done, "all")
	seen := map[string]bool{}
	for _, body := range got {
		assert.False(t, seen[body], "%s came twice", body)
		seen[body] = true
	}
	assert.Len(t, seen, total)
}

func TestATailThatIsTooSlowSaysWhatItLeftOut(t *testing.T) {
	n := harness.Start(t)
	a := n.Topic("coldchain/readings", 1)
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	shown, leftOut := int64(0), int64(0)
	started := make(chan struct{})
	done := make(chan error, 1)
	go func() {
		done <- n.API.Tail(ctx, a, client.Query{}, func(e client.Event) error {
			switch {
			case e.Message != nil && shown == 0:
				close(started)
				time.Sleep(2 * time.Second)
				shown++
			case e.Message != nil:
				shown++
				if string(e.Message.Bytes()) == "last" {
					return errors.New("all")
				}
			case e.LeftOut != nil:
				leftOut += e.LeftOut.Messages
				assert.Equal(t, leftOut, e.LeftOut.Total)
			}
			return nil
		}, func(error, time.Duration) {})
	}()
	time.Sleep(300 * time.Millisecond)
	publish(t, n, 0, "1")
	<-started
	n.Must("load", "coldchain/readings", "-count", "500000", "-publishers", "2")
	time.Sleep(3 * time.Second)
	for ctx.Err() == nil {
		_, err := n.API.Publish(ctx, a, 0, "text/plain", nil, []byte("last"))
		require.NoError(t, err)
		select {
		case err := <-done:
			require.EqualError(t, err, "all")
			assert.Positive(t, leftOut)
			assert.GreaterOrEqual(t, shown+leftOut, int64(500_001), "every message was shown or counted")
			return
		case <-time.After(200 * time.Millisecond):
		}
	}
	t.Fatal("the tail did not come to the end")
}

func TestFetchWaitsForTheFirstMessage(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	path := "/api/v1/channels/coldchain/readings/partitions/0/records"
	began := time.Now()
	answer := n.Ask("GET", path+"?wait=300ms", "")
	assert.Equal(t, "0", answer.Header.Get("Ferry-Count"))
	assert.GreaterOrEqual(t, time.Since(began), 300*time.Millisecond)
	go func() {
		time.Sleep(200 * time.Millisecond)
		publish(t, n, 0, `{"n":1}`)
	}()
	began = time.Now()
	answer = n.Ask("GET", path+"?wait=20s&from=end", "")
	assert.Less(t, time.Since(began), 5*time.Second)
	assert.Contains(t, answer.Body, `"body":{"n":1}`)
	assert.Equal(t, "1", answer.Header.Get("Ferry-Next"))
}

func TestRetentionAndLimits(t *testing.T) {
	n := harness.Start(t)
	a := n.Topic("coldchain/readings", 1, client.Settings{"retainBytes": 1 << 20})
	var b message.Builder
	for range 40 {
		for range 100 {
			b.Add(&message.Message{Body: make([]byte, 1000)})
		}
		_, err := n.API.Publish(context.Background(), a, 0, client.BatchType, nil, b.Build(message.Plain, nil))
		require.NoError(t, err)
	}
	var topic client.Channel
	require.Eventually(t, func() bool {
		require.NoError(t, n.API.Call(context.Background(), http.MethodGet, "/channels/coldchain/readings", nil, nil, &topic))
		return topic.Bytes < 2<<20
	}, 15*time.Second, 200*time.Millisecond)
	assert.Greater(t, topic.Bytes, int64(1<<20)/2)
	assert.EqualValues(t, 4000, topic.Each[0].End, "offsets stay")
	first := topic.Each[0].First
	assert.Positive(t, first)
	answer := n.Ask("GET", "/api/v1/channels/coldchain/readings/partitions/0/records?from=offset:0", "")
	assert.Equal(t, 410, answer.Status)
	assert.Contains(t, answer.Body, fmt.Sprintf("from offset:%d on", first))
	n.Kill()
	n.Run()
	require.NoError(t, n.API.Call(context.Background(), http.MethodGet, "/channels/coldchain/readings", nil, nil, &topic))
	assert.Equal(t, first, topic.Each[0].First)
	assert.Len(t, browse(t, n, client.Query{Limit: 10_000}), int(4000-first))

	out := n.Must("set", "coldchain/readings", "-partitions", "4")
	assert.Contains(t, out, "most keys go to another partition")
	assert.Contains(t, out, "add -yes")
	n.Must("set", "coldchain/readings", "-partitions", "4", "-yes")
	publish(t, n, 3, "{}")
	n.Must("set", "coldchain/readings", "-paused")
	answer = n.Ask("POST", messages, "x")
	assert.Equal(t, 409, answer.Status)
	assert.Contains(t, answer.Body, "-paused=false")
	n.Must("set", "coldchain/readings", "-paused=false", "-max-body", "1kB")
	answer = n.Ask("POST", messages, strings.Repeat("x", 1001))
	assert.Equal(t, 413, answer.Status)
}

func TestARemovedTopicCanBeBroughtBack(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 2)
	publish(t, n, 0, `{"kept":true}`)
	out := n.Must("remove", "coldchain/readings")
	assert.Contains(t, out, "1 message")
	assert.Contains(t, out, "add -yes")
	assert.Contains(t, n.Must("browse", "coldchain/readings"), "kept", "a preview changes nothing")
	n.Must("remove", "coldchain/readings", "-yes")
	_, errOut, code := n.Ferry("", "browse", "coldchain/readings")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "there is no channel")
	n.Must("remove", "coldchain/readings", "-undo")
	assert.Contains(t, n.Must("browse", "coldchain/readings"), "kept")
	book := n.Must("logbook")
	assert.Contains(t, book, "restore topic")
	assert.Contains(t, book, "remove topic")

	n.Must("remove", "coldchain/readings", "-yes")
	n.Topic("coldchain/readings", 1) // the name is free
	assert.Empty(t, browse(t, n, client.Query{}))
	_, errOut, code = n.Ferry("", "remove", "coldchain/readings", "-undo")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "used again")
}

func TestAThousandPartitionsStartInSeconds(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1000)
	publish(t, n, 999, "{}")
	require.Zero(t, n.Stop())
	began := time.Now()
	n.Run()
	took := time.Since(began)
	assert.Less(t, took, 5*time.Second)
	n.Kill()
	began = time.Now()
	n.Run()
	t.Logf("start after a stop in %s, after a kill in %s", took, time.Since(began))
	assert.Len(t, browse(t, n, client.Query{}), 1)
}

func TestTailBeginsAndEndsWhereItIsTold(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	for i := range 15 {
		publish(t, n, 0, fmt.Sprintf(`{"n":%d}`, i))
		time.Sleep(time.Millisecond)
	}
	out := n.Must("tail", "coldchain/readings", "-newest", "-limit", "10")
	assert.NotContains(t, out, `{"n":4}`)
	assert.Contains(t, out, `{"n":5}`)
	assert.Contains(t, out, `{"n":14}`)
	out = n.Must("tail", "coldchain/readings", "-from", "offset:3", "-to", "offset:7")
	assert.Equal(t, 4, strings.Count(out, "\n"), out)
	out = n.Must("tail", "coldchain/readings", "-from", "first", "-to", "time:"+time.Now().Add(time.Second).Format(time.RFC3339Nano))
	assert.Equal(t, 15, strings.Count(out, "\n"), out)
	_, _, code := n.Ferry("", "tail", "coldchain/readings", "-to", "end")
	assert.Equal(t, 2, code)
}
