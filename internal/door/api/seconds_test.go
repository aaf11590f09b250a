package api_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/engine/catalog"
	"steadyferry/test/doortest"
)

// two is a door with people of whom some do what is dangerous with a second person alone.
type two struct {
	*doortest.Door
	t      *testing.T
	tokens map[string]string
}

func openTwo(t *testing.T) *two {
	d := &two{doortest.Open(t), t, map[string]string{}}
	for _, path := range []string{`/api/v1/channels {"address":"coldchain/inspections","kind":"queue","attemptLimit":1}`, `/api/v1/channels {"address":"coldchain/drills","kind":"topic"}`} {
		at, body, _ := strings.Cut(path, " ")
		require.Less(t, d.Ask("POST", at, body, nil), 300)
	}
	for name, kind := range map[string]string{"ines": "person", "lana": "person", "vera": "person", "build-42": "machine"} {
		require.Equal(t, 204, d.Ask("POST", "/api/v1/principals", fmt.Sprintf(`{"name":%q,"kind":%q}`, name, kind), nil))
		var token struct{ Token string }
		require.Equal(t, 201, d.Ask("POST", "/api/v1/access/tokens", fmt.Sprintf(`{"principal":%q,"label":"test"}`, name), &token))
		d.tokens[name] = token.Token
	}
	d.tokens["owner"] = d.Token
	for to, rest := range map[string]string{"ines": `"role":"team-owner","on":"coldchain","second":true`, "lana": `"role":"team-owner","on":"coldchain","second":true`, "vera": `"role":"viewer","on":"coldchain"`, "build-42": `"role":"team-owner","on":"coldchain"`} {
		require.Equal(t, 200, d.Ask("POST", "/api/v1/grants", fmt.Sprintf(`{"to":%q,%s}`, to, rest), nil))
	}
	return d
}

// as asks as somebody, and returns the status and what was told.
func (d *two) as(who, method, path, body string) (int, string) {
	d.t.Helper()
	r, said := d.Do(method, path, "application/json", body, "Authorization", "Bearer "+d.tokens[who])
	return r.StatusCode, said
}

// waits has somebody ask for something that takes a second person, and returns its number.
func (d *two) waits(who, method, path, body string) int64 {
	d.t.Helper()
	status, said := d.as(who, method, path, body)
	require.Equal(d.t, 403, status, said)
	require.Contains(d.t, said, "second-person")
	require.Contains(d.t, said, "ferry access confirm")
	all := d.list(who)
	require.NotEmpty(d.t, all)
	return all[0].ID
}

type second struct {
	ID                          int64
	Who, State, DecidedBy, Verb string
	Address, Says, Outcome      string
	Mine                        bool
	Preview                     *struct{ Effects []string }
	Asked                       json.RawMessage
}

func (d *two) list(who string) (all []second) {
	d.t.Helper()
	status, said := d.as(who, "GET", "/api/v1/seconds", "")
	require.Equal(d.t, 200, status, said)
	page := struct{ Items []second }{}
	require.NoError(d.t, json.Unmarshal([]byte(said), &page))
	return page.Items
}

// Something dangerous waits, is foreseen by the second person as it would be, and is done once, in
// the name of who has asked for it.
func TestASecondPersonConfirms(t *testing.T) {
	d := openTwo(t)
	status, said := d.as("ines", "DELETE", "/api/v1/channels/coldchain/drills?preview=true", "")
	require.Equal(t, 200, status, "looking takes nobody: %s", said)
	id := d.waits("ines", "DELETE", "/api/v1/channels/coldchain/drills", "")
	assert.Equal(t, id, d.waits("ines", "DELETE", "/api/v1/channels/coldchain/drills", ""), "the same again is the same")
	require.NotNil(t, d.Catalog.View().Channels["coldchain/drills"], "nothing is done")

	path := fmt.Sprintf("/api/v1/seconds/%d", id)
	for who, want := range map[string]int{"ines": 403, "vera": 404, "build-42": 403} {
		status, said = d.as(who, "POST", path+"/confirm", "")
		assert.Equal(t, want, status, "%s: %s", who, said)
	}
	assert.Empty(t, d.list("vera"), "who may not do it does not see that it waits")
	require.Len(t, d.list("lana"), 1)
	assert.True(t, d.list("lana")[0].Mine)
	assert.False(t, d.list("ines")[0].Mine)
	status, said = d.as("lana", "GET", path, "")
	require.Equal(t, 200, status, said)
	one := second{}
	require.NoError(t, json.Unmarshal([]byte(said), &one))
	require.NotNil(t, one.Preview)
	assert.NotEmpty(t, one.Preview.Effects)
	require.NotNil(t, d.Catalog.View().Channels["coldchain/drills"], "foreseeing does nothing")

	var done atomic.Int32
	var all sync.WaitGroup
	for _, who := range []string{"lana", "owner", "lana", "owner"} {
		all.Go(func() {
			if status, _ := d.as(who, "POST", path+"/confirm", ""); status == 200 {
				done.Add(1)
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, 1, done.Load(), "one confirms it")
	require.Nil(t, d.Catalog.View().Channels["coldchain/drills"])
	assert.Equal(t, "done", d.list("ines")[0].State)
	rows, err := catalog.List[string](t.Context(), d.Catalog, `SELECT who || ': ' || action || ' ' || address || ' ' || credential FROM logbook WHERE action IN ('ask for a second person', 'confirm', 'remove topic') ORDER BY id`)
	require.NoError(t, err)
	require.Len(t, rows, 3, rows)
	assert.Contains(t, rows[0], "ines: ask for a second person coldchain/drills token")
	by := d.list("ines")[0].DecidedBy
	assert.Contains(t, rows[1], by+": confirm coldchain/drills")
	assert.Contains(t, rows[2], "ines: remove topic coldchain/drills confirmed by "+by)
}

// Each dangerous thing takes a second person, and none of the ways around does without.
func TestThereIsNoWayAroundTheSecondPerson(t *testing.T) {
	d := openTwo(t)
	for name, c := range map[string]struct{ method, path, body string }{
		"discarding":               {"POST", "/api/v1/channels/coldchain/inspections/actions", `{"action":"discard","why":"drill"}`},
		"removing a queue":         {"DELETE", "/api/v1/channels/coldchain/inspections", ""},
		"removing the space":       {"DELETE", "/api/v1/spaces/coldchain", ""},
		"a role to oneself":        {"POST", "/api/v1/grants", `{"to":"ines","role":"team-owner","on":"coldchain"}`},
		"a role to a machine":      {"POST", "/api/v1/grants", `{"to":"build-42","role":"team-owner","on":"coldchain/inspections"}`},
		"a role with a second one": {"POST", "/api/v1/grants", `{"to":"vera","role":"team-owner","on":"coldchain","second":true}`},
		"hiding fields":            {"POST", "/api/v1/masks", `{"name":"boxes","on":"coldchain","fields":["key"],"for":["viewer"]}`},
	} {
		version := d.Catalog.View().Version
		d.waits("ines", c.method, c.path, c.body)
		assert.Equal(t, version, d.Catalog.View().Version, name)
	}
	// What was asked for is shown to who decides, and not in lists.
	status, said := d.as("lana", "GET", "/api/v1/seconds", "")
	require.Equal(t, 200, status)
	assert.NotContains(t, said, `"asked":`)
	for _, one := range d.list("lana") {
		if !strings.Contains(one.Says, "Hide fields") {
			continue
		}
		_, said = d.as("lana", "GET", fmt.Sprintf("/api/v1/seconds/%d", one.ID), "")
		assert.Contains(t, said, `"asked":{"name":"boxes"`)
	}
	// What is told once cannot wait: the second person would get it.
	status, said = d.as("ines", "POST", "/api/v1/access/tokens", `{"principal":"build-42","label":"x"}`)
	assert.Equal(t, 403, status, said)
	assert.NotContains(t, said, "ferry access confirm")
	status, said = d.as("ines", "PATCH", "/api/v1/channels/coldchain/drills", `{"retain":"2d"}`)
	assert.Equal(t, 200, status, "what is not dangerous is done: %s", said)
	status, said = d.as("ines", "POST", "/api/v1/channels/coldchain/inspections/actions", `{"action":"return"}`)
	assert.Equal(t, 200, status, said)
	// A chore does what it was set by one alone for, and no more.
	ctx := access.As(t.Context(), d.Access.Named("ines"))
	var refused *access.SecondError
	assert.ErrorAs(t, access.Check(ctx, access.Discard, "coldchain/inspections"), &refused, "a job of hers too")
	again := d.Access.Passed(t.Context(), access.PassIn(ctx))
	assert.ErrorAs(t, access.Check(again, access.Discard, "coldchain/inspections"), &refused, "and on another node")
}

// It is done with the rights of both at that moment.
func TestBothHaveToBeAllowedThen(t *testing.T) {
	d := openTwo(t)
	remove := func(grantOf string) {
		for _, g := range d.Catalog.View().Grants {
			if g.To == grantOf {
				require.Equal(t, 200, d.Ask("DELETE", "/api/v1/grants/"+g.Name, "", nil))
			}
		}
	}
	id := d.waits("ines", "DELETE", "/api/v1/channels/coldchain/drills", "")
	remove("ines")
	status, said := d.as("lana", "POST", fmt.Sprintf("/api/v1/seconds/%d/confirm", id), "")
	require.Equal(t, 200, status, said)
	assert.Contains(t, said, `"state":"failed"`)
	assert.Contains(t, said, "ines may not")
	require.NotNil(t, d.Catalog.View().Channels["coldchain/drills"])

	require.Equal(t, 200, d.Ask("POST", "/api/v1/grants", `{"to":"ines","role":"team-owner","on":"coldchain","second":true}`, nil))
	id = d.waits("ines", "DELETE", "/api/v1/channels/coldchain/drills", "")
	remove("lana")
	status, _ = d.as("lana", "POST", fmt.Sprintf("/api/v1/seconds/%d/confirm", id), "")
	assert.Equal(t, 404, status, "whoever may not do it any more")
	// A job that was begun with a second person goes on as long as that one may.
	pass := "ines\t\t\t\tlana"
	assert.Error(t, access.Check(d.Access.Passed(t.Context(), pass), access.Discard, "coldchain/inspections"))
	assert.NoError(t, access.Check(d.Access.Passed(t.Context(), "ines\t\t\t\tbuild-42"), access.Discard, "coldchain/inspections"))
	assert.Error(t, access.Check(d.Access.Passed(t.Context(), "ines\t\t\t\tines"), access.Discard, "coldchain/inspections"), "nobody is one's own second person")
}

func TestWhatWaitsIsDeclinedOrOver(t *testing.T) {
	d := openTwo(t)
	ask := func() int64 { return d.waits("ines", "DELETE", "/api/v1/channels/coldchain/drills", "") }
	id := ask()
	status, _ := d.as("vera", "POST", fmt.Sprintf("/api/v1/seconds/%d/decline", id), "")
	assert.Equal(t, 404, status)
	status, _ = d.as("lana", "POST", fmt.Sprintf("/api/v1/seconds/%d/decline", id), "")
	assert.Equal(t, 204, status)
	status, said := d.as("lana", "POST", fmt.Sprintf("/api/v1/seconds/%d/confirm", id), "")
	assert.Equal(t, 409, status, said)
	id = ask()
	status, _ = d.as("ines", "POST", fmt.Sprintf("/api/v1/seconds/%d/decline", id), "")
	assert.Equal(t, 204, status, "one takes back what one has asked for")
	id = ask()
	d.Exec(`UPDATE seconds SET until = now() - interval '1 second' WHERE state = 'waiting'`)
	status, said = d.as("lana", "POST", fmt.Sprintf("/api/v1/seconds/%d/confirm", id), "")
	assert.Equal(t, 409, status)
	assert.Contains(t, said, "nobody has confirmed it until")
	assert.Equal(t, "over", d.list("ines")[0].State)
	for i := range 20 {
		d.waits("ines", "DELETE", fmt.Sprintf("/api/v1/channels/coldchain/x%d", i), "")
	}
	status, said = d.as("ines", "DELETE", "/api/v1/channels/coldchain/one-more", "")
	assert.Equal(t, 429, status, said)
	require.NotNil(t, d.Catalog.View().Channels["coldchain/drills"])
	bodies, err := catalog.List[int](t.Context(), d.Catalog, `SELECT 1 FROM seconds WHERE body IS NOT NULL AND state <> 'waiting'`)
	require.NoError(t, err)
	assert.Empty(t, bodies, "what was decided is let go of")
}

// Each operation that needs a dangerous verb can wait, or it is known why not.
func TestWhatIsDangerousCanWait(t *testing.T) {
	d := doortest.Open(t)
	never := map[string]string{"POST /api/v1/accounts": "an invitation is told once"}
	for _, o := range operations(t, d) {
		verb, err := access.ParseVerb(o.Verb)
		if err != nil || o.Method == "GET" || !access.Dangerous.Has(verb) {
			continue
		}
		_, excused := never[o.Method+" "+o.Path]
		assert.NotEqual(t, excused, o.Second, "%s %s", o.Method, o.Path)
	}
}
