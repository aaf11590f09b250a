package api_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/account"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/signin"
	"steadyferry/internal/engine/catalog"
	"steadyferry/test/doortest"
)

const accountPassword = "kolme venettä ja hinaaja"

// invite makes ines and her invitation over HTTP.
func invite(t *testing.T, d *doortest.Door) string {
	var invitation struct{ Path string }
	require.Equal(t, 201, d.Ask("POST", "/api/v1/accounts", `{"principal":"ines"}`, &invitation))
	path, text, _ := strings.Cut(invitation.Path, "#")
	require.Equal(t, "/invited", path, "it stands behind # of a page")
	return text
}

// nobodyAsks posts without a credential.
func nobodyAsks(d *doortest.Door, path string, body map[string]string, header ...string) (*http.Response, string) {
	b, err := json.Marshal(body)
	if err != nil {
		panic(err)
	}
	return d.Do("POST", path, "application/json", string(b), append([]string{"Authorization", ""}, header...)...)
}

// From an invitation to a session, and to another password; each over HTTP, as the console does it.
func TestAnAccountFromItsInvitationOn(t *testing.T) {
	d := doortest.Open(t)
	d.Somebody("ines", setting.Principal{Kind: setting.Person}, "viewer", "coldchain")
	invitation := invite(t, d)
	r, body := nobodyAsks(d, "/api/v1/sign-in/invitation", map[string]string{"invitation": invitation})
	require.Equal(t, 200, r.StatusCode, body)
	var codes struct{ Name, Secret string }
	require.NoError(t, json.Unmarshal([]byte(body), &codes))
	code := func() string {
		d.Exec(`UPDATE accounts SET step = 0`)
		text, err := account.Code(codes.Secret, time.Now())
		require.NoError(t, err)
		return text
	}

	const accept = "/api/v1/sign-in/invitation/accept"
	r, body = nobodyAsks(d, accept+"?preview=true", map[string]string{"invitation": invitation, "password": "password1234"})
	assert.Equal(t, 200, r.StatusCode)
	assert.Contains(t, body, `"taken":false`)
	assert.Contains(t, body, "several words")
	r, _ = nobodyAsks(d, accept+"?preview=true", map[string]string{"invitation": "i-x", "password": accountPassword})
	assert.Equal(t, 404, r.StatusCode, "it judges for who is invited alone")
	assert.Empty(t, r.Cookies())
	r, body = nobodyAsks(d, accept, map[string]string{"invitation": invitation, "password": accountPassword, "code": code()}, "Sec-Fetch-Site", "cross-site", "Origin", "https://elsewhere.example")
	assert.Equal(t, 403, r.StatusCode, "a page of another site: %s", body)
	r, body = nobodyAsks(d, accept, map[string]string{"invitation": invitation, "password": accountPassword, "code": code()})
	require.Equal(t, 200, r.StatusCode, body)
	assert.Contains(t, body, `"name":"ines"`)
	assert.Contains(t, body, `"account":true`)
	require.Len(t, r.Cookies(), 1)

	const enter = "/api/v1/sign-in/account"
	r, _ = nobodyAsks(d, enter, map[string]string{"name": "ines", "password": accountPassword, "code": code()}, "Sec-Fetch-Site", "cross-site", "Origin", "https://elsewhere.example")
	assert.Equal(t, 403, r.StatusCode)
	r, body = nobodyAsks(d, enter, map[string]string{"name": " Ines ", "password": accountPassword, "code": code()})
	require.Equal(t, 200, r.StatusCode, body)
	session := r.Cookies()[0]
	assert.True(t, session.HttpOnly)
	as := func(method, path, body string) (int, string) {
		r, said := d.Do(method, path, "application/json", body, "Authorization", "", "Cookie", session.Name+"="+session.Value)
		return r.StatusCode, said
	}
	status, said := as("PUT", "/api/v1/account", `{"password":"another one","code":"`+code()+`","next":"neljä lauttaa ja majakka"}`)
	assert.Equal(t, 403, status, said)
	status, said = as("PUT", "/api/v1/account", `{"password":"`+accountPassword+`","code":"`+code()+`","next":"neljä lauttaa ja majakka"}`)
	require.Equal(t, 200, status, said)
	status, _ = as("GET", "/api/v1/session", "")
	assert.Equal(t, 401, status, "the session from before has ended")
	r, _ = nobodyAsks(d, enter, map[string]string{"name": "ines", "password": accountPassword, "code": code()})
	assert.Equal(t, 401, r.StatusCode)

	var page struct {
		Items []struct{ Name, Account string }
	}
	require.Equal(t, 200, d.Ask("GET", "/api/v1/principals", "", &page))
	for _, p := range page.Items {
		assert.Equal(t, map[string]string{"ines": "open"}[p.Name], p.Account, p.Name)
	}
}

// What is told of a sign-in that is wrong is the same to the byte, whatever is wrong.
func TestNobodyLearnsWhoHasAnAccount(t *testing.T) {
	d := doortest.Open(t)
	d.Somebody("ines", setting.Principal{Kind: setting.Person}, "viewer", "coldchain")
	d.Somebody("lana", setting.Principal{Kind: setting.Person}, "viewer", "coldchain")
	invite(t, d)
	first := ""
	for _, name := range []string{"ines", "lana", "nobody", "owner", "", "ines\u0000", strings.Repeat("x", 99)} {
		r, body := nobodyAsks(d, "/api/v1/sign-in/account", map[string]string{"name": name, "password": accountPassword, "code": "123456"})
		assert.Equal(t, 401, r.StatusCode, name)
		assert.Empty(t, r.Cookies())
		if first == "" {
			first = body
		}
		assert.Equal(t, first, body, name)
	}
	d.Access.NoteGathered(t.Context(), true)
	rows, err := catalog.List[string](t.Context(), d.Catalog, `SELECT after::text FROM logbook WHERE action = 'sign in' AND outcome = 'refused'`)
	require.NoError(t, err)
	said := strings.Join(rows, "\n")
	assert.Contains(t, said, "with the account of ines")
	assert.Contains(t, said, "with an account that is not there")
	assert.NotContains(t, said, "xxxx", "what is no name may be a password")
	assert.NotContains(t, said, accountPassword)
}

// What is switched off is told, and refused; programs come with tokens all the same.
func TestWaysToSignInCanBeSwitchedOff(t *testing.T) {
	no := false
	d := doortest.OpenAs(t, &signin.Config{Accounts: &no, Tokens: &no})
	var ways struct{ Accounts, Tokens bool }
	require.Equal(t, 200, d.Ask("GET", "/api/v1/sign-in", "", &ways))
	assert.False(t, ways.Accounts || ways.Tokens)
	r, body := nobodyAsks(d, "/api/v1/session", map[string]string{"token": d.Token})
	assert.Equal(t, 403, r.StatusCode)
	assert.Contains(t, body, "ferry access link")
	r, _ = nobodyAsks(d, "/api/v1/sign-in/account", map[string]string{"name": "ines", "password": accountPassword, "code": "123456"})
	assert.Equal(t, 404, r.StatusCode)
	var link struct{ Path string }
	require.Equal(t, 201, d.Ask("POST", "/api/v1/links", "", &link))
	_, text, _ := strings.Cut(link.Path, "#")
	r, body = nobodyAsks(d, "/api/v1/session", map[string]string{"link": text})
	assert.Equal(t, 200, r.StatusCode, body)
}
