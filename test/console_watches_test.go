package test

import (
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/cmd/ferryd/desk"
	"steadyferry/test/harness"
)

// The console creates a watch that was tried on the past, shows the incident that it finds
// with its story, takes what is said of it, changes the levels, and those who shall know are
// told.
func TestTheConsoleOfWatches(t *testing.T) {
	t.Parallel()
	n := harness.Start(t, toLoopback...)
	told := desk.New("northlight-duty-desk-knows-this")
	server := httptest.NewServer(told)
	defer server.Close()
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("northlight-duty-desk-knows-this"), 0o600))
	p := openConsole(t, n)
	p.open("/incidents")
	p.says("All that is watched is in order.")
	p.accessible("no incidents")
	p.open("/watches")
	p.says("nodes/disks")
	n.Must("new", "space", "coldchain")
	n.Must("new", "queue", "coldchain/inspections", "-attempt-limit", "1", "-lease", "1s")
	n.Must("new", "endpoint", "coldchain/duty-desk", "-url", server.URL+"/desk/", "-secret-from", secret)
	p.says("coldchain/old-work")
	p.accessible("watches")

	p.click("New watch")
	p.fill("Name", "warm-work")
	p.fill("Value (dead letters of a queue, a group or a route)", "waiting")
	p.fill("Watches (an address, or one with * for any characters)", "coldchain/inspections")
	p.fill("For as long as (0s (at once) to 1d)", "0s")
	p.fill("Tells (up to 10 addresses of endpoints)", "coldchain/duty-desk")
	p.says("ferry new watch coldchain/warm-work -of coldchain/inspections -value waiting -warn 5 -alarm 10 -for 0s -tell coldchain/duty-desk")
	p.says("it would not have rung")
	p.accessible("a new watch")
	p.click("Create the watch")
	p.wait(`location.pathname === "/watches/coldchain/warm-work"`)
	for range 7 {
		n.Must("send", "coldchain/inspections", "-body", `{"box":"box-0007"}`)
	}
	p.says("warn")
	p.accessible("a watch that warns")
	p.open("/incidents")
	p.says("coldchain/inspections: waiting at or above 5")
	p.says("ferry show coldchain/inspections")
	p.says("1 warning")
	p.everywhere("waiting at or above 5", "/incidents")
	require.NoError(t, p.Run(`document.querySelector('a[href="/incidents/1"]').click()`))
	p.wait(`location.pathname === "/incidents/1"`)
	p.says("What happened")
	p.says("begins")
	p.says("told")
	p.says("new watch")
	p.fill("A note, or why it is silenced", "I count them")
	p.click("I look at it")
	p.says("acknowledged")
	p.fill("A note, or why it is silenced", "the scanner is being mended")
	p.click("Silence it")
	p.says("nobody is told of it until")
	p.accessible("the story of an incident")
	assert.Contains(t, n.Must("incidents", "-open"), "owner (silent until")
	_, _, code := n.Ferry("", "incidents", "-open", "-fail-on", "warn")
	assert.Equal(t, 1, code)
	_, _, code = n.Ferry("", "incidents", "-open", "-fail-on", "alarm")
	assert.Zero(t, code)
	require.Len(t, told.Got(), 1)
	assert.Equal(t, "begins", told.Got()[0].Incidents[0].Word)

	p.open("/watches/coldchain/warm-work")
	p.says("it would have rung")
	p.fill("Warns at (a number, a duration or a size, as the value has, or none)", "9")
	p.says("ferry set coldchain/warm-work -warn 9")
	p.click("See what changes")
	p.says("in the last 30 days it would have rung")
	p.accessible("a watch before it is changed")
	p.click("Change it")
	p.says("coldchain/warm-work is changed")
	require.EventuallyWithT(t, func(now *assert.CollectT) {
		assert.Equal(now, "no incident goes on: all that is watched is in order\n", n.Must("incidents", "-open"))
	}, 40*time.Second, time.Second)
	p.open("/incidents/1")
	p.says("it ended: calm")
	p.open("/incidents")
	p.says("Ended in the last week")
	p.accessible("incidents that ended")
	assert.Contains(t, n.Must("watches", "-try-telling", "coldchain/warm-work"), "204 No Content")
	n.Must("set", "coldchain/warm-work", "-tell", "none")
	_, errOut, code := n.Ferry("", "watches", "-try-telling", "coldchain/warm-work")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "tells nobody")
}
