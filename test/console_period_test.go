package test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"steadyferry/test/harness"
)

// A stretch of time is chosen from a list, or as two days of a calendar.
func TestTheConsoleChoosesAPeriod(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	topic := n.Topic("coldchain/readings", 1)
	fill(t, n, topic, 1, 12)
	n.Must("new", "group", "coldchain/readings@forecast")
	p := openConsole(t, n)
	p.open("/channels/coldchain/readings")
	p.says("done")
	p.click("When")
	p.says("What forecast has not read")
	p.accessible("the choice of a period")
	p.click("What forecast has not read")
	p.wait(`location.search.includes("group%3Aforecast")`)
	p.says("found 12")

	p.click("When")
	today := time.Now().Format("2006-01-02")
	for i, day := range []string{time.Now().AddDate(0, 0, -1).Format("2006-01-02"), today} {
		require.NoError(t, p.Run(`const e = document.querySelectorAll("input[type=date]")[`+string(rune('0'+i))+`]; Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(e, "`+day+`"); e.dispatchEvent(new Event("input", {bubbles: true}))`))
	}
	p.wait(`document.querySelectorAll("input[type=date]")[0].max === "` + today + `"`) // the first day is not behind the last
	p.click("These days")
	p.wait(`location.search.includes("from=time")`)
	p.says("found 12")
}
