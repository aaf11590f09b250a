package test

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

// The console shows who leads and who follows, a node that goes, what a loss
// would mean, and moves.
func TestTheConsoleOfACluster(t *testing.T) {
	t.Parallel()
	c := harness.StartCluster(t, 3)
	n := c.Nodes[0]
	n.Topic("coldchain/doors", 6)
	one := n.Topic("coldchain/single", 1, client.Settings{"replicas": 1})
	c.WaitInStep(20 * time.Second)
	n.Ferry("", "move", one.String()+"#0", "-to", "node-a", "-yes") // refused where it is there
	c.Wait(20*time.Second, "the single replica is not on the node that is killed", func() bool {
		var topic client.Channel
		err := n.API.Call(t.Context(), http.MethodGet, client.ChannelPath(one), nil, nil, &topic)
		return err == nil && len(topic.Each[0].Replicas) == 1 && topic.Each[0].Leader == "node-a"
	})
	p := openConsole(t, n)
	p.open("/nodes")
	p.says("every partition has a leader, and every replica is in step")
	p.says("elected after a start")
	p.accessible("the nodes")

	// Nothing is touched by switching nodes off in the drawing.
	p.says("7 writable")
	p.click("with node-b")
	p.says("Without node-b:")
	p.click("with node-c")
	p.says("Without node-b and node-c:")
	p.says("only readable")
	p.accessible("without two nodes")
	assert.Contains(t, p.url(), "without=node-b")
	status, err := c.Status()
	require.NoError(t, err)
	assert.Zero(t, status.ReplicasMissing+status.WithoutLeader)

	p.open("/nodes")
	p.click("Drain node-c")
	p.says("each replica needs a node of its own")
	require.NoError(t, p.Run(`document.querySelector("[role=dialog] input[type=checkbox]").click()`))
	p.says("so that it can be stopped for a while")
	p.accessible("a drain before it is done")
	p.click("Drain it")
	p.says("draining")
	p.says("done")
	p.accessible("after a drain")

	p.open("/channels/coldchain/doors?tab=partitions")
	p.says("Who leads and who follows")
	p.wait(`document.querySelectorAll("[aria-label*='in step']").length >= 12`)
	p.wait(`document.querySelectorAll("[aria-label*=': leads']").length === 6`)
	p.accessible("replicas")
	c.Nodes[1].Kill()
	p.says("replicas missing")
	p.says("away")
	p.wait(`document.querySelectorAll("[aria-label*='node-b: away']").length === 6`)
	p.says("lacking replicas: ")
	p.accessible("replicas with a node away")
	for i := range 40 {
		require.Equal(t, http.StatusOK, n.Ask("POST", "/api/v1/channels/coldchain/doors/messages", fmt.Sprint(i)).Status)
	}
	p.says("messages,")
	p.open("/nodes")
	p.says("node-b away")
	for _, width := range []int{390, 1280} {
		require.NoError(t, p.Size(width, 800))
		for _, theme := range []string{"dark", "light"} {
			require.NoError(t, p.Run(`localStorage.setItem("theme", "`+theme+`")`))
			p.open("/nodes")
			p.says("node-b away")
			p.accessible(fmt.Sprintf("a node away, %s, %d wide", theme, width))
			var wide bool
			require.NoError(t, p.Eval(`document.documentElement.scrollWidth > document.documentElement.clientWidth`, &wide))
			var widest string
			require.NoError(t, p.Eval(`[...document.querySelectorAll("main *")].filter(e => e.getBoundingClientRect().right > innerWidth && !e.closest("[role=region]")).map(e => e.outerHTML.slice(0, 150))[0] ?? ""`, &widest))
			assert.False(t, wide, "wider than the window of %d: %s", width, widest)
		}
	}
	c.Nodes[1].Run()
	p.wait(`!document.body.innerText.includes("node-b away")`)
	p.says("every replica is in step")
}
