package api_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/test/doortest"
)

func TestMain(m *testing.M) { testdb.Main(m) }

type problem struct{ Detail, Field, Allowed, Next string }

func TestWhatIsSetIsReadStrictly(t *testing.T) {
	d := doortest.Open(t)
	d.Channel(setting.Topic, "coldchain/readings", nil)
	d.Channel(setting.Queue, "coldchain/inspections", nil)
	const topic, queue = "/api/v1/channels/coldchain/readings", "/api/v1/channels/coldchain/inspections"
	for _, c := range []struct {
		method, path, body string
		status             int
		wanted             problem // of which each is a part
	}{
		{"PATCH", topic, `{"celsius":1}`, 400, problem{`unknown field "celsius"`, "celsius", "revision, partitionCount, replicas", ""}},
		{"PATCH", topic, `{"paused":true,"paused":false}`, 400, problem{`"paused" comes twice`, "", "openapi", ""}},
		{"PATCH", topic, `{"Paused":true}`, 400, problem{`unknown field "Paused"`, "Paused", "paused", ""}},
		{"PATCH", topic, `{"labels":{"a":"1","a":"2"}}`, 400, problem{`"a" comes twice`, "labels", "", ""}},
		{"PATCH", topic, `{"revision":"1"}`, 400, problem{"revision", "revision", "openapi", ""}},
		{"PATCH", topic, `{"revision":7}`, 409, problem{"is at revision 1, and the change was made from revision 7", "revision", "", "look at it again"}},
		{"PATCH", topic, `{"attemptLimit":2}`, 400, problem{"is a topic, which has no attemptLimit", "attemptLimit", "retain", ""}},
		{"PATCH", queue, `{"retain":"1h"}`, 400, problem{"is a queue, which has no retain", "retain", "attemptLimit", ""}},
		{"PATCH", queue, `{"order":"key"}`, 409, problem{"the order of coldchain/inspections cannot be changed", "order", "", "make another queue"}},
		{"PATCH", topic, `{"maxBody":"8MiB"}`, 200, problem{}},
		{"PATCH", topic, `[]`, 400, problem{"not the JSON that is expected", "", "openapi", ""}},
		{"PATCH", topic, ``, 400, problem{"not the JSON that is expected", "", "openapi", ""}},
		{"POST", "/api/v1/channels", `{"address":"coldchain/x","kind":"stream"}`, 400, problem{`kind is "stream"`, "kind", "topic, queue", ""}},
		{"POST", "/api/v1/channels", `{"address":"coldchain/x","kind":"topic","lease":"1s"}`, 400, problem{"has no lease", "lease", "", ""}},
		{"POST", "/api/v1/channels", `{"address":7,"kind":"topic"}`, 400, problem{"address", "address", "", ""}},
		{"POST", "/api/v1/spaces", `{"space":"depot","kind":"topic"}`, 400, problem{`unknown field "kind"`, "kind", "space, description, labels", ""}},
		{"PATCH", "/api/v1/spaces/coldchain", `{"description":7}`, 400, problem{"description is 7", "description", "up to 500", ""}},
		{"POST", topic + "/groups", `{"group":"compliance","from":"soon"}`, 400, problem{"soon", "", "first", ""}},
		{"POST", topic + "/groups", `{"group":"compliance","expire":"1s"}`, 400, problem{"expire is 1s", "expire", "0s (never), 1m to 3650d", ""}},
		{"POST", topic + "/groups", `{"group":"compliance","expire":"1h"}`, 201, problem{}},
		{"PATCH", topic + "/groups/compliance", `{"paused":"yes"}`, 400, problem{`paused is "yes"`, "paused", "true, false", ""}},
	} {
		var p problem
		assert.Equal(t, c.status, d.Ask(c.method, c.path, c.body, &p), "%s %s %s: %+v", c.method, c.path, c.body, p)
		for _, part := range [][2]string{{p.Detail, c.wanted.Detail}, {p.Field, c.wanted.Field}, {p.Allowed, c.wanted.Allowed}, {p.Next, c.wanted.Next}} {
			assert.Contains(t, part[0], part[1], "%s %s %s", c.method, c.path, c.body)
		}
	}
}

// Pages of a list follow each other without a gap, and each has what was asked
// for.
func TestPagesFollowEachOther(t *testing.T) {
	d := doortest.Open(t)
	var wanted []string
	for i := range 7 {
		d.Channel(setting.Topic, fmt.Sprintf("coldchain/t-%d", i), nil)
		wanted = append(wanted, fmt.Sprintf("coldchain/t-%d", i))
	}
	require.Equal(t, 201, d.Ask("POST", "/api/v1/spaces", `{"space":"depot","labels":{"team":"logistics"}}`, nil))
	d.Channel(setting.Topic, "depot/x", nil)
	type page struct {
		Items []struct {
			Address, Space string
			Settings       map[string]any
		}
		Next string
	}
	for _, limit := range []int{1, 3, 7, 100} {
		var seen []string
		for next := ""; ; {
			var p page
			require.Equal(t, 200, d.Ask("GET", fmt.Sprintf("/api/v1/channels?space=coldchain&limit=%d&cursor=%s", limit, strings.ReplaceAll(next, "/", "%2F")), "", &p))
			assert.LessOrEqual(t, len(p.Items), limit)
			for _, item := range p.Items {
				seen = append(seen, item.Address)
				assert.EqualValues(t, 1, item.Settings["partitionCount"])
			}
			if next = p.Next; next == "" {
				break
			}
		}
		assert.Equal(t, wanted, seen, "%d a page", limit)
	}
	var p page
	require.Equal(t, 200, d.Ask("GET", "/api/v1/spaces", "", &p))
	require.Len(t, p.Items, 2)
	assert.Equal(t, "depot", p.Items[1].Space)
	for _, bad := range []string{"limit=0", "limit=1001", "limit=x"} {
		var wrong problem
		assert.Equal(t, 400, d.Ask("GET", "/api/v1/channels?"+bad, "", &wrong))
		assert.Equal(t, "1 to 1000", wrong.Allowed)
	}
	assert.Equal(t, 404, d.Ask("GET", "/api/v1/channels?space=nowhere", "", nil))
	var tables map[string][]setting.Row
	require.Equal(t, 200, d.Ask("GET", "/api/v1/settings", "", &tables))
	assert.Equal(t, setting.Channels.Rows(), tables["channels"])
}

// Nobody gets in without a token in force, and none is told why.
func TestWhoGetsIn(t *testing.T) {
	d := doortest.Open(t)
	for name, token := range map[string]string{"none": "", "another": "x" + d.Token, "half": d.Token[:20]} {
		with := *d
		with.Token = token
		assert.Equal(t, 401, with.Ask("GET", "/api/v1/channels", "", nil), name)
	}
	for path, status := range map[string]int{"/healthz": 200, "/readyz": 200, "/api/v1/nothing": 404, "/metrics": 200} {
		assert.Equal(t, status, d.Ask("GET", path, "", nil), path)
	}
	without := *d
	without.Token = ""
	assert.Equal(t, 200, without.Ask("GET", "/healthz", "", nil))
	assert.Equal(t, 401, without.Ask("GET", "/metrics", "", nil))
	assert.Equal(t, 405, d.Ask("DELETE", "/api/v1/channels", "", nil))
	var p problem
	assert.Equal(t, 400, d.Ask("GET", "/api/v1/channels?sapce=x", "", &p), "a query that nobody knows")
	assert.Contains(t, p.Detail, "sapce")
}
