package cluster

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

// A node that is cut off, or only heard or only hears, holds nobody up, and
// takes nothing that it could lose. The nodes talk over mutual TLS.
func TestANodeIsCutOff(t *testing.T) {
	network := harness.NewNet(t)
	c := harness.StartClusterOn(t, network, 3)
	topic := c.Nodes[0].Topic("coldchain/doors", partitions)
	c.WaitInStep(15 * time.Second)
	w := startWorkload(t, c, topic, partitions)
	w.flows(10 * time.Second)
	others := func(i int) []int { return []int{(i + 1) % 3, (i + 2) % 3} }
	for _, f := range []struct {
		name      string
		cut, mend func(i int)
	}{
		{"in both directions", network.Cut, network.Mend},
		{"it does not reach the others", func(i int) {
			for _, to := range others(i) {
				network.Mute(i, to)
			}
		}, func(i int) {
			for _, to := range others(i) {
				network.Unmute(i, to)
			}
		}},
		{"the others do not reach it", func(i int) {
			for _, from := range others(i) {
				network.Mute(from, i)
			}
		}, func(i int) {
			for _, from := range others(i) {
				network.Unmute(from, i)
			}
		}},
	} {
		t.Run(f.name, func(t *testing.T) {
			c.WaitInStep(60 * time.Second)
			n := busiest(t, c)
			i := slices.Index(c.Nodes, n)
			w.pause()
			f.cut(i)
			w.flows(15 * time.Second)
			time.Sleep(2 * time.Second)
			longest := w.pause()
			f.mend(i)
			assert.Less(t, longest, 6*time.Second)
			t.Logf("longest pause %s", longest.Round(time.Millisecond))
			c.WaitInStep(60 * time.Second)
		})
	}
	w.finish()
}

// However long a cut was, a node takes messages soon after it is over.
func TestALongCutIsOverSoon(t *testing.T) {
	network := harness.NewNet(t)
	c := harness.StartClusterOn(t, network, 3)
	topic := c.Nodes[0].Topic("coldchain/doors", partitions)
	c.WaitInStep(15 * time.Second)
	n := c.Nodes[0]
	publish := func() bool {
		ctx, cancel := context.WithTimeout(t.Context(), 500*time.Millisecond)
		defer cancel()
		for p := range partitions {
			request, err := http.NewRequestWithContext(ctx, "POST", fmt.Sprintf("%s/api/v1/channels/%s/messages?partition=%d", n.URL, topic, p), strings.NewReader("x"))
			require.NoError(t, err)
			request.Header.Set("Authorization", "Bearer "+n.Token)
			response, err := http.DefaultClient.Do(request)
			if err != nil {
				return false
			}
			response.Body.Close()
			if response.StatusCode != 200 {
				return false
			}
		}
		return true
	}
	require.True(t, publish())
	network.Cut(0)
	time.Sleep(30 * time.Second)
	require.False(t, publish())
	network.Mend(0)
	healed := time.Now()
	require.Eventually(t, publish, 60*time.Second, 20*time.Millisecond)
	took := time.Since(healed)
	t.Logf("it took messages for all partitions %s after the cut was over", took.Round(time.Millisecond))
	assert.Less(t, took, 6*time.Second, "it was 24 s when a connection outlived the cut")
}

// Without a majority a partition says so at once, serves what is kept to
// those who ask for it, and goes on when the others are back; when they are
// lost for good it is recovered by force.
func TestWithoutAMajority(t *testing.T) {
	c := harness.StartCluster(t, 3)
	topic := c.Nodes[0].Topic("coldchain/doors", 2)
	c.WaitInStep(10 * time.Second)
	n := c.Nodes[0]
	for range 20 {
		n.Must("send", topic.String(), "-body", "kept")
	}
	c.Nodes[1].Kill()
	c.Nodes[2].Kill()
	const messages = "/api/v1/channels/coldchain/doors/messages"
	c.Wait(5*time.Second, "the loss is noticed", func() bool { return n.Ask("POST", messages, "x").Status == http.StatusServiceUnavailable })
	began := time.Now()
	answer := n.Ask("POST", messages, "x")
	assert.Less(t, time.Since(began), 200*time.Millisecond, "at once")
	assert.Equal(t, http.StatusServiceUnavailable, answer.Status)
	assert.Contains(t, answer.Body, "fewer than half of the replicas answer")
	assert.Contains(t, answer.Body, "problem:no-majority")
	assert.Equal(t, http.StatusServiceUnavailable, n.Ask("GET", messages, "").Status)
	out := n.Must("browse", topic.String(), "-any-replica", "-json")
	assert.Equal(t, 20, len(slices.Collect(lines(out))))
	out = n.Must("nodes")
	assert.Contains(t, out, "take no messages")
	assert.Contains(t, n.Must("show", topic.String()), "no majority")

	// The others come back: it goes on by itself.
	c.Nodes[1].Run()
	c.Wait(10*time.Second, "it goes on", func() bool { return n.Ask("POST", messages, "kept").Status == http.StatusOK })
	c.Nodes[1].Kill()

	// They may come back as long as they write to the records.
	_, errOut, code := n.Ferry("", "nodes", "force-recover", topic.String())
	if code != 0 {
		assert.Contains(t, errOut, "wrote to the catalog a moment ago")
	}
	time.Sleep(13 * time.Second)
	out = n.Must("nodes", "force-recover", topic.String())
	assert.Contains(t, out, "nothing is changed yet")
	assert.Contains(t, out, "node-b node-c")
	_, errOut, code = n.Ferry("", "nodes", "force-recover", topic.String(), "-confirm", "coldchain/door")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "the confirmation is")
	n.Must("nodes", "force-recover", topic.String(), "-confirm", topic.String())
	c.Wait(10*time.Second, "it takes messages again", func() bool { return n.Ask("POST", messages, "kept").Status == http.StatusOK })
	assert.Contains(t, n.Must("logbook"), "force recover")

	// What was lost comes back: it joins what has gone on without it.
	c.Nodes[1].Run()
	c.Nodes[2].Run()
	c.WaitUp(3)
	c.Nodes[0].Must("set", topic.String(), "-replicas", "3")
	var now client.Channel
	require.NoError(t, c.API.Call(context.Background(), http.MethodGet, client.ChannelPath(topic), nil, nil, &now))
	for _, p := range now.Each {
		n.Must("move", p.Address, "-to", "node-a,node-b,node-c", "-yes")
	}
	jobsDone(t, c, 30*time.Second)
	c.WaitInStep(30 * time.Second)
	assert.Equal(t, 3, equalOn(n.MustTool("ferryd", "verify", "-server", n.URL, "-token", n.Token, topic.String())), "both partitions on all three nodes")
	// What was acknowledged, and nothing else but an x that was under way when
	// the nodes were lost: its publisher was told that it is not known to be kept.
	assert.Equal(t, 22, len(slices.Collect(lines(n.Must("browse", topic.String(), "-json", "-where", `text == "kept"`)))))
	assert.Empty(t, n.Must("browse", topic.String(), "-json", "-where", `text != "kept" && text != "x"`))
}
