package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/engine/outside/postbox"
	"steadyferry/test/harness"
)

// Whoever is on call gets mail when something rings and when it ends, in words of their own
// when they want that, and the report of the day.
func TestTheDutyGetsMail(t *testing.T) {
	t.Parallel()
	box, err := postbox.Open("", "ferry", "secret of the duty")
	require.NoError(t, err)
	t.Cleanup(box.Close)
	n := harness.Start(t, "-outside-networks", "loopback", "-outside-schemes", "smtp")
	file := func(name, text string) string {
		path := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	n.Must("new", "space", "coldchain")
	n.Must("new", "queue", "coldchain/labels")
	_, said, code := n.Ferry("", "new", "endpoint", "coldchain/duty-mail", "-url", box.URL())
	assert.Equal(t, 1, code)
	assert.Contains(t, said, "give -mail-from ADDRESS and -mail-to ADDRESSES")
	n.Must("new", "endpoint", "coldchain/duty-mail", "-url", box.URL(), "-mail-from", "ferry@northlight.example", "-mail-to", "duty@northlight.example", "-mail-user", "ferry",
		"-password-from", file("password", "secret of the duty"), "-authority-from", file("authority", box.Authority))
	assert.Contains(t, n.Must("endpoint", "try", "coldchain/duty-mail"), "well, after")
	require.Len(t, box.Letters(), 1)
	_, said, code = n.Ferry("", "new", "route", "coldchain/labels@mail", "-to", "coldchain/duty-mail")
	assert.Equal(t, 1, code)
	assert.Contains(t, said, "sends mail, which is for notices")

	n.Must("new", "watch", "coldchain/waiting", "-of", "coldchain/labels", "-value", "waiting", "-alarm", "1", "-for", "0s", "-tell", "coldchain/duty-mail")
	n.Must("send", "coldchain/labels", "-body", "{}")
	mail := func(count int) postbox.Letter {
		t.Helper()
		require.Eventually(t, func() bool { return len(box.Letters()) >= count }, 40*time.Second, 100*time.Millisecond)
		return box.Letters()[0]
	}
	first := mail(2)
	assert.Equal(t, "alarm begins: coldchain/labels", first.Subject)
	assert.Contains(t, first.Text, "/incidents/1")
	assert.Equal(t, []string{"duty@northlight.example"}, first.To)

	_, said, code = n.Ferry("", "set", "coldchain/duty-mail", "-notice", "notice.says +")
	assert.Equal(t, 1, code)
	assert.Contains(t, said, "column")
	n.Must("set", "coldchain/duty-mail", "-notice", `{"subject": "depot: " + notice.incidents[0].word, "text": notice.says}`)
	n.Must("work", "coldchain/labels", "-once", "--", "true")
	last := mail(3)
	assert.Equal(t, "depot: ends", last.Subject)
	assert.Contains(t, last.Text, "ends: coldchain/labels: waiting at or above 1")

	n.Must("set", "coldchain/duty-mail", "-notice", "")
	n.Must("new", "chore", "coldchain/daily-report", "-at", "0 6 * * *", "-do", "report", "-of", "coldchain", "-tell", "coldchain/duty-mail")
	n.Must("timetable", "-start", "coldchain/daily-report")
	report := mail(4)
	assert.Contains(t, report.Subject, "coldchain/daily-report: run")
	assert.Contains(t, report.Text, "## Who did what")
	seen := map[string]bool{}
	for _, l := range box.Letters() {
		assert.False(t, seen[l.ID], "%s came twice", l.Subject)
		seen[l.ID] = true
		assert.False(t, strings.Contains(l.ID, "localhost.localdomain"))
	}
}
