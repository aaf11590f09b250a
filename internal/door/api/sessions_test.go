package api_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/engine/catalog"
	"steadyferry/test/doortest"
)

// A session that was left open does nothing dangerous, and neither what only looks nor a preview
// asks for more than it.
func TestAnOldSessionDoesNothingDangerous(t *testing.T) {
	d := doortest.Open(t)
	furnish(t, d)
	session, err := d.Access.NewSession(t.Context(), catalog.Secret{Principal: catalog.Owner}, "token", "127.0.0.1")
	require.NoError(t, err)
	d.Exec(`UPDATE secrets SET created_at = now() - interval '11 minutes' WHERE kind = 'session'`)
	require.NoError(t, d.Catalog.Refresh(t.Context()))
	before, dangerous := d.Catalog.View().Version, 0
	for _, o := range operations(t, d) {
		if !o.Fresh {
			continue
		}
		dangerous++
		body := bodies[o.Method+" "+o.Path]
		if body == "" && o.Method != "DELETE" {
			body = "{}"
		}
		r, body := d.Do(o.Method, strings.TrimSuffix(o.target(), "?preview=true"), "application/json", body, "Authorization", "Bearer "+session)
		assert.Equal(t, 403, r.StatusCode, "%s %s: %s", o.Method, o.Path, body)
		assert.Contains(t, body, "problem:sign-in-again", "%s %s", o.Method, o.Path)
	}
	assert.GreaterOrEqual(t, dangerous, 18)
	const actions = "/api/v1/channels/coldchain/inspections/actions"
	for body, status := range map[string]int{`{"action":"discard","why":"x"}`: 403, `{"action":"return"}`: 200} {
		r, said := d.Do("POST", actions, "application/json", body, "Authorization", "Bearer "+session)
		assert.Equal(t, status, r.StatusCode, said)
	}
	for path, body := range map[string]string{actions: `{"action":"discard","why":"x"}`, "/api/v1/grants": `{"to":"owner","role":"viewer","on":"*"}`} {
		r, said := d.Do("POST", path+"?preview=true", "application/json", body, "Authorization", "Bearer "+session)
		assert.Equal(t, 200, r.StatusCode, said)
	}
	assert.Equal(t, before, d.Catalog.View().Version)
}

// A session goes on while somebody does something with it, to an end that is not moved; one that
// only looks on ends.
func TestASessionEndsUnused(t *testing.T) {
	d := doortest.Open(t)
	session, err := d.Access.NewSession(t.Context(), catalog.Secret{Principal: catalog.Owner}, "token", "127.0.0.1")
	require.NoError(t, err)
	with := func(method string) int {
		r, _ := d.Do(method, "/api/v1/session", "", "", "Authorization", "", "Cookie", "ferry_session="+session)
		return r.StatusCode
	}
	left := func() time.Duration {
		all, err := d.Catalog.Secrets(t.Context())
		require.NoError(t, err)
		for _, s := range all {
			if s.Kind == catalog.Session {
				return time.Until(s.ExpiresAt)
			}
		}
		return 0
	}
	set := func(began, ends string) {
		d.Exec(`UPDATE secrets SET created_at = now() - interval '` + began + `', expires_at = now() + interval '` + ends + `' WHERE kind = 'session'`)
		require.NoError(t, d.Catalog.Refresh(t.Context()))
	}
	set("1 hour", "10 minutes")
	require.Equal(t, 200, with("GET"))
	assert.Less(t, left(), 11*time.Minute, "a page that asks by itself is no use")
	require.Equal(t, 204, with("PATCH"))
	assert.Greater(t, left(), 35*time.Minute)
	set("9 hours 50 minutes", "5 minutes")
	require.Equal(t, 204, with("PATCH"))
	assert.InDelta(t, 10, left().Minutes(), 1, "however much it is used")
	set("1 hour", "-1 second")
	assert.Equal(t, 401, with("PATCH"))

	// When a token was used is noted by and by.
	used := func() (at *time.Time) {
		var all struct {
			Items []struct {
				Kind   string
				UsedAt *time.Time
			}
		}
		require.Equal(t, 200, d.Ask("GET", "/api/v1/access", "", &all))
		for _, s := range all.Items {
			if s.Kind == catalog.Token {
				at = s.UsedAt
			}
		}
		return at
	}
	require.Nil(t, used())
	d.Access.NoteUses(t.Context())
	at := used()
	require.NotNil(t, at)
	assert.WithinDuration(t, time.Now(), *at, time.Minute)
}
