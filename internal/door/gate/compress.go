package gate

import (
	"net/http"
	"strings"

	"github.com/klauspost/compress/gzhttp"

	"steadyferry/client"
)

// compressFrom is from how many bytes on an answer is compressed: less gains
// nothing.
const compressFrom = 4 << 10

// Compressed compresses what is read as text, for those who take it: a browser
// that watches the service gets its whole picture every second. Our own client
// asks for no compression: what it moves in bulk is compressed by who sends it.
func Compressed(next http.Handler) http.Handler {
	wrap, err := gzhttp.NewWrapper(gzhttp.MinSize(compressFrom), gzhttp.CompressionLevel(1), gzhttp.EnableZstd(false),
		gzhttp.ContentTypes([]string{"application/json", "application/problem+json", "text/event-stream", client.NDJSONType, client.CloudBatchType}))
	if err != nil {
		panic(err) // the options are the same every time
	}
	compressing := wrap(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodGet && strings.HasPrefix(r.URL.Path, "/api/") && strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
			compressing.ServeHTTP(w, r)
			return
		}
		next.ServeHTTP(w, r)
	})
}
