package desk_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"steadyferry/cmd/ferryd/desk"
)

const secret = "northlight-duty-desk-knows-this"

func post(d *desk.Desk, id, body, by string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(http.MethodPost, "/desk/", strings.NewReader(body))
	at := time.Now().Unix()
	mac := hmac.New(sha256.New, []byte(by))
	fmt.Fprintf(mac, "%s.%d.%s", id, at, body)
	r.Header.Set("Webhook-Id", id)
	r.Header.Set("Webhook-Timestamp", fmt.Sprint(at))
	r.Header.Set("Webhook-Signature", "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)))
	w := httptest.NewRecorder()
	d.ServeHTTP(w, r)
	return w
}

func TestTheDeskTakesWhatIsSignedOnce(t *testing.T) {
	d := desk.New(secret)
	const notice = `{"notice":"n","says":"begins","incidents":[{"number":17,"word":"begins","link":"http://127.0.0.1/incidents/17","says":"<b>warm</b>"}]}`
	assert.Equal(t, http.StatusNoContent, post(d, "n", notice, secret).Code)
	assert.Equal(t, http.StatusNoContent, post(d, "n", notice, secret).Code)
	assert.Equal(t, http.StatusNoContent, post(d, "t", `{"says":"a trial","incidents":[]}`, secret).Code)
	assert.Equal(t, http.StatusNoContent, post(d, "early", `{"says":"begins","incidents":[{"number":0,"word":"begins","link":"http://127.0.0.1/incidents"}]}`, secret).Code)
	assert.Equal(t, http.StatusUnauthorized, post(d, "m", notice, "somebody else's").Code)
	assert.Equal(t, http.StatusUnprocessableEntity, post(d, "x", "warm", secret).Code)
	got := d.Got()
	if assert.Len(t, got, 3) {
		assert.Equal(t, "a trial", got[1].Trial)
		assert.Equal(t, 1, got[2].Again)
	}
	w := httptest.NewRecorder()
	d.ServeHTTP(w, httptest.NewRequest(http.MethodGet, "/desk/", nil))
	assert.Contains(t, w.Body.String(), "incident 17")
	assert.Contains(t, w.Body.String(), "an incident without a number yet")
	assert.NotContains(t, w.Body.String(), "<b>warm")
	w = httptest.NewRecorder()
	desk.New(secret).ServeHTTP(w, httptest.NewRequest(http.MethodGet, "/desk/", nil))
	assert.Contains(t, w.Body.String(), "No notice has come yet.")
}
