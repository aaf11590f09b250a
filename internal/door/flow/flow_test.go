package flow_test

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/test/doortest"
)

func TestMain(m *testing.M) { testdb.Main(m) }

const (
	topic = "/api/v1/channels/coldchain/readings"
	queue = "/api/v1/channels/coldchain/inspections"
)

// events reads the lines of a browse.
func events(t *testing.T, body string) (messages []form.Message, last form.Event) {
	t.Helper()
	for line := range strings.Lines(body) {
		last = form.Event{}
		require.NoError(t, json.Unmarshal([]byte(line), &last), line)
		if last.Message != nil {
			messages = append(messages, *last.Message)
		}
	}
	return messages, last
}

// Whatever form a message comes in, it is kept as it is meant; what is wrong is
// refused, and says what of it.
func TestEachFormOfPublishingIsKeptAsItIsMeant(t *testing.T) {
	d := doortest.Open(t)
	d.Channel(setting.Topic, "coldchain/readings", nil)
	var b message.Builder
	b.Add(&message.Message{Key: "box-9", Body: []byte("packed")})
	batch := string(b.Build(message.Plain, nil))
	for i, c := range []struct {
		contentType, body string
		header            []string
		wanted            form.Message // of which each field that is set is as it is kept
	}{
		{"text/plain", "hello", nil, form.Message{ContentType: "text/plain", Body: json.RawMessage(`"hello"`)}},
		{"application/json", `{"celsius": 4.50}`, []string{"Ferry-Key", "box-7", "Ferry-Id", "a-1", "Ferry-Header-unit", "C"}, form.Message{Key: "box-7", ID: "a-1", Body: json.RawMessage(`{"celsius":4.50}`), Headers: map[string]string{"unit": "C"}}},
		{form.MessageType, `{"key":"box-8","body":{"celsius":5},"headers":{"unit":"C"}}`, nil, form.Message{Key: "box-8", Headers: map[string]string{"unit": "C"}}},
		{form.MessageType, `{"bodyBase64":"` + base64.StdEncoding.EncodeToString([]byte{0xff, 0}) + `"}`, nil, form.Message{BodyBase64: "/wA="}},
		{form.BatchType, batch, nil, form.Message{Key: "box-9", Body: json.RawMessage(`"packed"`)}},
		{form.CloudEventType, `{"specversion":"1.0","type":"reading","source":"/boxes/7","id":"e-1","data":{"celsius":6}}`, nil, form.Message{ID: "e-1"}},
	} {
		r, said := d.Do("POST", topic+"/messages", c.contentType, c.body, c.header...)
		require.Equal(t, http.StatusOK, r.StatusCode, "%s: %s", c.contentType, said)
		var p form.Published
		require.NoError(t, json.Unmarshal([]byte(said), &p))
		require.Equal(t, 1, p.Accepted)
		require.EqualValues(t, i, p.Receipts[0].Offset)
		var m form.Message
		require.Equal(t, 200, d.Ask("GET", fmt.Sprintf("%s/partitions/0/messages/%d", topic, i), "", &m))
		if c.wanted.Key != "" {
			assert.Equal(t, c.wanted.Key, m.Key)
		}
		if c.wanted.ID != "" {
			assert.Equal(t, c.wanted.ID, m.ID)
		}
		if c.wanted.Body != nil {
			assert.JSONEq(t, string(c.wanted.Body), string(m.Body))
		}
		assert.Equal(t, c.wanted.BodyBase64, m.BodyBase64)
		for name, value := range c.wanted.Headers {
			assert.Equal(t, value, m.Headers[name])
		}
	}
	for _, c := range []struct {
		contentType, body, query string
		status                   int
		says                     string
	}{
		{form.MessageType, `{"bdy":1}`, "", 400, "bdy"},
		{form.MessageType, `{"body":1,"bodyBase64":"AA=="}`, "", 400, "body"},
		{form.BatchType, batch[:len(batch)-3], "", 400, "batch"},
		{form.CloudEventType, `{"specversion":"2.0","type":"x","source":"y","id":"z"}`, "", 400, "specversion"},
		{"text/plain", "x", "?partition=7", 404, "no partition 7"},
		{"text/plain", strings.Repeat("x", 9<<20), "", 413, "bytes"},
	} {
		r, said := d.Do("POST", topic+"/messages"+c.query, c.contentType, c.body)
		assert.Equal(t, c.status, r.StatusCode, "%s %.40s: %s", c.contentType, c.body, said)
		assert.Contains(t, said, c.says)
	}
}

// Lines are kept up to one that is wrong, which is named.
func TestLinesAreKeptUpToAWrongOne(t *testing.T) {
	d := doortest.Open(t)
	d.Channel(setting.Topic, "coldchain/readings", nil)
	lines := `{"body":1}` + "\n\n" + `{"body":2}` + "\n" + `{"bdy":3}` + "\n" + `{"body":4}` + "\n"
	r, said := d.Do("POST", topic+"/messages", form.NDJSONType, lines)
	assert.Equal(t, 400, r.StatusCode)
	var p form.Problem
	require.NoError(t, json.Unmarshal([]byte(said), &p))
	assert.Equal(t, 4, p.Line)
	require.NotNil(t, p.Accepted)
	assert.Equal(t, 2, *p.Accepted)
	_, said = d.Do("GET", topic+"/messages", "", "")
	messages, last := events(t, said)
	assert.Len(t, messages, 2)
	require.NotNil(t, last.Progress)
	assert.EqualValues(t, 2, last.Progress.Found)
}

func TestWhatIsThereIsReadInEveryWay(t *testing.T) {
	d := doortest.Open(t)
	readings := d.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 2})
	for i := range 10 {
		d.Publish(readings, i%2, fmt.Sprintf(`{"n":%d}`, i))
	}
	for query, wanted := range map[string]int{"": 10, "?where=body.n>6": 3, "?partition=1": 5, "?limit=4": 4, "?from=offset:3": 4, "?to=offset:1&partition=0": 1, "?where=body.n>99": 0} {
		r, said := d.Do("GET", topic+"/messages"+query, "", "")
		require.Equal(t, 200, r.StatusCode, "%s: %s", query, said)
		messages, last := events(t, said)
		assert.Len(t, messages, wanted, query)
		require.NotNil(t, last.Progress, query)
		assert.EqualValues(t, wanted, last.Progress.Found, query)
	}
	for query, says := range map[string]string{"?where=body.": "column", "?from=soon": "soon", "?partition=x": "0 to 1", "?limit=0": "1 to", "?order=sideways": "sideways", "?take=some": "some"} {
		r, said := d.Do("GET", topic+"/messages"+query, "", "")
		assert.Equal(t, 400, r.StatusCode, "%s: %s", query, said)
		assert.Contains(t, said, says, query)
	}
	for path, wanted := range map[string]string{
		"/partitions/0/messages/99": "no offset 99 yet", "/partitions/7/messages/0": "no partition 7", "/partitions/x/messages/0": "partition", "/partitions/0/messages/x": "offset", "/partitions/0/records?from=offset:99": "behind the end",
	} {
		r, said := d.Do("GET", topic+path, "", "")
		assert.Contains(t, []int{400, 404}, r.StatusCode, path)
		assert.Contains(t, said, wanted, path)
	}
	r, said := d.Do("GET", topic+"/partitions/0/records?from=first", "", "", "Accept", form.NDJSONType)
	require.Equal(t, 200, r.StatusCode, said)
	assert.Equal(t, 5, strings.Count(said, "\n"))
	assert.Equal(t, "5", r.Header.Get("Ferry-Next"))
	r, said = d.Do("GET", topic+"/partitions/1/messages/2?format=raw", "", "")
	assert.Equal(t, `{"n":5}`, said)
	assert.Equal(t, "application/octet-stream", r.Header.Get("Content-Type"))
	assert.Contains(t, r.Header.Get("Content-Disposition"), "attachment")
	for format, of := range map[string][2]string{"ndjson": {"{", `"offset":`}, "cloudevents": {"[", `"specversion":`}} {
		r, said = d.Do("GET", topic+"/export?format="+format, "", "")
		require.Equal(t, 200, r.StatusCode)
		assert.True(t, strings.HasPrefix(said, of[0]), said)
		assert.Equal(t, 10, strings.Count(said, of[1]), format)
		assert.Contains(t, r.Header.Get("Content-Disposition"), "readings-")
	}
	_, said = d.Do("GET", topic+"/export?format=xml", "", "")
	assert.Contains(t, said, "ndjson, cloudevents")
}

// A tail tells the place after each event, and goes on there elsewhere.
func TestATailGoesOnWhereAnotherEnded(t *testing.T) {
	d := doortest.Open(t)
	readings := d.Channel(setting.Topic, "coldchain/readings", nil)
	d.Publish(readings, 0, "0", "1", "2", "3", "4")
	follow := func(query, id string, most int) (bodies []string, place string) {
		q, err := http.NewRequestWithContext(t.Context(), "GET", d.URL+topic+"/tail"+query, nil)
		require.NoError(t, err)
		q.Header.Set("Authorization", "Bearer "+d.Token)
		if id != "" {
			q.Header.Set("Last-Event-ID", id)
		}
		r, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		defer r.Body.Close()
		require.Equal(t, 200, r.StatusCode)
		lines := bufio.NewScanner(r.Body)
		next := ""
		for len(bodies) < most && lines.Scan() {
			if id, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
				next = id
			}
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				var e form.Event
				require.NoError(t, json.Unmarshal([]byte(data), &e))
				if e.Message != nil {
					bodies = append(bodies, string(e.Message.Bytes()))
					place = next
				}
			}
		}
		return bodies, place
	}
	first, place := follow("?from=first", "", 2)
	require.Len(t, first, 2)
	require.NotEmpty(t, place)
	rest, _ := follow("?from=first", place, 3)
	assert.Equal(t, []string{"2", "3", "4"}, rest)
	go func() {
		time.Sleep(200 * time.Millisecond)
		d.Publish(readings, 0, "5")
	}()
	fresh, _ := follow("", "", 1)
	assert.Equal(t, []string{"5"}, fresh, "without a position only what comes")
	r, said := d.Do("GET", topic+"/tail", "", "", "Last-Event-ID", "nonsense")
	assert.Equal(t, 400, r.StatusCode)
	assert.Contains(t, said, "nonsense")
}

func TestWorkIsLeasedAndSettledOverHTTP(t *testing.T) {
	d := doortest.Open(t)
	d.Channel(setting.Queue, "coldchain/inspections", setting.Change{"attemptLimit": 2})
	d.Channel(setting.Topic, "coldchain/readings", nil)
	for i := range 3 {
		r, said := d.Do("POST", queue+"/messages", "application/json", fmt.Sprint(i))
		require.Equal(t, 200, r.StatusCode, said)
	}
	var w form.WorkAnswer
	require.Equal(t, 200, d.Ask("POST", queue+"/lease", `{"member":"lana","max":3,"wait":"1s"}`, &w))
	require.Len(t, w.Deliveries, 3)
	settle := fmt.Sprintf(`{"settle":[{"lease":%q,"outcome":"accept"},{"lease":%q,"outcome":"reject","reason":"bad-box","detail":"/n: 1"},{"lease":%q,"outcome":"release","after":"1h"}]}`, w.Deliveries[0].Lease, w.Deliveries[1].Lease, w.Deliveries[2].Lease)
	var done form.WorkAnswer
	require.Equal(t, 200, d.Ask("POST", queue+"/settle", settle, &done))
	require.Len(t, done.Settled, 3)
	for _, s := range done.Settled {
		assert.Equal(t, form.ResultDone, s.Result)
	}
	require.Equal(t, 200, d.Ask("POST", queue+"/settle", settle, &done))
	for _, s := range done.Settled {
		assert.NotEqual(t, form.ResultDone, s.Result, "what is settled is settled")
	}
	var dead form.DeadLetters
	require.Equal(t, 200, d.Ask("GET", queue+"/dead", "", &dead))
	require.Len(t, dead.Causes, 1)
	assert.Equal(t, "bad-box", dead.Causes[0].Reason)
	for body, says := range map[string]string{
		`{"max":-1}`: "max", `{"max":1,"wait":"1h"}`: "0s to 30s", `{"max":1,"lese":"x"}`: "lese", `{"settle":[{"lease":"nonsense","outcome":"accept"}]}`: "nonsense",
		`{"settle":[{"lease":"` + w.Deliveries[0].Lease.String() + `","outcome":"shrug"}]}`: "accept",
	} {
		r, said := d.Do("POST", queue+"/lease", "", body)
		assert.Equal(t, 400, r.StatusCode, "%s: %s", body, said)
		assert.Contains(t, said, says, body)
	}
	r, said := d.Do("POST", topic+"/lease", "", `{"max":1}`)
	assert.Contains(t, []int{400, 409}, r.StatusCode)
	assert.Contains(t, said, "queue")
}
