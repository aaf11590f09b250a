// Package doortest opens the HTTP interface of a node within a test's process.
package doortest

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/signin"
	"steadyferry/internal/door/api"
	"steadyferry/internal/node/nodetest"
)

// Door is the API of a node, and who may do all with it.
type Door struct {
	*nodetest.Node
	URL   string
	Token string
	t     *testing.T
}

// Open opens a node and its API.
func Open(t *testing.T) *Door {
	t.Helper()
	return door(t, nodetest.Open(t))
}

// OpenAs opens them, with ways to sign in as the file of -sign-in says it.
func OpenAs(t *testing.T, signIn *signin.Config) *Door {
	t.Helper()
	return door(t, nodetest.OpenAs(t, signIn))
}

func door(t *testing.T, n *nodetest.Node) *Door {
	t.Helper()
	s, err := api.New(&n.Services, http.NotFoundHandler())
	require.NoError(t, err)
	server := httptest.NewServer(s.Handler())
	t.Cleanup(server.Close)
	t.Cleanup(s.Stop)
	token, err := n.Access.WriteOwnerToken(t.Context())
	require.NoError(t, err)
	return &Door{n, server.URL, token, t}
}

// Do sends a request, with a content type unless it is empty, and returns the
// answer with its body read.
func (d *Door) Do(method, path, contentType, body string, header ...string) (*http.Response, string) {
	d.t.Helper()
	q, err := http.NewRequestWithContext(d.t.Context(), method, d.URL+path, strings.NewReader(body))
	require.NoError(d.t, err)
	q.Header.Set("Authorization", "Bearer "+d.Token)
	if contentType != "" {
		q.Header.Set("Content-Type", contentType)
	}
	for i := 0; i+1 < len(header); i += 2 {
		q.Header.Set(header[i], header[i+1])
	}
	r, err := http.DefaultClient.Do(q)
	require.NoError(d.t, err)
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	require.NoError(d.t, err)
	return r, string(b)
}

// Ask sends a request, and returns its status and the answer's JSON.
func (d *Door) Ask(method, path, body string, into any) int {
	d.t.Helper()
	r, b := d.Do(method, path, "", body)
	if into != nil {
		require.NoError(d.t, json.Unmarshal([]byte(b), into), "%s %s: %s", method, path, b)
	}
	return r.StatusCode
}
