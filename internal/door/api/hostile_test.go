package api_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/queues"
	"steadyferry/internal/service/replays"
	"steadyferry/test/doortest"
)

// secrets are what stands in messages and in details of failures, and what is elsewhere.
var secrets = []string{"hidden-key", "hidden-header", "hidden-body", "hidden-detail", "hidden-where", "hidden-reason", "depot"}

// inspector is a principal that may see of the space coldchain its inspections alone; it tells its token.
func inspector(t *testing.T, d *doortest.Door) string {
	return person(t, d, "desk-1", "help-desk", nil, "coldchain/inspections")
}

// person makes a principal with a role on some patterns, and the role first if it has verbs; it tells a token of
// the principal.
func person(t *testing.T, d *doortest.Door, name, role string, verbs []string, on ...string) string {
	ctx := accesstest.Owner(t)
	owned := func(name string) catalog.Owned { return catalog.Owned{ID: catalog.NewOwnedID(), Name: name} }
	r := catalog.Rights{Principals: []*catalog.Principal{{Owned: owned(name), Principal: setting.Principal{Kind: setting.Person}}}}
	if verbs != nil {
		r.Roles = []*catalog.Role{{Owned: owned(role), Role: setting.Role{Verbs: verbs}}}
	}
	for _, at := range on {
		r.Grants = append(r.Grants, &catalog.Grant{Owned: owned(name + " on " + at), Grant: setting.Grant{To: name, Role: role, On: at}})
	}
	require.NoError(t, d.Catalog.NewRights(ctx, nil, r))
	token, err := d.Catalog.NewSecret(ctx, catalog.Secret{Principal: name, Kind: catalog.Token}, 0, nil)
	require.NoError(t, err)
	return token
}

// fail has some messages of inspections become dead letters, with details, and a replay that chose
// by contents fail with a reason that tells of them.
func fail(t *testing.T, d *doortest.Door, q *part.Channel, messages int) *catalog.Job {
	ctx := accesstest.Owner(t)
	done, err := d.Queues.Work(ctx, q, queues.Work{Member: "lana", Partition: part.AnyPartition, Max: messages, Wait: time.Second})
	require.NoError(t, err)
	require.Len(t, done.Leased, messages)
	w := queues.Work{Member: "lana", Partition: part.AnyPartition}
	for _, l := range done.Leased {
		w.Settle = append(w.Settle, queues.Settle{Lease: l.Lease, Outcome: queue.Reject, Reason: "bad-box", Detail: "celsius: got hidden-detail"})
	}
	_, err = d.Queues.Work(ctx, q, w)
	require.NoError(t, err)
	replay, err := d.Replays.New(ctx, "owner", replays.Spec{From: "coldchain/inspections/dead", To: "coldchain/inspections", Where: `body.box != "hidden-where"`}, 0.01)
	require.NoError(t, err)
	d.Exec(fmt.Sprintf(`UPDATE jobs SET state = 'failed', ended_at = now(), detail = 'hidden-reason' WHERE id = %d`, replay.ID))
	return replay
}

// A space is listed for who may see something in it, with what that is; lists say when they
// may have left something out.
func TestWhoSeesAPartIsToldSo(t *testing.T) {
	d := doortest.Open(t)
	ctx := accesstest.Owner(t)
	q := d.Channel(setting.Queue, "coldchain/inspections", nil)
	readings := d.Channel(setting.Topic, "coldchain/readings", nil)
	require.NoError(t, d.Manage.NewSpace(ctx, "owner", "depot", nil))
	_, err := d.Manage.SetSpace(ctx, "owner", "coldchain", setting.Change{"description": "of all boxes"}, false)
	require.NoError(t, err)
	for _, c := range []*part.Channel{q, readings} {
		_, err := d.Parts.PublishMessages(ctx, c, 0, []*message.Message{{Body: []byte("x")}})
		require.NoError(t, err)
	}
	token := inspector(t, d)
	for _, c := range []struct{ path, want string }{
		{"/api/v1/spaces", `"channels":1,"messages":1,`},
		{"/api/v1/channels", `"address":"coldchain/inspections"`},
		{"/api/v1/watches", `{"items":[]`},
	} {
		r, body := d.Do("GET", c.path, "", "", "Authorization", "Bearer "+token)
		assert.Equal(t, "part", r.Header.Get("Ferry-Shown"), c.path)
		assert.Contains(t, body, c.want, c.path)
		assert.NotContains(t, body, "coldchain/readings", c.path)
		assert.NotContains(t, body, "depot", c.path)
		assert.NotContains(t, body, "of all boxes", c.path)
		r, _ = d.Do("GET", c.path, "", "")
		assert.Empty(t, r.Header.Get("Ferry-Shown"), c.path)
	}
	r, body := d.Do("GET", "/api/v1/session", "", "", "Authorization", "Bearer "+token)
	assert.Equal(t, 200, r.StatusCode)
	assert.Contains(t, body, `"everywhere":[],"somewhere":["see-counts","see-causes","see-metadata","return","discard","undo"]`)
}

// A help desk that returns and discards what it may not read tries each way that is known to tell
// of it. Whoever finds another way adds it here.
func TestAHelpDeskLearnsNothingOfContents(t *testing.T) {
	d := doortest.Open(t)
	ctx := accesstest.Owner(t)
	q := d.Channel(setting.Queue, "coldchain/inspections", setting.Change{"attemptLimit": 1, "backoff": setting.Span{}})
	require.NoError(t, d.Manage.NewSpace(ctx, "owner", "depot", nil))
	d.Channel(setting.Topic, "depot/readings", nil)
	for range 3 {
		_, err := d.Parts.PublishMessages(ctx, q, 0, []*message.Message{{ID: "m-1", Key: "hidden-key", Headers: []message.Header{{Name: "box", Value: "hidden-header"}}, ContentType: "application/json", Body: []byte(`{"box":"hidden-body","celsius":9}`)}})
		require.NoError(t, err)
	}
	replay := fail(t, d, q, 3)
	token := inspector(t, d)

	const at = "/api/v1/channels/coldchain/inspections"
	where := `body.box.startsWith("hidden")`
	for _, c := range []struct {
		method, path, body string
		status             int // 0: whatever it is, nothing may be told
	}{
		{"GET", at, "", 200},
		{"GET", at + "/dead", "", 200},
		{"GET", at + "/items", "", 200},
		{"GET", at + "/items?where=" + strings.ReplaceAll(where, `"`, "%22"), "", 403},
		{"GET", at + "/items/0/0", "", 200},
		{"GET", at + "/trace/0/0", "", 200},
		{"GET", "/api/v1/trace?id=m-1", "", 200},
		{"GET", "/api/v1/lookup?address=coldchain/inspections%230:0", "", 200},
		{"GET", "/api/v1/lookup?address=dep", "", 200},
		{"GET", at + "/messages", "", 403},
		{"GET", at + "/export", "", 403},
		{"GET", at + "/tail", "", 403},
		{"GET", at + "/partitions/0/messages/0", "", 403},
		{"GET", at + "/partitions/0/records?from=0", "", 403},
		{"POST", at + "/lease", `{"member":"x","max":1}`, 403},
		{"POST", at + "/actions?preview=true", `{"action":"return"}`, 200},
		{"POST", at + "/actions?preview=true", `{"action":"discard"}`, 200},
		{"POST", at + "/actions?preview=true", fmt.Sprintf(`{"action":"return","where":%q}`, where), 403},
		{"POST", at + "/actions?preview=true", `{"action":"edit","edits":[{"set":"body./box","value":"1"}],"return":true}`, 0},
		{"POST", "/api/v1/replays?preview=true", `{"from":"coldchain/inspections/dead","to":"coldchain/inspections"}`, 200},
		{"POST", "/api/v1/replays?preview=true", fmt.Sprintf(`{"from":"coldchain/inspections/dead","to":"coldchain/inspections","where":%q}`, where), 403},
		{"POST", "/api/v1/replays?preview=true", `{"from":"coldchain/inspections/dead","to":"depot/readings"}`, 403},
		{"POST", "/api/v1/replays", `{"from":"coldchain/inspections/dead","to":"depot/readings","rate":10}`, 403},
		{"POST", "/api/v1/declarations/x?preview=true", `{"things":[{"kind":"topic","address":"depot/readings","settings":{"retain":"1d"}}]}`, 403},
		{"POST", "/api/v1/declarations/x?preview=true", `{"things":[{"kind":"queue","address":"coldchain/inspections","settings":{"lease":"1m"}}],"remove":true}`, 403},
		{"POST", "/api/v1/chores?preview=true", `{"address":"coldchain/c","do":"export","of":"coldchain/inspections","every":"6h"}`, 403},
		{"POST", at + "/route-trials", `{"route":"x","to":"coldchain/inspections"}`, 403},
		{"POST", "/api/v1/links", ``, 201},
		{"GET", "/api/v1/access", "", 200},
		{"GET", "/api/v1/principals", "", 200},
		{"GET", "/api/v1/grants", "", 200},
		{"GET", "/api/v1/logbook", "", 200},
		{"GET", "/api/v1/outlook", "", 200},
		{"GET", "/api/v1/reports/coldchain", "", 403},
		{"GET", "/api/v1/chart", "", 200},
		{"GET", "/api/v1/status", "", 200},
		{"GET", "/api/v1/things", "", 200},
		{"GET", "/api/v1/spaces", "", 200},
		{"GET", "/api/v1/incidents", "", 200},
		{"GET", "/api/v1/jobs", "", 200},
		{"GET", "/api/v1/replays", "", 200},
		{"GET", fmt.Sprintf("/api/v1/replays/%d", replay.ID), "", 200},
		{"GET", "/metrics", "", 403},
	} {
		r, body := d.Do(c.method, c.path, "application/json", c.body, "Authorization", "Bearer "+token)
		what := c.method + " " + c.path + " " + c.body
		if c.status != 0 {
			assert.Equal(t, c.status, r.StatusCode, "%s: %s", what, body)
		}
		for _, secret := range secrets {
			if !strings.Contains(what, secret) {
				assert.NotContains(t, body, secret, what)
			}
		}
	}
}

// A program that may do little finds the nodes all the same, and nothing is noted as refused: it goes
// on elsewhere when one is away.
func TestWhoMayLittleFindsTheNodes(t *testing.T) {
	d := doortest.Open(t)
	d.Channel(setting.Topic, "coldchain/readings", nil)
	token := person(t, d, "box-7", "publisher", nil, "coldchain/readings")
	with := []string{"Authorization", "Bearer " + token}
	r, body := d.Do("GET", "/api/v1/servers", "", "", with...)
	assert.Equal(t, 200, r.StatusCode)
	assert.Contains(t, body, `"node":"`)
	r, _ = d.Do("GET", "/api/v1/nodes", "", "", with...)
	assert.Equal(t, 403, r.StatusCode, "how they are is for others")
	api, err := client.New(d.URL, token)
	require.NoError(t, err)
	at, err := address.ParseChannel("coldchain/readings")
	require.NoError(t, err)
	require.NoError(t, api.FastPublisher(at).Learn(t.Context()))
}
