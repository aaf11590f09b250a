package gatehouse

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The stand-in vouches on this machine alone, to the client that it knows, and for a code once.
func TestItVouchesOnLoopbackAlone(t *testing.T) {
	h := New("http://127.0.0.1/people", "ferry", []Person{{Name: "help-desk-1", Says: "<b>looks</b>"}})
	server := httptest.NewServer(h.Handler())
	defer server.Close()
	browser := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	asked := func(changes map[string]string) string {
		q := url.Values{"redirect_uri": {"http://127.0.0.1:9/done"}, "client_id": {"ferry"}, "response_type": {"code"}, "code_challenge": {"x"}, "code_challenge_method": {"S256"}, "state": {"s&t"}}
		for name, value := range changes {
			q.Set(name, value)
		}
		return server.URL + "/people/enter?" + q.Encode()
	}
	get := func(at string) (int, string) {
		r, err := browser.Get(at)
		require.NoError(t, err)
		defer r.Body.Close()
		b, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		return r.StatusCode, string(b)
	}
	status, page := get(asked(nil))
	assert.Equal(t, 200, status)
	assert.Contains(t, page, "help-desk-1")
	assert.NotContains(t, page, "<b>looks")
	for name, wrong := range map[string]map[string]string{
		"elsewhere":    {"redirect_uri": "https://elsewhere.example/"},
		"in disguise":  {"redirect_uri": "http://127.0.0.1.elsewhere.example/"},
		"no address":   {"redirect_uri": "http://[::1"},
		"a stranger":   {"client_id": "other"},
		"without PKCE": {"code_challenge": ""},
		"a plain one":  {"code_challenge_method": "plain"},
		"a token":      {"response_type": "token"},
	} {
		status, _ := get(asked(wrong))
		assert.Equal(t, 400, status, name)
		r, err := browser.PostForm(asked(wrong), url.Values{"person": {"help-desk-1"}})
		require.NoError(t, err)
		r.Body.Close()
		assert.Equal(t, 400, r.StatusCode, name)
	}
	r, err := browser.PostForm(asked(nil), url.Values{"person": {"nobody"}})
	require.NoError(t, err)
	r.Body.Close()
	assert.Equal(t, 400, r.StatusCode)
	r, err = browser.PostForm(asked(nil), url.Values{"person": {"help-desk-1"}})
	require.NoError(t, err)
	r.Body.Close()
	to, err := r.Location()
	require.NoError(t, err)
	assert.Equal(t, "s&t", to.Query().Get("state"))
	r, err = browser.PostForm(server.URL+"/people/token", url.Values{"code": {to.Query().Get("code")}, "redirect_uri": {"http://127.0.0.1:9/done"}, "code_verifier": {"wrong"}})
	require.NoError(t, err)
	r.Body.Close()
	assert.Equal(t, 400, r.StatusCode)
	h.Away(true)
	status, _ = get(asked(nil))
	assert.Equal(t, 503, status)
	h.Away(false)
	_, described := get(server.URL + "/people/.well-known/openid-configuration")
	assert.True(t, strings.Contains(described, `"issuer":"http://127.0.0.1/people"`), described)
}
