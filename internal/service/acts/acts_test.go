package acts_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
)

func TestMain(m *testing.M) { testdb.Main(m) }

var nightly = address.Channel("coldchain", "nightly")

// chore makes a chore that never runs by itself within the test.
func chore(t *testing.T, n *nodetest.Node, settings setting.Change) *form.Chore {
	t.Helper()
	settings["at"] = "0 3 1 1 *"
	_, err := n.Timetable.New(accesstest.Owner(t), "owner", nightly, settings, false)
	require.NoError(t, err)
	c, err := n.Timetable.Of(accesstest.Owner(t), nightly)
	require.NoError(t, err)
	shown, err := n.Timetable.Show(accesstest.Owner(t), c)
	require.NoError(t, err)
	return shown
}

// run starts the chore by hand, and waits for its end.
func run(t *testing.T, n *nodetest.Node) *form.Run {
	t.Helper()
	c, err := n.Timetable.Of(accesstest.Owner(t), nightly)
	require.NoError(t, err)
	r, err := n.Timetable.Start(accesstest.Owner(t), "owner", c)
	require.NoError(t, err)
	return ended(t, n, r.Run)
}

func ended(t *testing.T, n *nodetest.Node, number int64) *form.Run {
	t.Helper()
	var r *form.Run
	require.Eventually(t, func() bool {
		var err error
		r, err = n.Timetable.RunOf(accesstest.Owner(t), number)
		return err == nil && job.State(r.State).Ended()
	}, 30*time.Second, 20*time.Millisecond)
	return r
}

func TestAReturnIsOneReplay(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	q := n.DeadLetters(20)
	shown := chore(t, n, setting.Change{"do": setting.DoReturn, "of": "coldchain/inspections", "rate": 100.0, "limit": 15})
	assert.EqualValues(t, 15, *shown.Messages)
	assert.Contains(t, shown.Effects[0], "it would send 15 messages of coldchain/inspections/dead to coldchain/inspections, 100/s")
	r := run(t, n)
	assert.Equal(t, string(job.Done), r.State, r.Says)
	assert.EqualValues(t, 15, r.Messages)
	assert.EqualValues(t, 5, n.Queues.Counts(q).Dead)
	all, err := n.Replays.List(accesstest.Owner(t), 10)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "chore coldchain/nightly", all[0].Who)
	assert.Equal(t, r.Job, all[0].ID)
	run(t, n)
	assert.Contains(t, run(t, n).Says, "nothing of coldchain/inspections matched")
}

// What was returned and fails again stops the run.
func TestAReturnStopsWhenItFailsAgain(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	q := n.DeadLetters(60)
	chore(t, n, setting.Change{"do": setting.DoReturn, "of": "coldchain/inspections/dead", "rate": 40.0})
	c, err := n.Timetable.Of(accesstest.Owner(t), nightly)
	require.NoError(t, err)
	r, err := n.Timetable.Start(accesstest.Owner(t), "owner", c)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return n.Queues.Counts(q).Waiting >= 20 }, 20*time.Second, 20*time.Millisecond)
	n.Reject(q, 20)
	failed := ended(t, n, r.Run)
	assert.Equal(t, string(job.Failed), failed.State)
	assert.Contains(t, failed.Says, "halted after")
	assert.Less(t, failed.Messages, int64(60))
	assert.Positive(t, failed.Failed)
}

func TestACancelledRunEndsItsReplay(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	n.DeadLetters(60)
	chore(t, n, setting.Change{"do": setting.DoReturn, "of": "coldchain/inspections", "rate": 5.0})
	c, err := n.Timetable.Of(accesstest.Owner(t), nightly)
	require.NoError(t, err)
	r, err := n.Timetable.Start(accesstest.Owner(t), "owner", c)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		now, err := n.Timetable.RunOf(accesstest.Owner(t), r.Run)
		return err == nil && now.Messages > 0
	}, 20*time.Second, 20*time.Millisecond)
	_, err = n.Timetable.Cancel(accesstest.Owner(t), "owner", r.Run)
	require.NoError(t, err)
	assert.Equal(t, string(job.Cancelled), ended(t, n, r.Run).State)
	all, err := n.Replays.List(accesstest.Owner(t), 10)
	require.NoError(t, err)
	assert.Equal(t, job.Cancelled, all[0].State)
	assert.Less(t, all[0].Done, int64(60))
}

func TestDeadLettersAreDiscardedWithAReason(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	q := n.DeadLetters(8)
	shown := chore(t, n, setting.Change{"do": setting.DoDiscard, "of": "coldchain/inspections", "why": "boxes of the drill", "where": `body.box > "3"`})
	assert.True(t, shown.Careful)
	assert.EqualValues(t, 4, *shown.Messages)
	r := run(t, n)
	assert.Equal(t, "discarded 4 messages of coldchain/inspections/dead: boxes of the drill", r.Says)
	assert.EqualValues(t, 4, n.Queues.Counts(q).Dead)
	entries, err := logbook.Entries(accesstest.Owner(t), n.Catalog, logbook.Asked{Limit: 10})
	require.NoError(t, err)
	assert.Equal(t, "chore coldchain/nightly", entries[0].Who)
	assert.Equal(t, "discard messages", entries[0].Action)
}

func TestAStretchIsReplayedFromAPosition(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	from := n.Channel(setting.Topic, "coldchain/readings", nil)
	n.Channel(setting.Topic, "coldchain/again", nil)
	n.Publish(from, 0, `{"n":1}`, `{"n":2}`, `{"n":3}`)
	chore(t, n, setting.Change{"do": setting.DoReplay, "of": "coldchain/readings", "to": "coldchain/again", "position": "offset:1"})
	assert.EqualValues(t, 2, run(t, n).Messages)
}

func TestAGroupIsBroughtToAPosition(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	n.Publish(topic, 0, `{"n":1}`, `{"n":2}`, `{"n":3}`)
	a, err := address.Parse("coldchain/readings@compliance")
	require.NoError(t, err)
	_, err = n.Groups.New(accesstest.Owner(t), "owner", a, address.Position{Kind: address.First}, nil)
	require.NoError(t, err)
	shown := chore(t, n, setting.Change{"do": setting.DoSeek, "of": "coldchain/readings@compliance", "position": "end", "why": "old readings"})
	assert.Contains(t, shown.Effects[0], "would read 0 messages again, and pass over 3 messages")
	assert.Equal(t, string(job.Done), run(t, n).State)
	offsets, err := n.Groups.OffsetsOf(accesstest.Owner(t), topic, "compliance")
	require.NoError(t, err)
	assert.EqualValues(t, 3, offsets[0])
}

func TestReplicasAreCompared(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	n.Publish(n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 3}), 0, `{"n":1}`)
	n.DeadLetters(1)
	chore(t, n, setting.Change{"do": setting.DoVerify, "of": "coldchain/*"})
	r := run(t, n)
	assert.Contains(t, r.Says, "4 partitions hold the same")
	n.Timetable.Remove(accesstest.Owner(t), "owner", nightly, false)
	chore(t, n, setting.Change{"do": setting.DoVerify, "of": "coldchain/none"})
	assert.Contains(t, run(t, n).Says, "no channel is coldchain/none")
}

// An export is whole, as send takes it, and the newest files stay.
func TestFilesAreWrittenAndTheNewestStay(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	body := strings.Repeat("x", 3<<20) // longer than what browsing shows
	n.Publish(topic, 0, `{"n":1}`, body)
	chore(t, n, setting.Change{"do": setting.DoExport, "of": "coldchain/readings", "keep": 2})
	for range 3 {
		r := run(t, n)
		require.Equal(t, string(job.Done), r.State, r.Says)
		assert.Contains(t, r.Says, "wrote 2 messages of coldchain/readings to chores/coldchain-nightly/")
	}
	dir := filepath.Join(n.Dir(), "chores", "coldchain-nightly")
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, files, 2)
	b, err := os.ReadFile(filepath.Join(dir, files[1].Name()))
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	require.Len(t, lines, 2)
	var last form.Message
	require.NoError(t, json.Unmarshal([]byte(lines[1]), &last))
	assert.Greater(t, len(lines[1]), len(body))
	n.Timetable.Remove(accesstest.Owner(t), "owner", nightly, false)
	chore(t, n, setting.Change{"do": setting.DoDeclare, "of": "coldchain"})
	require.Equal(t, string(job.Done), run(t, n).State)
	files, err = os.ReadDir(dir)
	require.NoError(t, err)
	b, err = os.ReadFile(filepath.Join(dir, files[len(files)-1].Name()))
	require.NoError(t, err)
	assert.Contains(t, string(b), "space: coldchain")
	assert.Contains(t, string(b), "readings:")
}

func TestActsThatCannotBeAreRefused(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	for says, settings := range map[string]setting.Change{
		"is not the id of a cause":            {"do": setting.DoReturn, "of": "coldchain/inspections", "cause": "what"},
		"the address of a space":              {"do": setting.DoReturn, "of": "coldchain"},
		"of is coldchain/readings, the addre": {"do": setting.DoSeek, "of": "coldchain/readings", "position": "end"},
		"needs to":                            {"do": setting.DoReplay, "of": "coldchain/readings"},
	} {
		settings["at"] = "0 3 * * *"
		_, err := n.Timetable.New(accesstest.Owner(t), "owner", nightly, settings, false)
		assert.ErrorContains(t, err, says, fmt.Sprint(settings))
	}
}

// A report goes to those whom the chore tells, and only there.
func TestAReportIsSent(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	received := make(chan form.Notice, 4)
	place := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var told form.Notice
		if err := json.NewDecoder(r.Body).Decode(&told); err == nil {
			received <- told
		}
	}))
	t.Cleanup(place.Close)
	_, err := n.Timetable.New(accesstest.Owner(t), "owner", nightly, setting.Change{"at": "0 3 * * *", "do": setting.DoReport, "of": "coldchain"}, false)
	assert.ErrorContains(t, err, "needs tell")
	_, err = n.Endpoints.New(accesstest.Owner(t), "owner", address.Channel("coldchain", "desk"), setting.Change{"url": place.URL, "handshake": false}, nil)
	require.NoError(t, err)
	shown := chore(t, n, setting.Change{"do": setting.DoReport, "of": "coldchain", "tell": []string{"coldchain/desk"}})
	assert.Equal(t, []string{"it would send the report of the last day of coldchain to coldchain/desk"}, shown.Effects)
	r := run(t, n)
	require.Equal(t, string(job.Done), r.State, r.Says)
	select {
	case told := <-received:
		require.NotNil(t, told.Text)
		assert.Contains(t, told.Text.Markdown, "# coldchain")
		assert.Contains(t, told.Text.Link, "/api/v1/reports/coldchain?format=html")
		assert.Contains(t, told.Says, "coldchain/nightly: run")
	case <-time.After(20 * time.Second):
		t.Fatal("nobody was told")
	}
}
