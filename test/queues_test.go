package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/test/harness"
)

func newQueue(t *testing.T, n *harness.Node, name string, flags ...string) address.Address {
	t.Helper()
	a := channel(name)
	n.Ferry("", "new", "space", a.Space)
	n.Must(append([]string{"new", "queue", name}, flags...)...)
	return a
}

func sendBodies(t *testing.T, n *harness.Node, a address.Address, bodies ...string) {
	t.Helper()
	_, errOut, code := n.Ferry(strings.Join(bodies, "\n"), "send", a.String(), "-lines")
	require.Zero(t, code, errOut)
}

func countsOf(t *testing.T, n *harness.Node, a address.Address) client.Counts {
	t.Helper()
	var c client.Counts
	require.NoError(t, json.Unmarshal([]byte(n.Must("show", a.String(), "-json")), &c))
	return c
}

// statesOf is the counts without what was done so far.
func statesOf(t *testing.T, n *harness.Node, a address.Address) client.Counts {
	t.Helper()
	c := countsOf(t, n, a)
	c.Accepted, c.Attempts, c.Rejected = 0, 0, 0
	return c
}

func lease(t *testing.T, n *harness.Node, a address.Address, most int) []client.Leased {
	t.Helper()
	w, err := n.API.Work(context.Background(), a, client.WorkRequest{Member: "test", Max: most, Wait: "3s"})
	require.NoError(t, err)
	return w.Leased
}

// rejectAll makes dead letters of all that waits, for two reasons.
func rejectAll(t *testing.T, n *harness.Node, a address.Address) {
	t.Helper()
	for _, l := range lease(t, n, a, 1000) {
		reason := []string{"bad-celsius", "no-box"}[l.Lease.Offset%2]
		w, err := n.API.Work(context.Background(), a, client.WorkRequest{Settle: []client.Settlement{{Lease: l.Lease, Outcome: client.OutcomeReject, Reason: reason, Detail: fmt.Sprintf("/celsius: got \"%d F\"", l.Lease.Offset)}}})
		require.NoError(t, err)
		require.Equal(t, client.ResultDone, w.Settled[0].Result)
	}
}

func TestAQueueFromTheCommandLine(t *testing.T) {
	n := harness.Start(t)
	a := newQueue(t, n, "coldchain/inspections", "-lease", "1s", "-attempt-limit", "2", "-backoff", "100ms..1s")
	sendBodies(t, n, a, `{"box":"a"}`, `{"box":"b"}`, `{"box":"c"}`, `{"box":"d"}`)
	var handed []client.Delivery
	for line := range strings.Lines(n.Must("lease", a.String(), "-max", "4", "-json")) {
		var d client.Delivery
		require.NoError(t, json.Unmarshal([]byte(line), &d))
		require.Equal(t, 1, d.Attempt)
		require.NotNil(t, d.Deadline)
		handed = append(handed, d)
	}
	require.Len(t, handed, 4)
	n.Must("settle", a.String(), "-accept", handed[0].Lease.String(), "-reject", handed[1].Lease.String(), "-reason", "no-box", "-detail", "who knows")
	n.Must("settle", a.String(), "-release", handed[2].Lease.String(), "-after", "30s")
	assert.Equal(t, client.Counts{Leased: 1, Delayed: 1, Dead: 1}, statesOf(t, n, a))

	// A lease that ran out is refused by name, and the message comes again.
	require.Eventually(t, func() bool { return statesOf(t, n, a).Waiting == 1 }, 20*time.Second, 20*time.Millisecond)
	_, errOut, code := n.Ferry("", "settle", a.String(), "-accept", handed[3].Lease.String())
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, handed[3].Lease.String()+" ran out or was settled before; nothing is changed")
	again := lease(t, n, a, 4)
	require.Len(t, again, 1)
	assert.Equal(t, 2, again[0].Attempt)
	require.Eventually(t, func() bool { return statesOf(t, n, a).Dead == 2 }, 20*time.Second, 20*time.Millisecond, "its attempts are used up")
	out := n.Must("dead", a.String())
	assert.Contains(t, out, "attempts-used-up")
	assert.Contains(t, out, "2 dead letters, 2 causes")
	assert.Regexp(t, `coldchain/inspections/dead +2 +0`, n.Must("dead"))
	assert.Contains(t, string(n.Ask("GET", "/metrics", "").Body), `steadyferry_queue_messages{partition="0",queue="coldchain/inspections",state="dead"} 2`)

	// ferry work: 0 accepts, 75 gives back, else rejects with what it said.
	n.Must("set", a.String(), "-backoff", "1m..1m")
	sendBodies(t, n, a, `{"box":"ok"}`, `{"box":"later"}`, `{"box":"bad"}`)
	out = n.Must("work", a.String(), "-once", "-json", "--", "sh", "-c", `case "$(cat)" in *ok*) exit 0;; *later*) exit 75;; esac; echo "box 17 is broken" >&2; exit 3`)
	assert.JSONEq(t, `{"address":"coldchain/inspections","accepted":1,"released":1,"rejected":1}`, out)
	var bad client.DeadCause
	for line := range strings.Lines(n.Must("dead", a.String(), "-json")) {
		var c client.DeadCause
		require.NoError(t, json.Unmarshal([]byte(line), &c))
		if c.Reason == "exit 3" {
			bad = c
		}
	}
	assert.Equal(t, "box … is broken", bad.Pattern)
	assert.Equal(t, "box 17 is broken", bad.Sample.Detail)

	// Delays and expiry.
	n.Must("send", a.String(), "-body", "soon", "-after", "1m")
	n.Must("send", a.String(), "-body", "never", "-expire", "100ms")
	assert.EqualValues(t, 3, statesOf(t, n, a).Delayed, "the one that was released, ferry work's, and the new one")
	require.Eventually(t, func() bool { return strings.Contains(n.Must("dead", a.String()), "expired") }, 20*time.Second, 20*time.Millisecond)
}

func TestDeadLettersAreMendedReturnedDiscardedAndBroughtBack(t *testing.T) {
	n := harness.Start(t)
	a := newQueue(t, n, "coldchain/inspections")
	var bodies []string
	for i := range 20 {
		bodies = append(bodies, fmt.Sprintf(`{"box":"box-%d","celsius":"%d F"}`, i, 50+i))
	}
	sendBodies(t, n, a, bodies...)
	rejectAll(t, n, a)
	name := a.String()
	assert.Contains(t, n.Must("dead", name), "20 dead letters, 2 causes")
	mend := `compute /celsius=(double(body.celsius.replace(" F", "")) - 32.0) / 1.8`

	// What does not apply is named, and nothing changes.
	_, errOut, code := n.Ferry("", "dead", name, "-edit", "remove /none", "-return", "-yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "do not apply to 20 of 20 messages, the first is coldchain/inspections#0:0")
	assert.Equal(t, client.Counts{Dead: 20}, statesOf(t, n, a))
	assert.Contains(t, n.Must("dead", name, "-edit", mend, "-return"), "nothing is changed yet")
	n.Must("dead", name, "-where", `reason == "bad-celsius"`, "-edit", mend, "-return", "-yes")
	assert.Equal(t, client.Counts{Waiting: 10, Dead: 10}, statesOf(t, n, a))
	got := lease(t, n, a, 100)
	require.Len(t, got, 10)
	assert.JSONEq(t, `{"box":"box-0","celsius":10}`, string(got[0].Message.Body))
	assert.Equal(t, 1, got[0].Returns)
	item := n.Must("show", got[0].Message.Key+name+"#0:0")
	assert.Contains(t, item, "before it was edited:")
	assert.Contains(t, item, `"50 F"`)
	var settle []client.Settlement
	for _, l := range got {
		settle = append(settle, client.Settlement{Lease: l.Lease, Outcome: client.OutcomeAccept})
	}
	_, err := n.API.Work(context.Background(), a, client.WorkRequest{Settle: settle})
	require.NoError(t, err)
	story := n.Must("trace", name+"#0:0")
	at := -1
	for _, step := range []string{"published", "rejected", "edited", "returned", "accepted"} {
		next := strings.Index(story, step)
		assert.Greater(t, next, at, "%s in\n%s", step, story)
		at = next
	}

	_, errOut, code = n.Ferry("", "dead", name, "-discard", "-yes")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "why it is discarded is missing")
	n.Must("dead", name, "-discard", "-why", "a drill", "-yes")
	assert.Equal(t, client.Counts{Discarded: 10}, statesOf(t, n, a))
	n.Must("dead", name, "-undo", "-limit", "4", "-yes")
	assert.Equal(t, client.Counts{Discarded: 6, Dead: 4}, statesOf(t, n, a))
	sendBodies(t, n, a, `{"drill":true}`, `{"drill":false}`)
	n.Must("discard", name, "-where", "body.drill", "-why", "a drill", "-yes")
	assert.Equal(t, client.Counts{Waiting: 1, Discarded: 7, Dead: 4}, statesOf(t, n, a))
	n.Must("dead", name, "-undo", "-where", "has(body.drill)", "-yes")
	assert.Equal(t, client.Counts{Waiting: 2, Discarded: 6, Dead: 4}, statesOf(t, n, a))
	for _, what := range []string{"edit messages", "discard messages", "undo messages"} {
		assert.Contains(t, n.Must("logbook"), what)
	}
}

func TestReplays(t *testing.T) {
	t.Parallel()
	n := harness.Start(t)
	a := newQueue(t, n, "coldchain/inspections")
	topic := n.Topic("coldchain/readings", 3)
	fill(t, n, topic, 3, 400)
	ctx := context.Background()
	replayOf := func(id int64) (r client.Replay) {
		require.NoError(t, n.API.Call(ctx, http.MethodGet, fmt.Sprintf("/replays/%d", id), nil, nil, &r))
		return r
	}
	begin := func(r client.NewReplay) (out client.Replay) {
		require.NoError(t, n.API.Call(ctx, http.MethodPost, "/replays", nil, r, &out))
		return out
	}
	ended := func(id int64, state string) client.Replay {
		require.Eventually(t, func() bool { return replayOf(id).State == state }, 30*time.Second, 50*time.Millisecond, "replay %d is %v", id, replayOf(id))
		return replayOf(id)
	}
	plan := n.Must("replay", topic.String(), "-to", a.String(), "-where", `text.endsWith("0")`, "-rate", "100/s")
	assert.Contains(t, plan, "120 messages")
	assert.Zero(t, countsOf(t, n, a).Waiting)

	// It survives kill -9, and each message is kept once.
	r := begin(client.NewReplay{From: topic.String(), To: a.String(), Rate: 500})
	for range 3 {
		time.Sleep(700 * time.Millisecond)
		n.Kill()
		n.Run()
	}
	done := ended(r.Replay, "done")
	assert.EqualValues(t, 1200, done.Sent)
	assert.EqualValues(t, 1200, countsOf(t, n, a).Waiting)
	seen := map[string]int{}
	for len(seen) < 1200 {
		for _, l := range lease(t, n, a, 1000) {
			from, _ := l.Message.Header(client.HeaderReplayFrom)
			seen[from]++
			require.Equal(t, 1, seen[from], "%s was sent twice", from)
		}
	}

	// Pause, another rate, stop.
	b := newQueue(t, n, "coldchain/other")
	r = begin(client.NewReplay{From: topic.String(), To: b.String(), Rate: 20})
	require.Eventually(t, func() bool { return replayOf(r.Replay).Sent > 0 }, 10*time.Second, 20*time.Millisecond)
	n.Must("replay", "pause", fmt.Sprint(r.Replay))
	time.Sleep(500 * time.Millisecond)
	sent := replayOf(r.Replay).Sent
	time.Sleep(700 * time.Millisecond)
	assert.Equal(t, sent, replayOf(r.Replay).Sent)
	n.Must("replay", "resume", fmt.Sprint(r.Replay), "-rate", "50/s")
	require.Eventually(t, func() bool { return replayOf(r.Replay).Sent > sent }, 10*time.Second, 20*time.Millisecond)
	n.Must("replay", "cancel", fmt.Sprint(r.Replay))
	assert.Equal(t, "cancelled", replayOf(r.Replay).State)

	// It stops by itself when too many fail again.
	c := newQueue(t, n, "coldchain/strict")
	sendBodies(t, n, c, slices.Repeat([]string{`{"x":1}`}, 200)...)
	rejectAll(t, n, c)
	r = begin(client.NewReplay{From: "coldchain/strict/dead", To: "coldchain/strict", Rate: 40})
	stop := make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(20 * time.Millisecond):
				rejectAll(t, n, c)
			}
		}
	})
	stopped := ended(r.Replay, "halted")
	close(stop)
	wg.Wait()
	assert.Contains(t, stopped.Detail, "failed again, more than 20%")
	assert.Less(t, stopped.Sent, int64(200))

	// Elsewhere: to a topic, and the dead letters count as sent on.
	dead := countsOf(t, n, c).Dead
	n.Must("replay", "coldchain/strict/dead", "-to", topic.String(), "-limit", "5", "-rate", "100/s", "-yes")
	require.Eventually(t, func() bool { return countsOf(t, n, c).Dead == dead-5 }, 10*time.Second, 50*time.Millisecond)
	assert.Contains(t, n.Must("browse", topic.String(), "-json", "-where", `"ferry-replay" in headers`), `"ferry-replay-from":"coldchain/strict#0:`)
}

// A file of messages is sent again as they were, over HTTP and from the
// command line.
func TestExportsComeBack(t *testing.T) {
	n := harness.Start(t)
	topic := n.Topic("coldchain/readings", 2)
	fill(t, n, topic, 2, 50)
	a := newQueue(t, n, "coldchain/inspections")
	sendBodies(t, n, a, `{"box":"a"}`, `{"box":"b"}`, `not JSON`)
	rejectAll(t, n, a)
	back := newQueue(t, n, "coldchain/back")
	dir := t.TempDir()
	for _, format := range []string{"ndjson", "cloudevents"} {
		file := dir + "/" + format
		_, said, code := n.Ferry("", "export", a.String()+"/dead", "-where", `reason == "bad-celsius"`, "-format", format, "-out", file)
		require.Zero(t, code, said)
		assert.Contains(t, said, "2 messages are in "+file)
		assert.Contains(t, n.Must("send", back.String(), "-"+format, "-file", file), "sent 2 messages")
		lines := n.Must("export", topic.String(), "-limit", "7", "-format", format)
		mediaType := map[string]string{"ndjson": client.NDJSONType, "cloudevents": client.CloudBatchType}[format]
		answer := n.Ask("POST", "/api/v1"+client.ChannelPath(back)+"/messages", lines, "Content-Type", mediaType)
		require.Equal(t, 200, answer.Status, "%s", answer.Body)
	}
	ids := map[string]int{}
	for _, l := range lease(t, n, back, 100) {
		ids[l.Message.ID+" "+l.Message.Key+" "+string(l.Message.Body)+" "+l.Message.ContentType]++
	}
	require.Len(t, ids, 9)
	for message, times := range ids {
		assert.Equal(t, 2, times, message)
	}
	empty := n.Must("export", back.String()+"/dead", "-format", "cloudevents")
	assert.JSONEq(t, "[]", empty)
	_, said, code := n.Ferry("", "export", topic.String(), "-format", "xml")
	assert.Equal(t, 1, code)
	assert.Contains(t, said, "ndjson, cloudevents")
	_, said, code = n.Ferry(`[{"id":"1"}]`, "send", back.String(), "-cloudevents")
	assert.Equal(t, 1, code)
	assert.Contains(t, said, "event 1: the CloudEvent has no specversion")
}

func TestDeadLettersOfAGroup(t *testing.T) {
	n := harness.Start(t)
	topic := n.Topic("coldchain/readings", 1)
	fill(t, n, topic, 1, 10)
	a := group(topic, "compliance")
	ctx := context.Background()
	r, err := n.API.ReadGroup(ctx, a, client.ReadOptions{JoinGroup: client.JoinGroup{From: "first", Member: "reader-1"}})
	require.NoError(t, err)
	defer r.Close(ctx)
	b, err := r.Next(ctx)
	require.NoError(t, err)
	for range 2 { // a retry changes nothing
		require.NoError(t, r.Reject(ctx, b, 3, "bad", "box 3 is unknown"))
	}
	r.Done(b, true)
	out := n.Must("dead", a.String())
	assert.Contains(t, out, "coldchain/readings@compliance/dead: 1 dead letter, 1 cause")
	assert.Contains(t, n.Must("show", "coldchain/readings@compliance#0:0"), "coldchain/readings#0:3")
	require.Eventually(t, func() bool { return lagOf(t, n, a).Lag == 0 }, 20*time.Second, 20*time.Millisecond, "the group goes on")

	// Returned, it comes to the group's members, and to no other group.
	n.Must("dead", a.String(), "-return", "-yes")
	back, err := r.Next(ctx)
	require.NoError(t, err)
	require.NotNil(t, back.Delivery)
	assert.Equal(t, `"0-3"`, string(back.Delivery.Body))
	require.NoError(t, r.Commit(ctx, back))
	assert.Contains(t, n.Must("dead", a.String()), "no dead letters")
	// From its history to the group alone.
	n.Must("replay", topic.String(), "-to", a.String(), "-limit", "2", "-rate", "100/s", "-yes")
	for range 2 {
		back, err = r.Next(ctx)
		require.NoError(t, err)
		require.NotNil(t, back.Delivery)
		require.NoError(t, r.Commit(ctx, back))
	}
	assert.NotContains(t, n.Must("list"), "@compliance")
}

func TestBadInputToQueues(t *testing.T) {
	n := harness.Start(t)
	a := newQueue(t, n, "coldchain/inspections")
	sendBodies(t, n, a, "x")
	l := lease(t, n, a, 1)[0]
	path := "/api/v1/channels/coldchain/inspections"
	for _, c := range []struct{ method, path, body, want string }{
		{"POST", path + "/settle", `{"settle":[{"lease":"nonsense","outcome":"accept"}]}`, "not a lease"},
		{"POST", path + "/settle", `{"settle":[{"lease":"0-0-1-1","outcome":"perhaps"}]}`, "accept, release, reject, extend"},
		{"POST", path + "/settle", fmt.Sprintf(`{"settle":[{"lease":%q,"outcome":"reject"}]}`, l.Lease), "without a reason"},
		{"POST", path + "/settle", fmt.Sprintf(`{"settle":[{"lease":%q,"outcome":"reject","reason":"r","detail":%q}]}`, l.Lease, strings.Repeat("x", 70_000)), "70000 bytes; limit 65536"},
		{"POST", path + "/settle", fmt.Sprintf(`{"settle":[{"lease":%q,"outcome":"release","after":"yesterday"}]}`, l.Lease), "after"},
		{"POST", path + "/lease", `{"max":5000}`, "1 to 1000"},
		{"POST", path + "/lease", `{"wait":"1h"}`, "0s to 30s"},
		{"POST", path + "/actions", `{"action":"burn"}`, "return, edit, discard, undo"},
		{"POST", path + "/actions", `{"action":"edit","edits":[{"op":"set","at":"celsius","value":1}]}`, "a JSON Pointer such as /celsius"},
		{"POST", path + "/actions", `{"action":"return","where":"bdy.x"}`, "did you mean"},
		{"POST", path + "/actions", `{"action":"return","messages":["coldchain/other#0:1"]}`, "is no message of"},
		{"GET", path + "/items?state=asleep", "", "waiting, leased, delayed, dead, discarded"},
		{"GET", path + "/items/0/99", "", "no offset 99"},
		{"POST", "/api/v1/replays", `{"from":"coldchain/inspections","to":"coldchain/inspections","rate":1}`, "its dead letters are at"},
		{"POST", "/api/v1/replays", `{"from":"coldchain/inspections/dead","to":"coldchain/inspections","rate":0}`, "more than 0"},
		{"POST", "/api/v1/replays", `{"from":"coldchain/inspections/dead","to":"coldchain/inspections","rate":50001}`, "more than 0 to 50,000 messages a second"},
		{"POST", "/api/v1/replays", `{"from":"coldchain/inspections/dead","to":"coldchain/inspections","rate":1}`, "nothing to replay"},
		{"PATCH", "/api/v1/replays/9", `{"state":"paused"}`, "no replay 9"},
		{"PATCH", path, `{"order":"key"}`, "cannot be changed"},
		{"PATCH", path, `{"retain":"1h"}`, "has no retain"},
		{"GET", "/api/v1/trace?id=nobody", "", "no kept message has the id"},
	} {
		answer := n.Ask(c.method, c.path, c.body, "Content-Type", "application/json")
		assert.GreaterOrEqual(t, answer.Status, 400, "%s %s", c.path, c.body)
		assert.Less(t, answer.Status, 500, "%s %s: %s", c.path, c.body, answer.Body)
		assert.Contains(t, string(answer.Body), c.want, "%s %s", c.path, c.body)
	}
	w, err := n.API.Work(context.Background(), a, client.WorkRequest{Settle: []client.Settlement{{Lease: client.Lease{Offset: 0, Serial: 77}, Outcome: client.OutcomeAccept}, {Lease: client.Lease{Partition: 9}, Outcome: client.OutcomeAccept}}})
	require.NoError(t, err)
	assert.Equal(t, []string{client.ResultUnknown, client.ResultUnknown}, []string{w.Settled[0].Result, w.Settled[1].Result})
	assert.Equal(t, client.Counts{Leased: 1}, statesOf(t, n, a), "nothing has changed")
	n.Ferry("", "new", "topic", "coldchain/readings")
	_, errOut, code := n.Ferry("", "lease", "coldchain/readings")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "is a topic")
	_, errOut, code = n.Ferry("", "send", "coldchain/readings", "-body", "x", "-after", "1m")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "no delayed delivery")
}

func TestWhatIsMeantByAnAddressIsNotGuessed(t *testing.T) {
	n := harness.Start(t)
	a := newQueue(t, n, "coldchain/inspections")
	sendBodies(t, n, a, `{"x":1}`)
	for _, verb := range []string{"lease", "work"} {
		args := []string{verb, "coldchain/inspections/dead"}
		if verb == "work" {
			args = append(args, "--", "true")
		}
		_, errOut, code := n.Ferry("", args...)
		assert.Equal(t, 2, code)
		assert.Contains(t, errOut, "are dead letters, which are not leased")
	}
	assert.EqualValues(t, 1, countsOf(t, n, a).Waiting, "the live queue was not touched")
	for _, args := range [][]string{{"read", "coldchain/inspections@audit", "-from", "first"}, {"new", "group", "coldchain/inspections@audit", "-from", "first"}, {"lag", "coldchain/inspections@audit"}} {
		_, errOut, code := n.Ferry("", args...)
		assert.Equal(t, 1, code, args)
		assert.Contains(t, errOut, "is a queue: its messages are leased", args)
	}
}
