package test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
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

func channel(text string) address.Address {
	a, err := address.ParseChannel(text)
	if err != nil {
		panic(err)
	}
	return a
}

// readAll reads a partition through the binary interface.
func readAll(t *testing.T, n *harness.Node, a address.Address, partition int) []string {
	t.Helper()
	var bodies []string
	at := address.Position{Kind: address.First}
	for {
		f, err := n.API.Fetch(context.Background(), a, partition, at, 1<<20, 0, nil)
		require.NoError(t, err)
		if f.Count == 0 {
			return bodies
		}
		for rest := f.Records; len(rest) > 0; {
			r, size, err := message.ReadRecord(rest)
			require.NoError(t, err)
			require.NoError(t, r.Stored(partition, func(s *message.Stored) bool {
				require.EqualValues(t, len(bodies), s.Offset, "offsets have no gaps")
				bodies = append(bodies, string(s.Body))
				return true
			}))
			rest = rest[size:]
		}
		at = address.Position{Kind: address.AtOffset, Offset: f.Next}
	}
}

// The promise of the engine: killed twenty times in the middle of a load,
// every acknowledged message is there once, in order, and the service starts
// in seconds.
func TestKillNineTwentyTimesUnderLoad(t *testing.T) {
	n := harness.Start(t)
	const partitions, publishers = 6, 6
	a := n.Topic("coldchain/readings", partitions)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	acked := make([][]string, publishers)
	var wg sync.WaitGroup
	for w := range publishers {
		wg.Go(func() {
			id, sequence := uuid.New(), uint64(1)
			for ctx.Err() == nil {
				var b message.Builder
				var bodies []string
				for i := range 1 + rand.IntN(200) {
					body := fmt.Sprintf("%d-%d-%s", w, sequence+uint64(i), strings.Repeat("x", rand.IntN(100)))
					bodies = append(bodies, body)
					b.Add(&message.Message{Body: []byte(body)})
				}
				batch := bytes.Clone(b.Build(message.Compression(w%2), &message.Publisher{ID: id, Sequence: sequence}))
				// The same batch again until it is known to be kept.
				for {
					_, err := n.API.Publish(context.Background(), a, w, client.BatchType, nil, batch)
					if err == nil {
						acked[w] = append(acked[w], bodies...)
						sequence += uint64(len(bodies))
						break
					}
					if ctx.Err() != nil {
						return // not known: it may be there or not
					}
					time.Sleep(5 * time.Millisecond)
				}
			}
		})
	}
	slowest := time.Duration(0)
	for range 20 {
		time.Sleep(time.Duration(50+rand.IntN(250)) * time.Millisecond)
		n.Kill()
		began := time.Now()
		n.Run()
		slowest = max(slowest, time.Since(began))
	}
	time.Sleep(200 * time.Millisecond)
	cancel()
	wg.Wait()
	assert.Less(t, slowest, 5*time.Second, "it starts in seconds")
	total := 0
	for w := range publishers {
		kept := readAll(t, n, a, w)
		require.GreaterOrEqual(t, len(kept), len(acked[w]))
		require.Equal(t, acked[w], kept[:len(acked[w])], "partition %d", w)
		last := 0
		for _, body := range kept {
			sequence, err := strconv.Atoi(strings.Split(body, "-")[1])
			require.NoError(t, err)
			require.Equal(t, last+1, sequence, "once and in order")
			last = sequence
		}
		total += len(acked[w])
	}
	require.Positive(t, total)
	t.Logf("%d messages acknowledged over 20 kills; slowest start %s", total, slowest)
}

func TestDamageOnDiskIsNamedAndNeverServed(t *testing.T) {
	n := harness.Start(t)
	a := n.Topic("coldchain/readings", 1)
	for i := range 5 {
		_, err := n.API.Publish(context.Background(), a, 0, "text/plain", nil, []byte(fmt.Sprintf("message-%d", i)))
		require.NoError(t, err)
	}
	require.Zero(t, n.Stop())
	segments, err := filepath.Glob(filepath.Join(n.Dir, "logs", "*", "0", "*.seg"))
	require.NoError(t, err)
	require.Len(t, segments, 1)
	b, err := os.ReadFile(segments[0])
	require.NoError(t, err)
	at := bytes.Index(b, []byte("message-2"))
	require.Positive(t, at)
	b[at] ^= 0xff
	require.NoError(t, os.WriteFile(segments[0], b, 0o600))
	n.Run()

	out, errOut, code := n.Ferry("", "browse", "coldchain/readings", "-json")
	assert.Zero(t, code, errOut)
	assert.Equal(t, 4, strings.Count(out, "\n"))
	assert.Contains(t, errOut, "coldchain/readings#0:2")
	assert.Contains(t, errOut, "damaged")
	answer := n.Ask("GET", "/api/v1/channels/coldchain/readings/partitions/0/messages/2", "")
	assert.Equal(t, 422, answer.Status)
	assert.Contains(t, answer.Body, "go on reading from offset:3")
	_, err = n.API.Publish(context.Background(), a, 0, "text/plain", nil, []byte("goes on"))
	assert.NoError(t, err)
	assert.Contains(t, n.Must("browse", "coldchain/readings", "-newest", "-limit", "1"), "goes on")
}

// Damage in the part of the log that a start reads again must not keep the
// partition, or the node, from starting.
func TestDamageInWhatAStartReadsIsContained(t *testing.T) {
	n := harness.Start(t)
	a := n.Topic("coldchain/readings", 1)
	for i := range 6 {
		_, err := n.API.Publish(context.Background(), a, 0, "text/plain", nil, []byte(fmt.Sprintf("message-%d", i)))
		require.NoError(t, err)
	}
	n.Kill()
	logs, err := filepath.Glob(filepath.Join(n.Dir, "logs", "sync-*.log"))
	require.NoError(t, err)
	for _, path := range logs { // they would mend it
		require.NoError(t, os.Remove(path))
	}
	segments, err := filepath.Glob(filepath.Join(n.Dir, "logs", "*", "0", "*.seg"))
	require.NoError(t, err)
	b, err := os.ReadFile(segments[0])
	require.NoError(t, err)
	for _, body := range []string{"message-1", "message-3"} {
		b[bytes.Index(b, []byte(body))] ^= 0xff
	}
	// The prefix of another one: its length makes no sense any more.
	at := bytes.Index(b, []byte("message-4"))
	copy(b[at-150:at], bytes.Repeat([]byte{0xee}, 150))
	require.NoError(t, os.WriteFile(segments[0], b, 0o600))
	n.Run()
	out, errOut, code := n.Ferry("", "browse", "coldchain/readings")
	assert.Zero(t, code, errOut)
	for i, kept := range []bool{true, false, true, false, false, true} {
		assert.Equal(t, kept, strings.Contains(out, fmt.Sprintf("message-%d", i)), i)
	}
	r, err := n.API.Publish(context.Background(), a, 0, "text/plain", nil, []byte("goes on"))
	require.NoError(t, err)
	assert.EqualValues(t, 6, r.Receipts[0].Offset, "offsets never change meaning")
}
