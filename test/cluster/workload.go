// Package cluster holds the tests of several nodes: real processes on
// loopback or in network namespaces of their own, under load, with faults.
package cluster

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"iter"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/test/harness"
)

// workload publishes and tails while faults happen, and keeps a history of
// both. Every partition has one publisher, whose bodies are numbered.
type workload struct {
	t       *testing.T
	cluster *harness.Cluster
	topic   address.Address
	lanes   []*lane
	stop    context.CancelFunc
	wg      sync.WaitGroup

	tailMu sync.Mutex
	tailed [][]string // by partition, as a tail has told them
	broken []string   // what a tail did wrong
	failed atomic.Int64
	large  bool // some batches are
}

// largeBatches has some batches be so large as routes send on as they are. Nobody tails
// then: a tail does not keep up.
func largeBatches(w *workload) { w.large = true }

// lane is the publishing to one partition.
type lane struct {
	mu      sync.Mutex
	acked   []string // in order
	last    time.Time
	longest time.Duration // without an acknowledgement
	unsure  int           // batches that were sent more than once
}

// patience is how long a batch is tried again before the workload calls it
// failed.
const patience = 2 * time.Minute

func startWorkload(t *testing.T, c *harness.Cluster, topic address.Address, partitions int, as ...func(*workload)) *workload {
	w := &workload{t: t, cluster: c, topic: topic, tailed: make([][]string, partitions)}
	for _, set := range as {
		set(w)
	}
	var ctx context.Context
	ctx, w.stop = context.WithCancel(context.Background())
	for p := range partitions {
		l := &lane{last: time.Now()}
		w.lanes = append(w.lanes, l)
		w.wg.Go(func() { w.publish(ctx, p, l) })
	}
	if !w.large {
		w.wg.Go(func() { w.tail(ctx) })
	}
	t.Cleanup(w.stop)
	return w
}

// publish sends batch after batch, each until it is kept.
func (w *workload) publish(ctx context.Context, partition int, l *lane) {
	id, sequence := uuid.New(), uint64(1)
	for ctx.Err() == nil {
		var b message.Builder
		var bodies []string
		count := 1 + rand.IntN(20)
		if w.large && rand.IntN(8) == 0 {
			count += 80
		}
		for i := range count {
			body := fmt.Sprintf("%d-%d-%s", partition, sequence+uint64(i), strings.Repeat("x", rand.IntN(200)))
			bodies = append(bodies, body)
			b.Add(&message.Message{Body: []byte(body)})
		}
		batch := bytes.Clone(b.Build(message.Compression(partition%2), &message.Publisher{ID: id, Sequence: sequence}))
		deadline := time.Now().Add(patience)
		tries := 0
		for {
			tries++
			_, err := w.cluster.API.Publish(ctx, w.topic, partition, client.BatchType, nil, batch)
			if err == nil {
				break
			}
			var refused *client.Problem
			if ctx.Err() != nil {
				return // not known: it may be there or not
			}
			if errors.As(err, &refused) && refused.Status != http.StatusServiceUnavailable || time.Now().After(deadline) {
				w.failed.Add(1)
				w.t.Errorf("partition %d: %v", partition, err)
				return
			}
			time.Sleep(time.Duration(5+rand.IntN(20)) * time.Millisecond)
		}
		now := time.Now()
		l.mu.Lock()
		l.acked = append(l.acked, bodies...)
		l.longest = max(l.longest, now.Sub(l.last))
		l.last = now
		if tries > 1 {
			l.unsure++
		}
		l.mu.Unlock()
		sequence += uint64(len(bodies))
		time.Sleep(time.Duration(rand.IntN(10)) * time.Millisecond)
	}
}

// tail follows all partitions with one tail and notes what it is told.
func (w *workload) tail(ctx context.Context) {
	next := make([]int64, len(w.lanes))
	err := w.cluster.API.Tail(ctx, w.topic, client.Query{From: "first"}, func(e client.Event) error {
		m := e.Message
		if m == nil {
			if e.LeftOut != nil || e.Damage != nil {
				w.tailFault("the tail left out messages: %+v", e)
			}
			return nil
		}
		if m.Offset != next[m.Partition] {
			w.tailFault("partition %d: offset %d came when %d was due", m.Partition, m.Offset, next[m.Partition])
		}
		next[m.Partition] = m.Offset + 1
		w.tailMu.Lock()
		w.tailed[m.Partition] = append(w.tailed[m.Partition], string(m.Bytes()))
		w.tailMu.Unlock()
		return nil
	}, func(error, time.Duration) {})
	if ctx.Err() == nil {
		w.tailFault("the tail ended: %v", err)
	}
}

func (w *workload) tailFault(format string, args ...any) {
	w.tailMu.Lock()
	defer w.tailMu.Unlock()
	w.broken = append(w.broken, fmt.Sprintf(format, args...))
}

// pause returns the longest time that any partition was without an
// acknowledgement since the last call, and begins to count anew.
func (w *workload) pause() (longest time.Duration) {
	now := time.Now()
	for _, l := range w.lanes {
		l.mu.Lock()
		longest = max(longest, l.longest, now.Sub(l.last))
		l.longest, l.last = 0, now
		l.mu.Unlock()
	}
	return longest
}

func (w *workload) acked() (count int) {
	for _, l := range w.lanes {
		l.mu.Lock()
		count += len(l.acked)
		l.mu.Unlock()
	}
	return count
}

// flows waits until every partition has an acknowledgement that is newer than
// now.
func (w *workload) flows(within time.Duration) {
	w.t.Helper()
	before := make([]int, len(w.lanes))
	for i, l := range w.lanes {
		l.mu.Lock()
		before[i] = len(l.acked)
		l.mu.Unlock()
	}
	w.cluster.Wait(within, "every partition takes messages", func() bool {
		for i, l := range w.lanes {
			l.mu.Lock()
			n := len(l.acked)
			l.mu.Unlock()
			if n <= before[i] {
				return false
			}
		}
		return true
	})
}

// finish ends the load and holds the history against what every replica has.
func (w *workload) finish() {
	t := w.t
	t.Helper()
	w.stop()
	w.wg.Wait()
	// Nodes tell each other every second how they are: what is seen after two
	// of them is of after the last fault.
	w.cluster.WaitInStep(60 * time.Second)
	time.Sleep(2 * time.Second)
	w.cluster.WaitInStep(60 * time.Second)
	w.compare()
	w.verify()
	assert.Empty(t, w.broken, "the tail goes on without a gap or a repeat")
	assert.Zero(t, w.failed.Load())
	t.Logf("%d messages were acknowledged, each is at every replica once and in order", w.acked())
}

// compare reads every partition from every node, from its own replica.
func (w *workload) compare() {
	t := w.t
	t.Helper()
	for p, l := range w.lanes {
		var first []string
		for _, n := range w.cluster.Nodes {
			kept := readFrom(t, n, w.topic, p)
			require.GreaterOrEqual(t, len(kept), len(l.acked), "partition %d on %s", p, n.Name)
			require.True(t, slices.Equal(l.acked, kept[:len(l.acked)]), "partition %d on %s: what was acknowledged is there, in order", p, n.Name)
			for i, body := range kept {
				sequence, err := strconv.Atoi(strings.Split(body, "-")[1])
				require.NoError(t, err)
				require.Equal(t, i+1, sequence, "partition %d on %s: once and in order", p, n.Name)
			}
			if first == nil {
				first = kept
			}
			require.True(t, slices.Equal(first, kept), "partition %d: %s holds what the others hold", p, n.Name)
		}
		// What was seen once stays.
		w.tailMu.Lock()
		seen := w.tailed[p]
		w.tailMu.Unlock()
		require.LessOrEqual(t, len(seen), len(first))
		for i, body := range seen {
			require.Equal(t, first[i], body, "partition %d: the message %d that a tail has told is what is kept; of the tail: %v", p, i, w.broken)
		}
	}
}

// readFrom reads a partition through one node, from any replica.
func readFrom(t *testing.T, n *harness.Node, a address.Address, partition int) []string {
	t.Helper()
	var bodies []string
	next := int64(-1)
	from := "first"
	for {
		answer := n.API
		response, err := answer.Do(context.Background(), client.Request{Method: http.MethodGet, Path: fmt.Sprintf("%s/partitions/%d/records", client.ChannelPath(a), partition),
			Query: url.Values{"from": {from}, "any": {"true"}, "maxBytes": {"4194304"}}, Header: http.Header{"Accept": {client.RecordsType}}})
		require.NoError(t, err)
		var b bytes.Buffer
		_, err = b.ReadFrom(response.Body)
		response.Body.Close()
		require.NoError(t, err)
		if b.Len() == 0 {
			return bodies
		}
		for rest := b.Bytes(); len(rest) > 0; {
			r, size, err := message.ReadRecord(rest)
			require.NoError(t, err)
			require.NoError(t, r.Stored(partition, func(s *message.Stored) bool {
				if next < 0 {
					next = s.Offset
				}
				require.Equal(t, next, s.Offset, "offsets have no gaps")
				next++
				bodies = append(bodies, string(s.Body))
				return true
			}))
			rest = rest[size:]
		}
		from = "offset:" + response.Header.Get("Ferry-Next")
	}
}

// verify has ferryd compare the logs of all replicas.
func (w *workload) verify() {
	w.t.Helper()
	n := w.cluster.Nodes[0]
	out := n.MustTool("ferryd", "verify", "-server", n.URL, "-token", n.Token, w.topic.String())
	for line := range strings.SplitSeq(strings.TrimSpace(out), "\n") {
		assert.Contains(w.t, line, "equal on", line)
		for _, n := range w.cluster.Nodes {
			assert.Contains(w.t, line, n.Name, line)
		}
	}
}

// lines goes through the lines of a text that are not empty.
func lines(text string) iter.Seq[string] {
	return func(yield func(string) bool) {
		for line := range strings.Lines(text) {
			if line = strings.TrimSpace(line); line != "" && !yield(line) {
				return
			}
		}
	}
}

// equalOn counts the nodes on which what verify has printed is equal, the
// fewest of all partitions.
func equalOn(verified string) int {
	least := 1 << 30
	for line := range lines(verified) {
		n := 0
		if strings.Contains(line, "; equal on ") {
			n = strings.Count(line, "node-")
		}
		least = min(least, n)
	}
	return least
}
