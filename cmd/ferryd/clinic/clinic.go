// Package clinic stands in for the web hook of the clinics in the demo: a place outside,
// which takes recalls of boxes, shows what it got, and does as a switch says: well, slow,
// down, or refusing one clinic. It checks signatures, and takes each message of a lane
// once.
package clinic

import (
	"crypto/hmac"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

//go:embed page.html
var page []byte

// The positions of the switch.
const (
	Well    = "well"
	Slow    = "slow"
	Down    = "down"
	Refuses = "refuses"
)

var modes = []string{Well, Slow, Down, Refuses}

// Refused is the clinic that a hook refuses whose switch says so.
const Refused = "hill-road"

const (
	slowness = 1500 * time.Millisecond
	kept     = 200
	maxBody  = 1 << 20
	// oldest is how long ago a signature may have been made.
	oldest = 5 * time.Minute
)

// Got is a delivery that came.
type Got struct {
	At     time.Time `json:"at"`
	ID     string    `json:"id"`
	Key    string    `json:"key"`
	Body   string    `json:"body"`
	Status int       `json:"status"` // that it was answered with
	Why    string    `json:"why"`
	Again  bool      `json:"again"` // it had come before
}

// Hook is the stand-in; it may be used by many at once.
type Hook struct {
	secret []byte

	mu     sync.Mutex // guards the rest
	mode   string
	got    []Got             // the newest last
	counts map[string]int    // by outcome
	places map[string]string // the last one taken, of each lane
}

// New returns a hook that takes what is signed with a secret.
func New(secret string) *Hook {
	return &Hook{secret: []byte(secret), mode: Well, counts: map[string]int{}, places: map[string]string{}}
}

// ServeHTTP answers deliveries (POST /), the question whether they are wanted
// (OPTIONS /), the page (GET /), what it shows (GET /got) and the switch (POST /switch).
func (h *Hook) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.Method + " " + r.URL.Path {
	case "OPTIONS /":
		w.Header().Set("WebHook-Allowed-Origin", r.Header.Get("WebHook-Request-Origin"))
		w.Header().Set("WebHook-Allowed-Rate", "*")
	case "POST /":
		h.take(w, r)
	case "GET /":
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write(page)
	case "GET /got":
		h.show(w)
	case "POST /switch":
		h.turn(w, r)
	default:
		http.NotFound(w, r)
	}
}

func (h *Hook) show(w http.ResponseWriter) {
	h.mu.Lock()
	defer h.mu.Unlock()
	got := slices.Clone(h.got)
	slices.Reverse(got)
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{"mode": h.mode, "counts": h.counts, "got": got, "refused": Refused})
}

// turn sets the switch. A page of elsewhere cannot: it must be of this one.
func (h *Hook) turn(w http.ResponseWriter, r *http.Request) {
	if origin := r.Header.Get("Origin"); origin != "" {
		if u, err := url.Parse(origin); err != nil || u.Host != r.Host {
			http.Error(w, "this page alone turns the switch", http.StatusForbidden)
			return
		}
	}
	mode := r.FormValue("mode")
	if !slices.Contains(modes, mode) {
		http.Error(w, fmt.Sprintf("mode is %q; allowed: %s", mode, strings.Join(modes, ", ")), http.StatusBadRequest)
		return
	}
	h.Switch(mode)
	w.WriteHeader(http.StatusNoContent)
}

// Switch has the hook do as one of the modes says from now on.
func (h *Hook) Switch(mode string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.mode = mode
}

func (h *Hook) take(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	if err != nil {
		http.Error(w, err.Error(), http.StatusRequestEntityTooLarge)
		return
	}
	key, _ := url.PathUnescape(r.Header.Get("Ce-Partitionkey"))
	g := Got{At: time.Now(), ID: r.Header.Get("Webhook-Id"), Key: key, Body: string(body)}
	h.mu.Lock()
	mode := h.mode
	h.mu.Unlock()
	if mode == Slow {
		select {
		case <-time.After(slowness):
		case <-r.Context().Done():
		}
	}
	h.mu.Lock()
	g.Status, g.Why, g.Again = h.judge(mode, r, body)
	outcome := "taken"
	switch {
	case g.Again:
		outcome = "again"
	case g.Status >= 500:
		outcome = "failed"
	case g.Status >= 400:
		outcome = "refused"
	}
	h.counts[outcome]++
	if h.got = append(h.got, g); len(h.got) > kept {
		h.got = slices.Delete(h.got, 0, len(h.got)-kept)
	}
	h.mu.Unlock()
	if g.Status >= 300 {
		http.Error(w, g.Why, g.Status)
		return
	}
	w.WriteHeader(g.Status)
}

// judge says how a delivery is answered. The lock is held.
func (h *Hook) judge(mode string, r *http.Request, body []byte) (status int, why string, again bool) {
	if err := Verify(h.secret, r.Header, body); err != nil {
		return http.StatusUnauthorized, err.Error(), false
	}
	if r.Header.Get("Ferry-Header-Ferry-Trial") == "true" && mode != Down {
		return http.StatusOK, "a trial", false
	}
	var recall struct {
		Clinic string `json:"clinic"`
	}
	_ = json.Unmarshal(body, &recall)
	lane, place := r.Header.Get("Ferry-Lane"), r.Header.Get("Ferry-Place")
	switch {
	case mode == Down:
		return http.StatusServiceUnavailable, "the clinics' office is closed", false
	case mode == Refuses && recall.Clinic == Refused:
		return http.StatusUnprocessableEntity, "clinic " + Refused + " is not on our list any more; send it under its new name", false
	case !before(h.places[lane], place):
		return http.StatusOK, "", true
	}
	h.places[lane] = place
	return http.StatusNoContent, "", false
}

// before compares places: numbers with dots between them.
func before(a, b string) bool {
	return slices.Compare(numbers(a), numbers(b)) < 0
}

func numbers(place string) (all []int64) {
	for one := range strings.SplitSeq(place, ".") {
		n, _ := strconv.ParseInt(one, 10, 64)
		all = append(all, n)
	}
	return all
}

// Verify checks a signature as Standard Webhooks 1.0 have it.
func Verify(secret []byte, header http.Header, body []byte) error {
	seconds, err := strconv.ParseInt(header.Get("Webhook-Timestamp"), 10, 64)
	if age := time.Since(time.Unix(seconds, 0)); err != nil || age.Abs() > oldest {
		return fmt.Errorf("the delivery was signed %q, which is not now", header.Get("Webhook-Timestamp"))
	}
	mac := hmac.New(sha256.New, secret)
	fmt.Fprintf(mac, "%s.%d.%s", header.Get("Webhook-Id"), seconds, body)
	for signature := range strings.SplitSeq(header.Get("Webhook-Signature"), " ") {
		sum, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(signature, "v1,"))
		if err == nil && hmac.Equal(sum, mac.Sum(nil)) {
			return nil
		}
	}
	return fmt.Errorf("the signature is not one by the secret of this hook")
}
