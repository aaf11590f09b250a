package cluster

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/message"
	"steadyferry/test/harness"
)

// A replay sends each message once, whatever becomes of the node that runs it:
// killed, stopped for so long that another one takes over, and going on then;
// also while the target grows, and while it forgets other publishers.
func TestAReplaySendsEachMessageOnceWhateverRunsIt(t *testing.T) {
	c := harness.StartCluster(t, 3)
	source := c.Nodes[0].Topic("coldchain/readings", 4)
	target := c.Nodes[0].Topic("coldchain/again", 2)
	c.WaitInStep(15 * time.Second)
	const total = 24_000
	for p := range 4 {
		var b message.Builder
		for i := range total / 4 {
			b.Add(&message.Message{Key: fmt.Sprint("box-", i), Body: fmt.Appendf(nil, "%d-%d", p, i)})
		}
		answer := c.Nodes[0].Ask("POST", fmt.Sprintf("/api/v1/channels/coldchain/readings/messages?partition=%d", p), string(b.Build(message.Plain, nil)), "Content-Type", client.BatchType)
		require.Equal(t, 200, answer.Status, answer.Body)
	}
	ctx := context.Background()
	var r client.Replay
	require.NoError(t, c.API.Call(ctx, http.MethodPost, "/replays", nil, client.NewReplay{From: source.String(), To: target.String(), Rate: 2500}, &r))
	onDuty := func() *harness.Node {
		var found *harness.Node
		c.Wait(20*time.Second, "a node is on duty", func() bool {
			status, err := c.Status()
			for _, n := range status.Nodes {
				if n.OnDuty && n.Up {
					found = c.Node(n.Node)
				}
			}
			return err == nil && found != nil
		})
		return found
	}
	// Publishers that come and go must not make the target forget the job.
	crowd := func(n *harness.Node) {
		for range 300 {
			var b message.Builder
			b.Add(&message.Message{Body: []byte("other")})
			n.Ask("POST", "/api/v1/channels/coldchain/again/messages?partition=0", string(b.Build(message.Plain, &message.Publisher{ID: uuid.New(), Sequence: 1})), "Content-Type", client.BatchType)
		}
	}
	time.Sleep(time.Second)
	hurt := onDuty()
	hurt.Kill()
	crowd(c.Nodes[(indexOf(c, hurt)+1)%3])
	time.Sleep(time.Second)
	hurt.Run()
	c.WaitUp(3)
	_, errOut, code := c.Nodes[0].Ferry("", "set", target.String(), "-partitions", "5", "-yes")
	require.Zero(t, code, errOut)
	hurt = onDuty()
	require.NoError(t, syscall.Kill(hurt.Pid(), syscall.SIGSTOP))
	time.Sleep(3 * time.Second)
	require.NoError(t, syscall.Kill(hurt.Pid(), syscall.SIGCONT))
	crowd(c.Nodes[0])
	c.Wait(90*time.Second, "the replay is done", func() bool {
		err := c.API.Call(ctx, http.MethodGet, fmt.Sprintf("/replays/%d", r.Replay), nil, nil, &r)
		return err == nil && r.State != "running"
	})
	require.Equal(t, "done", r.State, r.Detail)
	assert.EqualValues(t, total, r.Sent)

	out, errOut, code := c.Nodes[0].Ferry("", "browse", target.String(), "-json", "-limit", "100000", "-where", "has(headers."+strings.ReplaceAll(client.HeaderReplay, "-", "_")+") || \""+client.HeaderReplay+"\" in headers")
	require.Zero(t, code, errOut)
	seen := map[string]int{}
	for line := range strings.SplitSeq(strings.TrimSpace(out), "\n") {
		var m client.Message
		require.NoError(t, json.Unmarshal([]byte(line), &m))
		seen[string(m.Bytes())]++
	}
	assert.Len(t, seen, total)
	for body, times := range seen {
		require.Equal(t, 1, times, body)
	}
}

func indexOf(c *harness.Cluster, n *harness.Node) int {
	for i := range c.Nodes {
		if c.Nodes[i] == n {
			return i
		}
	}
	return -1
}
