// Package desk stands in for whoever is told of incidents in the demo: a place outside,
// which takes notices that are signed, each once, and shows them.
package desk

import (
	_ "embed"
	"encoding/json"
	"html/template"
	"io"
	"net/http"
	"slices"
	"sync"
	"time"

	"steadyferry/client"
	"steadyferry/cmd/ferryd/clinic"
)

//go:embed page.html
var page string

var shown = template.Must(template.New("page").Funcs(template.FuncMap{"clock": func(t time.Time) string { return t.Local().Format("15:04:05") }}).Parse(page))

const (
	kept    = 100
	maxBody = 1 << 20
)

// Got is a notice that came.
type Got struct {
	client.Notice
	CameAt time.Time
	Trial  string // what a trial says
	Again  int    // how often it came once more
}

// Desk is the stand-in; it may be used by many at once.
type Desk struct {
	secret []byte

	mu  sync.Mutex
	got []*Got // the newest last
	ids map[string]*Got
}

// New returns a desk that takes what is signed with a secret.
func New(secret string) *Desk { return &Desk{secret: []byte(secret), ids: map[string]*Got{}} }

// Got returns the notices that came, the newest first.
func (d *Desk) Got() []Got {
	d.mu.Lock()
	defer d.mu.Unlock()
	all := make([]Got, len(d.got))
	for i, g := range slices.Backward(d.got) {
		all[len(d.got)-1-i] = *g
	}
	return all
}

// ServeHTTP takes notices (POST), and shows them (GET).
func (d *Desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.Method {
	case http.MethodPost:
		d.take(w, r)
	case http.MethodGet:
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = shown.Execute(w, d.Got())
	case http.MethodOptions: // whether notices are wanted
		w.Header().Set("WebHook-Allowed-Origin", r.Header.Get("WebHook-Request-Origin"))
		w.Header().Set("WebHook-Allowed-Rate", "*")
	default:
		http.Error(w, "POST or GET", http.StatusMethodNotAllowed)
	}
}

func (d *Desk) take(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	if err != nil {
		http.Error(w, err.Error(), http.StatusRequestEntityTooLarge)
		return
	}
	if err := clinic.Verify(d.secret, r.Header, body); err != nil {
		http.Error(w, err.Error(), http.StatusUnauthorized)
		return
	}
	g := &Got{CameAt: time.Now()}
	if err := json.Unmarshal(body, &g.Notice); err != nil {
		http.Error(w, "a notice is expected: "+err.Error(), http.StatusUnprocessableEntity)
		return
	}
	if len(g.Incidents) == 0 {
		g.Trial = g.Says
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	id := r.Header.Get("Webhook-Id")
	if known := d.ids[id]; known != nil {
		known.Again++
	} else {
		d.ids[id] = g
		d.got = append(d.got, g)
		if len(d.got) > kept {
			d.got = d.got[1:]
		}
	}
	w.WriteHeader(http.StatusNoContent)
}
