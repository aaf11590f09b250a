package api_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/test/doortest"
)

// Whoever a bound holds for hears of it over HTTP, with how long to wait; others do not.
func TestBoundsHoldOverHTTP(t *testing.T) {
	d := doortest.Open(t)
	d.Channel(setting.Topic, "coldchain/readings", nil)
	var p form.Problem
	require.Equal(t, 200, d.Ask("PATCH", "/api/v1/spaces/coldchain", `{"publishRate":"64KiB","readRate":65536,"mostStreams":1,"mostKept":"3MiB"}`, nil))
	const messages = "/api/v1/channels/coldchain/readings/messages"
	body := strings.Repeat("x", 300<<10)
	require.Equal(t, 200, d.Ask("POST", messages, body, nil))
	r, b := d.Do("POST", messages, "text/plain", "one more")
	require.Equal(t, 429, r.StatusCode, b)
	assert.Regexp(t, `^[1-9]$`, r.Header.Get("Retry-After"))
	assert.Contains(t, b, "urn:steady-ferry:problem:too-fast")
	assert.Contains(t, b, "64KiB a second that may be published")
	require.Equal(t, 429, d.Ask("POST", messages, "one more", &p))
	assert.Positive(t, p.RetryAfter)

	// Reading is counted by what was written, whichever way out it took.
	for _, path := range []string{messages + "?from=first", "/api/v1/channels/coldchain/readings/partitions/0/records?from=offset:0", messages[:len(messages)-9] + "/partitions/0/messages/0?format=raw", "/api/v1/channels/coldchain/readings/export"} {
		require.Eventually(t, func() bool { r, _ := d.Do("GET", path, "", ""); return r.StatusCode == 200 }, 20*time.Second, 100*time.Millisecond, path)
		status := 200
		for range 4 { // lists shorten bodies: not the first one is too much
			if r, b := d.Do("GET", path, "", ""); r.StatusCode != 200 {
				status = r.StatusCode
				require.NoError(t, json.Unmarshal([]byte(b), &p))
			}
		}
		require.Equal(t, 429, status, path)
		assert.Contains(t, p.Detail, "that may be read", path)
		assert.Equal(t, 200, d.Ask("GET", "/api/v1/channels/coldchain/readings", "", nil), "what gives no messages goes on")
	}

	q, err := http.NewRequestWithContext(t.Context(), "GET", d.URL+"/api/v1/channels/coldchain/readings/tail", nil)
	require.NoError(t, err)
	q.Header.Set("Authorization", "Bearer "+d.Token)
	var tail *http.Response
	require.Eventually(t, func() bool {
		tail, err = http.DefaultClient.Do(q)
		require.NoError(t, err)
		if tail.StatusCode != 200 {
			tail.Body.Close()
		}
		return tail.StatusCode == 200
	}, 20*time.Second, 100*time.Millisecond)
	defer tail.Body.Close()
	require.Equal(t, 429, d.Ask("GET", "/api/v1/channels/coldchain/readings/tail", "", &p))
	assert.Contains(t, p.Detail, "space coldchain has 1 streams open")

	var s form.Space
	require.Equal(t, 200, d.Ask("GET", "/api/v1/spaces/coldchain", "", &s))
	told := map[string]form.Quota{}
	for _, u := range s.Uses {
		told[u.Name] = u
	}
	assert.EqualValues(t, 1, told["mostStreams"].Used)
	assert.EqualValues(t, 3<<20, told["mostKept"].Most)
	assert.EqualValues(t, 1, told["mostChannels"].Used)
	assert.Zero(t, told["mostChannels"].Most)
	assert.Equal(t, "bytes-per-second", told["publishRate"].Unit)
	assert.EqualValues(t, 65536, s.Settings["readRate"])

	require.Equal(t, 200, d.Ask("PATCH", "/api/v1/spaces/coldchain", `{"publishRate":0,"mostKept":1048576}`, nil))
	require.Equal(t, 200, d.Ask("POST", messages, body, nil))
	require.Equal(t, 200, d.Ask("POST", messages, body, nil))
	require.Equal(t, 507, d.Ask("POST", messages, body, &p))
	assert.Regexp(t, `^space coldchain keeps .* of 1MiB, and has no room for`, p.Detail)
	assert.Contains(t, p.Next, "most-kept")
}

// Streams wait where single requests are refused: all that is sent arrives, no faster than it may.
func TestStreamsKeepToThePace(t *testing.T) {
	d := doortest.Open(t)
	topic := d.Channel(setting.Topic, "coldchain/readings", nil)
	require.Equal(t, 200, d.Ask("PATCH", "/api/v1/spaces/coldchain", `{"publishRate":"128KiB","readRate":"128KiB"}`, nil))
	q, err := http.NewRequestWithContext(t.Context(), "GET", d.URL+"/api/v1/channels/coldchain/readings/tail?from=first", nil)
	require.NoError(t, err)
	q.Header.Set("Authorization", "Bearer "+d.Token)
	tail, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	defer tail.Body.Close()
	arrived := make(chan time.Duration, 1)
	began := time.Now()
	go func() {
		lines := bufio.NewScanner(tail.Body)
		lines.Buffer(nil, 1<<20)
		for lines.Scan() {
			if strings.Contains(lines.Text(), `"offset":9,`) {
				arrived <- time.Since(began)
			}
		}
	}()

	c, err := client.New(d.URL, d.Token)
	require.NoError(t, err)
	stream, err := c.OpenPublish(t.Context(), topic.Address())
	require.NoError(t, err)
	defer stream.Close()
	for i := range 5 {
		var b message.Builder
		b.Add(&message.Message{Body: []byte(strings.Repeat("s", 64<<10))})
		_, err := stream.Publish(t.Context(), 0, b.Build(message.Plain, nil))
		require.NoError(t, err, "batch %d", i)
	}
	var lines strings.Builder
	for range 5 {
		fmt.Fprintf(&lines, "{\"body\":%q}\n", strings.Repeat("l", 64<<10))
	}
	sent, err := c.PublishStream(t.Context(), topic.Address(), 0, strings.NewReader(lines.String()))
	require.NoError(t, err)
	assert.Equal(t, 5, sent.Accepted)
	var last message.Builder
	last.Add(&message.Message{Body: []byte("the last")})
	_, err = stream.Publish(t.Context(), 0, last.Build(message.Plain, nil))
	require.NoError(t, err)
	assert.Greater(t, time.Since(began), 2500*time.Millisecond, "640KiB, of which two seconds are saved up")
	select {
	case took := <-arrived:
		assert.Greater(t, took, 2*time.Second, "readers wait too")
	case <-time.After(30 * time.Second):
		t.Fatal("not all has arrived at the tail")
	}
}

// Whoever looks after a space alone cannot lift what bounds it.
func TestBoundsAreSetByWhoLooksAfterTheNodes(t *testing.T) {
	d := doortest.Open(t)
	lead := person(t, d, "lead", "team-owner", nil, "coldchain")
	operator := person(t, d, "night", "operator", nil, "*")
	as := func(token, path, body string) int {
		r, _ := d.Do("PATCH", path, "", body, "Authorization", "Bearer "+token)
		return r.StatusCode
	}
	assert.Equal(t, 200, as(lead, "/api/v1/spaces/coldchain", `{"description":"boxes"}`))
	for _, bound := range []string{`{"mostKept":0}`, `{"description":"boxes","publishRate":0}`, `{"mostStreams":7}`, `{"mostChannels":1}`} {
		assert.Equal(t, 403, as(lead, "/api/v1/spaces/coldchain", bound), bound)
		assert.Equal(t, 200, as(operator, "/api/v1/spaces/coldchain", bound), bound)
	}
	assert.Equal(t, 403, as(lead, "/api/v1/principals/lead", `{"publishRate":0}`))
	assert.Equal(t, 200, as(d.Token, "/api/v1/principals/lead", `{"requestRate":1}`))
	var page form.Page[form.Principal]
	require.Equal(t, 200, d.Ask("GET", "/api/v1/principals", "", &page))
	for _, p := range page.Items {
		assert.Equal(t, p.Name == "lead", len(p.Uses) == 1, p.Name)
	}
	statuses := map[int]int{}
	for range 8 {
		r, _ := d.Do("GET", "/api/v1/spaces/coldchain", "", "", "Authorization", "Bearer "+lead)
		statuses[r.StatusCode]++
	}
	assert.GreaterOrEqual(t, statuses[429], 4, "%v", statuses)
	assert.GreaterOrEqual(t, statuses[200], 2, "%v", statuses)
}
