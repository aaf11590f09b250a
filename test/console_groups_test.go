package test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

// The console shows who is behind, lets offsets be moved with a preview and
// taken back, and follows members as they come and go.
func TestTheConsoleOfGroups(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	topic := n.Topic("coldchain/readings", 3)
	p := openConsole(t, n)
	p.open("/groups")
	p.says("No group reads anything yet.")
	p.accessible("no groups")
	p.open("/channels/coldchain/readings?tab=groups")
	p.says("No group reads this topic yet.")
	p.accessible("a topic without groups")
	p.open("/groups/coldchain/readings/nobody")
	p.says("has no group nobody")

	fill(t, n, topic, 3, 200)
	n.Must("read", "coldchain/readings@compliance", "-limit", "600", "-quiet")
	n.Must("new", "group", "coldchain/readings@forecast", "-description", "Guesses the weather")
	ctx := context.Background()
	m, err := n.API.Join(ctx, group(topic, "compliance"), client.JoinGroup{Member: "reader-1", Timeout: "1m"})
	require.NoError(t, err)
	p.open("/groups")
	p.says("coldchain/readings@forecast")
	p.says("Guesses the weather")
	p.wait(`document.querySelector("tbody tr").innerText.includes("forecast")`) // the worst first
	p.says("no members")
	p.says("600")
	p.accessible("groups")

	p.click("coldchain/readings@compliance")
	p.says("reader-1")
	p.says("keeping up")
	p.says("Its offsets were never set by hand.")
	p.accessible("a group")
	p.click("Seek")
	require.NoError(t, p.Run(`const s = document.querySelector("[role=dialog] select"); Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "offset"); s.dispatchEvent(new Event("change", {bubbles: true}))`))
	p.fill("Offset", "150")
	p.click("Show what it does")
	p.says("150 messages are read again, 0 are skipped")
	p.says("while its 1 live member reads: it is told and goes on from there")
	p.accessible("a seek before it is done")
	p.fill("Why", "limits were wrong")
	require.NoError(t, p.Run(`document.querySelector("[role=dialog] input[type=checkbox]").click()`))
	p.click("Set the offsets")
	p.says("limits were wrong")
	p.says("offset:150")
	assert.EqualValues(t, 150, lagOf(t, n, group(topic, "compliance")).Lag)
	p.click("Undo the last seek")
	p.click("Show what it does")
	p.says("it goes back to before offset:150")
	require.NoError(t, p.Run(`document.querySelector("[role=dialog] input[type=checkbox]").click()`))
	p.click("Undo it")
	p.says("(undone)")
	assert.Zero(t, lagOf(t, n, group(topic, "compliance")).Lag)

	// Lag grows while nobody reads, and falls when somebody does.
	require.NoError(t, m.Leave(ctx))
	fill(t, n, topic, 3, 100)
	p.says("nobody")
	p.says("300")
	n.Must("read", "coldchain/readings@compliance", "-limit", "300", "-quiet")
	p.wait(`[...document.querySelectorAll("dt")].find(e => e.textContent === "Lag").nextElementSibling.textContent.trim().startsWith("0")`)
	p.click("Pause")
	p.says("paused")
	p.click("Let it read")
	p.wait(`!document.body.innerText.includes("Let it read")`)

	p.open("/groups/coldchain/readings/forecast")
	p.click("Remove the group")
	p.says("messages that it has not read will not be read by it")
	p.accessible("a group before it is removed")
	p.click("Keep it")

	p.open("/channels/coldchain/readings?tab=groups")
	p.says("Where each group is on every partition")
	p.wait(`document.querySelectorAll("[title*='messages behind']").length === 6`)
	require.NoError(t, p.Run(`document.querySelector("header input").focus()`))
	require.NoError(t, p.Type("coldchain/readings@comp"))
	p.says("coldchain/readings@compliance")
	p.everywhere("coldchain/readings@", "/groups", "/groups/coldchain/readings/compliance", "/channels/coldchain/readings?tab=groups")
}
