package endpoints_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/node/nodetest"
)

// fill publishes readings into 6 partitions of a topic.
func fill(b *testing.B, n *nodetest.Node, topic *part.Channel, count int) {
	b.Helper()
	for p := range 6 {
		for left := count / 6; left > 0; left -= 1000 {
			all := make([]*message.Message, min(left, 1000))
			for i := range all {
				all[i] = &message.Message{Key: fmt.Sprintf("box-%04d", i%48), ContentType: "application/json", Body: fmt.Appendf(nil, `{"at":"2026-11-23T08:00:00Z","battery":%d,"box":"box-%04d","celsius":%.1f}`, i%100, i%48, float64(i%120)/10)}
			}
			_, err := n.Parts.PublishMessages(accesstest.Owner(b), topic, p, all)
			require.NoError(b, err)
		}
	}
}

// deliverAll has a route send all of a new topic to an endpoint, and waits until count says
// that it has.
func deliverAll(b *testing.B, n *nodetest.Node, name, to string, messages int, count func() int64) {
	b.Helper()
	topic := n.Channel(setting.Topic, "coldchain/"+name, setting.Change{"partitionCount": 6})
	fill(b, n, topic, messages)
	a, err := address.Parse("coldchain/" + name + "@out")
	require.NoError(b, err)
	began := time.Now()
	_, err = n.Routes.New(accesstest.Owner(b), "owner", a, address.Position{Kind: address.First}, setting.Change{"to": to})
	require.NoError(b, err)
	require.Eventually(b, func() bool { return count() >= int64(messages) }, time.Minute, 5*time.Millisecond)
	b.ReportMetric(float64(messages)/time.Since(began).Seconds(), "messages/s")
}

// What a route to an address delivers, 8 at once.
func BenchmarkPosts(b *testing.B) {
	const messages = 60_000
	n := nodetest.Open(b)
	var got atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		got.Add(1)
		w.WriteHeader(http.StatusNoContent)
	}))
	defer server.Close()
	a, err := address.Parse("coldchain/hook")
	require.NoError(b, err)
	_, err = n.Endpoints.New(accesstest.Owner(b), "owner", a, setting.Change{"url": server.URL, "handshake": false}, nil)
	require.NoError(b, err)
	for i := 0; b.Loop(); i++ {
		got.Store(0)
		deliverAll(b, n, fmt.Sprintf("posts-%d", i), "coldchain/hook", messages, got.Load)
	}
}

// How many rows a route to a table writes.
func BenchmarkRows(b *testing.B) {
	const messages = 300_000
	n := nodetest.Open(b)
	url, password, rows := database(b)
	a, err := address.Parse("coldchain/table")
	require.NoError(b, err)
	_, err = n.Endpoints.New(accesstest.Owner(b), "owner", a, setting.Change{"url": url, "table": "bench.rows", "columns": map[string]string{"box": "/box", "celsius": "/celsius", "battery": "/battery", "at": "/at"}}, map[string]string{"password": password})
	require.NoError(b, err)
	_, err = n.Endpoints.Statements(context.Background(), "owner", a, true)
	require.NoError(b, err)
	for i := 0; b.Loop(); i++ {
		rows(`TRUNCATE bench.rows`)
		deliverAll(b, n, fmt.Sprintf("rows-%d", i), "coldchain/table", messages, func() int64 {
			var count int64
			_, _ = fmt.Sscan(rows(`SELECT count(*) FROM bench.rows`)[0][0], &count)
			return count
		})
	}
}
