package console

import (
	"compress/gzip"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func get(path, accepted string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(http.MethodGet, path, nil)
	if accepted != "" {
		r.Header.Set("Accept-Encoding", accepted)
	}
	w := httptest.NewRecorder()
	Handler().ServeHTTP(w, r)
	return w
}

// What is served compressed is the same file, at least three times smaller, and
// only to those who take it so.
func TestAssetsAreServedCompressed(t *testing.T) {
	packed, err := fs.Glob(dist, "dist/assets/*.gz")
	require.NoError(t, err)
	if len(packed) == 0 {
		t.Skip("the console is not built")
	}
	for _, name := range packed {
		path := strings.TrimSuffix(strings.TrimPrefix(name, "dist"), ".gz")
		plain, small := get(path, "identity"), get(path, "br, gzip;q=0.8")
		require.Equal(t, 200, plain.Code)
		require.Equal(t, 200, small.Code)
		assert.Empty(t, plain.Header().Get("Content-Encoding"))
		assert.Equal(t, "gzip", small.Header().Get("Content-Encoding"))
		assert.Equal(t, plain.Header().Get("Content-Type"), small.Header().Get("Content-Type"), path)
		assert.Equal(t, "Accept-Encoding", plain.Header().Get("Vary"))
		assert.Contains(t, small.Header().Get("Cache-Control"), "immutable")
		assert.Less(t, 2*small.Body.Len(), plain.Body.Len(), path)
		open, err := gzip.NewReader(small.Body)
		require.NoError(t, err)
		b, err := io.ReadAll(open)
		require.NoError(t, err)
		assert.True(t, string(b) == plain.Body.String(), path)
	}
}

func TestWhoTakesGzip(t *testing.T) {
	for accepted, want := range map[string]bool{"": false, "gzip": true, "br, gzip": true, "gzip;q=0": false, "gzip; q=0.5": true, "*": true, "*;q=0": false, "br": false, "gzip;q=x": false, "xgzip": false} {
		assert.Equal(t, want, takesGzip(accepted), accepted)
	}
}
