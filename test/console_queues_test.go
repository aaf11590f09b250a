package test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

// The console's way from "something failed" to "it is done": see the causes,
// mend one and return it at a pace, watch that, trace one message, discard
// another cause and take it back.
func TestTheConsoleOfQueues(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	p := openConsole(t, n)
	p.open("/dead")
	p.says("Nothing has failed.")
	p.accessible("no dead letters anywhere")
	p.open("/replays")
	p.says("Nothing was sent again yet.")
	p.accessible("no replays")
	p.open("/channels")
	p.click("New channel")
	require.NoError(t, p.Run(`document.querySelectorAll("input[type=radio]")[1].click()`))
	p.fill("Space", "coldchain")
	p.fill("Name", "inspections")
	p.says("ferry new queue coldchain/inspections")
	p.accessible("the dialog for a new queue")
	p.click("Make queue")
	p.wait(`location.pathname === "/channels/coldchain/inspections"`)
	p.says("No message is waiting now.")
	p.accessible("an empty queue")
	p.open("/dead/coldchain/inspections")
	p.says("No dead letters.")
	p.accessible("a queue without dead letters")
	p.open("/dead/coldchain/nothing")
	p.says("nothing")

	a := channel("coldchain/inspections")
	var bodies []string
	for i := range 40 {
		bodies = append(bodies, fmt.Sprintf(`{"box":"box-%d","celsius":"%d F"}`, i, 50+i))
	}
	sendBodies(t, n, a, bodies...)
	p.open("/channels/coldchain/inspections")
	p.says("Looking leases nothing")
	p.wait(`document.querySelectorAll("tbody tr").length === 40`)
	rejectAll(t, n, a)
	p.says("See why 40 failed")
	p.says("40 dead letters")
	p.click("See why 40 failed")
	p.says("bad-celsius")
	p.says("no-box")
	p.wait(`document.querySelector("mark").textContent.includes("celsius")`)
	p.wait(`document.querySelectorAll("[aria-label='Messages of this cause'] tbody tr").length === 20`)
	p.accessible("dead letters")

	// What is read does not move when more come.
	read := func() (s string) {
		require.NoError(t, p.Eval(`document.querySelector("[aria-label='The message'] h2").textContent`, &s))
		return s
	}
	before := read()
	sendBodies(t, n, a, bodies[:10]...)
	rejectAll(t, n, a)
	p.says("show 5 newer")
	assert.Equal(t, before, read())

	// Mend one cause and return it at a pace.
	require.NoError(t, p.Run(`[...document.querySelectorAll("[aria-label=Causes] li button")].find((b) => b.textContent.startsWith("bad-celsius")).click()`))
	p.wait(`document.querySelector("[aria-label='The message']").textContent.includes("bad-celsius")`)
	p.click("Mend and return")
	p.fill("Edits", "set /celsius")
	p.says("has no =")
	p.fill("Edits", `compute /celsius=(double(body.celsius.replace(" F", "")) - 32.0) / 1.8`)
	p.says("25 dead letters get the edited content")
	p.says(`"celsius": 10`)
	p.accessible("a mend before it is done")
	p.fill("Messages a second", "20")
	p.click("Mend and return 25")
	p.wait(`location.pathname === "/replays"`)
	p.says("25 of 25 sent")
	p.accessible("a replay")
	assert.Equal(t, client.Counts{Waiting: 25, Dead: 25}, statesOf(t, n, a))
	got := lease(t, n, a, 1)
	require.Len(t, got, 1)
	n.Must("settle", a.String(), "-accept", got[0].Lease.String())
	p.open(fmt.Sprintf("/trace/coldchain/inspections/0:%d", got[0].Lease.Offset))
	for _, step := range []string{"published", "rejected", "edited", "returned", "accepted", "Before it was edited"} {
		p.says(step)
	}
	p.accessible("a trace")

	// Discard the other cause, and undo that.
	p.open("/dead/coldchain/inspections")
	p.click("Discard")
	p.says("it can be brought back")
	p.fill("Why", "a drill")
	p.accessible("a discard before it is done")
	p.click("Discard 25")
	p.click("Undo")
	require.Eventually(t, func() bool { return statesOf(t, n, a).Dead == 25 }, 20*time.Second, 50*time.Millisecond)
	n.Must("dead", a.String(), "-discard", "-why", "a drill", "-yes")
	p.open("/dead/coldchain/inspections?show=discarded")
	p.says("Undo all")
	p.accessible("what was discarded")
	p.click("Undo all")
	p.click("Undo 25")
	require.Eventually(t, func() bool { return statesOf(t, n, a).Dead == 25 }, 20*time.Second, 50*time.Millisecond)

	// A stretch of a topic is sent to the queue.
	topic := n.Topic("coldchain/readings", 1)
	fill(t, n, topic, 1, 30)
	p.open("/channels/coldchain/readings")
	p.click("send these again")
	p.fill("To: a queue", "coldchain/inspections")
	p.says("30 messages")
	p.accessible("a replay before it is begun")
	p.click("Send 30 again")
	p.says("30 of 30 sent")
	p.open("/channels/coldchain/inspections?tab=members")
	p.says("Heard of")
	p.everywhere("coldchain/inspections", "/channels/coldchain/inspections", "/dead", "/dead/coldchain/inspections", "/replays", "/trace/coldchain/inspections/0:1")
}
