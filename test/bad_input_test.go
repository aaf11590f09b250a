package test

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

func TestBadInputIsRefusedByName(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 2)
	const readings = "/api/v1/channels/coldchain/readings"
	for _, c := range []struct {
		method, path, body string
		header             []string
		status             int
		says               []string
	}{
		{"GET", "/api/v1/channels/coldchain/reading", "", nil, 404, []string{"coldchain/reading", "did you mean coldchain/readings?"}},
		{"GET", "/api/v1/channels/nowhere/at-all", "", nil, 404, []string{"nowhere/at-all", "space does not exist"}},
		{"GET", "/api/v1/nothing", "", nil, 404, []string{"/api/v1/nothing"}},
		{"PUT", readings, "", nil, 405, []string{"PUT"}},
		{"POST", "/api/v1/channels", `{"address":"coldchain/x","kind":"topic","partitionCount":0}`, nil, 400, []string{"partitionCount is 0", "1 to 1000"}},
		{"POST", "/api/v1/channels", `{"address":"coldchain/x","kind":"topic","partitionCount":1001}`, nil, 400, []string{"1001", "1 to 1000"}},
		{"POST", "/api/v1/channels", `{"address":"coldchain/X","kind":"topic"}`, nil, 400, []string{"'X'", "a-z 0-9"}},
		{"POST", "/api/v1/channels", `{"address":"coldchain/x","kind":"heap"}`, nil, 400, []string{"heap", "topic"}},
		{"POST", "/api/v1/channels", `{"address":"other/x","kind":"topic"}`, nil, 404, []string{"ferry new space other"}},
		{"POST", "/api/v1/channels", `{"address":"coldchain/readings","kind":"topic"}`, nil, 409, []string{"exists already"}},
		{"POST", "/api/v1/channels", `{"address":"coldchain/x","kind":"topic","retain":"soon"}`, nil, 400, []string{"soon", "retain"}},
		{"POST", "/api/v1/channels", `{"address":"coldchain/x","kind":"topic","retainBytes":5}`, nil, 400, []string{"retainBytes", "1MiB"}},
		{"POST", "/api/v1/channels", `{"address":"coldchain/x","kind":"topic","surplus":5}`, nil, 400, []string{"surplus"}},
		{"POST", "/api/v1/channels", `{broken`, nil, 400, []string{"not the JSON"}},
		{"POST", "/api/v1/spaces", `{"space":"No"}`, nil, 400, []string{"'N'"}},
		{"PATCH", readings, `{"partitionCount":1}`, nil, 409, []string{"cannot become fewer", "2 to 1000"}},
		{"DELETE", "/api/v1/spaces/coldchain", "", nil, 409, []string{"still has 1 channel", "coldchain/readings"}},
		{"GET", readings + "/messages?from=yesterday", "", nil, 400, []string{"yesterday", "time:2026", "from"}},
		{"GET", readings + "/messages?to=offset:-1", "", nil, 400, []string{"offset:-1"}},
		{"GET", readings + "/messages?where=" + url.QueryEscape("body.celsius >"), "", nil, 400, []string{"column 15", `"column":15`}},
		{"GET", readings + "/messages?where=" + url.QueryEscape("sise > 3"), "", nil, 400, []string{`did you mean \"size\"?`}},
		{"GET", readings + "/messages?limit=0", "", nil, 400, []string{"limit", "1 to 100000"}},
		{"GET", readings + "/messages?order=sideways", "", nil, 400, []string{"sideways", "oldest or newest"}},
		{"GET", readings + "/messages?partition=7", "", nil, 404, []string{"partition 7", "0 to 1"}},
		{"GET", readings + "/messages?partition=x", "", nil, 400, []string{`partition is \"x\"`}},
		{"GET", readings + "/messages?from=group:forecast", "", nil, 404, []string{"no group forecast"}},
		{"GET", readings + "/partitions/9/records", "", nil, 404, []string{"0 to 1"}},
		{"GET", readings + "/partitions/0/records?from=offset:99", "", nil, 400, []string{"behind the end", "offset:0"}},
		{"GET", readings + "/partitions/0/records?wait=1h", "", nil, 400, []string{"wait", "30s"}},
		{"GET", readings + "/partitions/0/messages/5", "", nil, 404, []string{"no offset 5"}},
		{"GET", readings + "/rates?span=2d", "", nil, 400, []string{"span", "1h"}},
		{"POST", readings + "/messages?partition=5", "x", nil, 404, []string{"partition 5", "0 to 1"}},
		{"POST", readings + "/messages", strings.Repeat("x", 9<<20), nil, 413, []string{"-max-body"}},
		{"POST", readings + "/messages", "not a batch", []string{"Content-Type", client.BatchType}, 400, []string{"broken batch", "nothing of it was kept"}},
		{"POST", readings + "/messages", `{"body":1,"keys":2}`, []string{"Content-Type", client.MessageType}, 400, []string{"keys"}},
		{"POST", readings + "/messages", `{"body":1,"bodyBase64":"eA=="}`, []string{"Content-Type", client.MessageType}, 400, []string{"both"}},
		{"POST", readings + "/messages", `{"specversion":"1.0","id":"1"}`, []string{"Content-Type", client.CloudEventType}, 400, []string{"source"}},
		{"POST", readings + "/messages", "x", []string{"Ferry-Publisher", "me"}, 400, []string{"UUID"}},
		{"POST", readings + "/messages", "x", []string{"Ferry-Publisher-Time", "noon"}, 400, []string{"RFC 3339"}},
		{"POST", readings + "/messages", "x", []string{"Ferry-Key", strings.Repeat("k", 2000)}, 400, []string{"key: 2000 bytes", "1024"}},
		{"POST", readings + "/messages", `{"body":"\ud800"}`, []string{"Content-Type", client.MessageType}, 400, []string{"half of a surrogate pair", ".body"}},
		{"POST", readings + "/messages", "{\"body\":\"\xff\"}", []string{"Content-Type", client.MessageType}, 400, []string{"byte 10 is not UTF-8"}},
		{"POST", readings + "/messages", `{"key":"a","key":"b"}`, []string{"Content-Type", client.MessageType}, 400, []string{"comes twice"}},
		{"POST", readings + "/messages", `{"Key":"a"}`, []string{"Content-Type", client.MessageType}, 400, []string{`spelled \"key\"`}},
		{"POST", readings + "/messages", `{"headers":{"a\nb":"1"}}`, []string{"Content-Type", client.MessageType}, 400, []string{"control characters"}},
		{"POST", readings + "/messages", `{"contentType":"text/plain\r\nX: y"}`, []string{"Content-Type", client.MessageType}, 400, []string{"control characters"}},
		{"POST", readings + "/messages", "{\"body\":1}\n{\"n\":1}\n", []string{"Content-Type", client.NDJSONType}, 400, []string{`"line":2`, `unknown field \"n\"`}},
		{"POST", readings + "/messages?partiton=1", "x", nil, 400, []string{"partiton", "partition"}},
		{"GET", readings + "/messages?limit=1&limit=2", "", nil, 400, []string{"comes more than once"}},
		{"DELETE", readings + "?preview=yes", "", nil, 400, []string{"preview", "true, false"}},
		{"GET", readings + "/messages?a=%zz", "", nil, 400, []string{"percent-encoding"}},
		{"PATCH", readings, `{"retain":"1h","retain":"2h"}`, nil, 400, []string{"comes twice"}},
		{"PATCH", readings, `{"description":"a"} {}`, nil, 400, []string{"more after the JSON value"}},
		{"GET", "/assets/none.js", "", nil, 404, nil},
	} {
		answer := n.Ask(c.method, c.path, c.body, c.header...)
		name := c.method + " " + c.path + " " + c.body[:min(len(c.body), 60)]
		assert.Equal(t, c.status, answer.Status, "%s: %s", name, answer.Body)
		if c.says != nil {
			assert.Equal(t, client.ProblemType, answer.Header.Get("Content-Type"), name)
		}
		for _, says := range c.says {
			assert.Contains(t, answer.Body, says, name)
		}
	}
	kept := browse(t, n, client.Query{})
	assert.Len(t, kept, 1, "nothing of all that was kept but the line before a wrong one")
}

// What comes with each answer, and to whom.
func TestWhatBrowsersAreTold(t *testing.T) {
	n := harness.Start(t)
	for _, path := range []string{"/", "/sign-in", "/channels/coldchain/readings"} {
		answer := n.Ask("GET", path, "")
		assert.Equal(t, 200, answer.Status, path)
		assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "default-src 'self'", path)
		assert.Equal(t, "same-origin", answer.Header.Get("Cross-Origin-Opener-Policy"), path)
	}
	for _, path := range []string{"/api/v1/status", "/api/v1/none"} {
		answer := n.Ask("GET", path, "")
		assert.Equal(t, "default-src 'none'; frame-ancestors 'none'", answer.Header.Get("Content-Security-Policy"), path)
		assert.Equal(t, "same-origin", answer.Header.Get("Cross-Origin-Resource-Policy"), path)
		assert.Equal(t, "nosniff", answer.Header.Get("X-Content-Type-Options"), path)
	}
}

func TestANodeAnswersToItsNamesOnly(t *testing.T) {
	n := harness.Start(t, "-names", "ferry.example, other.example")
	for host, status := range map[string]int{"ferry.example": 200, "FERRY.example.:14720": 200, "localhost:1": 200, "127.0.0.1": 200, "[::1]:80": 200,
		"rebound.example": 421, "ferry.example.evil": 421, "localhost.evil": 421} {
		for path, want := range map[string]int{"/api/v1/status": status, "/": status, "/healthz": 200} {
			request, err := http.NewRequest("GET", n.URL+path, nil)
			require.NoError(t, err)
			request.Host = host
			request.Header.Set("Authorization", "Bearer "+n.Token)
			response, err := http.DefaultClient.Do(request)
			require.NoError(t, err)
			response.Body.Close()
			assert.Equal(t, want, response.StatusCode, "%s%s", host, path)
		}
	}
}

// What HTTP lets be said twice is said once, or refused.
func TestAHeaderIsGivenOnce(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	for _, name := range []string{"Ferry-Key", "Ferry-Header-Box", "Ferry-Publisher-Time", "Content-Type"} {
		request, err := http.NewRequest("POST", n.URL+messages, strings.NewReader("x"))
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+n.Token)
		request.Header[name] = []string{"2026-11-23T08:00:00Z", "2026-11-23T08:00:01Z"}
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		body, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, 400, response.StatusCode, "%s: %s", name, body)
		assert.Contains(t, string(body), name+" comes 2 times")
	}
	assert.Equal(t, 400, n.Ask("POST", messages+"?key=a", "x", "Ferry-Key", "b").Status)
	assert.Equal(t, 200, n.Ask("POST", messages+"?key=a", "x", "Ferry-Key", "a").Status)
}

func TestSendingLinesRefusesWhatItDoesNotKnow(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	_, errOut, code := n.Ferry("{\"body\":1}\n{\"n\":1}\n", "send", "coldchain/readings", "-ndjson")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "line 2")
	assert.Contains(t, errOut, `unknown field "n"`)
	assert.Contains(t, errOut, "with -lines instead of -ndjson, each line is a body")
	n.Must("send", "coldchain/readings", "-body", "\x1b[31mred")
	assert.Contains(t, n.Must("show", "coldchain/readings#0:1"), `\u001b[31mred`)
	assert.NotContains(t, n.Must("browse", "coldchain/readings"), "\x1b")
}

func TestNobodyGetsInWithoutAToken(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	var said []string
	for _, header := range []string{"", "Bearer wrong", "Bearer " + n.Token + "x", "Basic " + n.Token, n.Token} {
		for _, path := range []string{"/api/v1/status", "/api/v1/openapi.json", "/metrics", messages} {
			answer := n.Ask("GET", path, "", "Authorization", header)
			assert.Equal(t, 401, answer.Status, "%s with %q", path, header)
			said = append(said, answer.Body)
		}
	}
	for _, s := range said {
		assert.Equal(t, said[0], s, "which part is wrong is not told")
	}
	assert.Equal(t, 401, n.Ask("POST", messages, "x", "Authorization", "").Status)
	answer := n.Ask("POST", "/api/v1/session", `{"token":"`+n.Token+`"}`, "Authorization", "", "Origin", "http://elsewhere.example", "Sec-Fetch-Site", "cross-site")
	assert.Equal(t, 403, answer.Status, "another site may not sign in")
	answer = n.Ask("POST", "/api/v1/session", `{"token":"`+n.Token+`"}`, "Authorization", "")
	require.Equal(t, 200, answer.Status)
	cookie := answer.Header.Get("Set-Cookie")
	assert.Contains(t, cookie, "HttpOnly")
	assert.Contains(t, cookie, "SameSite=Strict")
	session, _, _ := strings.Cut(cookie, ";")
	assert.Equal(t, 200, n.Ask("GET", "/api/v1/status", "", "Authorization", "", "Cookie", session).Status)
	assert.Equal(t, 403, n.Ask("POST", messages, "x", "Authorization", "", "Cookie", session, "Sec-Fetch-Site", "cross-site").Status)
	assert.Equal(t, 204, n.Ask("DELETE", "/api/v1/session", "", "Authorization", "", "Cookie", session).Status)
	assert.Equal(t, 401, n.Ask("GET", "/api/v1/status", "", "Authorization", "", "Cookie", session).Status)

	var link client.Link
	require.NoError(t, json.Unmarshal([]byte(n.Ask("POST", "/api/v1/links", "").Body), &link))
	code := strings.TrimPrefix(link.Path, "/sign-in#")
	assert.Equal(t, 401, n.Ask("GET", "/api/v1/status", "", "Authorization", "Bearer "+code).Status, "a link is no token")
	assert.Equal(t, 200, n.Ask("POST", "/api/v1/session", `{"link":"`+code+`"}`, "Authorization", "").Status)
	assert.Equal(t, 401, n.Ask("POST", "/api/v1/session", `{"link":"`+code+`"}`, "Authorization", "").Status, "it works once")

	page := n.Ask("GET", "/", "", "Authorization", "")
	assert.Contains(t, page.Header.Get("Content-Security-Policy"), "default-src 'self'")
	assert.NotContains(t, page.Header.Get("Content-Security-Policy"), "unsafe")
}

func TestAFullDiskRefusesPublishingAndGoesOnByItself(t *testing.T) {
	dir := harness.Dir(t)
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=200m"); err != nil {
		t.Skipf("a small file system is needed, and mounting one is not allowed here: %v", err)
	}
	t.Cleanup(func() { syscall.Unmount(dir, syscall.MNT_DETACH) })
	// Its records are elsewhere: this is about the logs.
	n := harness.StartIn(t, dir, "-database", harness.SharedDatabase(t))
	n.Topic("coldchain/readings", 1)
	n.Must("send", "coldchain/readings", "-body", "before")
	fill := filepath.Join(dir, "fill")
	f, err := os.Create(fill)
	require.NoError(t, err)
	_, err = io.Copy(f, io.LimitReader(zeros{}, 1<<30))
	require.ErrorIs(t, err, syscall.ENOSPC)
	f.Close()
	require.Eventually(t, func() bool { return n.Ask("POST", messages, "x").Status == 507 }, 20*time.Second, 20*time.Millisecond)
	answer := n.Ask("POST", messages, "x")
	assert.Contains(t, answer.Body, "publishing goes on by itself")
	assert.Contains(t, n.Must("browse", "coldchain/readings"), "before")
	assert.Contains(t, n.Must("list"), "disk full")
	require.NoError(t, os.Remove(fill))
	require.Eventually(t, func() bool { return n.Ask("POST", messages, "after").Status == 200 }, 10*time.Second, 50*time.Millisecond)
	assert.Contains(t, n.Must("browse", "coldchain/readings", "-newest", "-limit", "1"), "after")
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

func TestIdleAndSlowConnectionsDoNotStopOthers(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 1)
	var limit syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit))
	limit.Cur = limit.Max
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &limit))
	idle := min(10_000, int(limit.Cur)-200)
	host := strings.TrimPrefix(n.URL, "http://")
	var slow []net.Conn
	defer func() {
		for _, c := range slow {
			c.Close()
		}
	}()
	for i := range idle {
		c, err := net.DialTimeout("tcp", host, 5*time.Second)
		require.NoError(t, err, "connection %d", i)
		slow = append(slow, c)
		switch {
		case i%3 == 0: // a request that never ends
			fmt.Fprintf(c, "POST %s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\n", messages, n.Token)
		case i < 300: // a body that never ends
			fmt.Fprintf(c, "POST %s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Length: 1000\r\n\r\nhalf", messages, n.Token)
		}
	}
	began := time.Now()
	for range 100 {
		answer := n.Ask("POST", messages, "still here")
		require.Equal(t, 200, answer.Status, answer.Body)
	}
	assert.Less(t, time.Since(began), 5*time.Second)
	t.Logf("%d idle and slow connections; 100 messages in %s", idle, time.Since(began))
	// Requests that do not come to their headers' end are closed.
	slow[0].SetReadDeadline(time.Now().Add(20 * time.Second))
	_, err := io.ReadAll(slow[0])
	assert.NoError(t, err)
}

func TestMetricsHaveOurNames(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	l.Close()
	n := harness.Start(t, "-metrics-listen", address)
	n.Topic("coldchain/readings", 1)
	n.Must("send", "coldchain/readings", "-body", "x", "-repeat", "3")
	response, err := http.Get("http://" + address + "/metrics")
	require.NoError(t, err)
	defer response.Body.Close()
	b, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	for _, body := range []string{string(b), n.Ask("GET", "/metrics", "").Body} {
		assert.Contains(t, body, `steadyferry_messages_in_total{channel="coldchain/readings",partition="0"} 3`)
		assert.Contains(t, body, "steadyferry_catalog_reachable 1")
		assert.Contains(t, body, `steadyferry_incidents{level="alarm"} 0`)
	}
}
