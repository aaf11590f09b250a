package api_test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
	"steadyferry/test/doortest"
)

func must(a address.Address, err error) address.Address {
	if err != nil {
		panic(err) // a test says it
	}
	return a
}

// Somebody who may do everything but give rights, and from whom a mask hides which box it is about, tries
// each way that is known to tell of it. Whoever finds another way adds it here.
func TestWhatAMaskHidesIsSeenInNoWayOut(t *testing.T) {
	d := doortest.Open(t)
	ctx := accesstest.Owner(t)
	q := d.Channel(setting.Queue, "coldchain/inspections", setting.Change{"attemptLimit": 1, "backoff": setting.Span{}})
	readings := d.Channel(setting.Topic, "coldchain/readings", nil)
	require.NoError(t, d.Manage.NewSpace(ctx, "owner", "depot", nil))
	d.Channel(setting.Topic, "depot/readings", nil)
	for _, c := range []*part.Channel{q, q, q, q, readings, readings} {
		_, err := d.Parts.PublishMessages(ctx, c, 0, []*message.Message{{ID: "m-1", Key: "hidden-key", Headers: []message.Header{{Name: "box", Value: "hidden-header"}, {Name: "depot", Value: "north"}}, ContentType: "application/json", Body: []byte(`{"box":"hidden-body","celsius":9}`)}})
		require.NoError(t, err)
	}
	replay := fail(t, d, q, 2)
	_, err := d.Routes.New(ctx, "owner", must(address.Parse("coldchain/readings@warm")), address.Position{Kind: address.End}, setting.Change{"to": "depot/readings"})
	require.NoError(t, err)
	token := person(t, d, "deskhand", "masked", access.Everything.Without(access.Of(access.Access)).Names(), "coldchain", "depot")
	_, err = d.Access.NewMask(ctx, "owner", "boxes", setting.Change{"on": "coldchain/*", "fields": []string{"key", "header.box", "/box"}, "show": "hashed", "for": []string{"masked"}}, false)
	require.NoError(t, err)

	where := func(of string) string { return "?where=" + url.QueryEscape(of) }
	const q0, r0 = "/api/v1/channels/coldchain/inspections", "/api/v1/channels/coldchain/readings"
	member := ""
	secrets := []string{"hidden-key", "hidden-header", "hidden-body", "hidden-detail", "hidden-where", "hidden-reason"}
	for _, c := range []struct {
		method, path, body string
		status             int
		accept, shows      string
	}{
		{"GET", q0 + "/dead", "", 200, "", `"celsius":9`},
		{"GET", q0 + "/items", "", 200, "", `"masked":["/box","header.box","key"]`},
		{"GET", q0 + "/items" + where(`body.celsius > 8`), "", 200, "", `"celsius":9`},
		{"GET", q0 + "/items" + where(`body.box == "x"`), "", 403, "", "mask boxes hides /box"},
		{"GET", q0 + "/items" + where(`detail != ""`), "", 403, "", ""},
		{"GET", q0 + "/items/0/0", "", 200, "", `"celsius":9`},
		{"GET", q0 + "/trace/0/0", "", 200, "", `"celsius":9`},
		{"GET", r0 + "/trace/0/0", "", 200, "", `"celsius":9`},
		{"GET", "/api/v1/trace?id=m-1", "", 200, "", `"celsius":9`},
		{"GET", r0 + "/messages", "", 200, "", `"celsius":9`},
		{"GET", r0 + "/messages?order=newest&take=recent", "", 200, "", `"celsius":9`},
		{"GET", r0 + "/messages" + where(`key == "x"`), "", 403, "", "mask boxes hides key"},
		{"GET", r0 + "/messages" + where(`text.contains("x")`), "", 403, "", ""},
		{"GET", r0 + "/messages" + where(`headers.depot == "north"`), "", 200, "", `"celsius":9`},
		{"GET", r0 + "/tail" + where(`headers.box == "x"`), "", 200, "", "mask boxes hides header.box"},
		{"GET", r0 + "/partitions/0/messages/0", "", 200, "", `"celsius":9`},
		{"GET", r0 + "/partitions/0/messages/0?format=raw", "", 200, "", `"celsius":9`},
		{"GET", r0 + "/partitions/0/records?from=first", "", 200, "", `"celsius":9`},
		{"GET", r0 + "/partitions/0/records?from=first", "", 200, form.RecordsType, `"celsius":9`},
		{"GET", r0 + "/export", "", 200, "", `"celsius":9`},
		{"GET", r0 + "/export?format=cloudevents", "", 200, "", `"celsius":9`},
		{"GET", q0 + "/export", "", 200, "", `"celsius":9`},
		{"GET", q0 + "/export?format=cloudevents", "", 200, "", `"celsius":9`},
		{"GET", q0 + "/export" + where(`body.box == "x"`), "", 403, "", ""},
		{"POST", q0 + "/lease", `{"member":"x","max":1}`, 200, "", `"celsius":9`},
		{"POST", q0 + "/lease", `{"member":"x","max":1}`, 200, form.WorkType, `"celsius":9`},
		{"POST", r0 + "/groups/depot/members", `{"from":"first"}`, 201, "", "member"},
		{"POST", r0 + "/groups/depot/members/MEMBER/next", `{"max":2,"wait":"1s"}`, 200, "", `"celsius":9`},
		{"POST", q0 + "/actions?preview=true", `{"action":"return"}`, 200, "", `"celsius":9`},
		{"POST", q0 + "/actions?preview=true", `{"action":"discard","where":"body.box == \"x\""}`, 403, "", ""},
		{"POST", q0 + "/actions?preview=true", `{"action":"edit","edits":[{"op":"set","at":"/celsius","value":5}]}`, 200, "", `"celsius":5`},
		{"POST", q0 + "/actions?preview=true", `{"action":"edit","edits":[{"op":"set","at":"/box","value":"x"}]}`, 403, "", ""},
		{"POST", q0 + "/actions?preview=true", `{"action":"edit","edits":[{"op":"compute","at":"/copy","expression":"body.box"}]}`, 403, "", ""},
		{"POST", q0 + "/actions?preview=true", `{"action":"edit","edits":[{"op":"rename","at":"/box","to":"/copy"}]}`, 403, "", ""},
		{"POST", q0 + "/actions?preview=true", `{"action":"edit","edits":[{"op":"compute","at":"/celsius","expression":"int(text)"}]}`, 403, "", ""},
		{"POST", "/api/v1/replays?preview=true", `{"from":"coldchain/inspections/dead","to":"coldchain/inspections"}`, 200, "", `"celsius":9`},
		{"POST", "/api/v1/replays?preview=true", `{"from":"coldchain/inspections/dead","to":"depot/readings"}`, 403, "", "as they are, and mask boxes"},
		{"POST", "/api/v1/replays?preview=true", `{"from":"coldchain/readings","to":"depot/readings"}`, 403, "", ""},
		{"POST", "/api/v1/replays", `{"from":"coldchain/readings","to":"depot/readings","rate":10}`, 403, "", ""},
		{"POST", "/api/v1/replays?preview=true", `{"from":"coldchain/inspections/dead","to":"coldchain/inspections","where":"key == \"x\""}`, 403, "", ""},
		{"POST", r0 + "/route-trials", `{"route":"away","to":"depot/readings"}`, 403, "", ""},
		{"POST", r0 + "/groups", `{"group":"away","kind":"route","to":"depot/readings","from":"first"}`, 403, "", ""},
		{"PATCH", r0 + "/groups/warm", `{"edits":["compute /copy=body.box"]}`, 403, "", "mask boxes hides something"},
		{"POST", "/api/v1/masks", `{"name":"other","on":"coldchain/*","fields":["key"],"for":["viewer"]}`, 403, "", ""},
		{"DELETE", "/api/v1/masks/boxes", "", 403, "", ""},
		{"GET", "/api/v1/masks", "", 200, "", `"fields":["key","header.box","/box"]`},
		{"GET", "/api/v1/logbook", "", 200, "", ""},
		{"GET", "/api/v1/outlook", "", 200, "", ""},
		{"GET", "/api/v1/reports/coldchain", "", 200, "", ""},
		{"GET", "/api/v1/chart", "", 200, "", ""},
		{"GET", "/api/v1/jobs", "", 200, "", ""},
		{"GET", "/api/v1/replays", "", 200, "", ""},
		{"GET", fmt.Sprintf("/api/v1/replays/%d", replay.ID), "", 200, "", ""},
	} {
		path := strings.ReplaceAll(c.path, "MEMBER", member)
		header := []string{"Authorization", "Bearer " + token}
		if c.accept != "" {
			header = append(header, "Accept", c.accept)
		}
		r, body := d.Do(c.method, path, "application/json", c.body, header...)
		what := c.method + " " + c.path + " " + c.body
		assert.Equal(t, c.status, r.StatusCode, "%s: %s", what, body)
		assert.Contains(t, body, c.shows, what)
		for _, secret := range secrets {
			assert.NotContains(t, body, secret, what)
		}
		if at := strings.Index(body, `"memberId":"`); at >= 0 {
			member = body[at+12 : at+48]
		}
	}
}
