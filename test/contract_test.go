package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/test/harness"
)

// Every answer is as the OpenAPI document says, and every operation of the
// document is asked for here.
func TestAnswersKeepToTheDocument(t *testing.T) {
	n := harness.Start(t, toLoopback...)
	document := n.Ask("GET", "/api/v1/openapi.json", "").Body
	loader := openapi3.NewLoader()
	doc, err := loader.LoadFromData([]byte(document))
	require.NoError(t, err)
	doc.Servers = nil
	router, err := gorillamux.NewRouter(doc)
	require.NoError(t, err)
	openapi3filter.RegisterBodyDecoder(client.NDJSONType, firstLine)
	openapi3filter.RegisterBodyDecoder(client.CloudBatchType, openapi3filter.JSONBodyDecoder)
	openapi3filter.RegisterBodyDecoder(client.RecordsType, openapi3filter.FileBodyDecoder)
	openapi3filter.RegisterBodyDecoder("text/event-stream", openapi3filter.FileBodyDecoder)
	openapi3filter.RegisterBodyDecoder("text/html", openapi3filter.PlainBodyDecoder)
	openapi3filter.RegisterBodyDecoder("text/markdown", openapi3filter.PlainBodyDecoder)

	const readings = "/api/v1/channels/coldchain/readings"
	const inspections = "/api/v1/channels/coldchain/inspections"
	const declared = `{"things":[{"kind":"topic","address":"coldchain/doors","settings":{"retain":"2d"}}],"revision":"7f3a"}`
	asked := map[string]bool{}
	asIs := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	member, lease := "", ""
	for _, c := range []struct{ method, path, body, contentType, accept string }{
		{"GET", "/healthz", "", "", ""},
		{"GET", "/readyz", "", "", ""},
		{"GET", "/metrics", "", "", ""},
		{"GET", "/api/v1/openapi.json", "", "", ""},
		{"POST", "/api/v1/session", `{"token":"` + n.Token + `"}`, "application/json", ""},
		{"POST", "/api/v1/session", `{"token":"wrong"}`, "application/json", ""},
		{"GET", "/api/v1/session", "", "", ""},
		{"POST", "/api/v1/links", "", "", ""},
		{"GET", "/api/v1/access", "", "", ""},
		{"POST", "/api/v1/access/tokens", `{"label":"reports","expires":"30d"}`, "application/json", ""},
		{"POST", "/api/v1/access/tokens", `{"expires":"30d"}`, "application/json", ""},
		{"POST", "/api/v1/access/tokens", `{"label":"gateway","principal":"build-42","role":"publisher","on":"coldchain/readings"}`, "application/json", ""},
		{"GET", "/api/v1/principals", "", "", ""},
		{"POST", "/api/v1/principals", `{"name":"desk-1","kind":"person","teams":["desk"]}`, "application/json", ""},
		{"POST", "/api/v1/roles", `{"name":"packer","verbs":["publish","lease"]}`, "application/json", ""},
		{"GET", "/api/v1/roles", "", "", ""},
		{"POST", "/api/v1/grants?preview=true", `{"to":"team:desk","role":"packer","on":"coldchain/inspections"}`, "application/json", ""},
		{"POST", "/api/v1/grants", `{"to":"desk-1","role":"none","on":"coldchain"}`, "application/json", ""},
		{"GET", "/api/v1/grants", "", "", ""},
		{"DELETE", "/api/v1/grants/none", "", "", ""},
		{"POST", "/api/v1/masks?preview=true", `{"name":"boxes","on":"coldchain/*","fields":["/box","key"],"show":"hashed","for":["help-desk"]}`, "application/json", ""},
		{"POST", "/api/v1/masks", `{"name":"boxes","on":"coldchain/*","fields":["/box","key"],"show":"hashed","for":["help-desk"]}`, "application/json", ""},
		{"POST", "/api/v1/masks", `{"name":"other","on":"coldchain/*","fields":["box"],"for":["help-desk"]}`, "application/json", ""},
		{"GET", "/api/v1/masks", "", "", ""},
		{"POST", "/api/v1/break-glass?preview=true", `{"on":"coldchain/inspections","why":"a box is lost"}`, "application/json", ""},
		{"GET", "/api/v1/logbook/lines?who=owner", "", "", ""},
		{"POST", "/api/v1/logbook/entries/1/undo?preview=true", "", "", ""},
		{"PATCH", "/api/v1/masks/boxes?preview=true", `{"fields":["/box","key","/at"]}`, "application/json", ""},
		{"DELETE", "/api/v1/masks/none", "", "", ""},
		{"DELETE", "/api/v1/masks/boxes", "", "", ""},
		{"GET", "/api/v1/seconds", "", "", ""},
		{"GET", "/api/v1/seconds/1", "", "", ""},
		{"POST", "/api/v1/seconds/1/confirm", "", "", ""},
		{"POST", "/api/v1/seconds/x/decline", "", "", ""},
		{"GET", "/api/v1/may?principal=build-42&verb=publish&address=coldchain/readings", "", "", ""},
		{"GET", "/api/v1/may/who?verb=publish&address=coldchain/readings", "", "", ""},
		{"GET", "/api/v1/may/verbs?address=coldchain/readings", "", "", ""},
		{"PATCH", "/api/v1/session", "", "", ""},
		{"GET", "/api/v1/sign-in", "", "", ""},
		{"GET", "/api/v1/sign-in/northlight?to=/now&anew=true", "", "", ""},
		{"GET", "/api/v1/sign-in/northlight/done?state=x&code=y&iss=z", "", "", ""},
		{"POST", "/api/v1/sign-in/northlight/left", "logout_token=x", "application/x-www-form-urlencoded", ""},
		{"POST", "/api/v1/sign-in/device", "client_id=ferry&name=ferry+on+quay-3", "application/x-www-form-urlencoded", ""},
		{"POST", "/api/v1/sign-in/device", "client_id=ferry", "application/x-www-form-urlencoded", ""},
		{"POST", "/api/v1/sign-in/device/token", "grant_type=urn:ietf:params:oauth:grant-type:device_code&device_code=x", "application/x-www-form-urlencoded", ""},
		{"POST", "/api/v1/sign-in/device/token", "grant_type=password", "application/x-www-form-urlencoded", ""},
		{"GET", "/api/v1/devices/BCDF-GHJK", "", "", ""},
		{"POST", "/api/v1/devices/BCDF-GHJK", `{"let":true}`, "application/json", ""},
		{"POST", "/api/v1/accounts", `{"principal":"desk-1"}`, "application/json", ""},
		{"POST", "/api/v1/accounts", `{"principal":"owner"}`, "application/json", ""},
		{"POST", "/api/v1/sign-in/account", `{"name":"desk-1","password":"kolme lauttaa ja hinaaja","code":"123456"}`, "application/json", ""},
		{"POST", "/api/v1/sign-in/invitation", `{"invitation":"i-x"}`, "application/json", ""},
		{"POST", "/api/v1/sign-in/invitation/accept?preview=true", `{"invitation":"i-x","password":"kolme lauttaa ja hinaaja"}`, "application/json", ""},
		{"POST", "/api/v1/sign-in/invitation/accept", `{"invitation":"i-x","password":"kolme lauttaa ja hinaaja","code":"123456"}`, "application/json", ""},
		{"PUT", "/api/v1/account", `{"password":"kolme lauttaa ja hinaaja","code":"123456","next":"kaksi majakkaa ja hinaaja"}`, "application/json", ""},
		{"DELETE", "/api/v1/accounts/desk-1", "", "", ""},
		{"PATCH", "/api/v1/roles/packer?preview=true", `{"verbs":["publish"]}`, "application/json", ""},
		{"PATCH", "/api/v1/roles/viewer", `{"verbs":["publish"]}`, "application/json", ""},
		{"DELETE", "/api/v1/roles/packer", "", "", ""},
		{"PATCH", "/api/v1/principals/desk-1", `{"paused":true}`, "application/json", ""},
		{"DELETE", "/api/v1/principals/desk-1?preview=true", "", "", ""},
		{"POST", "/api/v1/access/0123/rotate", "", "", ""},
		{"DELETE", "/api/v1/access/0123", "", "", ""},
		{"DELETE", "/api/v1/access?kind=link", "", "", ""},
		{"POST", "/api/v1/spaces", `{"space":"coldchain","labels":{"team":"logistics"}}`, "application/json", ""},
		{"POST", "/api/v1/spaces", `{"space":"coldchain"}`, "application/json", ""},
		{"GET", "/api/v1/spaces", "", "", ""},
		{"GET", "/api/v1/settings", "", "", ""},
		{"GET", "/api/v1/spaces/coldchain", "", "", ""},
		{"GET", "/api/v1/declaration-schema", "", "", ""},
		{"POST", "/api/v1/declarations/northlight?preview=true", declared, "application/json", ""},
		{"POST", "/api/v1/declarations/northlight", declared, "application/json", ""},
		{"POST", "/api/v1/declarations/northlight", strings.Replace(declared, "topic", "queue", 1), "application/json", ""},
		{"PATCH", "/api/v1/channels/coldchain/doors", `{"retain":"3d"}`, "application/json", ""},
		{"GET", "/api/v1/channels/coldchain/doors", "", "", ""},
		{"GET", "/api/v1/drift", "", "", ""},
		{"GET", "/api/v1/things?pattern=coldchain/*", "", "", ""},
		{"GET", "/api/v1/things?pattern=cold%20chain", "", "", ""},
		{"DELETE", "/api/v1/channels/coldchain/doors", "", "", ""},
		{"PATCH", "/api/v1/spaces/coldchain", `{"description":"boxes"}`, "application/json", ""},
		{"POST", "/api/v1/channels", `{"address":"coldchain/readings","kind":"topic","partitionCount":2}`, "application/json", ""},
		{"POST", "/api/v1/channels", `{"address":"coldchain/readings","kind":"topic","partitionCount":0}`, "application/json", ""},
		{"GET", readings, "", "", ""},
		{"POST", readings + "/messages", `{"celsius":8.5}`, "application/json", ""},
		{"POST", readings + "/messages", `{"key":"a","body":"text"}`, client.MessageType, ""},
		{"POST", readings + "/messages", `{"body":1}`, client.NDJSONType, ""},
		{"POST", readings + "/messages", `{broken`, client.NDJSONType, ""},
		{"GET", readings + "/messages", "", "", ""},
		{"GET", readings + "/messages?where=x", "", "", ""},
		{"GET", readings + "/partitions/0/records", "", "", ""},
		{"GET", readings + "/partitions/0/records", "", "", client.RecordsType},
		{"GET", readings + "/partitions/0/messages/0", "", "", ""},
		{"GET", readings + "/partitions/0/messages/99", "", "", ""},
		{"GET", readings + "/rates", "", "", ""},
		{"GET", "/api/v1/channels", "", "", ""},
		{"GET", "/api/v1/channels?limit=0", "", "", ""},
		{"GET", "/api/v1/status", "", "", ""},
		{"GET", "/api/v1/live", "", "", ""},
		{"GET", readings + "/tail", "", "", ""},
		{"GET", "/api/v1/lookup?address=coldchain/reading", "", "", ""},
		{"GET", "/api/v1/conditions/check?where=body.a", "", "", ""},
		{"GET", "/api/v1/conditions/check?where=size", "", "", ""},
		{"GET", "/api/v1/nodes", "", "", ""},
		{"GET", "/api/v1/servers", "", "", ""},
		{"GET", "/api/v1/nodes/changes", "", "", ""},
		{"GET", "/api/v1/nodes/what-if?without=node-a", "", "", ""},
		{"GET", "/api/v1/nodes/what-if?without=node-z", "", "", ""},
		{"POST", "/api/v1/nodes/recover?preview=true", `{}`, "application/json", ""},
		{"POST", "/api/v1/nodes/recover", `{"address":"coldchain/readings","confirm":"no"}`, "application/json", ""},
		{"PATCH", "/api/v1/nodes", `{"spreadLeaders":true}`, "application/json", ""},
		{"POST", "/api/v1/nodes/node-a/drain?preview=true", `{"leadersOnly":true}`, "application/json", ""},
		{"DELETE", "/api/v1/nodes/node-a?preview=true", "", "", ""},
		{"POST", "/api/v1/moves?preview=true", `{"address":"coldchain/readings#0","to":["node-a"]}`, "application/json", ""},
		{"GET", "/api/v1/set-aside", "", "", ""},
		{"POST", "/api/v1/set-aside/1/adopt?preview=true", `{"address":"coldchain/found"}`, "application/json", ""},
		{"DELETE", "/api/v1/set-aside/1?preview=true", "", "", ""},
		{"GET", "/api/v1/jobs", "", "", ""},
		{"POST", "/api/v1/jobs/1/cancel", "", "", ""},
		{"GET", readings + "/verify", "", "", ""},
		{"POST", readings + "/groups", `{"group":"compliance","from":"first"}`, "application/json", ""},
		{"POST", readings + "/groups", `{"group":"compliance"}`, "application/json", ""},
		{"GET", readings + "/groups", "", "", ""},
		{"GET", readings + "/groups/compliance", "", "", ""},
		{"GET", readings + "/groups/complience", "", "", ""},
		{"PATCH", readings + "/groups/compliance", `{"description":"reports","expire":"30d"}`, "application/json", ""},
		{"GET", "/api/v1/lag", "", "", ""},
		{"GET", "/api/v1/measured?address=coldchain/readings&span=1h", "", "", ""},
		{"GET", "/api/v1/measured?address=coldchain/readings@compliance&most=10", "", "", ""},
		{"GET", "/api/v1/measured?address=coldchain", "", "", ""},
		{"GET", "/api/v1/lag?address=coldchain/readings@compliance", "", "", ""},
		{"POST", readings + "/groups/compliance/seeks?preview=true", `{"to":"end"}`, "application/json", ""},
		{"POST", readings + "/groups/compliance/seeks", `{"to":"end","why":"try"}`, "application/json", ""},
		{"POST", readings + "/groups/compliance/seeks", `{"undo":true}`, "application/json", ""},
		{"POST", readings + "/groups/compliance/seeks", `{"undo":true}`, "application/json", ""},
		{"GET", readings + "/groups/compliance/seeks", "", "", ""},
		{"POST", readings + "/groups/compliance/members", `{"member":"one","timeout":"1m"}`, "application/json", ""},
		{"POST", readings + "/groups/compliance/members/{member}/beat", `{"round":0,"holds":[]}`, "application/json", ""},
		{"POST", readings + "/groups/compliance/members/{member}/next", `{"max":2,"wait":"1s"}`, "application/json", ""},
		{"POST", readings + "/groups/compliance/members/{member}/commit", `{"round":99,"offsets":[{"partition":0,"offset":1}]}`, "application/json", ""},
		{"POST", readings + "/groups/compliance/members/{member}/reject", `{"partition":0,"offset":1,"reason":"bad"}`, "application/json", ""},
		{"DELETE", readings + "/groups/compliance/members/{member}", "", "", ""},
		{"GET", "/api/v1/channels/coldchain/readings@compliance/dead", "", "", ""},
		{"GET", readings + "/export", "", "", ""},
		{"GET", readings + "/export?format=cloudevents", "", "", ""},
		{"POST", "/api/v1/channels", `{"address":"coldchain/inspections","kind":"queue","lease":"30s","order":"none"}`, "application/json", ""},
		{"POST", readings + "/groups", `{"group":"warm","kind":"route","to":"coldchain/inspections","where":"body.celsius > 8.0","edits":["set header.a=b"],"from":"first"}`, "application/json", ""},
		{"POST", readings + "/groups", `{"group":"warm/dead@audit","kind":"route","to":"coldchain/late"}`, "application/json", ""},
		{"GET", readings + "/groups/warm%2Fdead@audit", "", "", ""},
		{"DELETE", readings + "/groups/warm%2Fdead@audit", "", "", ""},
		{"POST", readings + "/groups", `{"group":"back","kind":"route"}`, "application/json", ""},
		{"GET", readings + "/groups/warm", "", "", ""},
		{"PATCH", readings + "/groups/warm", `{"where":"body.celsius > 9.0"}`, "application/json", ""},
		{"POST", "/api/v1/watches", `{"address":"coldchain/dead-inspections","of":"coldchain/inspections","value":"dead","warn":"5","alarm":"10"}`, "application/json", ""},
		{"POST", "/api/v1/watches", `{"address":"coldchain/dead-inspections","of":"coldchain/inspections","value":"deaf","warn":"5"}`, "application/json", ""},
		{"POST", "/api/v1/watches/trials?span=1d", `{"address":"coldchain/dead-inspections","of":"coldchain/*","value":"lag","warn":"5"}`, "application/json", ""},
		{"GET", "/api/v1/watches?space=coldchain", "", "", ""},
		{"GET", "/api/v1/watch-values", "", "", ""},
		{"GET", "/api/v1/watches/coldchain/dead-inspections", "", "", ""},
		{"PATCH", "/api/v1/watches/coldchain/dead-inspections", `{"warn":"6"}`, "application/json", ""},
		{"POST", "/api/v1/watches/coldchain/dead-inspections/notice-trials", "", "", ""},
		{"DELETE", "/api/v1/watches/coldchain/dead-inspections?preview=true", "", "", ""},
		{"GET", "/api/v1/outlook", "", "", ""},
		{"GET", "/api/v1/outlook?space=coldchain", "", "", ""},
		{"GET", "/api/v1/reports/coldchain?span=1h", "", "", ""},
		{"GET", "/api/v1/reports/coldchain?format=html", "", "", ""},
		{"GET", "/api/v1/reports/coldchain?format=markdown", "", "", ""},
		{"GET", "/api/v1/reports/depot", "", "", ""},
		{"GET", "/api/v1/reports/coldchain?span=1y", "", "", ""},
		{"GET", "/api/v1/chart", "", "", ""},
		{"GET", "/api/v1/chart?space=coldchain&around=coldchain/readings&steps=1&most=3&at=" + time.Now().Add(-time.Minute).UTC().Format(time.RFC3339), "", "", ""},
		{"GET", "/api/v1/chart?at=noon", "", "", ""},
		{"POST", "/api/v1/chores?preview=true", `{"address":"coldchain/nightly-return","do":"return","of":"coldchain/inspections","at":"0 3 * * *","zone":"Europe/Lisbon","rate":50}`, "application/json", ""},
		{"POST", "/api/v1/chores", `{"address":"coldchain/nightly-return","do":"return","of":"coldchain/inspections","at":"0 3 * * *","zone":"Europe/Lisbon","rate":"50/s"}`, "application/json", ""},
		{"POST", "/api/v1/chores", `{"address":"coldchain/nightly-loss","do":"discard","of":"coldchain/inspections","every":"1d"}`, "application/json", ""},
		{"GET", "/api/v1/chores?space=coldchain", "", "", ""},
		{"GET", "/api/v1/chore-acts", "", "", ""},
		{"GET", "/api/v1/chores/coldchain/nightly-return", "", "", ""},
		{"PATCH", "/api/v1/chores/coldchain/nightly-return", `{"rate":20}`, "application/json", ""},
		{"POST", "/api/v1/chores/coldchain/nightly-return/runs", "", "", ""},
		{"GET", "/api/v1/chores/coldchain/nightly-return/runs", "", "", ""},
		{"GET", "/api/v1/runs/7000", "", "", ""},
		{"PATCH", "/api/v1/runs/7000", `{"state":"cancelled"}`, "application/json", ""},
		{"DELETE", "/api/v1/chores/coldchain/nightly-return", "", "", ""},
		{"GET", "/api/v1/incidents?open=true&span=1d", "", "", ""},
		{"GET", "/api/v1/incidents/1", "", "", ""},
		{"POST", "/api/v1/incidents/1/notes", `{"acknowledge":true}`, "application/json", ""},
		{"POST", "/api/v1/endpoints", `{"address":"coldchain/clinic-hook","url":"http://127.0.0.1:9/","handshake":false,"secrets":{"signing":"northlight-clinics-know-this"}}`, "application/json", ""},
		{"POST", "/api/v1/endpoints", `{"address":"coldchain/elsewhere","url":"ftp://127.0.0.1/"}`, "application/json", ""},
		{"GET", "/api/v1/endpoints", "", "", ""},
		{"GET", "/api/v1/endpoints/coldchain/clinic-hook", "", "", ""},
		{"GET", "/api/v1/endpoints/coldchain/clinic-hok", "", "", ""},
		{"PATCH", "/api/v1/endpoints/coldchain/clinic-hook", `{"parallel":2}`, "application/json", ""},
		{"POST", "/api/v1/endpoints/coldchain/clinic-hook/trials", "", "", ""},
		{"POST", "/api/v1/endpoints/coldchain/clinic-hook/table?preview=true", "", "", ""},
		{"GET", "/api/v1/events?address=coldchain/clinic-hook", "", "", ""},
		{"GET", "/api/v1/lookup?address=coldchain/clinic-hook", "", "", ""},
		{"POST", readings + "/groups", `{"group":"hook","kind":"route","to":"coldchain/clinic-hook"}`, "application/json", ""},
		{"DELETE", "/api/v1/endpoints/coldchain/clinic-hook?preview=true", "", "", ""},
		{"GET", readings + "/partitions/0/copies/5f0c0b7e-6d2f-4f4e-9a61-0d6f3b7f0a11?source=2", "", "", ""},
		{"POST", readings + "/partitions/0/copies/5f0c0b7e-6d2f-4f4e-9a61-0d6f3b7f0a11?source=2&after=0.0.0&upTo=0.1.1", "not a batch", "application/vnd.steady-ferry.batch", ""},
		{"POST", readings + "/route-trials", `{"since":"first","route":"warm","where":"body.celsius > 3.0","edits":["compute /f=body.celsius * 1.8"]}`, "application/json", ""},
		{"POST", readings + "/route-trials", `{"since":"first","to":"coldchain/readings"}`, "application/json", ""},
		{"GET", readings + "/chain", "", "", ""},
		{"DELETE", readings + "/groups/warm?preview=true", "", "", ""},
		{"DELETE", readings + "/groups/warm", "", "", ""},
		{"GET", inspections, "", "", ""},
		{"PATCH", inspections + "?preview=true", `{"attemptLimit":2}`, "application/json", ""},
		{"POST", inspections + "/messages", `{"celsius":"46 F"}`, "application/json", ""},
		{"POST", inspections + "/messages", `{"body":1,"after":"1h"}`, client.MessageType, ""},
		{"POST", inspections + "/lease", `{"max":1,"member":"m"}`, "application/json", ""},
		{"GET", inspections, "", "", ""},
		{"POST", inspections + "/settle", `{"settle":[{"lease":"{lease}","outcome":"reject","reason":"bad","detail":"field celsius"}]}`, "application/json", ""},
		{"POST", inspections + "/settle", `{"settle":[{"lease":"{lease}","outcome":"accept"}]}`, "application/json", ""},
		{"POST", inspections + "/settle", `{}`, "application/json", ""},
		{"GET", inspections + "/work", "", "", ""},
		{"GET", inspections + "/publish", "", "", ""},
		{"GET", inspections + "/dead", "", "", ""},
		{"GET", inspections + "/dead?span=1s", "", "", ""},
		{"GET", inspections + "/items", "", "", ""},
		{"GET", inspections + "/items?state=asleep", "", "", ""},
		{"GET", inspections + "/items/0/0", "", "", ""},
		{"GET", inspections + "/items/0/9", "", "", ""},
		{"GET", inspections + "/export", "", "", ""},
		{"GET", inspections + "/export?format=xml", "", "", ""},
		{"POST", inspections + "/actions?preview=true", `{"action":"edit","edits":[{"op":"set","at":"/celsius","value":8}]}`, "application/json", ""},
		{"POST", inspections + "/actions", `{"action":"discard","why":"drill"}`, "application/json", ""},
		{"POST", inspections + "/actions", `{"action":"undo"}`, "application/json", ""},
		{"GET", inspections + "/trace/0/0", "", "", ""},
		{"GET", readings + "/trace/0/0", "", "", ""},
		{"GET", "/api/v1/trace?id=nobody", "", "", ""},
		{"POST", "/api/v1/replays?preview=true", `{"from":"coldchain/inspections/dead","to":"coldchain/inspections","rate":1}`, "application/json", ""},
		{"POST", "/api/v1/replays", `{"from":"coldchain/readings","to":"coldchain/inspections","rate":1}`, "application/json", ""},
		{"GET", "/api/v1/replays", "", "", ""},
		{"GET", "/api/v1/replays/1", "", "", ""},
		{"PATCH", "/api/v1/replays/1", `{"state":"cancelled"}`, "application/json", ""},
		{"PATCH", "/api/v1/replays/9", `{"state":"paused"}`, "application/json", ""},
		{"GET", "/api/v1/status", "", "", ""},
		{"DELETE", inspections, "", "", ""},
		{"GET", readings + "/groups/compliance/history", "", "", ""},
		{"DELETE", readings + "/groups/compliance?preview=true", "", "", ""},
		{"DELETE", readings + "/groups/compliance", "", "", ""},
		{"PATCH", readings + "?preview=true", `{"partitionCount":3}`, "application/json", ""},
		{"PATCH", readings, `{"labels":{"a":"b"}}`, "application/json", ""},
		{"DELETE", readings + "?preview=true", "", "", ""},
		{"DELETE", readings, "", "", ""},
		{"POST", readings + "/restore", "", "", ""},
		{"DELETE", readings, "", "", ""},
		{"GET", "/api/v1/logbook", "", "", ""},
		{"DELETE", "/api/v1/spaces/coldchain", "", "", ""},
		{"DELETE", "/api/v1/session", "", "", ""},
	} {
		ctx, cancel := context.WithCancel(context.Background())
		c.path, c.body = strings.ReplaceAll(c.path, "{member}", member), strings.ReplaceAll(c.body, "{lease}", lease)
		request, err := http.NewRequestWithContext(ctx, c.method, n.URL+c.path, strings.NewReader(c.body))
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+n.Token)
		if c.contentType != "" {
			request.Header.Set("Content-Type", c.contentType)
		}
		if c.accept != "" {
			request.Header.Set("Accept", c.accept)
		}
		response, err := asIs.Do(request)
		require.NoError(t, err)
		var body []byte
		if strings.HasPrefix(response.Header.Get("Content-Type"), "text/event-stream") {
			body = make([]byte, 5)
			_, err = io.ReadFull(response.Body, body)
		} else {
			body, err = io.ReadAll(response.Body)
		}
		require.NoError(t, err)
		cancel()
		response.Body.Close()
		var joined client.Membership
		if json.Unmarshal(body, &joined) == nil && joined.MemberID != "" {
			member = joined.MemberID
		}
		var leased client.WorkAnswer
		if json.Unmarshal(body, &leased) == nil && len(leased.Deliveries) > 0 {
			lease = leased.Deliveries[0].Lease.String()
		}

		lookup, err := http.NewRequest(c.method, c.path, nil)
		require.NoError(t, err)
		route, params, err := router.FindRoute(lookup)
		require.NoError(t, err, c.path)
		asked[route.Operation.OperationID] = true
		input := &openapi3filter.ResponseValidationInput{
			RequestValidationInput: &openapi3filter.RequestValidationInput{Request: lookup, PathParams: params, Route: route},
			Status:                 response.StatusCode, Header: response.Header, Body: io.NopCloser(bytes.NewReader(body)),
			Options: &openapi3filter.Options{IncludeResponseStatus: true},
		}
		assert.NoError(t, openapi3filter.ValidateResponse(context.Background(), input), "%s %s: %d %s", c.method, c.path, response.StatusCode, body[:min(len(body), 300)])
	}
	for path, item := range doc.Paths.Map() {
		for method, operation := range item.Operations() {
			assert.True(t, asked[operation.OperationID], "%s %s is not asked for", method, path)
		}
	}
}

// firstLine holds the first line of NDJSON against the schema of a line.
func firstLine(body io.Reader, header http.Header, schema *openapi3.SchemaRef, encoding openapi3filter.EncodingFn) (any, error) {
	b, err := io.ReadAll(body)
	if err != nil {
		return nil, err
	}
	line, _, _ := bytes.Cut(b, []byte("\n"))
	return openapi3filter.JSONBodyDecoder(bytes.NewReader(line), header, schema, encoding)
}

// A document that says only "object" tells a client nothing: each has its
// properties, or says what its names stand for.
func TestTheDocumentHasNoBareObject(t *testing.T) {
	n := harness.Start(t)
	var document any
	require.NoError(t, json.Unmarshal([]byte(n.Ask("GET", "/api/v1/openapi.json", "").Body), &document))
	seen := 0
	var walk func(place string, v any)
	walk = func(place string, v any) {
		switch v := v.(type) {
		case []any:
			for i, one := range v {
				walk(fmt.Sprintf("%s/%d", place, i), one)
			}
		case map[string]any:
			kind := fmt.Sprint(v["type"])
			if kind == "object" || kind == "[object null]" {
				seen++
				known := v["properties"] != nil || v["additionalProperties"] != nil
				if open, _ := v["additionalProperties"].(bool); open {
					known = v["description"] != nil
				}
				assert.True(t, known, "%s is a bare object", place)
			}
			if v["in"] == "query" {
				assert.NotEmpty(t, v["description"], "%s says nothing about %v", place, v["name"])
			}
			for name, one := range v {
				walk(place+"/"+name, one)
			}
		}
	}
	walk("", document)
	assert.Greater(t, seen, 60)
}
