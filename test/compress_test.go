package test

import (
	"bufio"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

// TestAnswersAreCompressedWhereItGains asks as a browser does: what is large
// and text comes compressed and is the same, what is small comes as it is, and
// a stream comes when it is written, not when a block of the compressor is full.
func TestAnswersAreCompressedWhereItGains(t *testing.T) {
	n := harness.Start(t)
	n.Topic("coldchain/readings", 2)
	for i := range 40 {
		require.Equal(t, 200, n.Ask("POST", messages, fmt.Sprintf(`{"box":"box-%04d","celsius":4.5,"remark":"%s"}`, i, strings.Repeat("cold ", 40))).Status)
	}
	ask := func(path, accept string) *http.Response {
		r, err := http.NewRequestWithContext(t.Context(), "GET", n.URL+path, nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+n.Token)
		if accept != "" {
			r.Header.Set("Accept-Encoding", accept)
		}
		response, err := (&http.Client{Transport: &http.Transport{DisableCompression: true}}).Do(r)
		require.NoError(t, err)
		t.Cleanup(func() { response.Body.Close() })
		return response
	}
	for path, gains := range map[string]bool{"/api/v1/openapi.json": true, messages: true, "/api/v1/session": false, "/healthz": false,
		"/api/v1/channels/coldchain/readings/partitions/0/records?offset=0": false} {
		plain, err := io.ReadAll(ask(path, "").Body)
		require.NoError(t, err)
		packed := ask(path, "br, gzip")
		body, err := io.ReadAll(packed.Body)
		require.NoError(t, err)
		if !gains {
			assert.Empty(t, packed.Header.Get("Content-Encoding"), path)
			assert.Len(t, body, len(plain), path)
			continue
		}
		assert.Equal(t, "gzip", packed.Header.Get("Content-Encoding"), path)
		assert.Contains(t, packed.Header.Values("Vary"), "Accept-Encoding", path)
		assert.Less(t, len(body), len(plain)/3, path)
		reader, err := gzip.NewReader(strings.NewReader(string(body)))
		require.NoError(t, err, path)
		unpacked, err := io.ReadAll(reader)
		require.NoError(t, err, path)
		if path == messages { // it also says when it looked
			assert.Equal(t, strings.Count(string(plain), `"message"`), strings.Count(string(unpacked), `"message"`))
			continue
		}
		assert.Equal(t, string(plain), string(unpacked), path)
	}

	stream := ask("/api/v1/channels/coldchain/readings/tail?from=end", "gzip")
	require.Equal(t, 200, stream.StatusCode)
	assert.Equal(t, "gzip", stream.Header.Get("Content-Encoding"))
	began := time.Now()
	events := make(chan string, 100)
	go func() {
		var lines io.Reader = stream.Body
		if stream.Header.Get("Content-Encoding") == "gzip" {
			reader, err := gzip.NewReader(stream.Body)
			if err != nil {
				return
			}
			lines = reader
		}
		for s := bufio.NewScanner(lines); s.Scan(); {
			if data, ok := strings.CutPrefix(s.Text(), "data: "); ok {
				events <- data
			}
		}
	}()
	time.Sleep(300 * time.Millisecond)
	require.Equal(t, 200, n.Ask("POST", messages, `{"box":"box-0042"}`).Status)
	for {
		select {
		case data := <-events:
			var e client.Event
			require.NoError(t, json.Unmarshal([]byte(data), &e), data)
			if e.Message != nil && strings.Contains(string(e.Message.Bytes()), "box-0042") {
				t.Logf("after %v", time.Since(began))
				return
			}
		case <-time.After(5 * time.Second):
			t.Fatal("the message does not come through a compressed stream")
		}
	}
}
