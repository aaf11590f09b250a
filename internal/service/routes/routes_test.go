package routes_test

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
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/queues"
)

func TestMain(m *testing.M) { testdb.Main(m) }

const (
	waitTime = 20 * time.Second
	tick     = 10 * time.Millisecond
)

func at(t *testing.T, text string) address.Address {
	t.Helper()
	a, err := address.Parse(text)
	require.NoError(t, err)
	return a
}

func from(t *testing.T, text string) address.Position {
	t.Helper()
	pos, err := address.ParsePosition(text)
	require.NoError(t, err)
	return pos
}

// route makes one.
func route(t *testing.T, n *nodetest.Node, address, begins string, settings setting.Change) *catalog.Group {
	t.Helper()
	g, err := n.Routes.New(accesstest.Owner(t), "owner", at(t, address), from(t, begins), settings)
	require.NoError(t, err)
	return g
}

// messages are those that a channel has, by partition and in their order.
func messages(t *testing.T, n *nodetest.Node, ch *part.Channel) (all []*message.Stored) {
	t.Helper()
	for _, p := range n.Parts.ByID(ch.ID).Partitions() {
		l, err := logs.Open(accesstest.Owner(t), n.Parts, p, true)
		require.NoError(t, err)
		r := l.Reader(l.First())
		for r.Offset() < l.End() {
			chunk, err := r.Read(make([]byte, 1<<20))
			require.NoError(t, err)
			if len(chunk) == 0 {
				break
			}
			_, err = logs.EachMessage(accesstest.Owner(t), chunk, p.Number, 0, n.Parts.RoomToDecode, func(m *message.Stored) (bool, error) {
				all = append(all, logs.Keep(m))
				return true, nil
			})
			require.NoError(t, err)
		}
	}
	return all
}

func bodies(all []*message.Stored) (out []string) {
	for _, m := range all {
		out = append(out, string(m.Body))
	}
	return out
}

// arrive waits until a channel has the bodies, in any order of partitions.
func arrive(t *testing.T, n *nodetest.Node, ch *part.Channel, want ...string) []*message.Stored {
	t.Helper()
	slices.Sort(want)
	var all []*message.Stored
	require.Eventually(t, func() bool {
		all = messages(t, n, ch)
		return len(all) >= len(want)
	}, waitTime, tick, "%v", want)
	got := bodies(all)
	slices.Sort(got)
	require.Equal(t, want, got)
	return all
}

func celsius(values ...float64) (out []string) {
	for _, v := range values {
		out = append(out, fmt.Sprintf(`{"celsius":%g}`, v))
	}
	return out
}

func TestARouteSendsWhatFulfilsItsCondition(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	readings := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 3})
	inspections := n.Channel(setting.Queue, "coldchain/inspections", setting.Change{"partitionCount": 2})
	n.Publish(readings, 0, celsius(3, 9)...)
	route(t, n, "coldchain/readings@warm", "first", setting.Change{"to": "coldchain/inspections", "where": "body.celsius > 8.0", "edits": []string{`set header.source="warm-boxes"`}})
	n.Publish(readings, 1, celsius(4, 10, 8)...)
	n.Publish(readings, 2, celsius(11)...)
	all := arrive(t, n, inspections, celsius(9, 10, 11)...)
	byBody := map[string]*message.Stored{}
	for _, m := range all {
		byBody[string(m.Body)] = m
	}
	of := func(body, name string) string {
		value, _ := byBody[body].Header(name)
		return value
	}
	assert.Equal(t, "warm-boxes", of(`{"celsius":9}`, "source"))
	assert.Equal(t, "coldchain/readings@warm", of(`{"celsius":9}`, message.HeaderRoute))
	assert.Equal(t, "coldchain/readings#1:1", of(`{"celsius":10}`, message.HeaderRouteFrom))
	assert.Equal(t, "1", of(`{"celsius":10}`, message.HeaderHops))

	// It is a group in all that groups can do but join.
	a := at(t, "coldchain/readings@warm")
	_, g, err := n.Parts.Group(a)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		l, err := n.Groups.LagOf(accesstest.Owner(t), n.Parts.ByID(readings.ID), g)
		return err == nil && l.Verdict.Messages == 0
	}, waitTime, tick, "its lag is told")
	_, err = n.Groups.Join(accesstest.Owner(t), "owner", a, nil, 0, "somebody")
	assert.ErrorContains(t, err, "is a route, which the service reads for")

	// After a restart nothing comes twice.
	n.Reopen()
	n.Publish(n.Parts.ByID(readings.ID), 0, celsius(12)...)
	arrive(t, n, inspections, celsius(9, 10, 11, 12)...)
}

func TestOtherSettingsHoldFromThenOn(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	readings := n.Channel(setting.Topic, "coldchain/readings", nil)
	warm := n.Channel(setting.Topic, "coldchain/warm", nil)
	route(t, n, "coldchain/readings@warm", "end", setting.Change{"to": "coldchain/warm", "where": "body.celsius > 8.0"})
	n.Publish(readings, 0, celsius(7, 9)...)
	arrive(t, n, warm, celsius(9)...)
	a := at(t, "coldchain/readings@warm")
	p, err := n.Groups.Set(accesstest.Owner(t), "owner", a, setting.Change{"where": "body.celsius > 6.0"}, false)
	require.NoError(t, err)
	assert.Equal(t, []string{"it holds for messages that come from now on; what waits is decided by the condition it came under"}, p.Effects)
	cuts := func() int {
		_, g, err := n.Parts.Group(a)
		require.NoError(t, err)
		plan, _, _ := readings.Partitions()[0].Plan(g.Route.ID)
		return len(plan.Cuts)
	}
	require.Eventually(t, func() bool { return cuts() == 2 }, waitTime, tick)
	n.Publish(readings, 0, celsius(7, 5, 10)...)
	arrive(t, n, warm, celsius(9, 7, 10)...)

	// A paused route sends nothing, and goes on where it was.
	_, err = n.Groups.Set(accesstest.Owner(t), "owner", a, setting.Change{"paused": true}, false)
	require.NoError(t, err)
	require.Eventually(t, func() bool { _, g, _ := n.Parts.Group(a); return g.Paused }, waitTime, tick)
	time.Sleep(100 * time.Millisecond)
	n.Publish(readings, 0, celsius(20)...)
	require.Eventually(t, func() bool {
		_, g, _ := n.Parts.Group(a)
		return n.Routes.States(accesstest.Owner(t), readings.ID, g.Route.ID)[0].Waits.Reason == "paused"
	}, waitTime, tick)
	assert.Len(t, messages(t, n, warm), 3)
	_, err = n.Groups.Set(accesstest.Owner(t), "owner", a, setting.Change{"paused": false}, false)
	require.NoError(t, err)
	arrive(t, n, warm, celsius(9, 7, 10, 20)...)

	// More partitions of the target are another cut.
	grown, err := n.Manage.SetChannel(accesstest.Owner(t), "owner", at(t, "coldchain/warm"), setting.Change{"partitionCount": 4}, nil, false)
	require.NoError(t, err)
	require.NotEmpty(t, grown.After)
	require.Eventually(t, func() bool { return cuts() == 3 }, waitTime, tick)
	for i := range 20 {
		n.PublishKey(readings, fmt.Sprint("box-", i), celsius(30)[0])
	}
	require.Eventually(t, func() bool { return len(messages(t, n, warm)) == 24 }, waitTime, tick)
	for _, m := range messages(t, n, warm) {
		if m.Key != "" {
			assert.Equal(t, message.PartitionOf(m.Key, 4), m.Partition)
		}
	}
}

func TestASeekSendsAgainOrLeavesOut(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	readings := n.Channel(setting.Topic, "coldchain/readings", nil)
	warm := n.Channel(setting.Topic, "coldchain/warm", nil)
	n.Publish(readings, 0, "a", "b", "c", "d")
	route(t, n, "coldchain/readings@copy", "offset:2", setting.Change{"to": "coldchain/warm"})
	arrive(t, n, warm, "c", "d")
	seek := func(ask groups.SeekAsk) *groups.Sought {
		ask.Partition, ask.Who, ask.Last = part.AnyPartition, "owner", -1
		out, err := n.Groups.Seek(accesstest.Owner(t), at(t, "coldchain/readings@copy"), &ask)
		require.NoError(t, err)
		return out
	}
	settled(t, n, readings, "copy", 0)
	said := seek(groups.SeekAsk{To: "offset:1"})
	require.Len(t, said.Steps, 1)
	assert.EqualValues(t, 3, said.Steps[0].Again)
	assert.Equal(t, "what is sent of those that are read again is sent to coldchain/warm again", said.Steps[0].Note)
	assert.Len(t, messages(t, n, warm), 2, "it was only a preview")
	seek(groups.SeekAsk{To: "offset:1", Apply: true})
	arrive(t, n, warm, "b", "c", "c", "d", "d")

	_, err := n.Groups.Set(accesstest.Owner(t), "owner", at(t, "coldchain/readings@copy"), setting.Change{"paused": true}, false)
	require.NoError(t, err)
	settled(t, n, readings, "copy", 0)
	n.Publish(readings, 0, "e", "f")
	settled(t, n, readings, "copy", 2)
	seek(groups.SeekAsk{To: "offset:5", Apply: true})
	_, err = n.Groups.Set(accesstest.Owner(t), "owner", at(t, "coldchain/readings@copy"), setting.Change{"paused": false}, false)
	require.NoError(t, err)
	arrive(t, n, warm, "b", "c", "c", "d", "d", "f")

	settled(t, n, readings, "copy", 0)
	back := seek(groups.SeekAsk{Undo: true})
	assert.Equal(t, "before offset:5", back.Target)
	assert.EqualValues(t, 4, back.Steps[0].To)
}

// settled waits until so many messages are left to a route.
func settled(t *testing.T, n *nodetest.Node, source *part.Channel, name string, left int64) {
	t.Helper()
	_, g, err := n.Parts.Group(part.GroupAddress(source, name))
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		plan, end, _ := source.Partitions()[0].Plan(g.Route.ID)
		return plan != nil && plan.Left(end) == left
	}, waitTime, tick)
}

func TestWhatCannotBeSentIsADeadLetterOfTheRoute(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	readings := n.Channel(setting.Topic, "coldchain/readings", nil)
	warm := n.Channel(setting.Topic, "coldchain/warm", setting.Change{"maxBody": int64(1 << 10)})
	route(t, n, "coldchain/readings@warm", "first", setting.Change{"to": "coldchain/warm", "edits": []string{"compute /fahrenheit=body.celsius * 1.8 + 32.0"}})
	large := `{"celsius":1,"note":"` + strings.Repeat("x", 2000) + `"}`
	n.Publish(readings, 0, `{"celsius":10}`, `{"box":"box-1"}`, large, `{"celsius":20}`)
	require.Eventually(t, func() bool { return len(messages(t, n, warm)) == 2 }, waitTime, tick)
	a := at(t, "coldchain/readings@warm/dead")
	var q *part.Channel
	require.Eventually(t, func() bool {
		var err error
		q, err = n.Queues.At(a)
		return err == nil && len(messages(t, n, q)) == 2
	}, waitTime, tick)
	var reasons []string
	for _, m := range messages(t, n, q) {
		reasons = append(reasons, m.Terms.Reason)
		assert.Equal(t, "route", m.Terms.By)
	}
	assert.Equal(t, []string{"edit-failed", "target-refuses"}, reasons)
	settled(t, n, readings, "warm", 0)
	n.Reopen()
	n.Publish(n.Parts.ByID(readings.ID), 0, `{"celsius":30}`)
	require.Eventually(t, func() bool { return len(messages(t, n, warm)) == 3 }, waitTime, tick)
	assert.Len(t, messages(t, n, q), 2, "each once")

	// What is mended and returned is sent by the route.
	q, err := n.Queues.At(a)
	require.NoError(t, err)
	edits, err := edit.Parse("set /celsius=25")
	require.NoError(t, err)
	_, err = n.Queues.Act(accesstest.Owner(t), q, queues.Selection{States: []queue.State{queue.Dead}, Where: "!has(body.celsius)"}, queues.Action{Op: queue.OpEdit, Who: "lana", Edits: []edit.Edit{edits}, Return: true}, false)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(messages(t, n, warm)) == 4 }, waitTime, tick)
	mended := messages(t, n, warm)[3]
	assert.JSONEq(t, `{"box":"box-1","celsius":25,"fahrenheit":77}`, string(mended.Body))
	require.Eventually(t, func() bool { return counts(n, q) == queue.Counts{Dead: 1, Accepted: 1, Rejected: 2} }, waitTime, tick, "%+v", counts(n, q))
	// One that is returned as it is fails again.
	_, err = n.Queues.Act(accesstest.Owner(t), q, queues.Selection{States: []queue.State{queue.Dead}}, queues.Action{Op: queue.OpReturn, Who: "lana"}, false)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return counts(n, q) == queue.Counts{Dead: 1, Accepted: 2, Rejected: 3} }, waitTime, tick, "%+v", counts(n, q))
	assert.Len(t, messages(t, n, warm), 4)
}

func TestRoutesDoNotGoInACircle(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	for _, name := range []string{"a", "b", "c"} {
		n.Channel(setting.Topic, "coldchain/"+name, nil)
	}
	route(t, n, "coldchain/a@on", "end", setting.Change{"to": "coldchain/b"})
	route(t, n, "coldchain/b@on", "end", setting.Change{"to": "coldchain/c"})
	for address, says := range map[string]string{
		"coldchain/c@back": "coldchain/c -> coldchain/a -> coldchain/b -> coldchain/c",
		"coldchain/a@self": "coldchain/a -> coldchain/a",
	} {
		_, err := n.Routes.New(accesstest.Owner(t), "owner", at(t, address), from(t, "end"), setting.Change{"to": "coldchain/a"})
		assert.ErrorContains(t, err, "in a circle: "+says)
	}
	_, err := n.Routes.New(accesstest.Owner(t), "owner", at(t, "coldchain/a@on"), from(t, "end"), setting.Change{"to": "coldchain/c"})
	assert.ErrorContains(t, err, "exists already")
	_, err = n.Routes.New(accesstest.Owner(t), "owner", at(t, "coldchain/a@none"), from(t, "end"), nil)
	assert.ErrorContains(t, err, "leads nowhere")
	// What came through too many routes is set aside.
	a := n.Parts.ByID(idOf(t, n, "coldchain/a"))
	_, err = n.Parts.PublishMessages(accesstest.Owner(t), a, 0, []*message.Message{{Body: []byte("x"), Headers: []message.Header{{Name: message.HeaderHops, Value: "15"}}}})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		q, err := n.Queues.At(at(t, "coldchain/b@on/dead"))
		return err == nil && len(messages(t, n, q)) == 1 && messages(t, n, q)[0].Terms.Reason == "too-many-hops"
	}, waitTime, tick)
}

func idOf(t *testing.T, n *nodetest.Node, name string) int64 {
	t.Helper()
	ch, err := n.Parts.Channel(at(t, name))
	require.NoError(t, err)
	return ch.ID
}

func TestARemovedRouteHasEndedEverywhere(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	readings := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 2})
	warm := n.Channel(setting.Topic, "coldchain/warm", nil)
	g := route(t, n, "coldchain/readings@warm", "first", setting.Change{"to": "coldchain/warm"})
	n.Publish(readings, 0, "a")
	arrive(t, n, warm, "a")
	said, err := n.Groups.Remove(accesstest.Owner(t), "owner", at(t, "coldchain/readings@warm"), true)
	require.NoError(t, err)
	assert.Contains(t, said.Effects, "nothing is sent to coldchain/warm any more; what was sent stays there")
	_, err = n.Groups.Remove(accesstest.Owner(t), "owner", at(t, "coldchain/readings@warm"), false)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		ended, err := n.Catalog.EndedRoutes(accesstest.Owner(t))
		return err == nil && len(ended) == 0
	}, waitTime, tick)
	for _, p := range readings.Partitions() {
		_, _, gone := p.Plan(g.Route.ID)
		assert.True(t, gone)
	}
	n.Publish(readings, 0, "b")
	route(t, n, "coldchain/readings@warm", "end", setting.Change{"to": "coldchain/warm"})
	require.Eventually(t, func() bool {
		n.Publish(readings, 1, "c")
		return slices.Contains(bodies(messages(t, n, warm)), "c")
	}, waitTime, 100*time.Millisecond)
	assert.NotContains(t, bodies(messages(t, n, warm)), "b")
}

func TestAChainIsAllThatComesAndGoes(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	for _, name := range []string{"a", "b", "c", "d", "x", "y"} {
		n.Channel(setting.Topic, "coldchain/"+name, nil)
	}
	for _, r := range [][2]string{{"a@1", "b"}, {"b@2", "c"}, {"b@3", "d"}, {"x@4", "b"}, {"x@5", "y"}} {
		route(t, n, "coldchain/"+r[0], "end", setting.Change{"to": "coldchain/" + r[1]})
	}
	for channel, want := range map[string]string{"a": "1 2 3", "b": "1 2 3 4", "c": "1 2 4", "y": "5", "x": "2 3 4 5"} {
		var names []string
		for _, g := range n.Routes.Chain(idOf(t, n, "coldchain/"+channel)) {
			names = append(names, g.Name)
		}
		assert.Equal(t, want, strings.Join(names, " "), channel)
	}
	_, err := n.Manage.RemoveChannel(accesstest.Owner(t), "owner", at(t, "coldchain/b"), false)
	assert.ErrorContains(t, err, "2 routes lead to coldchain/b: coldchain/a@1, coldchain/x@4; remove what leads there first")
}
