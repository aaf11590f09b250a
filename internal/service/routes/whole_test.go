package routes_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/node/nodetest"
)

// wholes counts the batches of a channel that a route sent as they were, and those that it
// made.
func wholes(t *testing.T, n *nodetest.Node, ch *part.Channel) (whole, made int) {
	t.Helper()
	for _, p := range n.Parts.ByID(ch.ID).Partitions() {
		l, err := logs.Open(accesstest.Owner(t), n.Parts, p, true)
		require.NoError(t, err)
		r := l.Reader(l.First())
		for r.Offset() < l.End() {
			chunk, err := r.Read(make([]byte, 1<<20))
			require.NoError(t, err)
			message.EachRecord(chunk, func(r message.Record) bool {
				batch, err := r.Batch()
				require.NoError(t, err)
				if sent := batch.Route(); sent != nil && sent.Address != "" {
					whole++
				} else if sent != nil {
					made++
				}
				return true
			})
		}
	}
	return whole, made
}

// told is all that a message says, but for the name of the route that sent it.
func told(t *testing.T, m *message.Stored) string {
	t.Helper()
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s %s %s %s", m.Key, m.ID, m.ContentType, m.Body, m.Time)
	for _, h := range m.Headers {
		if h.Name != message.HeaderRoute {
			fmt.Fprintf(&b, " %s=%s", h.Name, h.Value)
		}
	}
	return b.String()
}

// A route without a condition and edits sends batches on as they are where it can, and what
// arrives is the same as by one that looks at each message: at one partition and at several,
// through two routes in a row, with large batches and small ones in any order, and from the
// middle of a batch.
func TestWholeBatchesAreSentAsTheyAre(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	readings := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 2})
	for name, partitions := range map[string]int{"whole": 1, "apart": 1, "whole-on": 2, "apart-on": 2} {
		n.Channel(setting.Topic, "coldchain/"+name, setting.Change{"partitionCount": partitions})
	}
	sent := 0
	publish := func(partition, count int, key func(i int) string, headers ...message.Header) {
		t.Helper()
		var messages []*message.Message
		for i := range count {
			messages = append(messages, &message.Message{Key: key(i), ContentType: "application/json", Body: fmt.Appendf(nil, `{"n":%d}`, sent+i), Headers: headers})
		}
		_, err := n.Parts.PublishMessages(accesstest.Owner(t), n.Parts.ByID(readings.ID), partition, messages)
		require.NoError(t, err)
		sent += count
	}
	one, many := func(int) string { return "box-1" }, func(i int) string { return fmt.Sprint("box-", i) }
	none := func(int) string { return "" }
	publish(0, 100, one) // from its middle
	publish(1, 100, one)
	const all = "size >= 0"
	start := "offset:30"
	route(t, n, "coldchain/readings@whole", start, setting.Change{"to": "coldchain/whole"})
	route(t, n, "coldchain/readings@apart", start, setting.Change{"to": "coldchain/apart", "where": all})
	route(t, n, "coldchain/whole@on", "first", setting.Change{"to": "coldchain/whole-on"})
	route(t, n, "coldchain/apart@on", "first", setting.Change{"to": "coldchain/apart-on", "where": all})
	for i := range 40 {
		publish(i%2, []int{1, 70, 200, 63, 64}[i%5], []func(int) string{one, many, none}[i%3], message.Header{Name: "region", Value: "north"})
	}
	publish(0, 80, one, message.Header{Name: message.HeaderHops, Value: "3"})
	n.Reopen()
	publish(1, 80, many)

	expected := sent - 2*30
	arrived := func(name string) (texts []string) {
		ch, err := n.Parts.Channel(at(t, "coldchain/"+name))
		require.NoError(t, err)
		require.Eventually(t, func() bool { return len(messages(t, n, ch)) >= expected }, waitTime, tick)
		for _, m := range messages(t, n, ch) {
			texts = append(texts, told(t, m))
		}
		whole, made := wholes(t, n, ch)
		t.Logf("%s: %d batches as they were, %d made", name, whole, made)
		assert.Equal(t, strings.HasPrefix(name, "whole"), whole > 0, name)
		return texts
	}
	whole, apart := arrived("whole"), arrived("apart")
	same := func(a, b []string) {
		t.Helper()
		require.Len(t, a, expected)
		slices.Sort(a)
		slices.Sort(b)
		for i := range a {
			require.Equal(t, a[i], b[i])
		}
	}
	same(apart, whole)
	// Through the next route too, but for the offsets at which they came to it.
	cut := func(texts []string) (out []string) {
		for _, text := range texts {
			out = append(out, text[:strings.Index(text, " ferry-route-from=")]+text[strings.Index(text, " ferry-hops="):])
		}
		return out
	}
	same(cut(arrived("apart-on")), cut(arrived("whole-on")))
	on, err := n.Parts.Channel(at(t, "coldchain/whole-on"))
	require.NoError(t, err)
	for _, m := range messages(t, n, on) {
		from, _ := m.Header(message.HeaderRouteFrom)
		a := at(t, from)
		assert.Equal(t, "coldchain/whole", a.ChannelPart().String())
		p, err := n.Parts.ByID(idOf(t, n, "coldchain/whole")).Partition(a.Partition)
		require.NoError(t, err)
		source, err := logs.Message(accesstest.Owner(t), n.Parts, p, a.Offset, true)
		require.NoError(t, err)
		require.Equal(t, string(source.Body), string(m.Body), "it tells where it came from")
	}
}
