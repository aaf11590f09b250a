// Package console serves the built web console, which is embedded.
package console

import (
	"bytes"
	"crypto/rand"
	"embed"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"
)

//go:embed all:dist
var dist embed.FS

// noncePlaceholder stands in the built index.html where the nonce of the
// answer goes.
const noncePlaceholder = "ferry-csp-nonce"

// Handler serves the console's files. Hashed assets may be kept for a year;
// every other path is the page itself, which finds its way by the path.
func Handler() http.Handler {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the directory is embedded
	}
	index, err := fs.ReadFile(files, "index.html")
	if err != nil {
		index = []byte("<!doctype html><title>Steady Ferry</title><p>The console is not built into this ferryd: run make build.")
	}
	static := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.Error(w, "not allowed", http.StatusMethodNotAllowed)
			return
		}
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if strings.HasPrefix(name, "assets/") || strings.Contains(path.Base(name), ".") && isFile(files, name) {
			if !isFile(files, name) {
				h.Set("Cache-Control", "no-store")
				http.NotFound(w, r)
				return
			}
			h.Set("Cache-Control", "no-cache")
			if strings.HasPrefix(name, "assets/") {
				h.Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			if packed := name + ".gz"; isFile(files, packed) {
				h.Set("Vary", "Accept-Encoding")
				if takesGzip(r.Header.Get("Accept-Encoding")) {
					h.Set("Content-Encoding", "gzip")
					h.Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
					r = r.Clone(r.Context())
					r.URL.Path = "/" + packed
				}
			}
			static.ServeHTTP(w, r)
			return
		}
		nonce := rand.Text()
		h.Set("Content-Security-Policy", "default-src 'self'; script-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; object-src 'none'; base-uri 'none'; frame-ancestors 'none'; form-action 'self'; style-src 'self' 'nonce-"+nonce+"'")
		h.Set("Cache-Control", "no-store") // the nonce is for once
		h.Set("Content-Type", "text/html; charset=utf-8")
		w.Write(bytes.ReplaceAll(index, []byte(noncePlaceholder), []byte(nonce)))
	})
}

// takesGzip reads Accept-Encoding: gzip is taken when it, or everything, is named
// with a weight above 0.
func takesGzip(accepted string) bool {
	for part := range strings.SplitSeq(accepted, ",") {
		name, weight, _ := strings.Cut(strings.TrimSpace(part), ";")
		if name = strings.TrimSpace(name); name != "gzip" && name != "*" {
			continue
		}
		weight = strings.TrimSpace(weight)
		q, err := strconv.ParseFloat(strings.TrimPrefix(weight, "q="), 64)
		return weight == "" || err == nil && q > 0
	}
	return false
}

func isFile(files fs.FS, name string) bool {
	info, err := fs.Stat(files, name)
	return err == nil && !info.IsDir() && !strings.HasPrefix(name, ".")
}
