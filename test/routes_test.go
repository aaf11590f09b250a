package test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/form"
	"steadyferry/test/harness"
)

// A route is tried, made, followed, changed, halted and removed with ferry alone.
func TestARouteFromTheCommandLine(t *testing.T) {
	n := harness.Start(t)
	readings := n.Topic("coldchain/readings", 2)
	inspections := newQueue(t, n, "coldchain/inspections")
	for i := range 10 {
		n.Must("send", readings.String(), "-key", fmt.Sprint("box-", i), "-body", fmt.Sprintf(`{"celsius":%d}`, i))
	}
	warm := "coldchain/readings@warm"
	route := []string{"new", "route", warm, "-to", inspections.String(), "-where", "body.celsius > 6", "-edit", "set header.source=warm-boxes"}

	var tried form.RouteTrial
	require.NoError(t, json.Unmarshal([]byte(n.Must(append(route, "-try", "ago:1h", "-json")...)), &tried))
	assert.Equal(t, []int64{10, 3, 7, 0}, []int64{tried.LookedAt, tried.Sent, tried.LeftOut, tried.Failed})
	_, errOut, code := n.Ferry("", "show", warm)
	assert.Equal(t, 1, code, "a trial makes nothing")
	assert.Contains(t, errOut, warm)
	assert.Zero(t, countsOf(t, n, inspections).Waiting, "a trial sends nothing")

	n.Must(append(route, "-from", "first")...)
	waiting := func(want int64, why string) {
		t.Helper()
		require.Eventually(t, func() bool { return countsOf(t, n, inspections).Waiting == want }, 10*time.Second, 20*time.Millisecond, why)
	}
	waiting(3, "what is warm comes")
	for _, l := range lease(t, n, inspections, 10) {
		headers := map[string]string{}
		for _, h := range l.Message.Headers {
			headers[h.Name] = h.Value
		}
		assert.Equal(t, warm, headers["ferry-route"])
		assert.Equal(t, "warm-boxes", headers["source"])
		assert.Contains(t, headers["ferry-route-from"], readings.String()+"#")
	}
	metrics := func() string { return string(n.Ask("GET", "/metrics", "").Body) }
	sent := func() (all int) {
		for p := range 2 {
			_, after, _ := strings.Cut(metrics(), fmt.Sprintf(`steadyferry_route_messages_total{did="sent",partition="%d",route="%s"} `, p, warm))
			var one int
			_, _ = fmt.Sscan(after, &one)
			all += one
		}
		return all
	}
	assert.Eventually(t, func() bool { return sent() == 3 }, 20*time.Second, 50*time.Millisecond)

	// Halted, it sends nothing, says so, and goes on where it was.
	n.Must("set", warm, "-paused")
	n.Must("send", readings.String(), "-key", "box-1", "-body", `{"celsius":20}`)
	require.Eventually(t, func() bool { return strings.Contains(n.Must("show", warm), "the route is paused") }, 10*time.Second, 50*time.Millisecond)
	assert.Contains(t, metrics(), `reason="paused",route="coldchain/readings@warm"} 1`)
	assert.Zero(t, countsOf(t, n, inspections).Waiting)
	n.Must("set", warm, "-paused=false")
	waiting(1, "what came while it was halted")
	assert.NotContains(t, metrics(), `reason="paused"`)

	// A seek back sends again, as its preview says.
	assert.Contains(t, n.Must("seek", warm, "-to", "first"), "is sent to coldchain/inspections again")
	waiting(1, "a preview sends nothing")
	n.Must("seek", warm, "-to", "first", "-yes")
	waiting(1+4, "all that is warm")

	// What an edit does not fit is a dead letter with its cause, and can be mended.
	n.Must("set", warm, "-where", "", "-edit", "rename /celsius=/degrees")
	n.Must("send", readings.String(), "-key", "box-2", "-body", `{"box":"box-2"}`)
	require.Eventually(t, func() bool {
		out, _, _ := n.Ferry("", "dead", warm) // refused before there is one
		return strings.Contains(out, "edit-failed")
	}, 10*time.Second, 50*time.Millisecond)
	n.Must("dead", warm, "-edit", "set /celsius=11", "-return", "-yes")
	waiting(1+4+1, "what was mended")

	// A route that would lead back is refused in words.
	n.Must("new", "topic", "coldchain/seen")
	n.Must("new", "route", "coldchain/inspections@seen", "-to", "coldchain/seen", "-where", "key == 'none'")
	_, errOut, code = n.Ferry("", "new", "route", "coldchain/seen@back", "-to", "coldchain/readings")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "would send messages in a circle: coldchain/seen -> coldchain/readings -> coldchain/inspections -> coldchain/seen")
	chain := n.Must("show", "coldchain/inspections", "-chain")
	assert.Contains(t, chain, "@warm")
	assert.Contains(t, chain, "@seen")

	n.Must("remove", warm, "-yes")
	n.Must("send", readings.String(), "-key", "box-3", "-body", `{"celsius":30}`)
	assert.Never(t, func() bool { return countsOf(t, n, inspections).Waiting != 6 }, time.Second, 100*time.Millisecond)
	_, errOut, code = n.Ferry("", "show", warm)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "coldchain/readings has no group warm")
}
