package api_test

import (
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	services "steadyferry/internal/service/access"
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
	return d.Access.Asker(a, services.Coming{From: "127.0.0.1:1"})
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
	d.Access.NoteGathered(t.Context(), false)
	refused := entries(t, d, url.Values{"outcome": {"refused"}})
	require.Len(t, refused, 3)
	all := strings.Join(refused, "\n")
	assert.Contains(t, all, "refused|desk-1|token|127.0.0.1|see-content|coldchain/inspections|since ")
	assert.Contains(t, all, "; times 3; why desk-1 may not see-content coldchain/inspections")
	assert.Contains(t, all, "refused|desk-1|token|127.0.0.1|set|coldchain/inspections|why desk-1 may not set coldchain/inspections")
	assert.Contains(t, all, "refused|nobody||127.0.0.1|sign in||why with a token, a session or a link that is not in force")
	d.Access.NoteGathered(t.Context(), false)
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

// Who sees what is in messages is noted once a selection, and again only later, with how often;
// who sees only that they are there is not.
func TestReadingContentsIsNoted(t *testing.T) {
	d := doortest.Open(t)
	ctx := accesstest.Owner(t)
	q := d.Channel(setting.Queue, "coldchain/inspections", nil)
	readings := d.Channel(setting.Topic, "coldchain/readings", nil)
	for _, c := range []*part.Channel{q, readings} {
		_, err := d.Parts.PublishMessages(ctx, c, 0, []*message.Message{{ID: "m-1", Body: []byte(`{"celsius":9}`)}})
		require.NoError(t, err)
	}
	desk := inspector(t, d)
	get := func(token, path string, status int) {
		r, body := d.Do("GET", path, "", "", "Authorization", "Bearer "+token)
		require.Equal(t, status, r.StatusCode, "%s: %s", path, body)
	}
	const r0, q0 = "/api/v1/channels/coldchain/readings", "/api/v1/channels/coldchain/inspections"
	for range 3 {
		get(d.Token, r0+"/messages", 200)
	}
	get(d.Token, r0+"/messages?where=size%3E3", 200)
	get(d.Token, r0+"/messages?where=nonsense(", 400)
	get(d.Token, r0+"/export", 200)
	get(d.Token, r0+"/partitions/0/messages/0", 200)
	get(d.Token, q0+"/items", 200)
	get(d.Token, q0+"/trace/0/0", 200)
	get(d.Token, r0, 200)
	get(d.Token, r0+"/partitions/0/records?from=first", 200) // programs read, too often to tell
	get(desk, "/api/v1/trace?id=m-1", 200)
	for _, path := range []string{"/items", "/items/0/0", "/dead", "/trace/0/0"} {
		get(desk, q0+path, 200)
	}
	d.Access.NoteGathered(t.Context(), false)
	read := url.Values{"action": {services.ReadsContents}}
	all := entries(t, d, read)
	require.Len(t, all, 3, "%v", all)
	text := strings.Join(all, "\n")
	assert.Contains(t, text, "done|owner|token|127.0.0.1|read contents|coldchain/readings|since ")
	assert.Contains(t, text, "; times 5")
	assert.Contains(t, text, "done|owner|token|127.0.0.1|read contents|coldchain/readings|where size>3")
	assert.Contains(t, text, "done|owner|token|127.0.0.1|read contents|coldchain/inspections|since ")
	get(d.Token, r0+"/messages", 200)
	d.Access.NoteGathered(t.Context(), false)
	assert.Len(t, entries(t, d, read), 3, "it was noted a moment ago")
	d.Access.NoteGathered(t.Context(), true)
	assert.Len(t, entries(t, d, read), 4, "and what is left is noted at the end")
	d.Access.NoteGathered(t.Context(), true)
	assert.Len(t, entries(t, d, read), 4)

	// All of it as a file: an entry a line, as far as whoever asks may see.
	r, body := d.Do("GET", "/api/v1/logbook/lines?action=read", "", "")
	require.Equal(t, 200, r.StatusCode)
	assert.Contains(t, r.Header.Get("Content-Disposition"), "attachment; filename=")
	lines := strings.Split(strings.TrimSpace(body), "\n")
	require.Len(t, lines, 4)
	for _, line := range lines {
		var e form.LogbookEntry
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		assert.Equal(t, "owner", e.Who)
	}
	r, body = d.Do("GET", "/api/v1/logbook/lines", "", "", "Authorization", "Bearer "+desk)
	require.Equal(t, 200, r.StatusCode)
	assert.Empty(t, body, "the desk may see no entries")
	r, _ = d.Do("GET", "/api/v1/logbook/lines?since=soon", "", "")
	assert.Equal(t, 400, r.StatusCode)
}

// A cursor may be any number that an entry can have.
func TestCursorsMayBeLarge(t *testing.T) {
	d := doortest.Open(t)
	d.Channel(setting.Topic, "coldchain/readings", nil)
	var page form.Page[form.LogbookEntry]
	for _, cursor := range []string{"1", "2147483648", "4611686018427387903"} {
		require.Equal(t, 200, d.Ask("GET", "/api/v1/logbook?cursor="+cursor, "", &page), cursor)
		assert.Equal(t, cursor == "1", len(page.Items) == 0, cursor)
		for _, path := range []string{"/api/v1/incidents?cursor=" + cursor, "/api/v1/events?address=coldchain/readings&cursor=" + cursor} {
			r, b := d.Do("GET", path, "", "")
			assert.NotEqual(t, 500, r.StatusCode, "%s: %s", path, b)
		}
	}
}

// What an entry tells is taken back over HTTP as by the client: by whoever may do the act itself.
func TestAnEntryIsTakenBack(t *testing.T) {
	d := doortest.Open(t)
	d.Channel(setting.Topic, "coldchain/readings", nil)
	require.Equal(t, 200, d.Ask("PATCH", "/api/v1/channels/coldchain/readings", `{"description":"boxes"}`, nil))
	var page form.Page[form.LogbookEntry]
	require.Equal(t, 200, d.Ask("GET", "/api/v1/logbook?address=coldchain/readings", "", &page))
	require.True(t, page.Items[0].Undo, "%+v", page.Items[0])
	assert.False(t, page.Items[1].Undo, "%+v", page.Items[1])
	path := fmt.Sprintf("/api/v1/logbook/entries/%d/undo", page.Items[0].ID)
	viewer := person(t, d, "ines", "viewer", nil, "coldchain")
	r, b := d.Do("POST", path, "", "", "Authorization", "Bearer "+viewer)
	assert.Equal(t, 403, r.StatusCode, b)
	var p form.Preview
	require.Equal(t, 200, d.Ask("POST", path+"?preview=true", "", &p))
	assert.Equal(t, "", p.After["description"])
	assert.False(t, p.Done)
	require.Equal(t, 200, d.Ask("POST", path, "", &p))
	assert.True(t, p.Done)
	require.Equal(t, 409, d.Ask("POST", path, "", nil), "it is another thing by now")
	require.Equal(t, 404, d.Ask("POST", "/api/v1/logbook/entries/999999/undo", "", nil))
	require.Equal(t, 400, d.Ask("POST", "/api/v1/logbook/entries/none/undo", "", nil))
}
