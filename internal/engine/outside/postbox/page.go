package postbox

import (
	_ "embed"
	"html/template"
	"net/http"
)

//go:embed page.html
var page string

var shown = template.Must(template.New("page").Parse(page))

// Page shows the letters that came.
func (b *Box) Page() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = shown.Execute(w, b.Letters())
	})
}
