package endpoints_test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
)

// database is one outside, as an endpoint names it, and as a person does.
func database(t testing.TB) (address, password string, rows func(query string) [][]string) {
	t.Helper()
	_, direct := testdb.New(t)
	u, err := url.Parse(direct)
	require.NoError(t, err)
	password, _ = u.User.Password()
	host, err := postgres.Loopback(accesstest.Owner(t), direct)
	require.NoError(t, err)
	outside := url.URL{Scheme: "postgresql", User: url.User(u.User.Username()), Host: host, Path: u.Path, RawQuery: "sslmode=disable"}
	return outside.String(), password, func(query string) (all [][]string) {
		conn, err := pgx.Connect(accesstest.Owner(t), direct)
		require.NoError(t, err)
		defer conn.Close(accesstest.Owner(t))
		found, err := conn.Query(accesstest.Owner(t), query)
		require.NoError(t, err)
		for found.Next() {
			values, err := found.Values()
			require.NoError(t, err)
			row := make([]string, len(values))
			for i, v := range values {
				row[i] = fmt.Sprint(v)
			}
			all = append(all, row)
		}
		require.NoError(t, found.Err())
		return all
	}
}

var readingColumns = map[string]string{"box": "key", "celsius": "/celsius", "at": "time", "place": "offset", "partition": "partition", "details": "/details"}

// archive makes an endpoint in a table, its table, and a route to it.
func archive(t *testing.T, n *nodetest.Node, url, password string, settings setting.Change) (topic *part.Channel, g *catalog.Group) {
	t.Helper()
	all := setting.Change{"url": url, "table": "clinic.readings", "columns": readingColumns, "backoff": setting.Span{Least: 20 * time.Millisecond, Most: 100 * time.Millisecond}}
	for name, value := range settings {
		all[name] = value
	}
	_, err := n.Endpoints.New(accesstest.Owner(t), "owner", at(t, "coldchain/archive"), all, map[string]string{"password": password})
	require.NoError(t, err)
	topic = n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 3})
	g, err = n.Routes.New(accesstest.Owner(t), "owner", at(t, "coldchain/readings@archive"), address.Position{Kind: address.First}, setting.Change{"to": "coldchain/archive"})
	require.NoError(t, err)
	return topic, g
}

func measure(t *testing.T, n *nodetest.Node, topic *part.Channel, from, to int) {
	t.Helper()
	for i := from; i < to; i++ {
		n.PublishKey(topic, fmt.Sprintf("box-%d", i%9), fmt.Sprintf(`{"celsius":%d.5,"details":{"i":%d}}`, i%12, i))
	}
}

func TestMessagesBecomeRowsOnce(t *testing.T) {
	n := nodetest.Open(t)
	url, password, rows := database(t)
	topic, _ := archive(t, n, url, password, nil)
	measure(t, n, topic, 0, 100)
	a := at(t, "coldchain/archive")
	answer, err := n.Endpoints.Try(accesstest.Owner(t), "owner", a)
	require.NoError(t, err)
	assert.Contains(t, answer.Says(), "ferry endpoint table coldchain/archive shows the statements")
	statements, err := n.Endpoints.Statements(accesstest.Owner(t), "owner", a, false)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(statements, "\n"), `CREATE TABLE "clinic"."readings" ("at" timestamptz, "box" text, "celsius" double precision, "details" jsonb, "partition" bigint, "place" bigint)`)
	_, err = n.Endpoints.Statements(accesstest.Owner(t), "owner", a, true)
	require.NoError(t, err)
	again, err := n.Endpoints.Statements(accesstest.Owner(t), "owner", a, false)
	require.NoError(t, err)
	assert.Empty(t, again)

	count := func(want string) {
		t.Helper()
		assert.Eventually(t, func() bool {
			return rows(`SELECT count(*), count(DISTINCT (partition, place)) FROM clinic.readings`)[0][0] == want
		}, waitTime, tick)
		assert.Equal(t, [][]string{{want, want}}, rows(`SELECT count(*), count(DISTINCT (partition, place)) FROM clinic.readings`))
	}
	count("100")
	n.Reopen()
	topic = n.Parts.ByID(topic.ID)
	measure(t, n, topic, 100, 150)
	count("150")
	assert.Equal(t, [][]string{{"149", "object"}}, rows(`SELECT max((details->>'i')::int), min(jsonb_typeof(details)) FROM clinic.readings`))
}

func TestBadRowsBecomeDeadLettersAndTheOthersRows(t *testing.T) {
	n := nodetest.Open(t)
	url, password, rows := database(t)
	topic, _ := archive(t, n, url, password, nil)
	var all []*message.Message
	for i := range 400 {
		body := fmt.Sprintf(`{"celsius":%d}`, i)
		if i%90 == 17 {
			body = `{"celsius":"46.4 F"}`
		}
		all = append(all, &message.Message{Body: []byte(body)})
	}
	_, err := n.Parts.PublishMessages(accesstest.Owner(t), topic, 0, all)
	require.NoError(t, err)
	_, err = n.Endpoints.Statements(accesstest.Owner(t), "owner", at(t, "coldchain/archive"), true)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return rows(`SELECT count(*) FROM clinic.readings`)[0][0] == "395" }, waitTime, tick)
	q, err := n.Parts.Named(at(t, "coldchain/readings@archive"), "coldchain/readings@archive")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return n.Queues.Counts(q).Dead == 5 }, waitTime, tick)
	// The table is mended, and the dead letters return.
	time.Sleep(200 * time.Millisecond)
	assert.EqualValues(t, 5, n.Queues.Counts(q).Dead)
}

// A table or a column that is not there stops the route, with what makes it; then the route
// says no more that it is not there.
func TestAMissingColumnStopsTheRoute(t *testing.T) {
	n := nodetest.Open(t)
	url, password, rows := database(t)
	topic, g := archive(t, n, url, password, nil)
	waits := func(why string) {
		t.Helper()
		require.Eventually(t, func() bool {
			for _, s := range n.Routes.States(accesstest.Owner(t), topic.ID, g.Route.ID) {
				if strings.Contains(s.Waits.Why, why) {
					return true
				}
			}
			return false
		}, waitTime, tick, why)
	}
	waits(`"clinic.ferry_places" does not exist`)
	_, err := n.Endpoints.Statements(accesstest.Owner(t), "owner", at(t, "coldchain/archive"), true)
	require.NoError(t, err)
	rows(`ALTER TABLE clinic.readings DROP COLUMN celsius`)
	measure(t, n, topic, 0, 20)
	waits(`ALTER TABLE "clinic"."readings" ADD COLUMN "celsius"`)
	rows(`ALTER TABLE clinic.readings ADD COLUMN celsius double precision`)
	require.Eventually(t, func() bool { return rows(`SELECT count(*) FROM clinic.readings`)[0][0] == "20" }, waitTime, tick)
}

func TestRowsReplaceThoseOfTheSameKey(t *testing.T) {
	n := nodetest.Open(t)
	url, password, rows := database(t)
	topic, _ := archive(t, n, url, password, setting.Change{"keyColumns": []string{"box"}, "columns": map[string]string{"box": "key", "celsius": "/celsius"}})
	for i := range 200 {
		n.PublishKey(topic, fmt.Sprintf("box-%d", i%5), fmt.Sprintf(`{"celsius":%d}`, i))
	}
	_, err := n.Endpoints.Statements(accesstest.Owner(t), "owner", at(t, "coldchain/archive"), true)
	require.NoError(t, err)
	want := [][]string{{"box-0", "195"}, {"box-1", "196"}, {"box-2", "197"}, {"box-3", "198"}, {"box-4", "199"}}
	assert.Eventually(t, func() bool {
		return assert.ObjectsAreEqual(want, rows(`SELECT box, celsius FROM clinic.readings ORDER BY box`))
	}, waitTime, tick)
	assert.Equal(t, want, rows(`SELECT box, celsius FROM clinic.readings ORDER BY box`))
}

// Each row has what its own message says, also of headers, and of messages that came in one
// batch.
func TestRowsHaveTheHeadersOfTheirMessages(t *testing.T) {
	n := nodetest.Open(t)
	url, password, rows := database(t)
	topic, _ := archive(t, n, url, password, setting.Change{"columns": map[string]string{"place": "offset", "firmware": "header.firmware", "box": "key"}})
	_, err := n.Endpoints.Statements(accesstest.Owner(t), "owner", at(t, "coldchain/archive"), true)
	require.NoError(t, err)
	var all []*message.Message
	for i := range 200 {
		all = append(all, &message.Message{Key: "box-1", Body: []byte(`{}`), Headers: []message.Header{{Name: "firmware", Value: fmt.Sprint("v", i)}}})
	}
	_, err = n.Parts.PublishMessages(accesstest.Owner(t), topic, 0, all)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return rows(`SELECT count(*) FROM clinic.readings`)[0][0] == "200" }, waitTime, tick)
	assert.Equal(t, [][]string{{"200"}}, rows(`SELECT count(*) FROM clinic.readings WHERE firmware = 'v' || place`))
}
