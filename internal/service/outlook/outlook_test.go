package outlook_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/outlook"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// incident puts one into the records that began and ended so long ago; it goes on when it
// ends in the future.
func incident(n *nodetest.Node, at, source, level, begun, ended string) {
	end := "now() - interval '" + ended + "'"
	if ended == "" {
		end = "NULL"
	}
	n.Exec(fmt.Sprintf(`INSERT INTO incidents (id, watch, kind, thing_id, address, source, facts, level, worst, begun_at, rang_at, ended_at, peak, peak_at, last)
		VALUES (gen_random_uuid(), 'coldchain/dead-letters', 'channel', 1, '%s', '%s', '{"value":"dead"}', '%s', '%s', now() - interval '%s', now() - interval '%s', %s, 41, now(), 41)`, at, source, level, level, begun, begun, end))
}

func now(t *testing.T, n *nodetest.Node, space string) *outlook.Seen {
	t.Helper()
	seen, err := n.Outlook.Now(accesstest.Owner(t), space)
	require.NoError(t, err)
	return seen
}

func TestWhatIsWrongComesBySourceTheWorstFirst(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	quiet := now(t, n, "")
	assert.Empty(t, quiet.Wrong)
	assert.Nil(t, quiet.WellSince, "there was no incident yet")
	incident(n, "coldchain/recalls", "coldchain/recalls", "alarm", "3 hours", "2 hours")
	well := now(t, n, "coldchain")
	require.NotNil(t, well.WellSince)
	assert.WithinDuration(t, time.Now().Add(-2*time.Hour), *well.WellSince, time.Minute)

	incident(n, "coldchain/orders", "coldchain/orders", "warn", "1 hour", "")
	incident(n, "coldchain/readings@forecast", "nodes/node-b", "warn", "50 minutes", "")
	incident(n, "coldchain/readings@compliance", "nodes/node-b", "alarm", "40 minutes", "")
	bad := now(t, n, "coldchain")
	assert.Nil(t, bad.WellSince)
	require.Len(t, bad.Wrong, 2)
	assert.Equal(t, "nodes/node-b", bad.Wrong[0].Source)
	assert.Equal(t, "coldchain/readings@compliance", bad.Wrong[0].Incidents[0].Address)
	assert.Len(t, bad.Wrong[0].Incidents, 2)
	assert.Empty(t, now(t, n, "depot").Wrong, "of another space")
	changed := fmt.Sprint(bad.Changed)
	assert.Contains(t, changed, "new space")
}

func TestWhatWillGoWrongIsSeenInWhatWasMeasured(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	q := n.Channel(setting.Queue, "coldchain/recalls", nil)
	for i := range 40 {
		n.Publish(q, 0, fmt.Sprintf(`{"n":%d}`, i))
	}
	at := time.Now().Add(-25 * time.Minute).Truncate(10 * time.Second)
	for i := range 145 {
		values := make([]float64, len(sample.Channel.Values))
		values[sample.Channel.Place("waiting")] = float64(i) / 3
		n.Samples.Put(accesstest.Owner(t), at.Add(time.Duration(i)*10*time.Second), map[sample.Thing][]float64{{Kind: sample.Channel.Name, ID: q.ID}: values})
	}
	seen := now(t, n, "coldchain")
	require.Len(t, seen.Foreseen, 1)
	assert.Equal(t, "waiting", seen.Foreseen[0].Kind)
	assert.Contains(t, seen.Foreseen[0].Says, "coldchain/recalls: 48 messages wait, and 2 more each minute")
	assert.Empty(t, now(t, n, "depot").Foreseen)
}

func TestWhatIsBeingDone(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	n.DeadLetters(60)
	nightly := address.Channel("coldchain", "nightly")
	_, err := n.Timetable.New(accesstest.Owner(t), "owner", nightly, setting.Change{"at": "0 3 1 1 *", "do": setting.DoReturn, "of": "coldchain/inspections", "rate": 2.0}, false)
	require.NoError(t, err)
	c, err := n.Timetable.Of(accesstest.Owner(t), nightly)
	require.NoError(t, err)
	r, err := n.Timetable.Start(accesstest.Owner(t), "owner", c)
	require.NoError(t, err)
	seen := now(t, n, "coldchain")
	require.Len(t, seen.Doing, 1, "its replay is a part of it")
	assert.Equal(t, form.Going{Job: r.Run, Kind: "run", Address: "coldchain/nightly", State: "running", Who: "owner", Since: seen.Doing[0].Since, Says: seen.Doing[0].Says}, seen.Doing[0])
	_, err = n.Timetable.Cancel(accesstest.Owner(t), "owner", r.Run)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(now(t, n, "coldchain").Doing) == 0 }, 20*time.Second, 50*time.Millisecond)
}

func TestAReportCountsExactly(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	readings := n.Channel(setting.Topic, "coldchain/readings", nil)
	for i := range 37 {
		n.Publish(readings, 0, fmt.Sprintf(`{"n":%d}`, i))
	}
	n.DeadLetters(5)
	a, err := address.Parse("coldchain/readings@compliance")
	require.NoError(t, err)
	_, err = n.Groups.New(accesstest.Owner(t), "owner", a, address.Position{Kind: address.First}, nil)
	require.NoError(t, err)
	incident(n, "coldchain/inspections", "coldchain/inspections", "alarm", "3 hours", "2 hours")
	incident(n, "coldchain/inspections", "coldchain/inspections", "alarm", "30 hours", "29 hours")
	r, err := n.Outlook.Report(accesstest.Owner(t), "coldchain", 24*time.Hour)
	require.NoError(t, err)
	came := map[string]int64{}
	for _, c := range r.Channels {
		require.NotNil(t, c.Messages, c.Address)
		assert.False(t, c.AtLeast)
		came[c.Address] = *c.Messages
	}
	assert.Equal(t, map[string]int64{"coldchain/readings": 37, "coldchain/inspections": 5}, came)
	assert.Len(t, r.Incidents, 1)
	require.Len(t, r.Causes, 1)
	assert.True(t, r.Causes[0].New)
	assert.EqualValues(t, 5, r.Causes[0].Came)
	require.Len(t, r.Readers, 1)
	assert.EqualValues(t, 37, r.Readers[0].Lag)
	assert.Contains(t, fmt.Sprint(r.Done), "{owner new topic 1 [coldchain/readings]}")
	assert.Equal(t, "42 messages came in; 1 incident, of which 0 go on; 5 dead letters of queues now, 1 new cause; 0 forecasts.", r.Says)
	_, err = n.Outlook.Report(accesstest.Owner(t), "depot", time.Hour)
	assert.ErrorContains(t, err, "depot")
}
