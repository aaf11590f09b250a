package test

import (
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/test/harness"
)

// A link from anywhere shows its condition, and runs nothing until the person
// asks for it.
func TestALinkRunsNoCondition(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	n.Must("new", "queue", "coldchain/inspections")
	publish(t, n, 0, `{"celsius":9}`)
	n.Must("send", "coldchain/inspections", "-body", `{"celsius":9}`)
	p := openConsole(t, n)
	where := url.QueryEscape("body.celsius > 8")
	asked := func() (seen bool) {
		require.NoError(t, p.Eval(`performance.getEntriesByType("resource").some(r => r.name.includes("where=") && !r.name.includes("/check"))`, &seen))
		return seen
	}
	for path, found := range map[string]string{
		"/channels/coldchain/readings?where=" + where:                             "found 1",
		"/channels/coldchain/inspections?tab=waiting&where=" + where:              "#0:0",
		"/channels/coldchain/readings?view=live&where=" + where + "%20%26%26true": "Nothing has come yet.",
	} {
		require.NoError(t, p.Run(`sessionStorage.clear()`))
		p.open(path)
		p.says("came with the address, and has not run")
		time.Sleep(500 * time.Millisecond)
		assert.False(t, asked(), path)
		p.accessible(path)
		if found == "Nothing has come yet." {
			p.click("Apply")
		} else {
			p.click("Look")
		}
		p.says(found)
		p.open(path) // the same person, who knows it
		p.says(found)
	}
}
