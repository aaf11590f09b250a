package replays_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/look"
	"steadyferry/internal/service/replays"
)

func TestMain(m *testing.M) { testdb.Main(m) }

func begin(t *testing.T, n *nodetest.Node, s replays.Spec, rate float64) *catalog.Job {
	t.Helper()
	r, err := n.Replays.New(accesstest.Owner(t), "owner", s, rate)
	require.NoError(t, err)
	return r
}

// ended waits for the end of a replay.
func ended(t *testing.T, n *nodetest.Node, id int64) *catalog.Job {
	t.Helper()
	var r *catalog.Job
	require.Eventually(t, func() bool {
		var err error
		r, err = n.Replays.Get(accesstest.Owner(t), id)
		return err == nil && r.EndedAt.Valid
	}, 20*time.Second, 20*time.Millisecond)
	return r
}

func kept(t *testing.T, n *nodetest.Node, topic *part.Channel) (bodies []string) {
	t.Helper()
	s := look.Selection{Topic: topic, From: address.Position{Kind: address.First}, To: address.Position{Kind: address.End}, Limit: 1000}
	require.NoError(t, n.Look.Browse(accesstest.Owner(t), s, func(e look.Event) error {
		if e.Message != nil {
			bodies = append(bodies, string(e.Message.Body))
		}
		return nil
	}))
	slices.Sort(bodies)
	return bodies
}

func TestDeadLettersGoBackToTheirQueue(t *testing.T) {
	n := nodetest.Open(t)
	q := n.DeadLetters(5)
	spec := replays.Spec{From: "coldchain/inspections/dead", To: "coldchain/inspections", Where: `int(body.box) != 3`, StopAbove: 1}
	plan, err := n.Replays.Plan(accesstest.Owner(t), &spec)
	require.NoError(t, err)
	assert.EqualValues(t, 4, plan.Messages)
	assert.EqualValues(t, 5, n.Queues.Counts(q).Dead, "a plan does nothing")
	r := ended(t, n, begin(t, n, spec, 1000).ID)
	assert.Equal(t, job.Done, r.State, r.Detail)
	assert.EqualValues(t, 4, r.Done)
	c := n.Queues.Counts(q)
	assert.EqualValues(t, 1, c.Dead, "what was not meant stays")
	assert.EqualValues(t, 4, c.Waiting)
}

// A stretch of a topic goes to another one, edited, each once, also when the
// node is opened anew in between.
func TestAStretchOfATopicIsSentAgainOnce(t *testing.T) {
	n := nodetest.Open(t)
	source := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 2})
	target := n.Channel(setting.Topic, "coldchain/again", nil)
	var wanted []string
	for i := range 60 {
		n.Publish(source, i%2, fmt.Sprintf(`{"n":%d}`, i))
		wanted = append(wanted, fmt.Sprintf(`{"n":%d,"again":true}`, i))
	}
	slices.Sort(wanted)
	parsed, err := edit.Parse("set /again=true")
	require.NoError(t, err)
	r := begin(t, n, replays.Spec{From: "coldchain/readings", To: "coldchain/again", FromPosition: "first", ToPosition: "end", Edits: []edit.Edit{parsed}, StopAbove: 1}, 100)
	require.Eventually(t, func() bool {
		r, err := n.Replays.Get(accesstest.Owner(t), r.ID)
		return err == nil && r.Done > 5
	}, 10*time.Second, 5*time.Millisecond)
	n.Reopen()
	r = ended(t, n, r.ID)
	assert.Equal(t, job.Done, r.State, r.Detail)
	target, err = n.Parts.Channel(target.Address())
	require.NoError(t, err)
	assert.Equal(t, wanted, kept(t, n, target))
	story, err := n.Traces.Of(accesstest.Owner(t), target, 0, 0)
	require.NoError(t, err)
	require.NotEmpty(t, story.Copies)
	assert.Contains(t, story.Copies[0], "coldchain/readings#")
	source, err = n.Parts.Channel(source.Address())
	require.NoError(t, err)
	story, err = n.Traces.Of(accesstest.Owner(t), source, 0, 0)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(story.Copies, " "), "coldchain/again#0:")
}

func TestAReplayIsPacedPausedAndCancelled(t *testing.T) {
	n := nodetest.Open(t)
	source := n.Channel(setting.Topic, "coldchain/readings", nil)
	n.Channel(setting.Topic, "coldchain/again", nil)
	for i := range 100 {
		n.Publish(source, 0, fmt.Sprint(i))
	}
	r := begin(t, n, replays.Spec{From: "coldchain/readings", To: "coldchain/again", FromPosition: "first", ToPosition: "end", StopAbove: 1}, 10)
	time.Sleep(1500 * time.Millisecond)
	r, err := n.Replays.Set(accesstest.Owner(t), "owner", r.ID, job.Paused, nil)
	require.NoError(t, err)
	time.Sleep(200 * time.Millisecond) // a step may be under way
	r, err = n.Replays.Get(accesstest.Owner(t), r.ID)
	require.NoError(t, err)
	sent := r.Done
	assert.Less(t, sent, int64(40), "ten a second")
	time.Sleep(500 * time.Millisecond)
	r, err = n.Replays.Get(accesstest.Owner(t), r.ID)
	require.NoError(t, err)
	assert.Equal(t, sent, r.Done)
	fast := 500.0
	_, err = n.Replays.Set(accesstest.Owner(t), "owner", r.ID, job.Running, &fast)
	require.NoError(t, err)
	assert.Equal(t, job.Done, ended(t, n, r.ID).State)
	_, err = n.Replays.Set(accesstest.Owner(t), "owner", r.ID, job.Cancelled, nil)
	assert.ErrorContains(t, err, "has ended: it is done")
	slow := begin(t, n, replays.Spec{From: "coldchain/readings", To: "coldchain/again", FromPosition: "first", ToPosition: "end", StopAbove: 1}, 1)
	_, err = n.Replays.Set(accesstest.Owner(t), "owner", slow.ID, job.Cancelled, nil)
	require.NoError(t, err)
	assert.Equal(t, job.Cancelled, ended(t, n, slow.ID).State)
}

func TestBadReplaysAreRefused(t *testing.T) {
	n := nodetest.Open(t)
	n.DeadLetters(1)
	n.Channel(setting.Topic, "coldchain/readings", nil)
	good := replays.Spec{From: "coldchain/inspections/dead", To: "coldchain/inspections"}
	for wanted, c := range map[string]struct {
		change func(s *replays.Spec)
		rate   float64
	}{
		"more than 0 to 50,000": {func(*replays.Spec) {}, 50_001},
		"a rate of 0/s":         {func(*replays.Spec) {}, 0},
		"0 to 1":                {func(s *replays.Spec) { s.StopAbove = 2 }, 1},
		"nothing in":            {func(s *replays.Spec) { s.Where = "body.box == 'nobody'" }, 1},
		"condition":             {func(s *replays.Spec) { s.Where = "body." }, 1},
		"there is no channel":   {func(s *replays.Spec) { s.To = "coldchain/nowhere" }, 1},
		"edit 1":                {func(s *replays.Spec) { s.Edits = []edit.Edit{{Op: "shout", At: "/x"}} }, 1},
	} {
		s := good
		c.change(&s)
		_, err := n.Replays.New(accesstest.Owner(t), "owner", s, c.rate)
		assert.ErrorContains(t, err, wanted)
	}
	_, err := n.Replays.Get(accesstest.Owner(t), 99)
	var p *problem.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, problem.NotFound, p.Kind)
	assert.Equal(t, "ferry replay list lists them", p.Then)
}
