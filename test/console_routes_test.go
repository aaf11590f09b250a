package test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/address"
	"steadyferry/test/harness"
)

// The console makes a route, shows beforehand what it would have done with the
// past, and afterwards what it does; and sets, pauses and removes it.
func TestTheConsoleOfRoutes(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	readings := n.Topic("coldchain/readings", 2)
	n.Must("new", "queue", "coldchain/inspections")
	for i, body := range []string{`{"celsius":3}`, `{"celsius":9}`, `{"celsius":12,"box":"box-0007"}`} {
		n.Must("send", readings.String(), "-key", fmt.Sprint("box-", i), "-body", body)
	}
	p := openConsole(t, n)
	p.open("/channels/coldchain/readings?tab=groups")
	p.click("New route")
	p.says("Say where it leads to")
	p.accessible("a new route without a target")
	p.fill("Name", "warm")
	p.fill("Leads to", "coldchain/inspections")
	p.says("3 messages") // it is tried as one types
	p.wait(`[...document.querySelectorAll("dt")].find(e => e.textContent === "Sent").nextElementSibling.textContent.startsWith("3")`)
	p.fill("Edits, one a line", "rename /box=/id")
	p.says("edit-failed")
	p.says(`ferry new route coldchain/readings@warm -to coldchain/inspections -edit 'rename /box=/id'`)
	p.accessible("a new route with what it would have done")
	p.fill("Edits, one a line", "set header.source=warm")
	require.NoError(t, p.Run(`const s = [...document.querySelectorAll("[role=dialog] select")][0]; Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "first"); s.dispatchEvent(new Event("change", {bubbles: true}))`))
	p.click("Make the route")
	p.says("Leads to")
	p.says(`set header.source="warm"`)
	p.says("the service")
	p.wait(`[...document.querySelectorAll("dt")].find(e => e.textContent === "Sent").nextElementSibling.textContent.startsWith("3")`)
	p.accessible("a route")
	assert.Contains(t, n.Must("show", "coldchain/inspections"), "waiting       3")

	p.click("Set it")
	p.says("with another content") // compared with how it is set
	p.fill("Edits, one a line", "set header.source=boxes")
	p.wait(`document.querySelector("[role=dialog]").innerText.includes("3 with another content")`)
	p.wait(`[...document.querySelectorAll("[role=dialog] button")].some(b => b.textContent === "Set it" && !b.disabled && (b.click(), true))`)
	p.says(`set header.source="boxes"`)
	p.click("Pause")
	p.says("paused")
	p.click("Let it send")
	p.everywhere("coldchain/inspections", "/groups/coldchain/readings/warm", "/groups")

	// Its dead letters, and the story of a message through it.
	a, err := address.Parse("coldchain/inspections#0:0")
	require.NoError(t, err)
	p.open("/trace/" + a.QueuePart().String() + "/0:0")
	p.says("routed")
	p.says("coldchain/readings@warm")
	p.open("/groups/coldchain/readings/warm")
	p.click("Remove the route")
	p.says("nothing is sent to coldchain/inspections any more")
	p.accessible("a route before it is removed")
	p.click("Remove it")
	p.wait(`location.pathname === "/groups"`)
	p.wait(`!document.body.innerText.includes("coldchain/readings@warm")`)
}

// A route that takes from a queue, made at the queue's page.
func TestTheConsoleOfRoutesFromQueues(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	n.Must("new", "space", "coldchain")
	n.Must("new", "queue", "coldchain/orders")
	n.Must("new", "topic", "coldchain/dispatches")
	n.Must("send", "coldchain/orders", "-body", `{"doses":20}`)
	p := openConsole(t, n)
	p.open("/channels/coldchain/orders?tab=routes")
	p.says("No route takes from this queue.")
	p.accessible("a queue without routes")
	p.click("New route")
	p.says("It takes what fulfils the condition from the queue")
	p.fill("Name", "all")
	p.fill("Leads to", "coldchain/dispatches")
	p.says("ferry new route coldchain/orders@all -to coldchain/dispatches")
	p.wait(`[...document.querySelectorAll("dt")].find(e => e.textContent === "Sent")?.nextElementSibling.textContent.startsWith("1")`)
	p.click("Make the route")
	p.wait(`[...document.querySelectorAll("dt")].find(e => e.textContent === "Sent")?.nextElementSibling.textContent.startsWith("1")`)
	p.open("/channels/coldchain/orders?tab=routes")
	p.says("All that comes goes on by coldchain/orders@all.")
	p.accessible("a queue with a route")
	assert.Contains(t, n.Must("show", "coldchain/orders"), "1 accepted")
	assert.Contains(t, n.Must("show", "coldchain/dispatches", "-chain"), "coldchain/orders\n  @all")
	assert.Contains(t, n.Must("browse", "coldchain/dispatches"), `{"doses":20}`)
}

// A route that copies dead letters, made at their page, and one on the dead letters of a
// route: with the command line, and its pages, whose addresses have a slash in a name.
func TestTheConsoleOfRoutesOnDeadLetters(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	n.Must("new", "queue", "coldchain/inspections")
	n.Must("new", "topic", "coldchain/failures")
	reject := func(body string) {
		n.Must("send", "coldchain/inspections", "-body", body)
		n.Must("work", "coldchain/inspections", "-limit", "1", "--", "sh", "-c", "echo the box is unknown >&2; exit 3")
	}
	n.Must("set", "coldchain/inspections", "-attempt-limit", "1")
	reject(`{"box":"box-0007"}`)
	p := openConsole(t, n)
	p.open("/dead/coldchain/inspections")
	p.click("Copy what fails")
	p.says("It copies what becomes a dead letter")
	p.fill("Name", "audit")
	p.fill("Leads to", "coldchain/failures")
	p.says("ferry new route coldchain/inspections/dead@audit -to coldchain/failures")
	p.wait(`[...document.querySelectorAll("dt")].find(e => e.textContent === "Sent")?.nextElementSibling.textContent.startsWith("1")`)
	p.accessible("a new route on dead letters")
	p.click("Make the route")
	p.wait(`location.pathname === "/groups/coldchain/inspections/dead@audit"`)
	p.says("keeping up")
	reject(`{"box":"box-0008"}`)
	p.wait(`[...document.querySelectorAll("dt")].find(e => e.textContent === "Sent").nextElementSibling.textContent.startsWith("1")`)
	p.accessible("a route on dead letters")
	assert.Contains(t, n.Must("browse", "coldchain/failures", "-where", `headers["ferry-detail"].contains("the box is unknown")`), "box-0008")
	p.open("/dead/coldchain/inspections")
	p.says("copied to")
	p.accessible("dead letters that are copied")
	p.everywhere("dead@audit", "/groups/coldchain/inspections/dead@audit", "/dead/coldchain/inspections")

	n.Must("new", "route", "coldchain/readings@warm", "-to", "coldchain/inspections", "-edit", "compute /f=body.celsius * 1.8")
	n.Must("new", "route", "coldchain/readings@warm/dead@audit", "-to", "coldchain/failures")
	n.Must("send", "coldchain/readings", "-body", `{"box":"box-0009"}`)
	p.open("/groups/coldchain/readings/warm%2Fdead@audit")
	p.says("coldchain/readings@warm/dead@audit")
	p.wait(`[...document.querySelectorAll("dt")].find(e => e.textContent === "Sent").nextElementSibling.textContent.startsWith("1")`)
	p.open("/groups")
	p.says("/dead@audit")
	assert.Contains(t, n.Must("trace", "coldchain/readings@warm#0:0"), "coldchain/readings@warm/dead@audit")
	assert.Contains(t, n.Must("show", "coldchain/readings", "-chain"), "  @warm/dead@audit  ")
	_, stderr, code := n.Ferry("", "remove", "coldchain/readings@warm", "-yes")
	assert.NotZero(t, code)
	assert.Contains(t, stderr, "1 route reads the dead letters of coldchain/readings@warm")
	n.Must("set", "coldchain/readings@warm/dead@audit", "-paused")
	n.Must("remove", "coldchain/readings@warm/dead@audit", "-yes")
	n.Must("remove", "coldchain/readings@warm", "-yes")
}
