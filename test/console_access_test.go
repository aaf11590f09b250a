package test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

// as is the node as somebody else comes to it, with a token of its own.
func as(t *testing.T, n *harness.Node, who string) *harness.Node {
	t.Helper()
	var token struct{ Token string }
	require.NoError(t, json.Unmarshal([]byte(n.Must("access", "new", "token", who, "-label", "console", "-json")), &token))
	other := *n
	other.Token = token.Token
	api, err := client.New(n.URL, token.Token)
	require.NoError(t, err)
	other.API = api
	return &other
}

// A person is made, is given a role after it was seen what that gives, and loses it again; and
// whether it may is told with the reason.
func TestTheConsoleOfWhoMayDoWhat(t *testing.T) {
	t.Parallel()
	n := failing(t)
	p := openConsole(t, n)
	p.open("/access")
	p.says("Who may do what")
	p.click("New principal")
	p.fill("Name", "ines")
	p.fill("Teams", "desk")
	p.says("ferry access new person ines -teams desk")
	p.accessible("a new principal")
	p.click("Create the principal")
	p.wait(`document.querySelector("table")?.innerText.includes("ines")`)

	p.click("Grants")
	p.says("There is no grant yet.")
	p.click("New grant")
	p.fill("To", "team:desk")
	p.fill("Role", "help-desk")
	p.fill("On", "coldchain/inspections")
	p.says("ines gains see-counts, see-causes, see-metadata, return, discard, undo on coldchain/inspections")
	p.says("ferry access new grant team:desk -role help-desk -on coldchain/inspections -yes")
	p.click("Give it")
	p.says("Take back")
	p.accessible("the grants")

	p.open("/access?who=ines&verb=see-content&at=coldchain/inspections")
	p.says("no: ines may not see-content coldchain/inspections")
	p.says("These may: owner.")
	p.open("/access?who=ines&verb=return&at=coldchain/inspections")
	p.says("yes: ines may return coldchain/inspections: help-desk on coldchain/inspections was given to team:desk")
	p.everywhere("help-desk", "/access")
	p.open("/access?show=roles")
	p.says("is on call, and looks: no contents")
	p.open("/access?show=access")
	p.says("this one")
	p.click("New token")
	p.fill("For", "build-42")
	p.fill("Label", "builds")
	p.fill("Role", "publisher")
	p.fill("On", "coldchain/readings")
	p.click("Create the token")
	p.says("It is not told again:")
	p.accessible("a new token")
	p.click("I have it")
	p.says("publisher on coldchain/readings")

	p.open("/access?show=grants")
	p.click("Take back help-desk on coldchain/inspections from team:desk")
	p.says("ines loses see-counts, see-causes, see-metadata, return, discard, undo on coldchain/inspections")
	p.click("Take help-desk back from team:desk")
	p.wait(`!document.body.innerText.includes("team:desk")`)
}

// A help desk sees that contents are hidden, is offered what it may do and nothing else, and is
// told what it sees a part of.
func TestTheConsoleOfAHelpDesk(t *testing.T) {
	t.Parallel()
	n := failing(t)
	n.Must("access", "new", "person", "ines")
	n.Must("access", "new", "grant", "ines", "-role", "help-desk", "-on", "coldchain/inspections", "-yes")
	p := openConsole(t, as(t, n, "ines"))
	p.open("/now")
	p.says("coldchain/inspections: dead at or above 3")
	p.says("Nobody changed anything that you may see.")
	for path, says := range map[string]string{
		"/nodes": "There is no node that you may see.", "/logbook": "There is no entry that you may see.", "/watches": "There is no watch that you may see.",
		"/endpoints": "There is no endpoint that you may see.", "/timetable": "There is no chore that you may see.",
	} {
		p.open(path)
		p.says(says)
	}
	p.accessible("no rights")
	p.open("/chart")
	p.says("1 trouble spot, first coldchain/inspections")
	p.open("/channels")
	p.says("coldchain/inspections")
	p.wait(`!document.body.innerText.includes("New channel") && !document.body.innerText.includes("coldchain/readings")`)
	p.open("/dead/coldchain/inspections")
	p.says("details are hidden")
	p.says("hidden: it takes see-content")
	p.wait(`!document.body.innerText.includes("Mend and return") && !document.body.innerText.includes("export") && !document.body.innerText.includes("celsius")`)
	p.accessible("dead letters without contents")
	p.click("Return")
	p.fill("Messages a second; 0 is all at once", "0")
	p.click("Return to the queue 4")
	p.says("No dead letters.")
	assert.Equal(t, 403, as(t, n, "ines").Ask("GET", "/api/v1/channels/coldchain/inspections/messages", "").Status)

	// The owner finds what it did, and what it tried.
	p = openConsole(t, n)
	p.open("/access")
	p.click("ines")
	p.wait(`location.pathname + location.search === "/logbook?who=ines"`)
	p.says("return messages")
	p.says("from 127.0.0.1")
	require.Eventually(t, func() bool {
		return strings.Contains(n.Must("logbook", "-refused", "-who", "ines"), "refused: see-content")
	}, 40*time.Second, 200*time.Millisecond)
	p.open("/logbook?outcome=refused&who=ines")
	p.says("may not see-content coldchain/inspections")
	p.accessible("what was refused")
}

// A mask is made after it was seen from whom it hides what; who is under it sees the rest, and which
// fields are hidden.
func TestTheConsoleUnderAMask(t *testing.T) {
	t.Parallel()
	n := failing(t)
	n.Must("access", "new", "person", "ines")
	n.Must("access", "new", "role", "looks", "-verbs", "see-counts,see-causes,see-metadata,see-content")
	n.Must("access", "new", "grant", "ines", "-role", "looks", "-on", "coldchain", "-yes")
	p := openConsole(t, n)
	p.open("/access?show=masks")
	p.says("There is no mask yet.")
	p.click("New mask")
	p.fill("Name", "heat")
	p.fill("On", "coldchain/*")
	p.fill("Fields", "/celsius")
	p.fill("For roles", "looks")
	p.says("ines does not see /celsius of coldchain/* any more: it is hidden")
	p.says("ferry access new mask heat -on")
	p.accessible("a new mask")
	p.click("Hide them")
	p.says("Take away")
	p.everywhere("mask", "/access?show=masks")

	p = openConsole(t, as(t, n, "ines"))
	p.open("/dead/coldchain/inspections")
	p.says("Hidden from you, or shown as a hash: /celsius")
	p.wait(`document.body.innerText.includes("…") && !document.body.innerText.includes(": 9.5")`)
	p.accessible("dead letters under a mask")
	_, errOut, code := as(t, n, "ines").Ferry("", "dead", "coldchain/inspections", "-where", "body.celsius > 8", "-list")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "it looks at /celsius, and mask heat hides /celsius")

	p = openConsole(t, n)
	p.open("/access?show=masks")
	p.click("Change the mask heat")
	p.fill("Fields", "/celsius, key")
	p.says("ferry access set mask heat -fields /celsius,key -yes")
	p.says("ines does not see")
	p.accessible("changing a mask")
	p.click("Change it")
	p.wait(`document.querySelector("table").innerText.includes("/celsius, key")`)
	p.click("Take away the mask heat")
	p.says("which is hidden now")
	p.click("Take the mask heat away")
	p.says("There is no mask yet.")
}

// Who may break the glass is offered to, where contents are hidden; the reason is asked for, and then
// they are seen.
func TestTheConsoleBreaksTheGlass(t *testing.T) {
	t.Parallel()
	n := failing(t)
	n.Must("access", "new", "person", "ines")
	n.Must("access", "new", "person", "noor")
	n.Must("access", "new", "grant", "ines", "-role", "help-desk", "-on", "coldchain/inspections", "-opens", "-yes")
	n.Must("access", "new", "grant", "noor", "-role", "help-desk", "-on", "coldchain/inspections", "-yes")
	p := openConsole(t, as(t, n, "noor"))
	p.open("/dead/coldchain/inspections")
	p.says("hidden: it takes see-content")
	p.wait(`!document.body.innerText.includes("Break the glass")`)
	p = openConsole(t, as(t, n, "ines"))
	p.open("/dead/coldchain/inspections")
	p.click("Break the glass")
	p.fill("Why", "the clinic cannot find its box")
	p.says("ferry access break-glass coldchain/inspections -why")
	p.accessible("the glass")
	p.click("See what it does")
	p.says("ines sees what is in messages of coldchain/inspections until")
	p.wait(`(() => { const all = [...document.querySelectorAll("[role=dialog] button")]; const b = all.find((b) => b.innerText.trim() === "Break the glass"); b?.click(); return !!b; })()`)
	p.says(": 9.5")
	p.wait(`!document.body.innerText.includes("hidden: it takes see-content")`)
	assert.Contains(t, n.Must("logbook", "-action", "break the glass"), "the clinic cannot find its box")
}

// What a space uses is seen beside what it may, and a bound is set with what it does told before.
func TestTheConsoleOfASpace(t *testing.T) {
	t.Parallel()
	n := failing(t)
	p := openConsole(t, n)
	p.open("/channels?space=coldchain")
	p.click("What coldchain uses")
	p.says("What it uses")
	p.says("no bound")
	p.fill("Channels at most", "1")
	p.fill("Keeps at most", "1MiB")
	p.says("ferry set coldchain -most-channels 1 -most-kept 1MiB")
	p.click("See what changes")
	p.says("while more than 1MiB is kept, nothing is taken (507)")
	p.accessible("a change of bounds")
	p.click("Change it")
	p.says("no more come")
	p.says("of 1.0 MiB")
	p.everywhere("What it uses", "/spaces/coldchain")
	n.Must("set", "coldchain", "-publish-rate", "64KiB", "-yes")
	p.says("of 64.0 KiB/s")
	_, refused, code := n.Ferry("", "new", "topic", "coldchain/one-more")
	assert.Equal(t, 1, code)
	assert.Contains(t, refused, "channels, and may have 1")

	// And it is taken back from its entry.
	p.open("/logbook?address=coldchain&action=set+space")
	p.click("Take back")
	p.says("publishRate")
	p.accessible("what taking back does")
	p.click("Take it back")
	p.says("set space of coldchain is taken back")
	assert.NotContains(t, n.Must("show", "coldchain"), "a second published")

	n.Must("access", "new", "person", "ines")
	n.Must("access", "new", "grant", "ines", "-role", "viewer", "-on", "coldchain", "-yes")
	viewer := openConsole(t, as(t, n, "ines"))
	viewer.open("/spaces/coldchain")
	viewer.says("no more come")
	viewer.wait(`!document.body.innerText.includes("How it is set")`)
}

// What somebody does with a second person alone waits for one, who sees what it would do, and does it.
func TestTheConsoleOfASecondPerson(t *testing.T) {
	t.Parallel()
	n := failing(t)
	for _, name := range []string{"ines", "lana"} {
		n.Must("access", "new", "person", name)
		n.Must("access", "new", "grant", name, "-role", "team-owner", "-on", "coldchain", "-second", "-yes")
	}
	assert.Contains(t, n.Must("access", "grants"), "team-owner, with a second person")
	ines, lana := as(t, n, "ines"), as(t, n, "lana")
	_, said, code := ines.Ferry("", "remove", "coldchain/readings@dashboards", "-yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, said, "lana or owner can confirm it: ferry access confirm ")
	require.Eventually(t, func() bool { return strings.Contains(n.Must("incidents"), "seconds") }, 40*time.Second, 200*time.Millisecond, "those who look after it are told")
	p := openConsole(t, lana)
	p.open("/access?show=seconds")
	p.says("Forget a group and its offsets: coldchain/readings/groups/dashboards")
	p.accessible("what waits for a second person")
	p.click("Look and decide at what ines has asked for")
	p.says("offsets")
	p.accessible("something that waits")
	p.click("Confirm, and do it")
	p.says("done, lana")
	assert.NotContains(t, n.Must("lag", "coldchain/readings"), "dashboards")
	assert.Contains(t, ines.Must("access", "waiting"), "lana")
	assert.Contains(t, n.Must("logbook", "-who", "ines", "-all"), "confirmed by lana")
}
