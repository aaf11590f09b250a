package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/test/doortest"
)

// operation is one of the OpenAPI document.
type operation struct {
	Method, Path string
	Verb         string `json:"x-verb"`
	At           string `json:"x-at"`
	Fresh        bool   `json:"x-fresh"`
	Second       bool   `json:"x-second"`
}

func operations(t *testing.T, d *doortest.Door) (all []operation) {
	_, body := d.Do("GET", "/api/v1/openapi.json", "", "")
	var document struct {
		Paths map[string]map[string]json.RawMessage
	}
	require.NoError(t, json.Unmarshal([]byte(body), &document))
	for path, methods := range document.Paths {
		for method, raw := range methods {
			if method == "parameters" {
				continue
			}
			o := operation{Method: strings.ToUpper(method), Path: path}
			require.NoError(t, json.Unmarshal(raw, &o))
			all = append(all, o)
		}
	}
	slices.SortFunc(all, func(a, b operation) int { return strings.Compare(a.Path+a.Method, b.Path+b.Method) })
	return all
}

// named are things that are there, for the parameters of paths.
var named = strings.NewReplacer("{space}", "coldchain", "{watch}", "dead-inspections", "{chore}", "nightly", "{group}", "compliance", "{member}", "m-1", "{partition}", "0", "{offset}", "0",
	"{route}", "01a22149-07a0-7986-bd92-afdfd17b1624", "{node}", "node-a", "{job}", "1", "{run}", "1", "{replay}", "1", "{incident}", "1", "{secret}", "000000000000", "{id}", "1", "{principal}", "but-edit", "{role}", "but-edit", "{grant}", "but-edit", "{mask}", "but-edit", "{declaration}", "northlight")

func (o operation) target() string {
	path := o.Path
	switch {
	case strings.Contains(path, "/endpoints/"):
		path = strings.Replace(path, "{channel}", "clinic-hook", 1)
	case slices.ContainsFunc([]string{"/lease", "/settle", "/work", "/dead", "/items", "/actions"}, func(part string) bool { return strings.Contains(path, part) }):
		path = strings.Replace(path, "{channel}", "inspections", 1)
	}
	path = strings.ReplaceAll(path, "{channel}", "readings")
	return named.Replace(path) + queries[o.Method+" "+o.Path]
}

var queries = map[string]string{
	"GET /api/v1/may": "?principal=owner&verb=publish&address=coldchain/readings", "GET /api/v1/may/who": "?verb=publish&address=coldchain/readings", "DELETE /api/v1/principals/{principal}": "?preview=true", "PATCH /api/v1/principals/{principal}": "?preview=true",
	"GET /api/v1/lookup": "?address=coldchain/readings", "GET /api/v1/measured": "?address=coldchain/readings", "GET /api/v1/events": "?address=coldchain/clinic-hook",
	"GET /api/v1/nodes/what-if": "?without=node-a", "GET /api/v1/conditions/check": "?where=true", "GET /api/v1/trace": "?id=none", "DELETE /api/v1/access": "?kind=link",
	"POST /api/v1/nodes/{node}/drain": "?preview=true", "DELETE /api/v1/nodes/{node}": "?preview=true", "DELETE /api/v1/channels/{space}/{channel}": "?preview=true",
	"DELETE /api/v1/endpoints/{space}/{channel}": "?preview=true", "DELETE /api/v1/watches/{space}/{watch}": "?preview=true", "DELETE /api/v1/chores/{space}/{chore}": "?preview=true",
	"DELETE /api/v1/channels/{space}/{channel}/groups/{group}": "?preview=true", "PATCH /api/v1/channels/{space}/{channel}": "?preview=true", "PATCH /api/v1/spaces/{space}": "?preview=true",
	"PATCH /api/v1/channels/{space}/{channel}/groups/{group}": "?preview=true", "PATCH /api/v1/endpoints/{space}/{channel}": "?preview=true",
	"POST /api/v1/declarations/{declaration}": "?preview=true", "POST /api/v1/replays": "?preview=true", "POST /api/v1/channels/{space}/{channel}/actions": "?preview=true", "POST /api/v1/moves": "?preview=true", "POST /api/v1/chores": "?preview=true",
}

// bodies reach what is asked: what is wrong with a request is told sooner than that it may not be.
var bodies = map[string]string{
	"POST /api/v1/moves":                                      `{"address":"coldchain/readings#0","to":["node-a"]}`,
	"POST /api/v1/spaces":                                     `{"space":"depot"}`,
	"PATCH /api/v1/spaces/{space}":                            `{"description":"boxes"}`,
	"POST /api/v1/channels":                                   `{"address":"coldchain/journeys","kind":"topic"}`,
	"PATCH /api/v1/channels/{space}/{channel}":                `{"description":"boxes"}`,
	"POST /api/v1/channels/{space}/{channel}/groups":          `{"group":"dashboards"}`,
	"PATCH /api/v1/channels/{space}/{channel}/groups/{group}": `{"description":"boxes"}`,
	"POST /api/v1/channels/{space}/{channel}/route-trials":    `{"route":"warm","to":"coldchain/inspections"}`,
	"POST /api/v1/watches":                                    `{"address":"coldchain/w","of":"coldchain/*","value":"dead","warn":"5"}`,
	"POST /api/v1/watches/trials":                             `{"address":"coldchain/w","of":"coldchain/*","value":"dead","warn":"5"}`,
	"POST /api/v1/chores":                                     `{"address":"coldchain/c","do":"verify","of":"coldchain/readings","every":"6h"}`,
	"POST /api/v1/endpoints":                                  `{"address":"coldchain/other-hook","url":"http://127.0.0.1:9/"}`,
	"PATCH /api/v1/endpoints/{space}/{channel}":               `{"description":"boxes"}`,
	"POST /api/v1/principals":                                 `{"name":"build-42"}`, "POST /api/v1/roles": `{"name":"packer","verbs":["publish"]}`, "POST /api/v1/grants": `{"to":"owner","role":"viewer","on":"coldchain"}`, "POST /api/v1/masks": `{"name":"boxes","on":"coldchain","fields":["key"],"for":["viewer"]}`,
	"POST /api/v1/accounts": `{"principal":"ines"}`, "PATCH /api/v1/roles/{role}": `{"verbs":["publish"]}`, "PATCH /api/v1/masks/{mask}": `{"show":"hidden"}`,
	"POST /api/v1/replays":                            `{"from":"coldchain/readings","to":"coldchain/inspections"}`,
	"POST /api/v1/channels/{space}/{channel}/actions": `{"action":"return"}`,
}

// elsewhere are the operations of which something must be there that this test does not make;
// tests of their services refuse them.
var elsewhere = []string{"/api/v1/jobs/{job}/cancel", "/api/v1/runs/{run}", "/api/v1/incidents/{incident}", "/api/v1/incidents/{incident}/notes", "/api/v1/replays/{replay}", "/api/v1/declarations/{declaration}", "/api/v1/grants/{grant}", "/api/v1/masks/{mask}", "/api/v1/logbook/entries/{entry}/undo"}

// rightsOf makes principals that have a role on everything, and returns their tokens.
func rightsOf(t *testing.T, d *doortest.Door, roles map[string]access.Set) map[string]string {
	tokens := map[string]string{}
	var people []*catalog.Principal
	var made []*catalog.Role
	var grants []*catalog.Grant
	for name, verbs := range roles {
		people = append(people, &catalog.Principal{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: name}, Principal: setting.Principal{Kind: setting.Machine}})
		made = append(made, &catalog.Role{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: name}, Role: setting.Role{Verbs: verbs.Names()}})
		grants = append(grants, &catalog.Grant{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: name}, Grant: setting.Grant{To: name, Role: name, On: "*"}})
	}
	require.NoError(t, d.Catalog.NewRights(t.Context(), nil, catalog.Rights{Principals: people, Roles: made, Grants: grants}))
	for name := range roles {
		text, err := d.Catalog.NewSecret(t.Context(), catalog.Secret{Principal: name, Kind: catalog.Token}, 0, nil)
		require.NoError(t, err)
		tokens[name] = text
	}
	return tokens
}

// furnish makes what paths name.
func furnish(t *testing.T, d *doortest.Door) {
	ctx := accesstest.Owner(t)
	d.Channel(setting.Topic, "coldchain/readings", nil)
	d.Channel(setting.Queue, "coldchain/inspections", nil)
	_, err := d.Groups.New(ctx, "owner", address.Address{Space: "coldchain", Channel: "readings", Group: "compliance", Partition: -1, Offset: -1}, address.Position{Kind: address.First}, nil)
	require.NoError(t, err)
	_, err = d.Watches.New(ctx, "owner", address.Channel("coldchain", "dead-inspections"), setting.Change{"of": "coldchain/*", "value": "dead", "warn": "5"})
	require.NoError(t, err)
	_, err = d.Timetable.New(ctx, "owner", address.Channel("coldchain", "nightly"), setting.Change{"do": "verify", "of": "coldchain/readings", "every": 6 * time.Hour}, false)
	require.NoError(t, err)
	_, err = d.Endpoints.New(ctx, "owner", address.Channel("coldchain", "clinic-hook"), setting.Change{"url": "http://127.0.0.1:9/"}, nil)
	require.NoError(t, err)
}

func (o operation) ask(d *doortest.Door, token string) (*http.Response, string) {
	body := bodies[o.Method+" "+o.Path]
	if body == "" && o.Method != "GET" && o.Method != "DELETE" {
		body = "{}"
	}
	return d.Do(o.Method, o.target(), "application/json", body, "Authorization", "Bearer "+token)
}

// Each operation of the document says which verb it needs, is refused to who may do all else, and
// not to who may do that alone.
func TestEveryOperationNeedsItsVerb(t *testing.T) {
	d := doortest.Open(t)
	furnish(t, d)
	roles := map[string]access.Set{}
	for _, v := range access.AllVerbs() {
		roles["but-"+v.String()], roles["only-"+v.String()] = access.Everything.Without(access.Of(v)), access.Of(v)
	}
	tokens := rightsOf(t, d, roles)
	known := 0
	for _, o := range operations(t, d) {
		what := o.Method + " " + o.Path
		if o.Verb == "anyone" || o.Verb == "signed-in" || slices.Contains(elsewhere, o.Path) || o.Path == "/api/v1/live" {
			continue
		}
		verb, err := access.ParseVerb(o.Verb)
		require.NoError(t, err, what)
		known++
		if o.At == "each" || o.Path == "/api/v1/lookup" {
			continue // the other test looks at what they tell
		}
		r, body := o.ask(d, tokens["but-"+o.Verb])
		assert.Equal(t, 403, r.StatusCode, "%s: %s", what, body)
		assert.Contains(t, body, fmt.Sprintf("may not %s ", verb), what)
		if strings.HasSuffix(o.Path, "/tail") {
			continue // it goes on
		}
		r, body = o.ask(d, tokens["only-"+o.Verb])
		if r.StatusCode == 403 {
			assert.NotContains(t, body, fmt.Sprintf("may not %s ", verb), "%s: %s", what, body)
		}
	}
	assert.Greater(t, known, 70)
}

// Who has nothing is told nothing, and nothing is done.
func TestWithoutRightsEverythingIsRefused(t *testing.T) {
	d := doortest.Open(t)
	furnish(t, d)
	token := rightsOf(t, d, map[string]access.Set{"nobody": 0})["nobody"]
	before := d.Catalog.View().Version
	for _, o := range operations(t, d) {
		if o.Verb == "anyone" || o.Verb == "signed-in" || o.Path == "/api/v1/live" {
			continue
		}
		r, body := o.ask(d, token)
		if o.At == "each" || slices.Contains(elsewhere, o.Path) || o.Path == "/api/v1/lookup" {
			for _, name := range []string{"readings", "inspections", "compliance", "clinic-hook", "nightly"} {
				if !strings.Contains(o.target(), name) {
					assert.NotContains(t, body, name, "%s %s tells of it", o.Method, o.Path)
				}
			}
			continue
		}
		assert.Equal(t, 403, r.StatusCode, "%s %s: %s", o.Method, o.Path, body)
	}
	assert.Equal(t, before, d.Catalog.View().Version)
}
