package clinic

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"steadyferry/internal/core/endpoint"
)

const secret = "the clinics know this secret"

func deliver(h *Hook, signedBy, place, body string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(http.MethodPost, "/", strings.NewReader(body))
	now := time.Now()
	r.Header.Set("Webhook-Id", "delivery-"+place)
	r.Header.Set("Webhook-Timestamp", fmt.Sprint(now.Unix()))
	r.Header.Set("Webhook-Signature", endpoint.Sign([][]byte{[]byte("another one that is old"), []byte(signedBy)}, "delivery-"+place, now, []byte(body)))
	r.Header.Set("Ferry-Lane", "lane")
	r.Header.Set("Ferry-Place", place)
	w := httptest.NewRecorder()
	h.ServeHTTP(w, r)
	return w
}

func TestTheHookDoesAsTheSwitchSays(t *testing.T) {
	h := New(secret)
	assert.Equal(t, 204, deliver(h, secret, "0.1.9", `{"clinic":"hill-road"}`).Code)
	assert.Equal(t, 200, deliver(h, secret, "0.1.9", `{"clinic":"hill-road"}`).Code, "it has it")
	assert.Equal(t, 204, deliver(h, secret, "0.1.10", `{}`).Code)
	assert.Equal(t, 401, deliver(h, "who does not know the secret", "0.1.11", `{}`).Code)
	h.Switch(Refuses)
	assert.Equal(t, 422, deliver(h, secret, "0.1.12", `{"clinic":"hill-road"}`).Code)
	assert.Equal(t, 204, deliver(h, secret, "0.1.13", `{"clinic":"old-mill"}`).Code)
	h.Switch(Down)
	w := deliver(h, secret, "0.1.14", `{}`)
	assert.Equal(t, 503, w.Code)
	assert.Contains(t, w.Body.String(), "closed")
	assert.Equal(t, map[string]int{"taken": 3, "again": 1, "refused": 2, "failed": 1}, h.counts)

	show := httptest.NewRecorder()
	h.ServeHTTP(show, httptest.NewRequest(http.MethodGet, "/got", nil))
	assert.Contains(t, show.Body.String(), `"mode":"down"`)
}

func TestWhoTurnsTheSwitch(t *testing.T) {
	h := New(secret)
	for _, c := range []struct {
		mode, origin string
		status       int
	}{{Slow, "", 204}, {Well, "http://example.com", 204}, {Down, "http://elsewhere.example", 403}, {"off", "", 400}} {
		r := httptest.NewRequest(http.MethodPost, "/switch", strings.NewReader(url.Values{"mode": {c.mode}}.Encode()))
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		if c.origin != "" {
			r.Header.Set("Origin", c.origin)
		}
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		assert.Equal(t, c.status, w.Code, c.mode)
	}
	assert.Equal(t, Well, h.mode)
}
