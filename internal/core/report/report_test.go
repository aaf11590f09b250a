package report

import (
	"encoding/base64"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/form"
)

func figures(xs ...float64) (all []*float64) {
	for i := range xs {
		if xs[i] < 0 {
			all = append(all, nil)
			continue
		}
		all = append(all, &xs[i])
	}
	return all
}

func day() *form.Report {
	at := time.Date(2026, 11, 28, 6, 0, 0, 0, time.UTC)
	came, ended := int64(166_356), at.Add(-time.Hour)
	return &form.Report{Space: "coldchain", From: at.Add(-24 * time.Hour), To: at, Says: "all of it",
		Channels: []form.ReportChannel{{Address: "coldchain/readings", Kind: "topic", Messages: &came, AtLeast: true, Rate: 1.926, Peak: 25, Kept: 166_000, Bytes: 26 << 20, Curve: figures(1, -1, 4, 2)},
			{Address: "coldchain/recalls", Kind: "queue", Dead: 3, Curve: figures()}},
		Readers:   []form.ReportReader{{Address: "coldchain/readings@forecast", Kind: "group", Lag: 12, WorstLag: 1500, WorstAge: 5400, WorstAt: &ended, Curve: figures(3)}},
		Causes:    []form.ReportCause{{Address: "coldchain/recalls/dead", Cause: "f05f472b", Reason: "bad|box", Detail: "<script>alert(1)</script>\n[x](y) `z`", Came: 2, Count: 3, First: at, New: true}},
		Incidents: []form.Incident{{Number: 7, Worst: "alarm", Says: "it was bad", BegunAt: at.Add(-2 * time.Hour), EndedAt: &ended}, {Number: 8, Worst: "warn", Says: "it is", BegunAt: at}},
		Chores:    []form.ReportChore{{Address: "coldchain/nightly", Runs: 2, Failed: 1, Messages: 40, Last: at, Says: "done: sent 40"}},
		Done:      []form.ReportDone{{Who: "owner", Action: "new topic", Times: 2, Addresses: []string{"coldchain/a", "coldchain/b"}}},
		Foreseen:  []form.Foreseen{{Says: "the disk is full in 2d", Next: "ferry nodes"}}}
}

func TestAPageSaysAllAndRunsNothing(t *testing.T) {
	page, err := HTML(day())
	require.NoError(t, err)
	text := string(page)
	for _, part := range []string{"at least 166,356", "not known", "26MiB", "1.93/s", "goes on", "1h30m", "new topic", "coldchain/a, coldchain/b", "the disk is full in 2d", "<code>ferry nodes</code>", "&lt;script&gt;alert(1)&lt;/script&gt;"} {
		assert.Contains(t, text, part)
	}
	assert.NotContains(t, text, "<script")
	assert.NotRegexp(t, regexp.MustCompile(`(src|href)=`), text, "it needs nothing else")
	assert.Contains(t, text, `<path d="M0.0 20.0M106.7 2.0L160.0 14.0"`, "a gap where nothing was measured")
	assert.True(t, strings.HasPrefix(StyleSource, "'sha256-"))
}

func TestTextHasItsPicturesInside(t *testing.T) {
	text, err := Markdown(day())
	require.NoError(t, err)
	for _, line := range strings.Split(text, "\n") {
		if strings.HasPrefix(line, "|") {
			assert.True(t, strings.HasSuffix(line, "|"), line)
		}
	}
	assert.Contains(t, text, `| `+"`coldchain/recalls/dead`"+` | `+"`f05f472b`"+` new | bad\|box | \<script\>alert(1)\</script\> \[x\](y) `)
	m := regexp.MustCompile(`data:image/svg\+xml;base64,([^)]+)\)`).FindStringSubmatch(text)
	require.NotNil(t, m)
	picture, err := base64.StdEncoding.DecodeString(m[1])
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(picture), `<svg xmlns=`))

	empty, err := Markdown(&form.Report{Space: "coldchain"})
	require.NoError(t, err)
	for _, part := range []string{"None.", "Nothing is foreseen.", "Nobody.", "None did.", "Nothing.", "Nobody did anything."} {
		assert.Contains(t, empty, part)
	}
}
