package endpoints_test

import (
	"net/http"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/endpoints"
)

// What an endpoint did not take for too long becomes dead letters of one cause, and returns
// when it is back.
func TestWhatAnOutageLeavesReturns(t *testing.T) {
	n := nodetest.Open(t)
	var down atomic.Bool
	down.Store(true)
	rc := receive(t, func(*http.Request, string) int {
		if down.Load() {
			return http.StatusServiceUnavailable
		}
		return http.StatusOK
	})
	topic, g := outside(t, n, rc.URL, setting.Change{"giveUpAfter": 1500 * time.Millisecond})
	n.Publish(topic, 0, "one", "two", "three")
	require.Eventually(t, func() bool {
		for _, s := range n.Routes.States(accesstest.Owner(t), topic.ID, g.Route.ID) {
			if s.Waits.Reason == "endpoint-failing" {
				return true
			}
		}
		return false
	}, waitTime, tick)
	require.Eventually(t, func() bool { return n.Routes.HeldUp(g) == "coldchain/clinic-hook is failing" }, waitTime, tick)
	require.Eventually(t, func() bool { return dead(t, n) == 3 }, waitTime, tick)
	q, err := n.Parts.Named(at(t, "coldchain/recalls@hook"), "coldchain/recalls@hook")
	require.NoError(t, err)
	causes, err := n.Queues.Dead(accesstest.Owner(t), q, time.Hour, 1)
	require.NoError(t, err)
	require.NotEmpty(t, causes.Causes) // what the place answers differs by the message
	for _, c := range causes.Causes {
		assert.Equal(t, endpoints.ReasonGivenUp, c.Reason)
	}

	down.Store(false)
	n.Publish(topic, 0, "four")
	rc.arrive(t, "four")
	p, err := q.Partition(0)
	require.NoError(t, err)
	_, err = n.Queues.ActAt(accesstest.Owner(t), p, &queue.Command{Op: queue.OpReturn, Who: "owner", Offsets: []int64{0, 1, 2}})
	require.NoError(t, err)
	rc.arrive(t, "one", "two", "three", "four")
	events, err := ledger.Of(n.Catalog).Events(accesstest.Owner(t), "coldchain/clinic-hook", 0, 100)
	require.NoError(t, err)
	said := map[string]bool{}
	for _, e := range events {
		said[e.What] = true
	}
	assert.True(t, said["created"] && said["failing"] && said["tried"] && said["back"], "%v", said)
}

// Of a cluster one node at a time tries a place that fails, and all hear when it is back.
func TestOneNodeTriesAFailingPlace(t *testing.T) {
	nodes := nodetest.Cluster(t, 2)
	var down atomic.Bool
	var tries atomic.Int64
	down.Store(true)
	rc := receive(t, func(*http.Request, string) int {
		if down.Load() {
			tries.Add(1)
			return http.StatusServiceUnavailable
		}
		return http.StatusOK
	})
	n := nodes[0]
	_, err := n.Endpoints.New(accesstest.Owner(t), "owner", at(t, "coldchain/clinic-hook"), setting.Change{"url": rc.URL, "backoff": setting.Span{Least: 4 * time.Second, Most: 4 * time.Second}}, nil)
	require.NoError(t, err)
	topic := n.Channel(setting.Topic, "coldchain/recalls", setting.Change{"partitionCount": 8, "replicas": 1})
	_, err = n.Routes.New(accesstest.Owner(t), "owner", at(t, "coldchain/recalls@hook"), address.Position{Kind: address.First}, setting.Change{"to": "coldchain/clinic-hook"})
	require.NoError(t, err)
	leads := map[uint64]bool{}
	for _, p := range topic.Partitions() {
		leads[n.Parts.LeaderOf(p)] = true
		n.Publish(topic, p.Number, "one", "two")
	}
	require.Len(t, leads, 2, "both nodes deliver")
	fails := func(want bool) func() bool {
		return func() bool {
			for _, one := range nodes {
				e, err := one.Endpoints.Of(accesstest.Owner(t), at(t, "coldchain/clinic-hook"))
				if err != nil || one.Endpoints.Fails(e.ID) != want {
					return false
				}
			}
			return true
		}
	}
	require.Eventually(t, fails(true), waitTime, tick)
	time.Sleep(2 * time.Second) // what was under way has ended
	before := tries.Load()
	time.Sleep(9 * time.Second)
	assert.LessOrEqual(t, tries.Load()-before, int64(5), "one try each two to four seconds, whoever does it")
	assert.Positive(t, tries.Load()-before)
	down.Store(false)
	require.Eventually(t, fails(false), waitTime, tick)
	require.Eventually(t, func() bool { return len(rc.taken()) == 16 }, waitTime, tick)
}

// A name is that of one thing, whichever came first; an endpoint to which a route leads
// stays, and so does its space.
func TestNamesOfEndpoints(t *testing.T) {
	n := nodetest.Open(t)
	url := setting.Change{"url": "http://127.0.0.1:9/"}
	hook := at(t, "coldchain/hook")
	n.Channel(setting.Topic, "coldchain/readings", nil)
	_, err := n.Endpoints.New(accesstest.Owner(t), "owner", at(t, "coldchain/readings"), url, nil)
	assert.ErrorContains(t, err, "exists already")
	_, err = n.Endpoints.New(accesstest.Owner(t), "owner", hook, url, nil)
	require.NoError(t, err)
	_, err = n.Endpoints.New(accesstest.Owner(t), "owner", hook, url, nil)
	assert.ErrorContains(t, err, "exists already")
	_, err = n.Manage.NewChannel(accesstest.Owner(t), "owner", setting.Queue, hook, nil)
	assert.ErrorContains(t, err, "exists already")
	_, err = n.Endpoints.Of(accesstest.Owner(t), at(t, "coldchain/hok"))
	assert.ErrorContains(t, err, "did you mean coldchain/hook?")
	_, err = n.Endpoints.New(accesstest.Owner(t), "owner", at(t, "coldchain/other"), setting.Change{"url": "https://clinics.example/", "table": "a.b"}, nil)
	assert.ErrorContains(t, err, "which has no table")
	_, err = n.Endpoints.New(accesstest.Owner(t), "owner", at(t, "coldchain/other"), setting.Change{"url": "postgresql://db.example/x"}, nil)
	assert.ErrorContains(t, err, "has no table, or no columns")
	_, err = n.Endpoints.New(accesstest.Owner(t), "owner", at(t, "coldchain/other"), url, map[string]string{"password": "x"})
	assert.ErrorContains(t, err, `which has no secret "password"`)

	_, err = n.Routes.New(accesstest.Owner(t), "owner", at(t, "coldchain/readings@hook"), address.Position{Kind: address.First}, setting.Change{"to": "coldchain/hook"})
	require.NoError(t, err)
	_, err = n.Endpoints.Remove(accesstest.Owner(t), "owner", hook, false)
	assert.ErrorContains(t, err, "coldchain/readings@hook")
	// A channel that was removed does not come back under a name that is used.
	_, err = n.Manage.NewChannel(accesstest.Owner(t), "owner", setting.Topic, at(t, "coldchain/gone"), nil)
	require.NoError(t, err)
	_, err = n.Manage.RemoveChannel(accesstest.Owner(t), "owner", at(t, "coldchain/gone"), false)
	require.NoError(t, err)
	_, err = n.Endpoints.New(accesstest.Owner(t), "owner", at(t, "coldchain/gone"), url, nil)
	require.NoError(t, err)
	assert.Error(t, n.Manage.RestoreChannel(accesstest.Owner(t), "owner", at(t, "coldchain/gone")))
}

// One of all nodes may try, for as long as it has said; events are kept for 30 days.
func TestRecordsOfEndpoints(t *testing.T) {
	n := nodetest.Open(t)
	e, err := n.Endpoints.New(accesstest.Owner(t), "owner", at(t, "coldchain/hook"), setting.Change{"url": "http://127.0.0.1:9/"}, nil)
	require.NoError(t, err)
	now := time.Now().UTC().Truncate(time.Millisecond)
	h := endpoint.Health{FailingSince: now, NextTry: now.Add(time.Second), Failures: 2}
	require.NoError(t, n.Catalog.TellHealth(accesstest.Owner(t), e.ID, h))
	told, err := n.Catalog.Healths(accesstest.Owner(t))
	require.NoError(t, err)
	assert.True(t, h.FailingSince.Equal(told[e.ID].FailingSince))
	for _, c := range []struct {
		at   time.Time
		mine bool
	}{{now, false}, {now.Add(time.Second), true}, {now.Add(2 * time.Second), false}, {now.Add(4 * time.Second), true}} {
		mine, err := n.Catalog.ClaimTry(accesstest.Owner(t), e.ID, c.at, c.at.Add(2500*time.Millisecond))
		require.NoError(t, err)
		assert.Equal(t, c.mine, mine, c.at.Sub(now))
	}
	require.NoError(t, ledger.Of(n.Catalog).AddEvents(accesstest.Owner(t), []ledger.Event{{At: now.Add(-31 * 24 * time.Hour), Address: "coldchain/old", What: "failing"}, {At: now, Address: "coldchain/old", What: "back", Detail: "after a month"}}))
	require.NoError(t, n.Catalog.Tidy(accesstest.Owner(t)))
	events, err := ledger.Of(n.Catalog).Events(accesstest.Owner(t), "coldchain/old", 0, 10)
	require.NoError(t, err)
	require.Len(t, events, 1)
	assert.Equal(t, "after a month", events[0].Detail)
	require.NoError(t, n.Catalog.TellHealth(accesstest.Owner(t), 1, h), "of one that is gone nothing is kept")
}
