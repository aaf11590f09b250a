package endpoints_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/queues"
)

func TestMain(m *testing.M) { testdb.Main(m) }

const (
	waitTime = 30 * time.Second
	tick     = 10 * time.Millisecond
)

func at(t *testing.T, text string) address.Address {
	t.Helper()
	a, err := address.Parse(text)
	require.NoError(t, err)
	return a
}

// receiver is a place outside that keeps what it gets.
type receiver struct {
	*httptest.Server
	mu     sync.Mutex
	got    []delivery
	answer func(r *http.Request, body string) (status int)
}

type delivery struct {
	header http.Header
	body   string
	status int
}

func receive(t *testing.T, answer func(r *http.Request, body string) int) *receiver {
	t.Helper()
	rc := &receiver{answer: answer}
	rc.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodOptions {
			w.Header().Set("WebHook-Allowed-Origin", r.Header.Get("WebHook-Request-Origin"))
			return
		}
		b, _ := io.ReadAll(r.Body)
		status := http.StatusNoContent
		if rc.answer != nil {
			status = rc.answer(r, string(b))
		}
		rc.mu.Lock()
		rc.got = append(rc.got, delivery{r.Header.Clone(), string(b), status})
		rc.mu.Unlock()
		w.WriteHeader(status)
		if status >= 400 {
			fmt.Fprintf(w, "no: %s", b)
		}
	}))
	t.Cleanup(rc.Close)
	return rc
}

// taken are the bodies that were answered well.
func (rc *receiver) taken() (bodies []string) {
	rc.mu.Lock()
	defer rc.mu.Unlock()
	for _, d := range rc.got {
		if d.status < 300 {
			bodies = append(bodies, d.body)
		}
	}
	return bodies
}

func (rc *receiver) arrive(t *testing.T, want ...string) {
	t.Helper()
	slices.Sort(want)
	assert.Eventually(t, func() bool { return slices.Equal(slices.Sorted(slices.Values(rc.taken())), want) }, waitTime, tick)
	assert.Equal(t, want, slices.Sorted(slices.Values(rc.taken())))
}

// outside makes an endpoint, and a route to it from a new topic of 2 partitions.
func outside(t *testing.T, n *nodetest.Node, url string, settings setting.Change) (topic *part.Channel, g *catalog.Group) {
	t.Helper()
	all := setting.Change{"url": url, "backoff": setting.Span{Least: 20 * time.Millisecond, Most: 200 * time.Millisecond}}
	for name, value := range settings {
		all[name] = value
	}
	_, err := n.Endpoints.New(accesstest.Owner(t), "owner", at(t, "coldchain/clinic-hook"), all, nil)
	require.NoError(t, err)
	topic = n.Channel(setting.Topic, "coldchain/recalls", setting.Change{"partitionCount": 2})
	g, err = n.Routes.New(accesstest.Owner(t), "owner", at(t, "coldchain/recalls@hook"), address.Position{Kind: address.First}, setting.Change{"to": "coldchain/clinic-hook"})
	require.NoError(t, err)
	return topic, g
}

func dead(t *testing.T, n *nodetest.Node) int64 {
	t.Helper()
	q, err := n.Parts.Named(at(t, "coldchain/recalls@hook"), "coldchain/recalls@hook")
	if err != nil {
		return 0
	}
	return n.Queues.Counts(q).Dead
}

func TestMessagesArriveOnceAndInOrder(t *testing.T) {
	n := nodetest.Open(t)
	rc := receive(t, nil)
	topic, _ := outside(t, n, rc.URL, nil)
	var want []string
	for i := range 300 {
		key := fmt.Sprintf("box-%d", i%7)
		body := fmt.Sprintf("%s %03d", key, i)
		want = append(want, body)
		n.PublishKey(topic, key, body)
	}
	rc.arrive(t, want...)
	last := map[string]string{}
	for _, body := range rc.taken() {
		key, _, _ := strings.Cut(body, " ")
		assert.Less(t, last[key], body, "in order of the key")
		last[key] = body
	}
	rc.mu.Lock()
	h := rc.got[0].header
	rc.mu.Unlock()
	assert.Equal(t, "1.0", h.Get("Ce-Specversion"))
	assert.Equal(t, "/coldchain/recalls", h.Get("Ce-Source"))
	assert.Equal(t, "coldchain/recalls@hook", h.Get("Ferry-Header-Ferry-Route"))
	assert.NotEmpty(t, h.Get("Webhook-Id"))
	assert.NotEmpty(t, h.Get("Ferry-Lane"))

	n.Reopen() // what was delivered is not again, but for what the last half second brought
	time.Sleep(time.Second)
	assert.LessOrEqual(t, len(rc.taken()), len(want)+1)
	_, err := n.Parts.PublishMessages(accesstest.Owner(t), n.Parts.ByID(topic.ID), part.AnyPartition, []*message.Message{{Body: []byte("after")}})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return slices.Contains(rc.taken(), "after") }, waitTime, tick)
}

func TestWhatIsRefusedBecomesADeadLetterAndReturns(t *testing.T) {
	n := nodetest.Open(t)
	var mu sync.Mutex
	refuses := true
	rc := receive(t, func(_ *http.Request, body string) int {
		mu.Lock()
		defer mu.Unlock()
		if refuses && strings.HasPrefix(body, "north") {
			return http.StatusUnprocessableEntity
		}
		return http.StatusOK
	})
	topic, _ := outside(t, n, rc.URL, nil)
	var all []*message.Message
	for _, body := range []string{"north 1", "south 1", "north 2", "south 2"} {
		all = append(all, &message.Message{Body: []byte(body), Headers: []message.Header{{Name: "clinic", Value: body}}})
	}
	_, err := n.Parts.PublishMessages(accesstest.Owner(t), topic, 0, all)
	require.NoError(t, err)
	rc.arrive(t, "south 1", "south 2")
	require.Eventually(t, func() bool { return dead(t, n) == 2 }, waitTime, tick)
	n.Reopen()
	time.Sleep(500 * time.Millisecond)
	assert.EqualValues(t, 2, dead(t, n), "each once")
	q, err := n.Queues.At(at(t, "coldchain/recalls@hook/dead"))
	require.NoError(t, err)
	items, _, err := n.Queues.Items(accesstest.Owner(t), q, queues.Selection{States: []queue.State{queue.Dead}}, nil, 10, false)
	require.NoError(t, err)
	require.Len(t, items, 2)
	for _, i := range items {
		clinic, _ := i.Message.Header("clinic")
		assert.Equal(t, string(i.Message.Body), clinic, "each with its own headers")
	}
}
