package client_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/door/api"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
)

func TestMain(m *testing.M) { testdb.Main(m) }

var compliance = address.Address{Space: "coldchain", Channel: "readings", Partition: -1, Offset: -1, Group: "compliance"}

// bad is a connection on which some requests do not arrive, and some answers
// do not come back.
type bad struct {
	handler http.Handler
	mu      sync.Mutex
	rng     *rand.Rand
	worse   bool
}

func (b *bad) chance() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.worse {
		return 100
	}
	return b.rng.IntN(100)
}

func (b *bad) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch n := b.chance(); {
	case n < 10: // it does not arrive
		panic(http.ErrAbortHandler)
	case n < 20: // it is done, and nobody hears of it
		b.handler.ServeHTTP(httptest.NewRecorder(), r)
		panic(http.ErrAbortHandler)
	case n < 25:
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusServiceUnavailable)
		fmt.Fprint(w, `{"type":"urn:steady-ferry:problem:unavailable","status":503,"detail":"not now"}`)
	default:
		b.handler.ServeHTTP(w, r)
	}
}

// behind serves a node behind a connection that can become bad.
func behind(t *testing.T) (*nodetest.Node, *client.Client, *bad) {
	t.Helper()
	n := nodetest.Open(t)
	s, err := api.New(&n.Services, http.NotFoundHandler())
	require.NoError(t, err)
	connection := &bad{handler: s.Handler(), rng: rand.New(rand.NewPCG(3, 3))}
	server := httptest.NewServer(connection)
	t.Cleanup(server.Close)
	t.Cleanup(s.Stop)
	token, err := n.Access.WriteOwnerToken(t.Context())
	require.NoError(t, err)
	c, err := client.New(server.URL, token)
	require.NoError(t, err)
	return n, c, connection
}

// A reader behind a bad connection has each message of a partition, in order
// and at least once, and what it committed stands.
func TestAReaderBehindABadConnection(t *testing.T) {
	n, c, connection := behind(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 3})
	const each = 60
	for p := range 3 {
		for range each {
			n.Publish(topic, p, strings.Repeat("x", 300))
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	reader, err := c.ReadGroup(ctx, compliance, client.ReadOptions{JoinGroup: client.JoinGroup{From: "first"}, MaxBytes: 2048, Timeout: 5 * time.Second})
	require.NoError(t, err)
	connection.mu.Lock()
	connection.worse = true
	connection.mu.Unlock()
	next := map[int]int{} // the lowest that was not seen
	for left := 3 * each; left > 0; {
		b, err := reader.Next(ctx)
		require.NoError(t, err, "%d are left, seen up to %v", left, next)
		require.NoError(t, b.Messages(func(m *message.Stored) error {
			i := int(m.Offset)
			require.LessOrEqual(t, i, next[b.Partition], "partition %d: nothing is left out", b.Partition)
			if i == next[b.Partition] {
				next[b.Partition]++
				left--
			}
			return nil
		}))
		reader.Done(b, true)
	}
	connection.mu.Lock()
	connection.worse = false
	connection.mu.Unlock()
	require.NoError(t, reader.Close(ctx))
	offsets, err := n.Groups.OffsetsOf(ctx, topic, "compliance")
	require.NoError(t, err)
	assert.Equal(t, map[int]int64{0: each, 1: each, 2: each}, offsets)
}

// Two readers share, one leaves, and what it had not committed comes to the
// other.
func TestWhatAReaderLeavesComesToTheOther(t *testing.T) {
	n, c, _ := behind(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 2})
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	open := func() *client.GroupReader {
		r, err := c.ReadGroup(ctx, compliance, client.ReadOptions{JoinGroup: client.JoinGroup{From: "first"}})
		require.NoError(t, err)
		return r
	}
	one := open()
	assert.True(t, one.Made())
	two := open()
	assert.False(t, two.Made())
	for p := range 2 {
		n.Publish(topic, p, "a", "b")
	}
	first, err := one.Next(ctx)
	require.NoError(t, err)
	one.Done(first, false) // seen, and not committed
	require.NoError(t, one.Close(ctx))
	_, err = one.Next(ctx)
	assert.Error(t, err, "it is closed")
	seen := map[string]int{}
	for len(seen) < 4 {
		b, err := two.Next(ctx)
		require.NoError(t, err)
		require.NoError(t, b.Messages(func(m *message.Stored) error {
			seen[fmt.Sprintf("%d:%s", b.Partition, m.Body)]++
			return nil
		}))
		require.NoError(t, two.Commit(ctx, b))
	}
	require.NoError(t, two.Close(ctx))
	_, err = c.ReadGroup(ctx, address.Address{Space: "coldchain", Channel: "readings", Partition: -1, Offset: -1, Group: "nobody"}, client.ReadOptions{})
	assert.ErrorContains(t, err, "nobody", "without a position it must exist")
}

// What will be refused again and again is not asked for again and again: the
// reader ends, and says why.
func TestAReaderEndsWithWhatIsRefusedForGood(t *testing.T) {
	n, c, _ := behind(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	n.Publish(topic, 0, "x")
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	reader, err := c.ReadGroup(ctx, compliance, client.ReadOptions{JoinGroup: client.JoinGroup{From: "first"}, MaxBytes: 7})
	require.NoError(t, err)
	_, err = reader.Next(ctx)
	assert.ErrorContains(t, err, "maxBytes")
	assert.NoError(t, ctx.Err())
	reader.Close(ctx)
}
