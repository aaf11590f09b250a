package api_test

import (
	"encoding/json"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/test/doortest"
)

// entries are those of the logbook that a query asks for, as lines.
func entries(t *testing.T, d *doortest.Door, query url.Values) (lines []string) {
	t.Helper()
	r, body := d.Do("GET", "/api/v1/logbook?"+query.Encode(), "", "")
	require.Equal(t, 200, r.StatusCode, body)
	var page form.Page[form.LogbookEntry]
	require.NoError(t, json.Unmarshal([]byte(body), &page))
	for _, e := range page.Items {
		kind, _, _ := strings.Cut(e.Credential, " ")
		lines = append(lines, strings.Join([]string{e.Outcome, e.Who, kind, e.From, e.Action, e.Address, e.Change}, "|"))
	}
	return lines
}

// as is the owner as it comes with its token.
func as(t *testing.T, d *doortest.Door) access.Asker {
	a, ok := d.Catalog.Known(catalog.Token, d.Token)
	require.True(t, ok)
	return d.Access.Asker(a, "127.0.0.1:1")
}

// The logbook tells who did what with which credential and from where, and what was refused to
// whom, gathered.
func TestTheLogbookTellsWhatWasDoneAndRefused(t *testing.T) {
	d := doortest.Open(t)
	d.Channel(setting.Queue, "coldchain/inspections", nil)
	desk := inspector(t, d)
	do := func(token, method, path, body string) int {
		r, _ := d.Do(method, path, "application/json", body, "Authorization", "Bearer "+token)
		return r.StatusCode
	}
	require.Equal(t, 200, do(d.Token, "PATCH", "/api/v1/channels/coldchain/inspections", `{"lease":"1m"}`))
	for range 3 {
		require.Equal(t, 403, do(desk, "GET", "/api/v1/channels/coldchain/inspections/messages", ""))
	}
	require.Equal(t, 403, do(desk, "PATCH", "/api/v1/channels/coldchain/inspections", `{"lease":"2m"}`))
	require.Equal(t, 401, do("t-wrong", "GET", "/api/v1/status", ""))
	require.Equal(t, 200, do(desk, "GET", "/api/v1/channels/coldchain/inspections", ""))
	assert.Empty(t, entries(t, d, url.Values{"outcome": {"refused"}}))
	d.Access.NoteRefusals(t.Context())
	refused := entries(t, d, url.Values{"outcome": {"refused"}})
	require.Len(t, refused, 3)
	all := strings.Join(refused, "\n")
	assert.Contains(t, all, "refused|desk-1|token|127.0.0.1|see-content|coldchain/inspections|since ")
	assert.Contains(t, all, "; times 3; why desk-1 may not see-content coldchain/inspections")
	assert.Contains(t, all, "refused|desk-1|token|127.0.0.1|set|coldchain/inspections|why desk-1 may not set coldchain/inspections")
	assert.Contains(t, all, "refused|nobody||127.0.0.1|sign in||why with a token, a session or a link that is not in force")
	d.Access.NoteRefusals(t.Context())
	assert.Len(t, entries(t, d, url.Values{"outcome": {"refused"}}), 3, "each is told once")

	assert.Equal(t, []string{"done|owner|token|127.0.0.1|set queue|coldchain/inspections|lease 45s → 1m"}, entries(t, d, url.Values{"action": {"set queue"}}))
	assert.Len(t, entries(t, d, url.Values{"who": {"desk-1"}}), 2)
	r, body := d.Do("POST", "/api/v1/session", "application/json", `{"token":"`+desk+`"}`, "Authorization", "")
	require.Equal(t, 200, r.StatusCode, body)
	assert.Equal(t, []string{"done|desk-1||127.0.0.1|sign in|desk-1|by token"}, entries(t, d, url.Values{"action": {"sign in"}, "outcome": {"done"}}))
	_, err := d.Manage.SetSpace(access.As(t.Context(), as(t, d)), setting.Ferryd, "coldchain", setting.Change{"description": "by itself"}, false)
	require.NoError(t, err)
	assert.Equal(t, []string{"done|ferryd|||set space|coldchain|description none → by itself"}, entries(t, d, url.Values{"who": {setting.Ferryd}, "action": {"set space"}}), "who did not ask has come from nowhere")
	assert.Len(t, entries(t, d, url.Values{"address": {"coldchain"}, "outcome": {"refused"}}), 2)
	assert.Empty(t, entries(t, d, url.Values{"address": {"cold"}}), "not what only begins so")
	assert.Empty(t, entries(t, d, url.Values{"until": {"2020-01-01T00:00:00Z"}}))
	assert.NotEmpty(t, entries(t, d, url.Values{"since": {"2020-01-01T00:00:00Z"}}))
	for _, wrong := range []string{"outcome=perhaps", "since=yesterday", "until=x"} {
		r, _ := d.Do("GET", "/api/v1/logbook?"+wrong, "", "")
		assert.Equal(t, 400, r.StatusCode, wrong)
	}
}
