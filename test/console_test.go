package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/browser"
	"steadyferry/test/harness"
)

// page is the console in a browser, signed in.
type page struct {
	*browser.Browser
	t *testing.T
	n *harness.Node
}

func openConsole(t *testing.T, n *harness.Node) *page {
	t.Helper()
	b, err := browser.Start(context.Background())
	require.NoError(t, err)
	t.Cleanup(b.Close)
	p := &page{b, t, n}
	var link client.Link
	require.NoError(t, n.API.Call(context.Background(), http.MethodPost, "/links", nil, nil, &link))
	p.open(link.Path)
	p.wait(`document.querySelector("nav")`)
	return p
}

func (p *page) open(path string) {
	p.t.Helper()
	require.NoError(p.t, p.Open(p.n.URL+path))
	require.NoError(p.t, p.Run(`window.violations = []; document.addEventListener("securitypolicyviolation", e => violations.push(e.violatedDirective + " " + e.blockedURI))`))
}

func (p *page) wait(expression string) {
	p.t.Helper()
	require.NoError(p.t, p.Wait(expression))
}

// says waits until the page shows a text.
func (p *page) says(text string) {
	p.t.Helper()
	quoted, _ := json.Marshal(text)
	p.wait("document.body.innerText.includes(" + string(quoted) + ")")
}

// click clicks the button or link with a text or label.
func (p *page) click(text string) {
	p.t.Helper()
	quoted, _ := json.Marshal(text)
	find := `[...document.querySelectorAll("button, a, [role=option]")].filter(e => e.offsetParent !== null || e.closest("[role=dialog]")).find(e => e.textContent.trim() === ` + string(quoted) + ` || e.getAttribute("aria-label") === ` + string(quoted) + `)`
	p.wait(find)
	require.NoError(p.t, p.Run(find+".click()"))
}

// fill types a text into the field with a label.
func (p *page) fill(label, text string) {
	p.t.Helper()
	quoted, _ := json.Marshal(label)
	find := `[...document.querySelectorAll("label")].find(l => l.textContent.trim().startsWith(` + string(quoted) + `)).querySelector("input, textarea")`
	p.wait(find)
	require.NoError(p.t, p.Run("const e = "+find+"; e.focus(); e.select()"))
	require.NoError(p.t, p.Type(text))
}

// accessible holds the page against WCAG 2.2 AA with axe, and against the
// content security policy.
func (p *page) accessible(what string) {
	p.t.Helper()
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	require.NoError(p.t, err)
	time.Sleep(400 * time.Millisecond) // for what fades in
	require.NoError(p.t, p.Run("if (!window.axe) {"+string(axe)+"}"))
	var found []struct {
		ID    string `json:"id"`
		Help  string `json:"help"`
		Nodes []struct {
			HTML    string `json:"html"`
			Summary string `json:"failureSummary"`
		} `json:"nodes"`
	}
	require.NoError(p.t, p.Eval(`axe.run(document, {runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]}).then(r => r.violations)`, &found))
	for _, v := range found {
		p.t.Errorf("%s: %s (%s): %s\n%s", what, v.Help, v.ID, v.Nodes[0].HTML, v.Nodes[0].Summary)
	}
	var violations []string
	require.NoError(p.t, p.Eval("window.violations", &violations))
	assert.Empty(p.t, violations, what)
}

// everywhere opens pages on a phone and a desk, light and dark: they say a
// text, are accessible and are not wider than the window.
func (p *page) everywhere(says string, paths ...string) {
	p.t.Helper()
	for _, width := range []int{390, 1280} {
		require.NoError(p.t, p.Size(width, 800))
		for _, theme := range []string{"dark", "light"} {
			require.NoError(p.t, p.Run(`localStorage.setItem("theme", "`+theme+`")`))
			for _, path := range paths {
				p.open(path)
				p.says(says)
				time.Sleep(500 * time.Millisecond)
				what := fmt.Sprintf("%s, %s, %d wide", path, theme, width)
				p.accessible(what)
				var widest string
				require.NoError(p.t, p.Eval(`document.documentElement.scrollWidth > document.documentElement.clientWidth ? [...document.querySelectorAll("main *")].filter(e => e.getBoundingClientRect().right > innerWidth && !e.closest("[role=region]")).map(e => e.outerHTML.slice(0, 150))[0] ?? "something" : ""`, &widest))
				assert.Empty(p.t, widest, "wider than the window: %s", what)
			}
		}
	}
}

func (p *page) url() string {
	var u string
	require.NoError(p.t, p.Eval("location.pathname + location.search", &u))
	return u
}

func (p *page) rows() (rows []string) {
	require.NoError(p.t, p.Eval(`[...document.querySelectorAll("[role=rowgroup] [role=row]")].map(r => r.innerText.replaceAll("\n", " "))`, &rows))
	return rows
}

func TestANewcomersWayThroughTheConsole(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	p := openConsole(t, n)
	p.wait(`location.pathname === "/now"`)
	p.says("All is well: nothing was out of order so far.")
	p.accessible("a new node")
	p.open("/channels")
	p.says("There are no channels yet.")
	p.accessible("no channels")
	p.click("New channel")
	p.fill("Space", "coldchain")
	p.fill("Name", "readings")
	p.says("ferry new space coldchain")
	p.says("60.0 GiB")
	p.accessible("the dialog for a new topic")
	p.click("Make topic")
	p.wait(`location.pathname === "/channels/coldchain/readings"`)
	p.says("This topic is empty.")
	p.accessible("an empty topic")

	p.click("Send a message")
	p.fill("Body", `{"box":"box-7","celsius":9.5}`)
	p.fill("Key", "box-7")
	p.says(`ferry send coldchain/readings -key box-7 -body '{"box":"box-7","celsius":9.5}'`)
	p.accessible("the dialog for a message")
	p.click("Send")
	p.says("stored as")
	p.click("Close")
	// A shell has what the console sent.
	assert.Contains(t, n.Must("browse", "coldchain/readings"), `{"box":"box-7","celsius":9.5}`)

	p.click("live")
	p.says("Nothing has come yet.")
	n.Must("send", "coldchain/readings", "-key", "box-8", "-body", `{"box":"box-8","celsius":4.1}`)
	p.says("box-8")
	p.click("Pause")
	n.Must("send", "coldchain/readings", "-key", "box-9", "-body", `{"box":"box-9","celsius":4.2}`)
	p.says("1 more have come")
	p.click("Go on")
	p.says("box-9")
	p.accessible("a live topic")

	p.click("newest first")
	p.wait(`document.querySelectorAll("[role=rowgroup] [role=row]").length === 3`)
	require.NoError(t, p.Run(`document.querySelector(".cm-content").focus()`))
	require.NoError(t, p.Type("body.celsius > 8"))
	// Not Enter: while the list of completions is open it chooses from that.
	p.click("Look")
	p.wait(`document.querySelectorAll("[role=rowgroup] [role=row]").length === 1`)
	assert.Contains(t, p.rows()[0], "box-7")
	assert.Contains(t, p.url(), "where=body.celsius", "what is looked for is in the address")
	p.accessible("messages found")

	require.NoError(t, p.Run(`document.querySelector("[role=rowgroup] [role=row] button").click()`))
	p.says("Body as JSON")
	p.accessible("one message")
	require.NoError(t, p.Run(`[...document.querySelectorAll("[role=dialog] button")].find(b => b.textContent === '"box-7"').click()`))
	p.wait(`new URLSearchParams(location.search).get("where") === 'body.celsius > 8 && body.box == "box-7"'`)
}

func TestAWrongConditionIsMarkedAtItsPlace(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	publish(t, n, 0, `{"celsius":9}`)
	p := openConsole(t, n)
	p.open("/channels/coldchain/readings?where=bodi.celsius")
	p.says(`column 1: there is no "bodi"`)
	p.says(`did you mean "body"?`)
	p.wait(`document.querySelector(".cm-lintRange-error")`)
	p.accessible("a wrong condition")
}

func TestTenThousandRowsScroll(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 2)
	n.Must("load", "coldchain/readings", "-count", "12000", "-batch", "500")
	p := openConsole(t, n)
	p.open("/channels/coldchain/readings?limit=10000&view=oldest")
	p.says("found 10,000")
	var frames []float64
	require.NoError(t, p.Eval(`new Promise(done => {
		const box = document.querySelector("[role=rowgroup]"), times = [];
		let last = performance.now();
		const step = now => {
			times.push(now - last); last = now;
			box.scrollTop += box.scrollHeight / 60;
			times.length < 60 ? requestAnimationFrame(step) : done(times);
		};
		requestAnimationFrame(step);
	})`, &frames))
	var drawn int
	require.NoError(t, p.Eval(`document.querySelectorAll("[role=rowgroup] [role=row]").length`, &drawn))
	assert.Less(t, drawn, 100, "only what is visible is drawn")
	var bottom int
	require.NoError(t, p.Eval(`Math.max(...[...document.querySelectorAll("[role=rowgroup] [role=row]")].map(r => +r.getAttribute("aria-rowindex")))`, &bottom))
	assert.Greater(t, bottom, 9000)
}

// Of many channels those are drawn that can be seen, and those come again that
// have changed: what is made, removed and published is there at once.
func TestManyChannelsAreDrawnAsTheyAreSeen(t *testing.T) {
	n := harness.Start(t)
	for i := range 300 {
		n.Topic(fmt.Sprintf("coldchain/box-%03d", i), 1)
	}
	p := openConsole(t, n)
	p.open("/channels")
	p.wait(`document.querySelector("table[aria-rowcount='301']")`)
	drawn := `document.querySelectorAll("tbody tr[data-index]").length`
	var rows int
	require.NoError(t, p.Eval(drawn, &rows))
	assert.Less(t, rows, 80)
	p.accessible("many channels")
	require.NoError(t, p.Run(`window.scrollTo(0, document.body.scrollHeight)`))
	p.says("coldchain/box-299")
	require.NoError(t, p.Eval(drawn, &rows))
	assert.Less(t, rows, 100)

	n.Must("send", "coldchain/box-299", "-body", "x")
	p.wait(`[...document.querySelectorAll("tbody tr[data-index]")].some(r => r.textContent.startsWith("coldchain/box-299") && r.children[4].textContent === "1")`)
	n.Topic("coldchain/box-999", 1)
	p.wait(`document.querySelector("table[aria-rowcount='302']")`)
	n.Must("remove", "coldchain/box-000", "-yes")
	p.wait(`document.querySelector("table[aria-rowcount='301']")`)
	p.open("/channels?filter=BOX-99")
	p.wait(`document.querySelectorAll("tbody tr").length === 1`)
	p.says("coldchain/box-999")
}

func TestTheAddressBoxAndTheKeyboard(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 4)
	publish(t, n, 3, `{"celsius":9}`)
	p := openConsole(t, n)
	p.says("coldchain/readings")
	slash := `document.body.dispatchEvent(new KeyboardEvent("keydown", {key: "/", bubbles: true, cancelable: true}))`
	require.NoError(t, p.Run(slash))
	p.wait(`document.activeElement.getAttribute("role") === "combobox"`)
	require.NoError(t, p.Type("coldchain/readings#3:0"))
	p.wait(`document.querySelector("[role=option]")`)
	p.accessible("the address box")
	require.NoError(t, p.Type("\r"))
	p.wait(`document.querySelector("[role=dialog]")`)
	p.says("partition 3, offset 0")
	require.NoError(t, p.Type("\x1b"))
	p.wait(`!document.querySelector("[role=dialog]")`)
	require.NoError(t, p.Run(`document.activeElement.blur()`))
	require.NoError(t, p.Run(slash))
	require.NoError(t, p.Type("coldchain/reading"))
	p.says("did you mean coldchain/readings?")
}

func TestSettingsArePreviewedAndARemovalIsBroughtBack(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 2)
	publish(t, n, 0, `{"celsius":9}`)
	p := openConsole(t, n)
	p.open("/channels/coldchain/readings?tab=settings")
	p.fill("Partitions", "5")
	p.says("ferry set coldchain/readings -partitions 5")
	p.accessible("settings")
	p.click("See what changes")
	p.says("most keys go to another partition")
	p.accessible("the preview")
	p.click("Change it")
	p.says("Partitions (5)")
	p.click("Pause publishing")
	p.says("publishing is refused until the pause ends")
	p.click("Change it")
	p.says("End the pause")
	p.click("Remove the topic")
	p.says("can be reached no more")
	p.click("Remove it")
	p.says("is removed")
	p.click("Bring back")
	p.wait(`location.pathname === "/channels/coldchain/readings"`)
	p.says("is back")
	assert.Contains(t, n.Must("browse", "coldchain/readings"), "celsius")
	p.open("/logbook")
	p.says("restore topic")
	p.accessible("the logbook")
}

func TestTheSettingsOfAQueueAreChanged(t *testing.T) {
	n := harness.Start(t)
	n.Must("new", "space", "coldchain")
	n.Must("new", "queue", "coldchain/inspections", "-label", "team=logistics")
	p := openConsole(t, n)
	p.open("/channels/coldchain/inspections?tab=settings")
	p.fill("Attempt limit", "2")
	p.fill("Labels", "team=cold, tier=1")
	p.says("ferry set coldchain/inspections -attempt-limit 2 -label team=cold -label tier=1")
	p.accessible("settings of a queue")
	p.click("See what changes")
	p.says("messages become dead letters after 2 attempts instead of 6")
	p.click("Change it")
	p.says("is changed")
	p.fill("A lease is for", "soon")
	p.click("See what changes")
	p.says("allowed: 100ms to 1d")
	p.accessible("a setting that is refused")
	set := n.Must("show", "coldchain/inspections", "-json")
	assert.Contains(t, set, `"attemptLimit":2`)
	assert.Contains(t, set, `"team":"cold"`)
	// What was said in the console is what the command takes.
	n.Must("set", "coldchain/inspections", "-attempt-limit", "7", "-label", "team=", "-label", "tier=2")
	set = n.Must("show", "coldchain/inspections", "-json")
	assert.Contains(t, set, `"attemptLimit":7`)
	assert.NotContains(t, set, "team")
}

func TestEveryPageInTheDarkAndOnAPhone(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	n.Topic("coldchain/readings", 3)
	n.Topic("coldchain/journeys", 1)
	publish(t, n, 0, `{"celsius":9}`)
	p := openConsole(t, n)
	for _, dark := range []string{"dark", "light"} {
		for _, width := range []int{1280, 390} {
			require.NoError(t, p.Size(width, 800))
			require.NoError(t, p.Run(`localStorage.setItem("theme", "`+dark+`")`))
			for path, text := range map[string]string{"/channels": "coldchain/journeys", "/channels/coldchain/readings": "found 1", "/channels/coldchain/readings?open=0:0": "Lies in",
				"/channels/coldchain/readings?tab=partitions": "node-a", "/channels/coldchain/reading": "did you mean coldchain/readings?", "/nodes": "every partition has a leader", "/logbook": "new topic"} {
				p.open(path)
				p.says(text)
				name := fmt.Sprintf("%s, %s, %d wide", path, dark, width)
				p.accessible(name)
				var wide bool
				require.NoError(t, p.Eval(`document.documentElement.scrollWidth > document.documentElement.clientWidth`, &wide))
				assert.False(t, wide, "%s is wider than the window", name)
			}
		}
	}
	p.click("Sign out")
	p.says("Token")
	p.accessible("signing in")
	p.fill("Token", "wrong")
	p.click("Sign in")
	p.says("not in force")
	p.fill("Token", strings.TrimSpace(n.Token))
	p.click("Sign in")
	p.wait(`document.querySelector("nav")`)
}

func TestThePageSaysWhenItsFiguresAreOld(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	p := openConsole(t, n)
	p.says("live")
	n.Kill()
	p.says("no word since")
	p.accessible("without the service")
	n.Run()
	p.wait(`!document.body.innerText.includes("no word since")`)
}
