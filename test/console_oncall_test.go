package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/test/harness"
)

// failing is a node whose inspections have dead letters, and a watch that alarms at them.
func failing(t *testing.T) *harness.Node {
	n := harness.Start(t, toLoopback...)
	n.Must("new", "space", "coldchain")
	n.Must("new", "topic", "coldchain/readings")
	n.Must("new", "queue", "coldchain/inspections", "-attempt-limit", "1")
	n.Must("new", "group", "coldchain/readings@dashboards", "-from", "first")
	n.Must("new", "route", "coldchain/readings@warm", "-to", "coldchain/inspections", "-from", "first", "-where", "body.celsius > 8.0")
	n.Must("new", "watch", "coldchain/dead-inspections", "-of", "coldchain/inspections", "-value", "dead", "-warn", "1", "-alarm", "3", "-for", "0s")
	for i := range 4 {
		n.Must("send", "coldchain/readings", "-body", fmt.Sprintf(`{"box":"box-000%d","celsius":9.5}`, i))
	}
	require.Eventually(t, func() bool {
		out := n.Must("lease", "coldchain/inspections", "-max", "4", "-json")
		for line := range strings.Lines(out) {
			if i := strings.Index(line, `"lease":"`); i >= 0 {
				lease, _, _ := strings.Cut(line[i+len(`"lease":"`):], `"`)
				n.Must("settle", "coldchain/inspections", "-reject", lease, "-reason", "box-missing")
			}
		}
		return strings.Contains(n.Must("dead", "coldchain/inspections"), "4 dead letters")
	}, 20*time.Second, 100*time.Millisecond)
	return n
}

// From the first page to the trouble on the chart, and to the end of the incident, by the
// keyboard and few clicks.
func TestFromTheAlarmToWhereItIs(t *testing.T) {
	t.Parallel()
	n := failing(t)
	p := openConsole(t, n)
	p.open("/")
	p.wait(`location.pathname === "/now"`)
	p.says("coldchain/inspections: dead at or above 3")
	p.says("ferry dead coldchain/inspections")
	p.says("Nothing is foreseen.")
	p.says("What changed in the last hour")
	p.says("new watch")
	p.accessible("what is wrong")
	p.everywhere("dead at or above 3", "/now")

	p.click("On the chart")
	p.wait(`document.querySelector("svg[role=application] [data-thing='coldchain/inspections']")`)
	p.says("1 trouble spot, first coldchain/inspections")
	p.accessible("the chart")
	require.NoError(t, p.Run(`document.querySelector("svg[role=application]").focus()`))
	chosen := func(says string) {
		t.Helper()
		p.wait(fmt.Sprintf(`document.getElementById("chart-chosen").textContent.includes(%q)`, says))
	}
	require.NoError(t, p.Type("n"))
	chosen("queue coldchain/inspections, dead, alarm: coldchain/inspections: dead at or above 3")
	arrow := func(key string) {
		t.Helper()
		require.NoError(t, p.Run(fmt.Sprintf(`document.querySelector("svg[role=application]").dispatchEvent(new KeyboardEvent("keydown", {key: %q, bubbles: true}))`, key)))
	}
	arrow("ArrowLeft")
	chosen("route coldchain/readings@warm")
	arrow("ArrowLeft")
	chosen("topic coldchain/readings")
	require.NoError(t, p.Type("d"))
	chosen("queue coldchain/inspections")
	arrow("Enter")
	p.says("Return dead letters")
	p.accessible("a thing of the chart")
	p.click("Return dead letters")
	p.says("all dead letters of coldchain/inspections")
	p.fill("Messages a second; 0 is all at once", "0")
	p.click("Return to the queue 4")
	require.Eventually(t, func() bool { return strings.Contains(n.Must("dead", "coldchain/inspections"), "no dead letters") }, 20*time.Second, 100*time.Millisecond)
	p.open("/chart?space=coldchain&as=list")
	p.says("coldchain/readings@warm")
	p.accessible("the chart as a list")
	p.everywhere("inspections", "/chart?space=coldchain")
	p.open("/now")
	p.says("All is well, for")
	p.accessible("nothing is wrong")

	// It can be looked at as it was.
	p.open("/chart?space=coldchain&at=" + time.Now().Add(-30*time.Minute).UTC().Format(time.RFC3339))
	p.says("as it was")
	p.click("Now")
	p.says("as it is now")
	p.open("/chart?space=coldchain&around=coldchain/inspections&steps=1")
	p.wait(`document.querySelectorAll("[data-thing]").length === 2`)
}

// Three hundred things are folded to what can be read, and drawn apart when somebody wants it.
func TestAChartOfThreeHundredThings(t *testing.T) {
	t.Parallel()
	n := harness.Start(t, toLoopback...)
	var file strings.Builder
	file.WriteString("declaration: many\nspace: coldchain\ntopics:\n")
	for i := range 100 {
		fmt.Fprintf(&file, "  depot-%d:\n    groups:\n      readers: {}\n      counters: {}\n", i)
	}
	path := filepath.Join(t.TempDir(), "coldchain.yaml")
	require.NoError(t, os.WriteFile(path, []byte(file.String()), 0o600))
	n.Must("apply", filepath.Dir(path), "-yes")
	p := openConsole(t, n)
	p.open("/chart?space=coldchain")
	p.says("300 things; like ones that are in order are drawn as one.")
	p.wait(`document.querySelectorAll("[data-thing]").length > 0`)
	var drawn int
	require.NoError(t, p.Eval(`document.querySelectorAll("[data-thing]").length`, &drawn))
	assert.LessOrEqual(t, drawn, 60)
	p.accessible("a chart of many things")
	require.NoError(t, p.Run(`document.querySelector("[data-thing^='like:topic']").dispatchEvent(new MouseEvent("click", {bubbles: true}))`))
	p.says("Draw each of them")
	p.click("Draw each of them")
	p.wait(`document.querySelectorAll("[data-thing^='coldchain/depot-']").length >= 100`)
	var smooth float64
	require.NoError(t, p.Eval(`new Promise((done) => {
		const begun = performance.now();
		let frames = 0;
		const step = () => (++frames < 30 ? requestAnimationFrame(step) : done((performance.now() - begun) / frames));
		requestAnimationFrame(step);
	})`, &smooth))
	t.Logf("%.0f ms a frame with %d folded, and all topics apart", smooth, drawn)
}

// A chore is made in the console after it was seen what it would do, run by hand, and its run
// is told line by line.
func TestTheConsoleOfTheTimetable(t *testing.T) {
	t.Parallel()
	n := failing(t)
	p := openConsole(t, n)
	p.open("/timetable")
	p.says("Nothing is done by itself.")
	p.accessible("no chores")
	p.click("New chore")
	p.fill("Name", "nightly-return")
	p.fill("Of (an address, or one with * for any characters)", "coldchain/inspections")
	p.fill("In the zone (a zone, such as Europe/Lisbon)", "Europe/Lisbon")
	p.says("it would send 4 messages of coldchain/inspections/dead to coldchain/inspections, 40/s")
	p.says("03:00")
	p.says("ferry new chore coldchain/nightly-return -do return -of coldchain/inspections -at '0 3 * * *' -zone Europe/Lisbon")
	p.accessible("a new chore")
	p.fill("At (minute, hour, day of the month, month, day of the week)", "0 3 31 2 *")
	p.says("is never: there is no such day")
	p.fill("At (minute, hour, day of the month, month, day of the week)", "0 3 * * 1-5")
	p.says("it would send 4 messages")
	p.click("Create the chore")
	p.wait(`location.pathname === "/timetable/coldchain/nightly-return"`)
	p.says("It has not run yet.")
	p.click("Run it now")
	p.says("sent 4 messages, 0 failed again")
	p.accessible("a chore that ran")
	require.NoError(t, p.Run(`[...document.querySelectorAll("td button")][0].click()`))
	p.says("sends 4 messages to coldchain/inspections, 40/s")
	p.accessible("a run")
	p.open("/timetable/coldchain/nightly-return")
	p.fill("Messages a second (more than 0 to 50000 a second)", "10")
	p.says("ferry set coldchain/nightly-return -rate 10")
	p.click("See what changes")
	p.click("Change it")
	p.says("coldchain/nightly-return is changed")
	p.click("Pause")
	p.says("It is paused.")
	p.everywhere("nightly-return", "/timetable", "/timetable/coldchain/nightly-return")
	assert.Contains(t, n.Must("timetable", "coldchain"), "paused")
	assert.Contains(t, n.Must("show", "coldchain/nightly-return"), "sent 4 messages")
	p.click("Remove")
	p.says("it runs no more")
	p.click("Remove it")
	p.wait(`location.pathname === "/timetable"`)
	p.says("Nothing is done by itself.")
}
