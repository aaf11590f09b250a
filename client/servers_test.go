package client

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/address"
)

// A token that goes over TLS goes over nothing else, whatever a server says
// about the others.
func TestTheTokenNeverLeavesTLS(t *testing.T) {
	var leaked atomic.Int64
	plain := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "" {
			leaked.Add(1)
		}
		json.NewEncoder(w).Encode(Cluster{})
	}))
	defer plain.Close()
	secure := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Ferry-Leader", plain.URL)
		switch r.URL.Path {
		case "/api/v1/servers":
			json.NewEncoder(w).Encode(Page[Server]{Items: []Server{{Node: "a", Up: true, URL: plain.URL}, {Node: "b", Up: true, URL: plain.URL}}})
		case "/api/v1/moved":
			http.Redirect(w, r, plain.URL+"/api/v1/moved", http.StatusTemporaryRedirect)
		default:
			json.NewEncoder(w).Encode(Channel{Each: []Partition{{Partition: 0, Leader: "a"}}})
		}
	}))
	defer secure.Close()
	c, err := New(secure.URL, "t-secret")
	require.NoError(t, err)
	c.tls.InsecureSkipVerify = true
	a, err := address.ParseChannel("coldchain/readings")
	require.NoError(t, err)
	for range 3 {
		var out map[string]any
		require.NoError(t, c.Call(t.Context(), http.MethodGet, "/status", nil, nil, &out))
		r, err := c.Do(t.Context(), Request{Method: http.MethodPost, Path: "/x", leaderOf: "coldchain/readings#0"})
		require.NoError(t, err)
		r.Body.Close()
		time.Sleep(50 * time.Millisecond) // it learns meanwhile
	}
	_, err = c.Do(t.Context(), Request{Method: http.MethodGet, Path: "/moved"})
	assert.Error(t, err, "a redirection is no answer")
	fast := c.FastPublisher(a)
	require.NoError(t, fast.Learn(t.Context()))
	assert.Len(t, fast.nodes, 1)
	assert.Empty(t, fast.leaders)
	secure.Close()
	_, err = c.Do(t.Context(), Request{Method: http.MethodGet, Path: "/status", once: true})
	assert.ErrorIs(t, err, ErrUnreachable)
	assert.Zero(t, leaked.Load())

	_, err = New("https://one:14720,http://two:14720", "t-secret")
	assert.ErrorContains(t, err, "not sent without it")
	_, err = New("ftp://one", "")
	assert.Error(t, err)
}
