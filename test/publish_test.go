package test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/message"
	"steadyferry/test/harness"
)

const messages = "/api/v1/channels/coldchain/readings/messages"

// browse returns what a query finds.
func browse(t *testing.T, n *harness.Node, q client.Query) []client.Message {
	t.Helper()
	found := []client.Message{}
	a := channel("coldchain/readings")
	require.NoError(t, n.API.Browse(context.Background(), a, q, func(e client.Event) error {
		if e.Message != nil {
			found = append(found, *e.Message)
		}
		return nil
	}))
	return found
}

func bodiesOf(found []client.Message) []string {
	bodies := []string{}
	for _, m := range found {
		bodies = append(bodies, string(m.Bytes()))
	}
	return bodies
}

func TestEveryFormOfPublishing(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 4)
	cloudEvent := `{"specversion":"1.0","id":"e-%d","source":"/boxes","type":"reading","partitionkey":"box-7","time":"2026-11-23T08:00:00Z","datacontenttype":"application/json","data":{"n":%d}}`
	for i, c := range []struct {
		name, body string
		header     []string
	}{
		{"raw", `{"n":0}`, []string{"Content-Type", "application/json", "Ferry-Key", "box-7", "Ferry-Id", "e-0", "Ferry-Header-Source", "truck", "Ferry-Publisher-Time", "2026-11-23T08:00:00Z"}},
		{"message", `{"key":"box-7","id":"e-1","headers":{"source":"truck"},"publisherTime":"2026-11-23T08:00:00Z","body":{"n":1}}`, []string{"Content-Type", client.MessageType}},
		{"lines", `{"key":"box-7","id":"e-2","headers":{"source":"truck"},"publisherTime":"2026-11-23T08:00:00Z","body":{"n":2}}`, []string{"Content-Type", client.NDJSONType}},
		{"structured event", fmt.Sprintf(cloudEvent, 3, 3), []string{"Content-Type", client.CloudEventType}},
		{"batched events", "[" + fmt.Sprintf(cloudEvent, 4, 4) + "]", []string{"Content-Type", client.CloudBatchType}},
		{"binary event", `{"n":5}`, []string{"Content-Type", "application/json", "ce-specversion", "1.0", "ce-id", "e-5", "ce-source", "/boxes", "ce-type", "reading", "ce-partitionkey", "box-7", "ce-time", "2026-11-23T08:00:00Z"}},
	} {
		answer := n.Ask("POST", messages, c.body, c.header...)
		require.Equal(t, 200, answer.Status, "%s: %s", c.name, answer.Body)
		var p client.Published
		require.NoError(t, json.Unmarshal([]byte(answer.Body), &p))
		assert.Equal(t, 1, p.Accepted)
		assert.Equal(t, message.PartitionOf("box-7", 4), p.Receipts[0].Partition, c.name)
		assert.EqualValues(t, i, p.Receipts[0].Offset)
	}
	found := browse(t, n, client.Query{})
	require.Len(t, found, 6)
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	for i, m := range found {
		assert.Equal(t, fmt.Sprintf("e-%d", i), m.ID)
		assert.Equal(t, "box-7", m.Key)
		assert.JSONEq(t, fmt.Sprintf(`{"n":%d}`, i), string(m.Body))
		assert.Equal(t, "application/json", m.ContentType)
		assert.True(t, m.PublisherTime.Equal(at))
		assert.WithinDuration(t, time.Now(), m.Time, time.Minute)
		want := map[string]string{"source": "truck"}
		if i >= 3 {
			want = map[string]string{"ce-source": "/boxes", "ce-specversion": "1.0", "ce-type": "reading"}
		}
		assert.Equal(t, want, m.Headers)
	}
}

func TestBodiesComeBackAsTheyWere(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	for _, c := range []struct{ contentType, body, json, base64 string }{
		{"application/json", `{ "a" : 1.50, "z":"<b>" }`, `{ "a" : 1.50, "z":"<b>" }`, ""},
		{"text/plain", `{"not":"json"}`, `"{\"not\":\"json\"}"`, ""},
		{"", "47.3 F", `"47.3 F"`, ""},
		{"application/octet-stream", "\xff\x00", "", "/wA="},
		{"application/json", `{broken`, `"{broken"`, ""},
		{"", "", `""`, ""},
	} {
		answer := n.Ask("POST", messages, c.body, "Content-Type", c.contentType)
		require.Equal(t, 200, answer.Status, answer.Body)
		var p client.Published
		require.NoError(t, json.Unmarshal([]byte(answer.Body), &p))
		path := fmt.Sprintf("/api/v1/channels/coldchain/readings/partitions/0/messages/%d", p.Receipts[0].Offset)
		var m client.Message
		require.NoError(t, json.Unmarshal([]byte(n.Ask("GET", path, "").Body), &m))
		assert.Equal(t, c.json, compactly(m.Body, c.json), c.body)
		assert.Equal(t, c.base64, m.BodyBase64)
		raw := n.Ask("GET", path+"?format=raw", "")
		assert.Equal(t, c.body, raw.Body)
		assert.Contains(t, raw.Header.Get("Content-Disposition"), "attachment", "a browser must not run it")
	}
}

// compactly lets the encoder's spacing of embedded JSON pass.
func compactly(got json.RawMessage, want string) string {
	if strings.ReplaceAll(string(got), " ", "") == strings.ReplaceAll(want, " ", "") {
		return want
	}
	return string(got)
}

func TestLinesUpToAWrongOneAreKept(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 3)
	lines := strings.Repeat(`{"key":"a","body":1}`+"\n", 2500) + "{broken\n" + `{"body":2}` + "\n"
	answer := n.Ask("POST", messages, lines, "Content-Type", client.NDJSONType)
	assert.Equal(t, 400, answer.Status)
	var p client.Problem
	require.NoError(t, json.Unmarshal([]byte(answer.Body), &p))
	assert.Equal(t, 2501, p.Line)
	require.NotNil(t, p.Accepted)
	assert.Equal(t, 2500, *p.Accepted)
	assert.Len(t, browse(t, n, client.Query{Limit: 10_000}), 2500)

	out, errOut, code := n.Ferry(`{"box":"b1"}`+"\nnonsense\n", "send", "coldchain/readings", "-lines", "-key-from", "body.box")
	assert.Equal(t, 1, code, out)
	assert.Contains(t, errOut, "line 2")
	assert.Contains(t, errOut, "1 message before it was kept")
}

func TestASlowStreamOfLinesIsKeptAsItComes(t *testing.T) {
	n := harness.Start(t)
	a := n.Topic("coldchain/readings", 1)
	r, w := io.Pipe()
	done := make(chan error, 1)
	go func() {
		_, err := n.API.PublishStream(context.Background(), a, 0, r)
		done <- err
	}()
	io.WriteString(w, `{"body":"one"}`+"\n")
	assert.Eventually(t, func() bool { return len(browse(t, n, client.Query{})) == 1 }, 20*time.Second, 20*time.Millisecond)
	io.WriteString(w, `{"body":"two"}`+"\n")
	w.Close()
	require.NoError(t, <-done)
	assert.Equal(t, []string{"one", "two"}, bodiesOf(browse(t, n, client.Query{})))
}

func TestARepeatedBatchIsKeptOnce(t *testing.T) {
	n := harness.Start(t)
	a := n.Topic("coldchain/readings", 2)
	id := uuid.New()
	batch := func(sequence uint64, bodies ...string) []byte {
		var b message.Builder
		for _, body := range bodies {
			b.Add(&message.Message{Body: []byte(body)})
		}
		return b.Build(message.Zstd, &message.Publisher{ID: id, Sequence: sequence})
	}
	send := func(b []byte) (client.Published, error) {
		return n.API.Publish(context.Background(), a, 1, client.BatchType, nil, b)
	}
	first := batch(1, "a", "b")
	for range 2 {
		p, err := send(first)
		require.NoError(t, err)
		assert.EqualValues(t, 0, p.Receipts[0].Offset)
	}
	_, err := send(batch(3, "c"))
	require.NoError(t, err)
	var gap *client.Problem
	_, err = send(batch(5, "e"))
	require.ErrorAs(t, err, &gap)
	assert.Equal(t, 409, gap.Status)
	assert.Equal(t, "sequence", gap.Field)
	n.Kill()
	n.Run()
	p, err := send(first)
	require.NoError(t, err)
	assert.True(t, p.Receipts[0].Repeat, "also after a crash")
	assert.Equal(t, 0, p.Accepted)
	assert.Equal(t, []string{"a", "b", "c"}, bodiesOf(browse(t, n, client.Query{})))

	header := []string{"Ferry-Publisher", uuid.NewString(), "Ferry-Sequence", "1", "Ferry-Key", "k"}
	for want := range 2 {
		answer := n.Ask("POST", messages, "raw", header...)
		assert.Equal(t, 200, answer.Status, answer.Body)
		assert.Contains(t, answer.Body, fmt.Sprintf(`"dropped":%d`, want))
	}
}

func TestRepeatedIDsAreDroppedWithinTheWindow(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1, client.Settings{"idWindow": "10m"})
	send := func(ids ...string) client.Published {
		lines := ""
		for _, id := range ids {
			lines += fmt.Sprintf(`{"id":%q,"body":%q}`+"\n", id, id)
		}
		answer := n.Ask("POST", messages, lines, "Content-Type", client.NDJSONType)
		require.Equal(t, 200, answer.Status, answer.Body)
		var p client.Published
		require.NoError(t, json.Unmarshal([]byte(answer.Body), &p))
		return p
	}
	assert.Equal(t, 2, send("a", "b").Accepted)
	p := send("b", "c", "c")
	assert.Equal(t, 1, p.Accepted)
	assert.Equal(t, 2, p.Dropped)
	n.Kill()
	n.Run()
	p = send("a", "b", "c")
	assert.Equal(t, 0, p.Accepted, "the window is read back after a crash")
	assert.True(t, p.Receipts[0].Repeat)
	assert.Equal(t, 1, send("d").Accepted)
	assert.Equal(t, []string{"a", "b", "c", "d"}, bodiesOf(browse(t, n, client.Query{})))
}

func TestPartitionsWithoutAKeyTakeTurns(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 3)
	for range 9 {
		require.Equal(t, 200, n.Ask("POST", messages, "x").Status)
	}
	var topic client.Channel
	require.NoError(t, n.API.Call(context.Background(), http.MethodGet, "/channels/coldchain/readings", nil, nil, &topic))
	for _, p := range topic.Each {
		assert.EqualValues(t, 3, p.Messages)
	}
}

// Batches over a stream are kept as those of requests are: each once, in its
// partition; one that is refused says so and does not end the stream.
func TestAPublishStream(t *testing.T) {
	n := harness.Start(t)
	topic := n.Topic("coldchain/readings", 2)
	ctx := context.Background()
	s, err := n.API.OpenPublish(ctx, topic)
	require.NoError(t, err)
	batch := func(p *message.Publisher, bodies ...string) []byte {
		var b message.Builder
		for _, body := range bodies {
			b.Add(&message.Message{Body: []byte(body)})
		}
		return slices.Clone(b.Build(message.Plain, p))
	}
	var wg sync.WaitGroup
	for i := range 200 { // more than may be under way
		wg.Go(func() {
			r, err := s.Publish(ctx, i%2, batch(nil, fmt.Sprint(i), "x"))
			assert.NoError(t, err)
			assert.Equal(t, i%2, r.Partition)
			assert.Equal(t, 2, r.Count)
		})
	}
	wg.Wait()
	publisher := &message.Publisher{ID: uuid.New()}
	first, err := s.Publish(ctx, 1, batch(publisher, "once"))
	require.NoError(t, err)
	assert.EqualValues(t, 200, first.Offset)
	again, err := s.Publish(ctx, 1, batch(publisher, "once"))
	require.NoError(t, err)
	assert.True(t, again.Repeat)
	assert.Equal(t, first.Offset, again.Offset)
	for _, bad := range []struct {
		partition int
		batch     []byte
		want      string
	}{{7, batch(nil, "x"), "partition"}, {0, []byte("no batch"), "batch"}, {0, nil, "batch"}} {
		_, err := s.Publish(ctx, bad.partition, bad.batch)
		assert.ErrorContains(t, err, bad.want)
	}
	n.Kill()
	_, err = s.Publish(ctx, -1, batch(nil, "y"))
	assert.Error(t, err)
	n.Run()
	s, err = n.API.OpenPublish(ctx, topic)
	require.NoError(t, err)
	_, err = s.Publish(ctx, -1, batch(nil, "y"))
	require.NoError(t, err)
	var shown client.Channel
	require.NoError(t, json.Unmarshal([]byte(n.Must("show", topic.String(), "-json")), &shown))
	assert.EqualValues(t, 402, shown.Messages)
	began := time.Now()
	assert.Zero(t, n.Stop(), "a stream does not keep the node from stopping")
	assert.Less(t, time.Since(began), 10*time.Second)
}
