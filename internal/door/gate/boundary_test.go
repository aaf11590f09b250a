package gate

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// FuzzQueryValue compares what is found in a query with what net/url finds.
func FuzzQueryValue(f *testing.F) {
	for _, raw := range []string{"", "partition=3", "a=1&partition=3&partition=4", "%70artition=3", "partition=a+b%26c", "partition", "=3&partition=5", "a=%zz&partition=1", "partition=%zz&partition=2", "a;partition=1&partition=2", "&&partition=6"} {
		f.Add(raw)
	}
	f.Fuzz(func(t *testing.T, raw string) {
		values, _ := url.ParseQuery(raw) // what can be read of it
		if got, want := QueryValue(raw, "partition"), values.Get("partition"); got != want {
			t.Fatalf("%q of %q, net/url says %q", got, raw, want)
		}
		_, broken := url.ParseQuery(raw)
		refused := false
		for pair := range strings.SplitSeq(raw, "&") {
			if _, _, err := unescapePair(pair); err != nil {
				refused = true
			}
		}
		if refused != (broken != nil) {
			t.Fatalf("%q: broken for net/url: %v, for us: %v", raw, broken, refused)
		}
	})
}

// A page elsewhere that has its name resolve to a node comes with that name.
func TestRequestsForOtherHostsAreRefused(t *testing.T) {
	g := &Gate{names: []string{"ferry.depot.example"}}
	for host, known := range map[string]bool{
		"127.0.0.1:14720": true, "[::1]:14720": true, "[::1]": true, "10.0.0.7": true, "localhost": true, "localhost:14720": true, "LOCALHOST.": true, "ferry.depot.example:14720": true, "Ferry.Depot.Example": true,
		"evil.example": false, "ferry.depot.example.evil.example": false, "localhost.evil.example:14720": false, "127.0.0.1.evil.example": false,
	} {
		r := httptest.NewRequest("GET", "/boxes/7", nil)
		r.Host = host
		w := httptest.NewRecorder()
		c, _ := gin.CreateTestContext(w)
		c.Request = r
		g.KnownHost(c)
		assert.Equal(t, !known, c.IsAborted(), host)
		if !known {
			assert.Equal(t, http.StatusMisdirectedRequest, w.Code)
			assert.Contains(t, w.Body.String(), "start ferryd with -names")
		}
	}
}

// What is misspelt in a query, or comes twice, is refused instead of left out.
func TestQueriesHaveWhatTheDocumentSays(t *testing.T) {
	var document map[string]any
	require.NoError(t, json.Unmarshal([]byte(`{"components":{"parameters":{"Preview":{"name":"preview","in":"query","schema":{"type":"boolean"}}}},
		"paths":{"/boxes/{box}":{"parameters":[{"name":"box","in":"path"},{"$ref":"#/components/parameters/Preview"}],
			"get":{"parameters":[{"name":"limit","in":"query","schema":{"type":"integer"}},{"name":"partition","in":"query","schema":{"type":"array"}}]}}}}`), &document))
	g := &Gate{queries: queriesOf(document)}
	for query, wanted := range map[string]string{
		"": "fine", "?limit=5&preview=true": "fine", "?partition=1&partition=2": "fine", "?&&": "fine",
		"?limt=5": "there is no query parameter", "?limit=5&limit=6": "comes more than once", "?preview=yes": "true, false", "?preview": "true, false", "?limit=%zz": "broken", "?a=1;b=2": "broken", "?LIMIT=5": "limit, partition, preview",
	} {
		w := asked("GET", "/boxes/7"+query, "", g.KnownQuery, func(c *gin.Context) { c.String(http.StatusOK, "fine") })
		assert.Contains(t, w.Body.String(), wanted, query)
	}
	assert.Equal(t, "fine", asked("POST", "/boxes/7?anything=1", "", g.KnownQuery, func(c *gin.Context) { c.String(http.StatusOK, "fine") }).Body.String(), "what is not in the document is not for it to say")
}
